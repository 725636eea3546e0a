//! Looking at a change before it is made: the act on a copy of the cluster, and a rehearsal of what follows.

use std::collections::BTreeSet;
use std::sync::Arc;

use actix_web::web::{self, Json, Query};
use jiff::Timestamp;
use mainyard_core::cluster::{Cluster, Refusal};
use mainyard_core::model::{Name, Target};
use mainyard_core::record::State;
use mainyard_core::sizing::Fit;
use mainyard_core::suggestions::did_you_mean;
use mainyard_sim::rehearsal::{copy, rehearse};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::Control;
use crate::callers::Member;
use crate::problem::Problem;
use crate::responses::Answer;
use crate::stats::stats;

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

/// Carries an act out that begins no rollout, or rehearses it; gives the whole answer.
pub async fn plain(
    control: &Control,
    member: Member,
    ask: Query<Ask>,
    what: impl Fn(&mut Cluster, &str, Timestamp) -> Result<Value, Refusal> + Send + 'static,
) -> Answer {
    Ok(Json(act(control, member, ask.into_inner(), |_| BTreeSet::new(), what).await?))
}

/// The workloads of an environment that the changes of an answer name.
pub fn changed(environment: Name) -> impl Fn(&Value) -> BTreeSet<Target> + Send + Sync {
    move |answer| {
        let changes = answer["changes"].as_array().into_iter().flatten();
        let names =
            changes.filter_map(|line| line["object"].as_str()?.strip_prefix("workload ")?.parse().ok());
        names.map(|name: Name| Target::new(&environment, &name)).collect()
    }
}

/// Carries an act out, or out on a copy. A forecast answers what the act would answer, with `forecast` beside it.
pub async fn act(
    control: &Control,
    member: Member,
    ask: Ask,
    watched: impl Fn(&Value) -> BTreeSet<Target> + Send + Sync + 'static,
    act: impl Fn(&mut Cluster, &str, Timestamp) -> Result<Value, Refusal> + Send + 'static,
) -> Result<Value, Problem> {
    if !ask.forecast {
        if ask.lose_node.is_some() {
            return Err(Problem::invalid("a node is lost in a forecast only: ask with forecast=true"));
        }
        let done = control.leader.act(move |cluster| act(cluster, &member.name, Timestamp::now()));
        return Ok(done.await?);
    }
    let state = control.leader.published.read().await.0.clone();
    if let Some(node) = ask.lose_node.as_ref().filter(|node| !state.nodes.contains_key(node)) {
        let hint = did_you_mean(node.as_str(), state.nodes.keys().map(Name::as_str));
        return Err(Problem::not_found(format!("there is no node {node}{hint}")));
    }
    let watched_by = Arc::new(watched);
    let watched = Arc::clone(&watched_by);
    let before = state.clone();
    let declared = control.follower.all_declared();
    let reserved = (control.hosts.names(), control.reserved_ports.clone());
    let looked_at = web::block(move || {
        let now = Timestamp::now();
        let mut cluster = copy(state, now);
        (cluster.reserved_hosts, cluster.reserved_ports) = reserved;
        cluster.hear_all_declared(declared);
        let before = cluster.table();
        let mut answer = act(&mut cluster, &member.name, now)?;
        let shown = rehearse(&cluster, &before, &watched(&answer), ask.lose_node.as_ref(), now);
        answer["forecast"] = json!(shown);
        Ok::<(Value, State), Refusal>((answer, cluster.state))
    });
    let looked_at = looked_at.await.map_err(|error| Problem::unavailable(error.to_string()))?;
    let (mut answer, after) = looked_at.map_err(crate::leader::ActError::Refused)?;
    answer["sizes"] = json!(sizes(control, &before, &after, &watched_by(&answer)).await?);
    Ok(answer)
}

/// What is known of how a memory limit would do: where it changes, or would not do.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Size {
    /// Which workload.
    pub workload: Target,
    /// The limit held against what was measured.
    pub fit: Fit,
    /// The same in words, with the line to write.
    pub words: String,
}

async fn sizes(
    control: &Control,
    before: &State,
    after: &State,
    watched: &BTreeSet<Target>,
) -> Result<Vec<Size>, Problem> {
    let limit = |state: &State, workload: &Target| {
        let release = state.workloads.get(workload)?.release;
        Some(state.releases.get(&(workload.clone(), release))?.spec.limits.memory)
    };
    let mut list = Vec::new();
    for workload in watched {
        let (Some(was), Some(becomes)) = (limit(before, workload), limit(after, workload)) else { continue };
        let usage = control.store.usage(Some(workload)).await?;
        let Some(stats) = stats(before, workload, &usage, Some(becomes)) else { continue };
        if stats.fit.replicas > 0 && (was != becomes || !stats.fit.does()) {
            list.push(Size { workload: workload.clone(), fit: stats.fit, words: stats.words });
        }
    }
    Ok(list)
}
