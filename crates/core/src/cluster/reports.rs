//! What nodes and gateways tell.

use std::collections::BTreeMap;

use jiff::Timestamp;

use super::{Cluster, platform};
use crate::address::Range;
use crate::drain::GatewayView;
use crate::launch_fingerprint::LaunchFingerprint;
use crate::link::{Figure, NodeHello, NodeReport, ReplicaReport};
use crate::model::{
    Gateway, Name, Node, Reason, ReasonCode, Replica, ReplicaId, ReplicaState, RolloutState, Target,
};
use crate::record::{Kind, Object};

impl Cluster {
    /// A node agent called. Everything it should run is ordered again.
    pub fn hear_hello(&mut self, hello: NodeHello, now: Timestamp) {
        self.cause = platform(now);
        // In one life reports count on over all links: what was heard stays heard.
        let known = self.lives.entry(format!("node {}", hello.node)).or_insert((hello.life, 0));
        if known.0 != hello.life {
            *known = (hello.life, 0);
        }
        let NodeHello { node: name, cpu, memory, range, .. } = hello;
        let node = Node { name, cpu, memory, range, heard: now };
        let same = self.state.nodes.get(&node.name).is_some_and(|known| {
            (known.cpu, known.memory, known.range) == (node.cpu, node.memory, node.range)
        });
        if !same {
            self.move_replicas(&node.name, range);
            self.put(Object::Node(node));
        }
        self.dirty.extend(self.state.workloads.keys().cloned());
    }

    /// The node was started with another kind of isolation: the same places, in another range.
    fn move_replicas(&mut self, node: &Name, range: Range) {
        let here = self.state.replicas.values().filter(|replica| replica.node.as_ref() == Some(node));
        let moved = here.filter_map(|replica| {
            let address = range.place(replica.address?);
            (replica.address != Some(address)).then(|| Replica { address: Some(address), ..replica.clone() })
        });
        for replica in moved.collect::<Vec<_>>() {
            self.put(Object::Replica(replica));
            self.table_stale = true;
        }
    }

    /// A node agent tells how replicas are. What an earlier agent sent, or what came before, is not heard.
    pub fn hear_node(&mut self, node: &Name, report: NodeReport, now: Timestamp) {
        match self.lives.get_mut(&format!("node {node}")) {
            // The first that counts names all that runs: one of a link before may still be on its way.
            Some((life, last))
                if *life == report.life && *last < report.number && (*last > 0 || report.whole) =>
            {
                *last = report.number;
            }
            _ => return,
        }
        self.cause = platform(now);
        for replica in &report.replicas {
            self.hear_replica(node, replica, now);
        }
        for id in report.gone {
            let Some(replica) =
                self.state.replicas.get(&id).filter(|replica| replica.node.as_ref() == Some(node))
            else {
                continue;
            };
            // What was not asked to stop is started again by the next order; but never what is run once.
            if replica.stopping || replica.once.is_some() {
                self.lose_run(&id, "it was stopped before its end was told", now);
                self.leaving.remove(&id);
                self.remove(Kind::Replica, id.to_string());
                self.touch(&id.workload);
                self.sweep_releases(&id.workload);
            } else {
                self.to_run.insert(id);
            }
        }
    }

    fn hear_replica(&mut self, node: &Name, report: &ReplicaReport, now: Timestamp) {
        let Some(known) = self.state.replicas.get(&report.id) else {
            // Nobody wants it any more.
            self.to_stop.insert((node.clone(), report.id.clone()));
            return;
        };
        if known.node.as_ref() != Some(node) {
            self.to_stop.insert((node.clone(), report.id.clone()));
            return;
        }
        if known.once.is_some() {
            return self.hear_run(known.clone(), report, now);
        }
        let mut replica = known.clone();
        // What was told once holds until it is started again.
        let started = report.started.clone().or_else(|| known.started.clone());
        let wrong = self.started_otherwise(known, started.as_deref());
        // Once it is let go, only its end changes anything.
        let state = match (replica.state, report.state) {
            (ReplicaState::Draining, _) => ReplicaState::Draining,
            (ReplicaState::SetAside, _) => ReplicaState::SetAside,
            (_, ReplicaState::Ready) if wrong.is_some() => ReplicaState::Unready,
            (_, told) => told,
        };
        let reason = report.reason.clone().or(wrong);
        let ready_after = report.ready_after.or(known.ready_after);
        if (replica.state, &replica.reason, replica.restarts, &replica.started, replica.ready_after)
            == (state, &reason, report.restarts, &started, ready_after)
        {
            return;
        }
        if replica.state != state {
            replica.since = now;
            self.table_stale = true;
        }
        if state == ReplicaState::Ready {
            replica.first_ready.get_or_insert(now);
        }
        replica.state = state;
        (replica.reason, replica.started) = (reason, started);
        (replica.restarts, replica.ready_after) = (report.restarts, ready_after);
        self.dirty.insert(report.id.workload.clone());
        self.put(Object::Replica(replica));
    }

    /// Why a replica is not what its release asks for, where its node says that it started something else.
    fn started_otherwise(&self, replica: &Replica, started: Option<&str>) -> Option<Reason> {
        let release = self.state.releases.get(&(replica.id.workload.clone(), replica.release))?;
        let asked = LaunchFingerprint::of(release)?.digest();
        let started = started.filter(|started| *started != asked)?;
        let node = replica.node.as_ref().map_or("its node", Name::as_str);
        let sentence = format!(
            "{node} started something else than release {}: {} instead of {}",
            replica.release,
            &started[..started.len().min(12)],
            &asked[..12]
        );
        Some(Reason::new(ReasonCode::NotAsReleased, sentence))
    }

    /// A node is gone and does not come back, and what ran there with it.
    pub fn lose_node(&mut self, node: &Name, now: Timestamp) {
        self.cause = platform(now);
        let here = self.state.replicas.values().filter(|replica| replica.node.as_ref() == Some(node));
        let lost: Vec<ReplicaId> = here.map(|replica| replica.id.clone()).collect();
        for id in lost {
            self.lose_run(&id, "its node was lost", now);
            self.leaving.remove(&id);
            self.remove(Kind::Replica, id.to_string());
            self.touch(&id.workload);
        }
        self.remove(Kind::Node, node.to_string());
    }

    /// Releases of a removed workload go with its last replica.
    fn sweep_releases(&mut self, workload: &Target) {
        let left = crate::routing::all_of(&self.state.replicas, workload).next().is_some();
        if left || self.state.workloads.contains_key(workload) {
            return;
        }
        let keys: Vec<String> = self
            .state
            .releases
            .values()
            .filter(|r| r.workload == *workload)
            .map(|r| format!("{workload}@{}", r.number))
            .collect();
        for key in keys {
            self.remove(Kind::Release, key);
        }
    }

    /// A gateway called. What it worked by in an earlier life counts no more.
    pub fn hear_gateway_hello(&mut self, gateway: &str, life: u64, now: Timestamp) {
        self.cause = platform(now);
        if !self.state.gateways.contains_key(gateway) {
            self.put(Object::Gateway(Gateway { name: gateway.to_owned(), closed_ports: BTreeMap::new() }));
        }
        let known = self.lives.insert(format!("gateway {gateway}"), (life, 0));
        if known.is_none_or(|(before, _)| before != life) {
            self.gateways.insert(gateway.to_owned(), (GatewayView::default(), now));
        }
    }

    /// A gateway tells what it works by.
    pub fn hear_gateway(&mut self, gateway: &str, life: u64, view: GatewayView, now: Timestamp) {
        if self.lives.get(&format!("gateway {gateway}")).is_none_or(|(known, _)| *known != life) {
            return;
        }
        // A table is never given back: an older confirmation has come late.
        if self.gateways.get(gateway).is_some_and(|(known, _)| known.confirmed > view.confirmed) {
            return;
        }
        self.gateways.insert(gateway.to_owned(), (view, now));
        // One that has been silent for long is forgotten, so that the list does not grow.
        let silent = |heard: &Timestamp| now.duration_since(*heard) > jiff::SignedDuration::from_hours(1);
        let gone: Vec<String> = self
            .gateways
            .iter()
            .filter(|(_, (_, heard))| silent(heard))
            .map(|(name, _)| name.clone())
            .collect();
        self.cause = platform(now);
        for name in gone {
            self.gateways.remove(&name);
            self.lives.remove(&format!("gateway {name}"));
            self.remove(Kind::Gateway, name);
        }
    }

    /// A gateway tells which ports of routes it cannot listen on.
    pub fn hear_closed_ports(&mut self, gateway: &str, closed_ports: BTreeMap<u16, String>, now: Timestamp) {
        let known = self.state.gateways.get(gateway);
        if known.is_some_and(|known| known.closed_ports != closed_ports) {
            self.cause = platform(now);
            self.put(Object::Gateway(Gateway { name: gateway.to_owned(), closed_ports }));
        }
    }

    /// Adds what was served to the evidence of rollouts that move. One that waits for a person may do so for days:
    /// then it is gathered, and added as it becomes much.
    pub fn hear_figures(&mut self, figures: &[Figure], now: Timestamp) {
        self.cause = platform(now);
        for figure in figures {
            let (Some(replica), Some(release)) = (&figure.replica, figure.release) else { continue };
            let Some(open) = self.state.open_rollout(&replica.workload) else { continue };
            let added = self.unwritten.entry((open.workload.clone(), open.to)).or_default();
            let of = match (figure.shadow, release == open.to) {
                (false, true) => &mut added.new,
                (false, false) => &mut added.old,
                (true, true) => &mut added.copies,
                (true, false) => &mut added.copied,
            };
            of.add(figure.requests, figure.failed, &figure.latencies);
            added.other_size += figure.other_size;
        }
        for (key, added) in std::mem::take(&mut self.unwritten) {
            let Some(known) = self.state.rollouts.get(&key).filter(|rollout| rollout.state.is_open()) else {
                continue;
            };
            let written = known.evidence.new.requests + known.evidence.old.requests;
            let little = (added.new.requests + added.old.requests) * 20 < written;
            if known.state == RolloutState::Awaiting && little {
                self.unwritten.insert(key, added);
                continue;
            }
            let mut rollout = known.clone();
            rollout.evidence.add(&added);
            self.put(Object::Rollout(rollout));
            self.dirty.insert(key.0);
        }
    }
}
