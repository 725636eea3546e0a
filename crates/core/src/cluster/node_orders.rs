//! Orders for node agents that are not sent yet, and everything that a node should run.

use std::collections::{BTreeMap, BTreeSet};

use crate::link::RunOrder;
use crate::model::{Name, ReplicaId};
use crate::record::State;

/// The orders for one node.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct NodeOrders {
    /// Replicas to run.
    pub run: Vec<RunOrder>,
    /// Replicas to stop.
    pub stop: Vec<ReplicaId>,
}

/// Orders that are not sent yet.
#[derive(Debug, Clone, Default)]
pub(super) struct PendingOrders {
    run: BTreeSet<ReplicaId>,
    stop: BTreeSet<(Name, ReplicaId)>,
}

impl PendingOrders {
    /// A replica is to run on the node that it was placed on.
    pub(super) fn run(&mut self, id: ReplicaId) {
        self.run.insert(id);
    }

    /// A node is to stop a replica.
    pub(super) fn stop(&mut self, node: &Name, id: ReplicaId) {
        self.stop.insert((node.clone(), id));
    }

    /// Takes all of them, by node.
    pub(super) fn take(&mut self, state: &State) -> BTreeMap<Name, NodeOrders> {
        let mut orders: BTreeMap<Name, NodeOrders> = BTreeMap::new();
        for id in std::mem::take(&mut self.run) {
            if let Some((node, order)) = run_order(state, &id) {
                orders.entry(node).or_default().run.push(order);
            }
        }
        for (node, id) in std::mem::take(&mut self.stop) {
            orders.entry(node).or_default().stop.push(id);
        }
        orders
    }

    /// Takes back orders that were not sent: those that still hold are sent with the next ones.
    pub(super) fn take_back(&mut self, orders: BTreeMap<Name, NodeOrders>, state: &State) {
        for (node, orders) in orders {
            let run = orders.run.into_iter().map(|order| order.id);
            self.run.extend(run.filter(|id| state.replicas.contains_key(id)));
            let still = |id: &ReplicaId| state.replicas.get(id).is_some_and(|replica| replica.stopping);
            let stop = orders.stop.into_iter().filter(still);
            self.stop.extend(stop.map(|id| (node.clone(), id)));
        }
    }
}

/// The order to run a replica, and for which node; `None` while it has none, or is to stop.
pub(super) fn run_order(state: &State, id: &ReplicaId) -> Option<(Name, RunOrder)> {
    let replica = state.replicas.get(id).filter(|replica| !replica.stopping)?;
    let release = state.releases.get(&(id.workload.clone(), replica.release))?;
    let order = RunOrder {
        id: id.clone(),
        release: replica.release,
        environment: state.environments.get(&id.workload.environment)?.index,
        spec: release.spec.clone(),
        digest: release.digest.clone()?,
        address: replica.address?,
        once: replica.once,
        secrets: release.secrets.clone(),
        values: Vec::new(),
    };
    Some((replica.node.clone()?, order))
}
