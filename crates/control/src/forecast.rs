//! Carrying a command out, or rehearsing it on a copy of the cluster with what would follow.

use std::collections::BTreeSet;

use actix_web::web;
use jiff::Timestamp;
use mainyard_api::{Body, Done, Operation, Person, Problem, Trial};
use mainyard_core::commands::{Command, CommandKind};
use mainyard_core::forecast::LimitForecast;
use mainyard_core::model::{Name, Target};
use mainyard_core::record::State;
use mainyard_core::sizing::usage_of;
use mainyard_core::suggestions::did_you_mean;
use mainyard_sim::rehearsal::{copy, rehearse};

use crate::Control;
use crate::operations::{Call, Read};
use crate::problem::of_record;

/// The outcome of a command, or of its forecast.
pub(crate) type Acted<T> = Result<Done<T>, Problem>;

impl<O> Call<O>
where
    O: Operation<Caller = Person, Query = Trial, Body: Read + Body>,
{
    /// Carries a command out, or rehearses it where the caller asks for a forecast.
    pub(crate) async fn act<C>(&self, command: C) -> Acted<C::Outcome>
    where
        C: CommandKind + Clone + Send + 'static,
        C::Outcome: Send + 'static,
    {
        let by = By { member: &self.caller.name, request: &self.request_id };
        act(&self.control, by, &self.query, command).await
    }
}

/// The caller and the request's id.
#[derive(Debug, Clone, Copy)]
pub(crate) struct By<'a> {
    pub member: &'a str,
    pub request: &'a str,
}

/// Carries a command out for a member, or rehearses it.
pub(crate) async fn act<C>(control: &Control, by: By<'_>, trial: &Trial, command: C) -> Acted<C::Outcome>
where
    C: CommandKind + Clone + Send + 'static,
    C::Outcome: Send + 'static,
{
    if trial.forecast {
        return forecast(control, by.member, trial.lose_node.as_ref(), command).await;
    }
    if trial.lose_node.is_some() {
        return Err(Problem::invalid("a node is lost in a forecast only: ask with forecast=true"));
    }
    Ok(Done::new(control.leader.carry_out(command, by.member, by.request).await?))
}

async fn forecast<C>(control: &Control, by: &str, lose: Option<&Name>, command: C) -> Acted<C::Outcome>
where
    C: CommandKind + Clone + Send + 'static,
    C::Outcome: Send + 'static,
{
    let state = control.leader.published.read().await.0.clone();
    if let Some(node) = lose.filter(|node| !state.nodes.contains_key(node)) {
        let hint = did_you_mean(node.as_str(), state.nodes.keys().map(Name::as_str));
        return Err(Problem::not_found(format!("there is no node {node}{hint}")));
    }
    let before = state.clone();
    let declared = control.follower.all_declared();
    let reserved = (control.hosts.names(), control.reserved_ports.clone());
    let (by, lose) = (by.to_owned(), lose.cloned());
    let rehearsed = web::block(move || {
        let now = Timestamp::now();
        let mut cluster = copy(state, now);
        cluster.reserve(reserved.0, reserved.1);
        cluster.declarations_read(declared);
        let table = cluster.table();
        let all: Command = command.clone().into();
        let outcome = C::outcome_of(cluster.carry_out(&all, &by, now)?);
        let outcome = outcome.ok_or_else(|| Problem::unavailable("the rehearsal answered something else"))?;
        let watched = command.moved(&outcome);
        let forecast = rehearse(&cluster, &table, &watched, lose.as_ref(), now);
        Ok::<_, Problem>((outcome, forecast, watched, cluster.into_state()))
    });
    let rehearsed = rehearsed.await.map_err(|error| Problem::unavailable(error.to_string()))?;
    let (outcome, forecast, watched, after) = rehearsed?;
    let sizes = limit_forecasts(control, &before, &after, &watched).await?;
    Ok(Done { outcome, forecast: Some(forecast), sizes: Some(sizes) })
}

/// Whether memory limits fit that a change sets, or that would not be enough.
async fn limit_forecasts(
    control: &Control,
    before: &State,
    after: &State,
    watched: &BTreeSet<Target>,
) -> Result<Vec<LimitForecast>, Problem> {
    let limit = |state: &State, workload: &Target| {
        let release = state.workloads.get(workload)?.release;
        Some(state.releases.get(&(workload.clone(), release))?.spec.limits.memory)
    };
    let mut list = Vec::new();
    for workload in watched {
        let (Some(was), Some(becomes)) = (limit(before, workload), limit(after, workload)) else { continue };
        let usage = control.store.usage(Some(workload)).await.map_err(of_record)?;
        let Some(used) = usage_of(before, workload, &usage, Some(becomes)) else { continue };
        if used.fit.replicas > 0 && (was != becomes || !used.fit.does()) {
            list.push(LimitForecast { workload: workload.clone(), fit: used.fit, words: used.words });
        }
    }
    Ok(list)
}
