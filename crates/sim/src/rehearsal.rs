//! A change carried out on a copy of the present cluster, in simulated time: how long it takes, how few are ready at
//! worst, and what no longer answers. It is decided by the very functions that decide in earnest.
//!
//! Unknown outcomes are assumed to be good: the new release starts as fast as the replicas that run now did, and
//! answers as they do, and what it runs first ends well.

use std::collections::{BTreeMap, BTreeSet};

use jiff::{SignedDuration, Timestamp};
use mainyard_core::cluster::{Cluster, NodeOrders};
use mainyard_core::drain::GatewayView;
pub use mainyard_core::forecast::{Rehearsal, Rehearsed};
use mainyard_core::link::{NodeHello, NodeReport, ReplicaReport};
use mainyard_core::model::{
    FirstOutcome, FirstState, Name, ReasonCode, Replica, ReplicaId, ReplicaState, RolloutState, Signal,
    Target, WorkloadState,
};
use mainyard_core::record::State;
use mainyard_core::routing::{LegEntry, Table, TableVersion, replicas_of};

/// A table is confirmed after this, and a process has ended so long after it was asked; as measured on idle machines.
const CONFIRMED_AFTER: SignedDuration = SignedDuration::from_millis(5);
const ENDED_AFTER: SignedDuration = SignedDuration::from_millis(50);
/// The assumed time to ready if no replica shows it.
const READY_AFTER: SignedDuration = SignedDuration::from_secs(1);
/// The rehearsal stops at this time, settled or not.
const LONGEST: SignedDuration = SignedDuration::from_hours(24);
/// A guard against a rule that would go round forever.
const MOST_STEPS: usize = 200_000;

/// A scheduled event.
#[derive(Debug, Clone)]
enum Due {
    Ready(ReplicaId),
    Gone(ReplicaId),
    Confirmed(TableVersion),
    Lost(Name),
}

struct Stage<'a> {
    cluster: Cluster,
    now: Timestamp,
    due: BTreeMap<(Timestamp, u64), Due>,
    count: u64,
    reports: u64,
    watched: &'a BTreeSet<Target>,
    seen: BTreeMap<Target, Rehearsed>,
    began: Timestamp,
}

/// The record's cluster as it would be taken over now: every node and gateway is there.
pub fn copy(state: State, now: Timestamp) -> Cluster {
    let nodes: Vec<NodeHello> = state
        .nodes
        .values()
        .map(|node| NodeHello {
            node: node.name.clone(),
            incarnation: 1,
            cpu: node.cpu,
            memory: node.memory,
            range: node.range,
        })
        .collect();
    let gateways: Vec<String> = state.gateways.keys().cloned().collect();
    let mut cluster = Cluster::new(state, 1, now);
    nodes.into_iter().for_each(|hello| cluster.at(now).node_called(hello));
    gateways.iter().for_each(|gateway| cluster.at(now).gateway_called(gateway, 1));
    cluster
}

/// Lets a changed copy settle. With a node to lose, that one is lost when half of the time has passed that it
/// takes without.
pub fn rehearse(
    changed: &Cluster,
    before: &Table,
    watched: &BTreeSet<Target>,
    lose: Option<&Name>,
    now: Timestamp,
) -> Rehearsal {
    let whole = run(changed.clone(), before, watched, None, now);
    let Some(node) = lose else { return whole };
    let longest = whole.workloads.iter().filter_map(|it| it.took_millis).max().unwrap_or(0);
    let half = SignedDuration::from_millis((longest / 2) as i64);
    run(changed.clone(), before, watched, Some((node.clone(), half)), now)
}

fn run(
    cluster: Cluster,
    before: &Table,
    watched: &BTreeSet<Target>,
    lose: Option<(Name, SignedDuration)>,
    now: Timestamp,
) -> Rehearsal {
    let mut stage = Stage {
        cluster,
        now,
        due: BTreeMap::new(),
        count: 0,
        reports: 0,
        watched,
        seen: BTreeMap::new(),
        began: now,
    };
    stage.pick_up();
    if let Some((node, after)) = &lose {
        stage.later(*after, Due::Lost(node.clone()));
    }
    stage.play();
    let after = stage.cluster.table();
    let dark = before.routes.iter().filter(|(key, _)| answers(before, key) && !answers(&after, key));
    Rehearsal {
        dark: dark.map(|(_, route)| route.spec.at()).collect(),
        lost: lose.map(|(node, _)| node),
        workloads: stage.seen.into_values().map(Rehearsed::in_words).collect(),
    }
}

/// Whether somebody stands behind a route.
fn answers(table: &Table, route: &str) -> bool {
    let Some(entry) = table.routes.get(route) else { return false };
    let taking = entry.to.iter().filter(|leg| leg.share > 0);
    let ready = |leg: &LegEntry| {
        let service = table.services.get(&leg.service);
        service.and_then(|service| service.ports.get(&leg.port)).is_some_and(|list| !list.is_empty())
    };
    entry.spec.redirect.is_some() || taking.into_iter().any(ready)
}

impl Stage<'_> {
    fn later(&mut self, after: SignedDuration, due: Due) {
        self.count += 1;
        self.due.insert((self.now + after, self.count), due);
    }

    /// Work that was under way continues.
    fn pick_up(&mut self) {
        let all: Vec<Replica> = self.cluster.state().replicas.values().cloned().collect();
        for replica in all.into_iter().filter(|replica| replica.node.is_some()) {
            use ReplicaState::*;
            match replica.state {
                _ if replica.stopping => self.later(ENDED_AFTER, Due::Gone(replica.id)),
                Waiting | Fetching | Starting => {
                    let after = self.ready_after(&replica.id.workload);
                    self.later(after, Due::Ready(replica.id));
                }
                // Its process was started again, and nothing else is against it.
                Unready if replica.reason.as_ref().is_none_or(|reason| comes_up_again(reason.code)) => {
                    let after = self.ready_after(&replica.id.workload);
                    self.later(after, Due::Ready(replica.id));
                }
                Ready | Unready | Draining | SetAside | Ended | Failed | Lost => {}
            }
        }
    }

    /// As long as the processes of the replicas that are ready took, the middle one of them, as their nodes measured it. The
    /// time since a replica was made says little: control or the node's agent may have been away in between.
    fn ready_after(&self, workload: &Target) -> SignedDuration {
        let ready = replicas_of(&self.cluster.state().replicas, workload)
            .filter(|replica| replica.state == ReplicaState::Ready);
        let mut took: Vec<SignedDuration> =
            ready.filter_map(|replica| Some(replica.ready_after?.signed())).collect();
        took.sort_unstable();
        took.get(took.len() / 2).copied().unwrap_or(READY_AFTER).max(SignedDuration::from_millis(1))
    }

    fn play(&mut self) {
        for _ in 0..MOST_STEPS {
            let settled = self.cluster.at(self.now).settle();
            for orders in settled.orders.into_values() {
                self.take(orders);
            }
            if let Some(table) = settled.table {
                self.later(CONFIRMED_AFTER, Due::Confirmed(table.version));
            }
            self.look();
            if self.at_rest() {
                return;
            }
            let next = self.due.keys().next().map(|(at, _)| *at);
            let Some(next) = next.into_iter().chain(settled.wake).min() else { return };
            self.now = next.max(self.now + SignedDuration::from_millis(1));
            if self.now.duration_since(self.began) > LONGEST {
                return;
            }
            self.happen();
        }
    }

    fn take(&mut self, orders: NodeOrders) {
        for order in orders.run {
            let after = self.ready_after(&order.id.workload);
            self.later(after, Due::Ready(order.id));
        }
        for id in orders.stop {
            self.later(ENDED_AFTER, Due::Gone(id));
        }
    }

    fn happen(&mut self) {
        while let Some((&(at, number), _)) = self.due.first_key_value().filter(|((at, _), _)| *at <= self.now)
        {
            let Some(due) = self.due.remove(&(at, number)) else { return };
            match due {
                Due::Ready(id) => self.report(&id, false),
                Due::Gone(id) => self.report(&id, true),
                Due::Confirmed(confirmed) => {
                    let gateways: Vec<String> = self.cluster.state().gateways.keys().cloned().collect();
                    for gateway in gateways {
                        let view = GatewayView { confirmed, open: BTreeMap::new() };
                        self.cluster.at(self.now).gateway_confirmed(&gateway, 1, view);
                    }
                }
                Due::Lost(node) => self.cluster.at(self.now).node_lost(&node),
            }
        }
        // Gateways are heard all the time; nobody falls silent here.
        let version = self.cluster.table_version();
        if self.due.values().all(|due| !matches!(due, Due::Confirmed(_))) {
            self.later(SignedDuration::from_secs(2), Due::Confirmed(version));
        }
    }

    fn report(&mut self, id: &ReplicaId, gone: bool) {
        let Some(node) = self.cluster.state().replicas.get(id).and_then(|replica| replica.node.clone())
        else {
            return;
        };
        self.reports += 1;
        let mut report =
            NodeReport { incarnation: 1, number: self.reports, whole: true, ..NodeReport::default() };
        if gone {
            report.gone.push(id.clone());
        } else {
            let passed = FirstOutcome { state: FirstState::Passed, how: "exit code 0".to_owned() };
            let outcome = self.cluster.state().replicas[id].once.map(|_| passed);
            let told = ReplicaReport::of(id.clone(), ReplicaState::Ready);
            report.replicas.push(ReplicaReport { outcome, ..told });
        }
        self.cluster.at(self.now).node_reported(&node, report);
    }

    fn look(&mut self) {
        let asked: Vec<Target> = self
            .watched
            .iter()
            .filter(|target| {
                let asks = self.cluster.state().open_rollout(target).and_then(|open| open.reason.as_ref());
                asks.is_some_and(|reason| reason.code.word() == "asks-first")
            })
            .cloned()
            .collect();
        for target in self.watched {
            let Some(workload) = self.cluster.state().workloads.get(target) else { continue };
            let staying = replicas_of(&self.cluster.state().replicas, target)
                .filter(|replica| replica.state.is_staying());
            let (mut there, mut ready) = (0, 0);
            for replica in staying {
                there += 1;
                ready += u32::from(replica.state == ReplicaState::Ready);
            }
            let rest = self.is_at_rest(target);
            let took = self.now.duration_since(self.began).as_millis().max(0) as u64;
            let seen = self.seen.entry(target.clone()).or_insert_with(|| Rehearsed {
                workload: target.clone(),
                wanted: workload.wanted,
                ready_before: ready,
                lowest_ready: ready,
                most: there,
                took_millis: None,
                asks: 0,
                reason: None,
                signal: Signal::Rest,
                words: String::new(),
            });
            seen.lowest_ready = seen.lowest_ready.min(ready);
            seen.most = seen.most.max(there);
            seen.asks += u32::from(asked.contains(target));
            let newest = self.cluster.state().newest_rollout(target);
            let went_back =
                newest.filter(|it| it.started >= self.began && it.state == RolloutState::WentBack);
            seen.reason =
                workload.reason.clone().or_else(|| went_back.and_then(|rollout| rollout.reason.clone()));
            seen.took_millis = match (rest, seen.took_millis) {
                (true, None) => Some(took),
                (true, known) => known,
                (false, _) => None,
            };
        }
        for target in asked {
            // A person would say go on; when, nobody knows.
            let _ = self.cluster.transaction("a person", self.now).advance(&target);
        }
    }

    fn at_rest(&self) -> bool {
        let lost_is_due = self.due.values().any(|due| matches!(due, Due::Lost(_)));
        !lost_is_due && self.watched.iter().all(|target| self.is_at_rest(target))
    }

    /// One that waits for a person because of a fault may be well after all, while replicas of it are on their way or
    /// ready and not yet settled.
    fn is_at_rest(&self, target: &Target) -> bool {
        let state = &self.cluster.state();
        let on_its_way = |due: &Due| matches!(due, Due::Ready(id) if id.workload == *target);
        let waits = state.open_rollout(target).filter(|open| open.state == RolloutState::Awaiting);
        let fault = waits.and_then(|open| open.reason.as_ref()).map(|reason| reason.code);
        let replicas: Vec<&Replica> = replicas_of(&state.replicas, target).collect();
        let fixes = fault == Some(ReasonCode::ImageNotFound)
            && !replicas.is_empty()
            && replicas.iter().all(|replica| replica.state == ReplicaState::Ready);
        is_at_rest(state, target) && !fixes && !self.due.values().any(on_its_way)
    }
}

/// Whether a process ended and is on its way up again, and that alone.
fn comes_up_again(code: ReasonCode) -> bool {
    matches!(code, ReasonCode::EndedOnce | ReasonCode::KeeperLost | ReasonCode::NotListening)
}

/// Whether nothing more is going to happen to a workload by itself.
pub(crate) fn is_at_rest(state: &State, target: &Target) -> bool {
    let Some(workload) = state.workloads.get(target) else { return true };
    let waits = state
        .open_rollout(target)
        .is_some_and(|open| workload.held.is_some() || open.state.word() == "awaiting");
    let moves = workload.state == WorkloadState::Moving || state.open_rollout(target).is_some();
    waits || !moves
}

#[cfg(test)]
mod tests;
