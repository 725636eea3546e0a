//! The board: a row for each workload of an environment, with what a person wants to know at a glance.

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::index::Index;
use super::needs::{Need, needs};
use crate::model::{Name, Origin, Reason, ReleaseNumber, ReplicaState, Signal, Workload, WorkloadState};
use crate::record::State;

/// An environment's board.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Board {
    /// Which environment.
    pub environment: Name,
    /// The moment, where it is one of the past.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub as_of: Option<Timestamp>,
    /// Whether replicas of that moment are known.
    pub whole: bool,
    /// Nodes that run replicas.
    pub nodes: u32,
    /// Those of them whose replicas are ordinary processes.
    pub not_isolated: Vec<Name>,
    /// The list of things that need a person, the worst first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<Need>,
    /// A row for each workload.
    pub workloads: Vec<Row>,
}

/// One workload.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "BoardRow")]
pub struct Row {
    /// Its name.
    pub name: Name,
    /// How it is.
    pub state: WorkloadState,
    /// How that is shown.
    pub signal: Signal,
    /// And why.
    pub reason: Option<Reason>,
    /// How many replicas are wanted.
    pub wanted: u32,
    /// How many take requests.
    pub ready: u32,
    /// The fewest and the most replicas that its load may ask for, where it is followed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bounds: Option<[u32; 2]>,
    /// The wanted release.
    pub release: ReleaseNumber,
    /// The release that it moves from, while it moves.
    pub moves_from: Option<ReleaseNumber>,
    /// The earlier release that the wanted one equals.
    pub same_as: Option<ReleaseNumber>,
    /// Its image, as name:tag.
    pub image: Option<String>,
    /// Requests a second over the last ten seconds.
    pub requests_per_second: f64,
    /// Hosts that lead to it.
    pub hosts: Vec<String>,
    /// Services that select it.
    pub services: Vec<Name>,
    /// The last change that was made to it.
    pub last_change: Origin,
    /// Whether it was removed, and stays only until all replicas of its replacement are ready.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub leaves: bool,
}

/// The board of an environment. Each object is looked at once, however many workloads there are. `rates` has requests
/// a second by workload, as `environment/name`.
pub fn board(state: &State, environment: &Name, rates: &BTreeMap<String, f64>, now: Timestamp) -> Board {
    let index = Index::of(state, environment);
    let here = state.workloads.values().filter(|workload| workload.target.environment == *environment);
    let row = |workload: &Workload| {
        let name = &workload.target.name;
        let release = index.releases(name).iter().find(|it| it.number == workload.release).copied();
        let rollout = state.open_rollout(&workload.target);
        let services = index.services(name, release);
        let mut hosts: Vec<String> = index.routes(&services).iter().map(|route| route.spec.at()).collect();
        hosts.sort();
        hosts.dedup();
        let ready = index.replicas(name).iter().filter(|replica| replica.state == ReplicaState::Ready);
        Row {
            name: name.clone(),
            state: workload.state,
            signal: workload.state.signal(),
            reason: workload.reason.clone(),
            wanted: workload.wanted,
            ready: ready.count() as u32,
            bounds: workload.grows_by().map(|growth| [growth.min, growth.max]),
            release: workload.release,
            moves_from: rollout.and_then(|rollout| rollout.from),
            same_as: release.and_then(|release| release.same_as),
            image: release.map(|release| release.spec.image.to_string()),
            requests_per_second: rates.get(&workload.target.to_string()).copied().unwrap_or(0.0),
            hosts,
            services: services.iter().map(|service| service.target.name.clone()).collect(),
            last_change: workload.last_change.clone(),
            leaves: workload.leaves,
        }
    };
    let plain = state.nodes.values().filter(|node| !node.isolates());
    Board {
        environment: environment.clone(),
        as_of: None,
        whole: true,
        nodes: state.nodes.len() as u32,
        not_isolated: plain.map(|node| node.name.clone()).collect(),
        needs: needs(state, environment, now),
        workloads: here.map(row).collect(),
    }
}
