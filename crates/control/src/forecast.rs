//! Looking at a change before it is made: the act on a copy of the cluster, and a rehearsal of what follows.

use std::collections::BTreeSet;

use actix_web::web;
use jiff::Timestamp;
use mainyard_core::cluster::{Cluster, Refusal};
use mainyard_core::model::{Name, Target};
use mainyard_core::near::did_you_mean;
use mainyard_sim::rehearsal::{copy, rehearse};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::Control;
use crate::access::Member;
use crate::problem::Problem;

/// Whether a change is only to be looked at.
#[derive(Debug, Clone, Deserialize, utoipa::IntoParams)]
pub struct Ask {
    /// Change nothing; say what would happen.
    #[serde(default)]
    pub forecast: bool,
    /// In the forecast, lose this node half-way.
    #[param(value_type = Option<String>)]
    pub lose_node: Option<Name>,
}

/// Carries an act out, or out on a copy. A forecast answers what the act would answer, with `forecast` beside it.
pub async fn act(
    control: &Control,
    member: Member,
    ask: Ask,
    watched: impl Fn(&Value) -> BTreeSet<Target> + Send + 'static,
    act: impl FnOnce(&mut Cluster, &str, Timestamp) -> Result<Value, Refusal> + Send + 'static,
) -> Result<Value, Problem> {
    if !ask.forecast {
        if ask.lose_node.is_some() {
            return Err(Problem::invalid("a node is lost in a forecast only: ask with forecast=true"));
        }
        let done = control.steward.act(move |cluster| act(cluster, &member.0, Timestamp::now()));
        return Ok(done.await?);
    }
    let state = control.steward.published.read().await.0.clone();
    if let Some(node) = ask.lose_node.as_ref().filter(|node| !state.nodes.contains_key(node)) {
        let hint = did_you_mean(node.as_str(), state.nodes.keys().map(Name::as_str));
        return Err(Problem::not_found(format!("there is no node {node}{hint}")));
    }
    let looked_at = web::block(move || {
        let now = Timestamp::now();
        let mut cluster = copy(state, now);
        let before = cluster.table();
        let mut answer = act(&mut cluster, &member.0, now)?;
        let shown = rehearse(&cluster, &before, &watched(&answer), ask.lose_node.as_ref(), now);
        answer["forecast"] = json!(shown);
        Ok::<Value, Refusal>(answer)
    });
    let answer = looked_at.await.map_err(|error| Problem::unavailable(error.to_string()))?;
    Ok(answer.map_err(crate::steward::ActError::Refused)?)
}
