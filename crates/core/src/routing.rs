//! The gateway's table: which host leads to which service, which service to which replicas.
//!
//! An entry names a replica, its node and how to dial it; an address alone never stands for a replica. Tables
//! are numbered by epoch and version, and a gateway takes no table that is older than the one it has. How requests are
//! shared out is in `shares`.

mod binding;
mod change;
mod matching;
mod outgoing;
mod shares;

use std::collections::{BTreeMap, BTreeSet};
use std::net::{Ipv4Addr, SocketAddrV4};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use self::binding::{bound_names, bound_ports, candidates, is_meant_for, leads_to};
pub use self::change::TableChange;
pub use self::matching::{Finder, MatchInput, NoRoute, PlainPath, plain_path};
pub use self::outgoing::{
    Admission, OutgoingEntry, OutgoingRelease, Policy, outgoing_entry, outgoing_policy,
};
pub use self::shares::{Lane, Split, Spread};
use crate::address::Range;
use crate::model::{
    Environment, EnvironmentIndex, Leg, Limits, Name, Reason, ReasonCode, ReleaseNumber, Replica, ReplicaId,
    ReplicaState, Route, RouteSpec, Service, Shadowing, Span, Speaks, Target, WhileWaking, Workload,
    WorkloadState,
};
use crate::record::State;
use crate::rollouts::may_serve;

/// A table's number: who decided, and the how-many-eth it was.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, JsonSchema,
)]
pub struct TableVersion {
    /// Of the control that made it.
    pub epoch: u64,
    /// Counts up within the epoch.
    pub counter: u64,
}

/// Everything a gateway needs to serve.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct Table {
    /// Its number.
    pub version: TableVersion,
    /// Routes, by `environment/name`.
    pub routes: BTreeMap<String, RouteEntry>,
    /// Services, by `environment/name`.
    pub services: BTreeMap<String, ServiceEntry>,
    /// What replicas may reach outside, by `environment/workload`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub outgoing: BTreeMap<String, OutgoingEntry>,
}

/// A route and where it leads.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RouteEntry {
    /// The declaration.
    pub spec: RouteSpec,
    /// Services that are there, in the order of the declaration.
    pub to: Vec<LegEntry>,
}

/// A service that a route leads to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LegEntry {
    /// Its key.
    pub service: String,
    /// Which of its ports.
    pub port: u16,
    /// Its part of the requests.
    pub share: u32,
}

/// A service and who answers for it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ServiceEntry {
    /// Its environment and name.
    pub target: Target,
    /// Its environment's index: only callers with addresses of it are let in.
    pub environment: EnvironmentIndex,
    /// Indexes of other environments that are let in too.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub open_to: Vec<EnvironmentIndex>,
    /// Ports whose connections are passed on as they are.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub tcp: BTreeSet<u16>,
    /// Ports whose replicas are spoken to in HTTP/2.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub h2: BTreeSet<u16>,
    /// Ports by the name they have on the workload.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub named: BTreeMap<Name, u16>,
    /// Its address inside.
    pub address: Ipv4Addr,
    /// Replicas that take requests, by service port.
    pub ports: BTreeMap<u16, Vec<Backend>>,
    /// Workloads whose requests are shared out between releases, not by the number of replicas.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub splits: Vec<Split>,
    /// Why there are none.
    pub reason: Option<Reason>,
    /// Set where a request wakes what sleeps behind it, and waits meanwhile.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wakes: Option<Waking>,
}

/// How requests wait for a workload that wakes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Waking {
    /// How long each waits, at most.
    pub within: Span,
    /// How many wait at once, at most.
    pub queue: u32,
    /// What a browser gets meanwhile.
    pub meanwhile: WhileWaking,
}

/// One replica that takes requests.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Backend {
    /// Which replica.
    pub replica: ReplicaId,
    /// Of which release.
    pub release: ReleaseNumber,
    /// On which node.
    pub node: Name,
    /// How to dial it there.
    pub address: SocketAddrV4,
    /// How much it takes at once.
    #[serde(default, skip_serializing_if = "Capacity::is_usual")]
    pub capacity: Capacity,
}

/// How many requests a replica takes at once, and how many wait for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Capacity {
    /// Requests at once; without it, as many as keep it busy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub requests: Option<u32>,
    /// Requests that wait while it takes no more.
    pub queue: u32,
    /// How long one waits, at most.
    pub queue_time: Span,
}

impl Capacity {
    /// Of a release.
    pub fn of(limits: &Limits) -> Capacity {
        Capacity { requests: limits.requests, queue: limits.queue, queue_time: limits.queue_time }
    }

    fn is_usual(&self) -> bool {
        *self == Capacity::default()
    }
}

impl Default for Capacity {
    fn default() -> Capacity {
        Capacity::of(&Limits::default())
    }
}

/// Whether a workload's release carries all the labels that a service asks for. Its own name is the label
/// `workload`.
pub fn selects(
    select: &BTreeMap<String, String>,
    workload: &Name,
    labels: &BTreeMap<String, String>,
) -> bool {
    !select.is_empty()
        && select.iter().all(|(key, value)| match key.as_str() {
            "workload" => workload.as_str() == value,
            _ => labels.get(key) == Some(value),
        })
}

/// A selector in words: `tier = api, workload = locker-api`.
pub fn selector(select: &BTreeMap<String, String>) -> String {
    select.iter().map(|(key, value)| format!("{key} = {value}")).collect::<Vec<_>>().join(", ")
}

/// Makes the table.
pub fn build(state: &State, version: TableVersion) -> Table {
    let services = state.services.values().filter_map(|service| {
        let environment = state.environments.get(&service.target.environment)?.index;
        Some((service.target.to_string(), service_entry(state, service, environment)))
    });
    let routes = state.routes.values().map(|route| (route.target.to_string(), route_entry(state, route)));
    let outgoing = state.workloads.values();
    let outgoing =
        outgoing.filter_map(|workload| Some((workload.target.to_string(), outgoing_entry(state, workload)?)));
    Table { version, services: services.collect(), routes: routes.collect(), outgoing: outgoing.collect() }
}

/// A route and where it leads.
pub fn route_entry(state: &State, route: &Route) -> RouteEntry {
    let leg = |leg: &Leg| {
        let service = Target::new(&route.target.environment, &leg.service);
        let ports = &state.services.get(&service)?.spec.ports;
        let port = leg.port.or_else(|| first_port(ports))?;
        Some(LegEntry { service: service.to_string(), port, share: leg.share })
    };
    let legs = if answers(state, route) { &route.spec.to } else { &route.stand_in };
    RouteEntry { spec: route.spec.clone(), to: legs.iter().filter_map(leg).collect() }
}

/// Whether everything that a route leads to now answers, or nothing is there to stand in for it.
pub fn answers(state: &State, route: &Route) -> bool {
    route.stand_in.is_empty()
        || route.spec.to.iter().filter(|leg| leg.share > 0).all(|leg| {
            let target = Target::new(&route.target.environment, &leg.service);
            let (Some(service), Some(environment)) =
                (state.services.get(&target), state.environments.get(&target.environment))
            else {
                return false;
            };
            let port = leg.port.or_else(|| first_port(&service.spec.ports));
            let entry = service_entry(state, service, environment.index);
            port.and_then(|port| entry.ports.get(&port)).is_some_and(|list| !list.is_empty())
        })
}

/// The port that is meant where none is named: 80, or the lowest.
pub fn first_port<T>(ports: &BTreeMap<u16, T>) -> Option<u16> {
    ports.get_key_value(&80).or_else(|| ports.first_key_value()).map(|(port, _)| *port)
}

/// A service and who answers for it.
pub fn service_entry(state: &State, service: &Service, index: EnvironmentIndex) -> ServiceEntry {
    let mut answering: Ports = service.spec.ports.keys().map(|port| (*port, Vec::new())).collect();
    let mut standing_in = answering.clone();
    let mut all_full = true;
    let mut selected = Vec::new();
    let mut splits = Vec::new();
    for workload in candidates(&state.workloads, service) {
        splits.extend(split(state, workload));
        let wanted = state.releases.get(&(workload.target.clone(), workload.release));
        if wanted.is_some_and(|release| leads_to(service, release)) {
            selected.push(workload);
        }
        let meant = is_meant_for(state, service, workload);
        all_full &= !meant || is_full(state, workload);
        add_ready(state, service, workload, if meant { &mut answering } else { &mut standing_in });
    }
    // Who answered before the service changed stands in until the others have all their replicas, so that no few of
    // them have to carry every request; and at a port where they do not answer at all.
    for (port, others) in standing_in.into_iter().filter(|(_, others)| !others.is_empty()) {
        if let Some(list) = answering.get_mut(&port).filter(|list| list.is_empty() || !all_full) {
            *list = others;
        }
    }
    let ports = answering;
    let silent = ports.values().all(Vec::is_empty);
    let open_to = service.spec.open_to.iter().filter_map(|name| Some(state.environments.get(name)?.index));
    let that_speak = |speaks: Speaks| {
        let ports = service.spec.ports.iter().filter(move |(_, port)| port.speaks == speaks);
        ports.map(|(number, _)| *number).collect()
    };
    let named = service.spec.ports.iter().rev().map(|(number, port)| (port.port.clone(), *number));
    let reason = silent.then(|| why_silent(service, &selected));
    let wakes = if silent { selected.iter().find_map(|workload| waking(state, workload)) } else { None };
    ServiceEntry {
        target: service.target.clone(),
        environment: index,
        open_to: open_to.collect(),
        tcp: that_speak(Speaks::Tcp),
        h2: that_speak(Speaks::H2),
        named: named.collect(),
        address: service.address,
        ports,
        splits,
        reason,
        wakes,
    }
}

/// How requests wait for a workload that has no replica: one that sleeps, or that was woken and is on its way.
fn waking(state: &State, workload: &Workload) -> Option<Waking> {
    let growth = workload.grows_by().filter(|growth| growth.may_sleep())?;
    let stays = workload.state == WorkloadState::Failing && !workload.is_asleep();
    if stays || workload.held.is_some() {
        return None;
    }
    let release = state.releases.get(&(workload.target.clone(), workload.release))?;
    Some(Waking {
        within: growth.wake_within,
        queue: release.spec.limits.queue,
        meanwhile: growth.while_waking,
    })
}

/// Whether a workload has as many ready replicas as are wanted.
pub fn is_full(state: &State, workload: &Workload) -> bool {
    let ready = replicas_of(&state.replicas, &workload.target);
    ready.filter(|replica| replica.state == ReplicaState::Ready).count() >= workload.wanted as usize
}

type Ports = BTreeMap<u16, Vec<Backend>>;

/// Adds the replicas of a workload that take requests, at the ports where the service leads to their release.
fn add_ready(state: &State, service: &Service, workload: &Workload, ports: &mut Ports) {
    for replica in replicas_of(&state.replicas, &workload.target) {
        let release = state.releases.get(&(workload.target.clone(), replica.release));
        let Some(release) = release.filter(|release| leads_to(service, release)) else { continue };
        let serves_on = workload.serves_unready && may_serve(replica);
        if replica.state != ReplicaState::Ready && !serves_on {
            continue;
        }
        let (Some(node), Some(address)) = (&replica.node, replica.address) else { continue };
        for (port, inner) in bound_ports(service, release) {
            ports.entry(port).or_default().push(Backend {
                replica: replica.id.clone(),
                release: replica.release,
                node: node.clone(),
                address: SocketAddrV4::new(address, inner),
                capacity: Capacity::of(&release.spec.limits),
            });
        }
    }
}

/// How a workload's requests are shared out while it moves to a release, or has the previous one beside it.
fn split(state: &State, workload: &Workload) -> Option<Split> {
    let key = |number| (workload.target.clone(), ReleaseNumber(number));
    let (_, newest) = state.rollouts.range(key(0)..=key(u32::MAX)).next_back()?;
    let shared = newest.state.is_open() || newest.warm_until.is_some();
    let per_mille = newest.share.filter(|_| shared)?;
    let shadow = newest.state.is_open() && newest.shadow == Shadowing::Copying;
    Some(Split { workload: workload.target.clone(), release: newest.to, per_mille, shadow })
}

/// The replicas of one workload that serve or will, in a map ordered by id.
pub fn replicas_of<'a>(
    replicas: &'a BTreeMap<ReplicaId, Replica>,
    workload: &Target,
) -> impl Iterator<Item = &'a Replica> + use<'a> {
    all_of(replicas, workload).filter(|replica| replica.once.is_none() && replica.aside.is_none())
}

/// The commands that run once for a workload's releases, in a map ordered by id.
pub fn runs_of<'a>(
    replicas: &'a BTreeMap<ReplicaId, Replica>,
    workload: &Target,
) -> impl Iterator<Item = &'a Replica> + use<'a> {
    all_of(replicas, workload).filter(|replica| replica.once.is_some())
}

/// Everything that runs for one workload, in a map ordered by id.
pub fn all_of<'a>(
    replicas: &'a BTreeMap<ReplicaId, Replica>,
    workload: &Target,
) -> impl Iterator<Item = &'a Replica> + use<'a> {
    let first = ReplicaId::new(workload.clone(), String::new());
    let workload = workload.clone();
    replicas
        .range(first..)
        .map(|(_, replica)| replica)
        .take_while(move |replica| replica.id.workload == workload)
}

fn why_silent(service: &Service, selected: &[&Workload]) -> Reason {
    let Some(workload) = selected.first() else {
        let asks: Vec<String> =
            service.spec.select.iter().map(|(key, value)| format!("{key} = {value}")).collect();
        let sentence = format!(
            "the service {} selects {}, which no workload in {} carries",
            service.target.name,
            asks.join(", "),
            service.target.environment
        );
        return Reason::new(ReasonCode::SelectorEmpty, sentence);
    };
    let name = &workload.target.name;
    let detail = match &workload.reason {
        Some(reason) => reason.sentence.clone(),
        None if workload.is_asleep() => {
            let sentence = match &workload.held {
                None => format!("{name} is asleep; the next request wakes it"),
                Some(_) => format!("{name} is asleep, and held: no request wakes it"),
            };
            return Reason::new(ReasonCode::Asleep, sentence);
        }
        None if workload.wanted == 0 => "it is scaled to 0".to_owned(),
        None => format!("it is {}", workload.state),
    };
    let sentence = if workload.settled.is_none() {
        format!("nothing runs here yet, because {name} has no replica that takes requests: {detail}")
    } else {
        format!("no replica of {name} takes requests: {detail}")
    };
    Reason::new(ReasonCode::NoneReady, sentence)
}

/// The text of `/etc/hosts` for the replicas of an environment: every service by its name.
pub fn hosts_file(environment: &Environment, services: &BTreeMap<Target, Service>) -> String {
    let mut text = String::from("127.0.0.1 localhost\n::1 localhost\n");
    for service in services.values().filter(|service| service.target.environment == environment.name) {
        text.push_str(&format!("{} {}\n", service.address, service.target.name));
    }
    text
}

/// The same text for a node that has its addresses in another range.
pub fn hosts_in(range: Range, text: &str) -> String {
    let lines = text.lines().map(|line| {
        let (address, names) = line.split_once(' ').unwrap_or((line, ""));
        match address.parse::<Ipv4Addr>() {
            Ok(address) if !address.is_loopback() => format!("{} {names}\n", range.place(address)),
            _ => format!("{line}\n"),
        }
    });
    lines.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_empty_selector_selects_nothing() {
        let name: Name = "locker-api".parse().expect("a name");
        let labels = BTreeMap::from([("tier".to_owned(), "api".to_owned())]);
        let select = |key: &str, value: &str| BTreeMap::from([(key.to_owned(), value.to_owned())]);
        assert!(!selects(&BTreeMap::new(), &name, &labels));
        assert!(selects(&select("tier", "api"), &name, &labels));
        assert!(!selects(&select("tier", "apl"), &name, &labels));
        assert!(selects(&select("workload", "locker-api"), &name, &labels));
    }
}
