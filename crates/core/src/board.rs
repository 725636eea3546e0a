//! The board: a row for each workload of an environment, with what a person wants to know at a glance.

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{
    Leg, Name, Origin, Reason, ReasonCode, Release, ReleaseNumber, Replica, ReplicaState, Service, Signal,
    Workload, WorkloadState,
};
use crate::record::State;
use crate::routing::selects;

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
    /// Certificates that end soon, or have ended, in words.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub certificates: Vec<String>,
    /// What waits for a person, beside workloads that are not well: rollouts that ask, holds, sources.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub waiting: Vec<Waiting>,
    /// A row for each workload.
    pub workloads: Vec<Row>,
}

/// Something that waits for a person.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Waiting {
    /// Such as `locker-api` or `source lockers`.
    pub what: String,
    /// How it is, such as `asks`, `held` or `refused`.
    pub state: String,
    /// How that is shown.
    pub signal: Signal,
    /// Why, and what a person can do.
    pub sentence: String,
}

/// Rollouts that ask before they go on, holds, and sources that are not in step.
fn waiting(state: &State, environment: &Name) -> Vec<Waiting> {
    let mut list = Vec::new();
    for workload in state.workloads.values().filter(|it| it.target.environment == *environment) {
        let target = &workload.target;
        if let Some(held) = &workload.held {
            list.push(Waiting {
                what: target.name.to_string(),
                state: "held".to_owned(),
                signal: Signal::Caution,
                sentence: format!("by {}: {}; mainyard resume {target}", held.origin.by, held.because),
            });
        }
        let asks = state.open_rollout(target).and_then(|rollout| rollout.reason.as_ref());
        if let Some(reason) = asks.filter(|reason| reason.code == ReasonCode::AsksFirst) {
            list.push(Waiting {
                what: target.name.to_string(),
                state: "asks".to_owned(),
                signal: Signal::Caution,
                sentence: format!("{}; mainyard advance {target}, or cancel", reason.sentence),
            });
        }
    }
    list.extend(closed_ports(state, environment));
    for source in state.sources.values().filter(|it| it.target.environment == *environment) {
        let what = format!("source {}", source.target.name);
        if let Some(held) = &source.held {
            list.push(Waiting {
                what: what.clone(),
                state: "held".to_owned(),
                signal: Signal::Caution,
                sentence: format!(
                    "by {}: {}; mainyard source resume {}",
                    held.origin.by, held.because, source.target
                ),
            });
        }
        let signal = source.state.signal();
        if matches!(signal, Signal::Caution | Signal::Fault) {
            let why = source.reason.as_ref().map_or("see what differs", |reason| &reason.sentence);
            list.push(Waiting {
                what,
                state: source.state.to_string(),
                signal,
                sentence: format!("{why}; mainyard source show {}", source.target),
            });
        }
    }
    list
}

/// Routes whose port the gateway cannot listen on.
fn closed_ports(state: &State, environment: &Name) -> Vec<Waiting> {
    let routes = state.routes.values().filter(|route| route.target.environment == *environment);
    let closed = routes.filter_map(|route| {
        let port = route.spec.port?;
        Some(Waiting {
            what: format!("route {}", route.target.name),
            state: "closed".to_owned(),
            signal: Signal::Fault,
            sentence: format!("the gateway cannot listen on port {port}: {}", state.closed_port(port)?),
        })
    });
    closed.collect()
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
    /// Whether it was removed, and stays only until what takes its place has all its replicas ready.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub leaves: bool,
}

/// The board of an environment. Each object is looked at once, however many workloads there are. `rates` has requests
/// a second by workload, as `environment/name`.
pub fn board(state: &State, environment: &Name, rates: &BTreeMap<String, f64>, now: Timestamp) -> Board {
    let services = Services::of(state, environment);
    let mut hosts: BTreeMap<&Name, Vec<String>> = BTreeMap::new();
    for route in state.routes.values().filter(|route| route.target.environment == *environment) {
        for Leg { service, .. } in &route.spec.to {
            hosts.entry(service).or_default().push(route.spec.at());
        }
    }
    let mut ready: BTreeMap<&Name, u32> = BTreeMap::new();
    let takes = |replica: &&Replica| {
        replica.state == ReplicaState::Ready
            && replica.once.is_none()
            && replica.id.workload.environment == *environment
    };
    for replica in state.replicas.values().filter(takes) {
        *ready.entry(&replica.id.workload.name).or_default() += 1;
    }
    let here = state.workloads.values().filter(|workload| workload.target.environment == *environment);
    let row = |workload: &Workload| {
        let name = &workload.target.name;
        let key = (workload.target.clone(), workload.release);
        let release = state.releases.get(&key);
        let rollout = state.open_rollout(&workload.target);
        let selecting = services.of_workload(name, release);
        let mut hosts: Vec<String> =
            selecting.iter().flat_map(|service| hosts.get(service).into_iter().flatten()).cloned().collect();
        hosts.sort();
        hosts.dedup();
        Row {
            name: name.clone(),
            state: workload.state,
            signal: workload.state.signal(),
            reason: workload.reason.clone(),
            wanted: workload.wanted,
            ready: ready.get(name).copied().unwrap_or(0),
            release: workload.release,
            moves_from: rollout.and_then(|rollout| rollout.from),
            same_as: release.and_then(|release| release.same_as),
            image: release.map(|release| release.spec.image.to_string()),
            requests_per_second: rates.get(&workload.target.to_string()).copied().unwrap_or(0.0),
            hosts,
            services: selecting.into_iter().cloned().collect(),
            last_change: workload.last_change.clone(),
            leaves: workload.leaves,
        }
    };
    let ending = state.certificates.values().filter(|it| {
        it.target.environment == *environment && it.sealed.is_some() && it.signal(now) != Signal::Good
    });
    let ending = ending
        .map(|it| format!("certificate {} for {}: {}", it.target.name, it.names.join(", "), it.lasts(now)));
    let plain = state.nodes.values().filter(|node| !node.isolates());
    Board {
        environment: environment.clone(),
        as_of: None,
        whole: true,
        nodes: state.nodes.len() as u32,
        not_isolated: plain.map(|node| node.name.clone()).collect(),
        certificates: ending.collect(),
        waiting: waiting(state, environment),
        workloads: here.map(row).collect(),
    }
}

/// Services by the workload that they select by name, and those that select otherwise.
struct Services<'a> {
    by_workload: BTreeMap<&'a str, Vec<&'a Service>>,
    others: Vec<&'a Service>,
}

impl<'a> Services<'a> {
    fn of(state: &'a State, environment: &Name) -> Services<'a> {
        let mut services = Services { by_workload: BTreeMap::new(), others: Vec::new() };
        for service in state.services.values().filter(|service| service.target.environment == *environment) {
            match service.spec.select.get("workload") {
                Some(workload) => services.by_workload.entry(workload).or_default().push(service),
                None => services.others.push(service),
            }
        }
        services
    }

    fn of_workload(&self, name: &Name, release: Option<&Release>) -> Vec<&'a Name> {
        let nothing = BTreeMap::new();
        let labels = release.map_or(&nothing, |release| &release.spec.labels);
        let named = self.by_workload.get(name.as_str()).into_iter().flatten();
        let candidates =
            named.chain(&self.others).filter(|service| selects(&service.spec.select, name, labels));
        candidates.map(|service| &service.target.name).collect()
    }
}
