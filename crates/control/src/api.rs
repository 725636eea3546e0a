//! The API for people and programs, under `/api/v1`: every operation with its handler.

use std::collections::BTreeMap;

use jiff::Timestamp;
use mainyard_api::{
    AddEnvironment, ChangeEnvironment, ExportEnvironment, Exported, Figures, Health, ListEnvironments,
    Problem, RemoveApplication, RemoveEnvironment, RemoveWorkload, ReplicaDetails, ShowBoard, ShowDocument,
    ShowHealth, ShowSnapshot, ShowWorkload, Signals, Snapshot, WorkloadDetails,
};
use mainyard_core::commands::{self, EnvironmentAdded, EnvironmentChanged, Removed};
use mainyard_core::model::{
    Environment, Name, ReplicaState, RolloutState, Signal, SourceState, WorkloadState,
};
use mainyard_core::views::Views;
use mainyard_core::views::board::Board;
use serde_json::Value;

use crate::forecast::Acted;
use crate::history::{self, view};
use crate::operations::{Call, Operations};
use crate::responses::{known_environment, no_workload};
use crate::{
    agent_api, authorities, builds, certificates, code, declare, fetches, image_details, images, live_files,
    logs, metrics, outgoing, pulls, purge, releases, scaling, secrets, sessions, sources, stats, storage,
    stream, tokens, traffic, why,
};

/// Every operation of the API, and the page that a sign-in link opens.
pub(crate) fn operations() -> Operations {
    let mut all = Operations::default();
    all.mount(health)
        .mount(document)
        .mount(snapshot)
        .mount(stream::follow)
        .mount(list_environments)
        .mount(add_environment)
        .mount(change_environment)
        .mount(remove_environment)
        .mount(board)
        .mount(export)
        .mount(remove_application)
        .mount(show_workload)
        .mount(remove_workload)
        .mount(scaling::scale)
        .mount(logs::read)
        .mount(live_files::change)
        .mount(purge::purge)
        .mount(declare::declare);
    sessions::operations(&mut all);
    images::operations(&mut all);
    image_details::operations(&mut all);
    tokens::operations(&mut all);
    releases::operations(&mut all);
    secrets::operations(&mut all);
    stats::operations(&mut all);
    why::operations(&mut all);
    metrics::operations(&mut all);
    traffic::operations(&mut all);
    outgoing::operations(&mut all);
    pulls::operations(&mut all);
    fetches::operations(&mut all);
    builds::operations(&mut all);
    code::operations(&mut all);
    storage::operations(&mut all);
    sources::operations(&mut all);
    certificates::operations(&mut all);
    authorities::operations(&mut all);
    history::operations(&mut all);
    agent_api::operations(&mut all);
    builds::part_operations(&mut all);
    all
}

async fn document(_: Call<ShowDocument>) -> Result<Value, Problem> {
    static DOCUMENT: std::sync::OnceLock<Value> = std::sync::OnceLock::new();
    Ok(DOCUMENT.get_or_init(mainyard_api::openapi::document).clone())
}

async fn health(call: Call<ShowHealth>) -> Result<Health, Problem> {
    let change = *call.control.leader.latest.borrow();
    Ok(Health { ok: true, version: env!("CARGO_PKG_VERSION").to_owned(), change })
}

async fn snapshot(call: Call<ShowSnapshot>) -> Result<Snapshot, Problem> {
    let control = &call.control;
    let view = view(control, call.query.as_of).await?;
    // What was served then is not kept.
    let now = view.as_of().is_none();
    Ok(Snapshot {
        cursor: view.cursor(),
        as_of: view.as_of(),
        whole: view.whole(),
        member: call.caller.name,
        gateway: control.gateway_http.clone(),
        gateway_tls: control.gateway_https.clone(),
        objects: view.state().objects(),
        signals: signals(),
        views: Views::of(view.state(), control.gateway_ports(), view.at()),
        figures: if now { control.traffic.recent() } else { Figures::default() },
        series: if now { control.traffic.series() } else { BTreeMap::new() },
    })
}

fn signals() -> Signals {
    fn by_word<T: Copy>(
        all: &[T],
        word: fn(T) -> &'static str,
        signal: fn(T) -> Signal,
    ) -> BTreeMap<String, Signal> {
        all.iter().map(|state| (word(*state).to_owned(), signal(*state))).collect()
    }
    Signals {
        workload: by_word(WorkloadState::ALL, WorkloadState::word, WorkloadState::signal),
        replica: by_word(ReplicaState::ALL, ReplicaState::word, ReplicaState::signal),
        rollout: by_word(RolloutState::ALL, RolloutState::word, RolloutState::signal),
        source: by_word(SourceState::ALL, SourceState::word, SourceState::signal),
    }
}

async fn list_environments(call: Call<ListEnvironments>) -> Result<Vec<Environment>, Problem> {
    let view = view(&call.control, call.query.as_of).await?;
    Ok(view.state().environments.values().cloned().collect())
}

async fn add_environment(call: Call<AddEnvironment>) -> Acted<EnvironmentAdded> {
    let mainyard_api::NewEnvironment { name, domain, outgoing } = call.body.clone();
    call.act(commands::AddEnvironment { name, domain, outgoing }).await
}

async fn change_environment(call: Call<ChangeEnvironment>) -> Acted<EnvironmentChanged> {
    let name = call.path.environment.clone();
    let mainyard_api::EnvironmentChange { outgoing, image_rule, live_changes } = call.body.clone();
    if outgoing.is_none() && image_rule.is_none() && live_changes.is_none() {
        let message = "the body changes nothing: give `outgoing`, `image_rule` or `live_changes`";
        return Err(Problem::invalid(message));
    }
    call.act(commands::ChangeEnvironment { name, outgoing, image_rule, live_changes }).await
}

async fn remove_environment(call: Call<RemoveEnvironment>) -> Acted<Removed> {
    call.act(commands::RemoveEnvironment { name: call.path.environment.clone() }).await
}

async fn board(call: Call<ShowBoard>) -> Result<Board, Problem> {
    let control = &call.control;
    let view = view(control, call.query.as_of).await?;
    // What was served then is not kept.
    let figures = if view.as_of().is_none() { control.traffic.recent() } else { Figures::default() };
    let rates = figures.workloads.into_iter().map(|(workload, sum)| (workload, sum.rate)).collect();
    let name: &Name = &call.path.environment;
    known_environment(view.state(), name)?;
    let mut board = mainyard_core::views::board::board(view.state(), name, &rates, view.at());
    board.as_of = view.as_of();
    board.whole = view.whole();
    Ok(board)
}

async fn remove_application(call: Call<RemoveApplication>) -> Acted<Removed> {
    call.act(commands::RemoveApplication { application: call.path.target() }).await
}

async fn export(call: Call<ExportEnvironment>) -> Result<Exported, Problem> {
    let published = call.control.leader.published.read().await;
    let (state, name) = (&published.0, &call.path.environment);
    known_environment(state, name)?;
    let files = mainyard_core::export::export(state, name, call.query.of.as_ref());
    if let Some(of) = call.query.of.as_ref().filter(|_| files.is_empty()) {
        return Err(no_workload(state, &mainyard_core::model::Target::new(name, of), ""));
    }
    Ok(Exported { files })
}

async fn show_workload(call: Call<ShowWorkload>) -> Result<WorkloadDetails, Problem> {
    let target = call.path.target();
    let view = view(&call.control, call.query.as_of).await?;
    let state = view.state();
    let when = |at: Timestamp| format!(" at {at:.0}");
    let workload = state.workloads.get(&target);
    let workload =
        workload.ok_or_else(|| no_workload(state, &target, &view.as_of().map_or_else(String::new, when)))?;
    let replicas = mainyard_core::routing::replicas_of(&state.replicas, &target);
    let details = |replica: &mainyard_core::model::Replica| ReplicaDetails {
        isolated: state.isolates(replica),
        replica: replica.clone(),
    };
    Ok(WorkloadDetails {
        cursor: view.cursor(),
        as_of: view.as_of(),
        workload: workload.clone(),
        releases: state.releases.values().filter(|it| it.workload == target).cloned().collect(),
        rollouts: state.rollouts.values().filter(|it| it.workload == target).cloned().collect(),
        replicas: replicas.map(details).collect(),
    })
}

async fn remove_workload(call: Call<RemoveWorkload>) -> Acted<Removed> {
    call.act(commands::RemoveWorkload { workload: call.path.target() }).await
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    #[test]
    fn every_operation_of_the_api_is_mounted_and_nothing_else() {
        let described: BTreeSet<_> =
            mainyard_api::all().map(|operation| (operation.method, operation.path)).collect();
        assert_eq!(super::operations().mounted(), described);
    }
}
