//! Reports of nodes and gateways.

use std::collections::BTreeMap;

use super::{Cluster, Transaction};
use crate::address::Range;
use crate::drain::GatewayView;
use crate::launch_fingerprint::LaunchFingerprint;
use crate::link::{Figure, NodeHello, NodeReport, ReplicaReport};
use crate::model::{Gateway, Name, Node, Reason, ReasonCode, Replica, ReplicaId, ReplicaState, Target};
use crate::record::{Kind, Object};

impl Cluster {
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
}

impl Transaction<'_> {
    /// A node agent called. Everything it should run is ordered again.
    pub fn node_called(&mut self, hello: NodeHello) {
        let now = self.now;
        self.incarnations.node_called(&hello.node, hello.incarnation);
        let NodeHello { node: name, cpu, memory, range, .. } = hello;
        let node = Node { name, cpu, memory, range, heard: now };
        let same = self.state.nodes.get(&node.name).is_some_and(|known| {
            (known.cpu, known.memory, known.range) == (node.cpu, node.memory, node.range)
        });
        if !same {
            self.move_replicas(&node.name, range);
            self.put(Object::Node(node));
        }
        let Cluster { work, state, .. } = &mut **self;
        work.extend(state.workloads.keys().cloned());
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
            self.table.touch();
        }
    }

    /// A node agent tells how replicas are. What an earlier agent sent, or what came before, is ignored.
    pub fn node_reported(&mut self, node: &Name, report: NodeReport) {
        if !self.incarnations.take_report(node, report.incarnation, report.number, report.whole) {
            return;
        }
        for replica in &report.replicas {
            self.replica_reported(node, replica);
        }
        for id in report.gone {
            let Some(replica) =
                self.state.replicas.get(&id).filter(|replica| replica.node.as_ref() == Some(node))
            else {
                continue;
            };
            // What was not asked to stop is started again by the next order; but never what is run once.
            if replica.stopping || replica.once.is_some() {
                self.run_lost(&id, "it was stopped before its outcome was reported");
                self.draining.forget(&id);
                self.remove(Kind::Replica, id.to_string());
                self.touch(&id.workload);
                self.sweep_releases(&id.workload);
            } else {
                self.orders.run(id);
            }
        }
    }

    fn replica_reported(&mut self, node: &Name, report: &ReplicaReport) {
        let now = self.now;
        let Some(known) = self.state.replicas.get(&report.id) else {
            // Nobody wants it any more.
            self.orders.stop(node, report.id.clone());
            return;
        };
        if known.node.as_ref() != Some(node) {
            self.orders.stop(node, report.id.clone());
            return;
        }
        if known.once.is_some() {
            return self.run_reported(known.clone(), report);
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
        let takes = report.takes_connections;
        if (replica.state, &replica.reason, replica.restarts, &replica.started, replica.ready_after)
            == (state, &reason, report.restarts, &started, ready_after)
            && replica.takes_connections == takes
        {
            return;
        }
        if replica.state != state || replica.takes_connections != takes {
            self.table.touch();
        }
        if replica.state != state {
            replica.since = now;
        }
        replica.takes_connections = takes;
        replica.state = state;
        (replica.reason, replica.started) = (reason, started);
        if replica.restarts != report.restarts {
            // It was started from its image again.
            replica.changed = None;
        }
        (replica.restarts, replica.ready_after) = (report.restarts, ready_after);
        self.work.add(&report.id.workload);
        self.put(Object::Replica(replica));
    }

    /// A node is gone and does not come back, and what ran there with it.
    pub fn node_lost(&mut self, node: &Name) {
        let here = self.state.replicas.values().filter(|replica| replica.node.as_ref() == Some(node));
        let lost: Vec<ReplicaId> = here.map(|replica| replica.id.clone()).collect();
        for id in lost {
            self.run_lost(&id, "its node was lost");
            self.draining.forget(&id);
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

    /// A gateway called. What it worked by in an earlier life no longer counts.
    pub fn gateway_called(&mut self, gateway: &str, incarnation: u64) {
        let now = self.now;
        if !self.state.gateways.contains_key(gateway) {
            self.put(Object::Gateway(Gateway { name: gateway.to_owned(), closed_ports: BTreeMap::new() }));
        }
        if self.incarnations.gateway_called(gateway, incarnation) {
            self.draining.gateway_began(gateway, now);
        }
    }

    /// A gateway tells what it works by.
    pub fn gateway_confirmed(&mut self, gateway: &str, incarnation: u64, view: GatewayView) {
        let now = self.now;
        if !self.incarnations.is_present(gateway, incarnation) {
            return;
        }
        for name in self.draining.confirm(gateway, view, now) {
            self.incarnations.forget_gateway(&name);
            self.remove(Kind::Gateway, name);
        }
    }

    /// A gateway tells which ports of routes it cannot listen on.
    pub fn closed_ports_reported(&mut self, gateway: &str, closed_ports: BTreeMap<u16, String>) {
        let known = self.state.gateways.get(gateway);
        if known.is_some_and(|known| known.closed_ports != closed_ports) {
            self.put(Object::Gateway(Gateway { name: gateway.to_owned(), closed_ports }));
        }
    }

    /// Adds what was served to the evidence of rollouts that are under way.
    pub fn figures_reported(&mut self, figures: &[Figure]) {
        let Cluster { state, evidence, .. } = &mut **self;
        evidence.add(figures, state);
        for (key, added) in evidence.take(state) {
            let Some(mut rollout) = self.state.rollouts.get(&key).cloned() else { continue };
            rollout.evidence.add(&added);
            self.put(Object::Rollout(rollout));
            self.work.add(&key.0);
        }
    }
}
