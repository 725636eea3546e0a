//! Taking back changes that the record cannot hold, without reading all of it again.

use jiff::Timestamp;

use super::Cluster;
use super::dirty_set::DirtySet;
use super::settle::Settled;
use crate::model::{ReleaseNumber, ReplicaId, ReplicaState, Target};
use crate::record::{Kind, State, indexed};

impl Cluster {
    /// Makes everything that [`Settled`] would have changed as `written` has it, and notes it to be decided again.
    ///
    /// The table that came out of it was never sent: the caller sends [`Cluster::served`] whole once the next one
    /// is made.
    pub fn withdraw(&mut self, settled: Settled, written: &State, now: Timestamp) {
        for change in settled.changes {
            let before = written.object(change.kind, &change.key);
            match before {
                Some(object) => self.state.put(object),
                None => self.state.remove(change.kind, &change.key),
            }
            self.dirty.extend(workload_of(change.kind, &change.key));
            if let Some(environment) = environment_of(change.kind, &change.key) {
                self.hosts_stale.extend(environment.parse().ok());
            }
        }
        let still = |id: &ReplicaId| self.state.replicas.get(id);
        self.leaving.retain(|id, _| {
            still(id).is_some_and(|replica| replica.state == ReplicaState::Draining && !replica.stopping)
        });
        // Orders that were not sent: those that still hold are sent with the next ones.
        for (node, orders) in settled.orders {
            let run = orders.run.into_iter().map(|order| order.id).filter(|id| still(id).is_some());
            self.to_run.extend(run);
            let stop = orders.stop.into_iter().filter(|id| still(id).is_some_and(|replica| replica.stopping));
            self.to_stop.extend(stop.map(|id| (node.clone(), id)));
        }
        self.pending.clear();
        self.table_stale = true;
        self.marks = DirtySet::whole();
        self.cause = super::platform(now);
    }
}

/// The workload that a change of this object may concern.
fn workload_of(kind: Kind, key: &str) -> Option<Target> {
    match kind {
        Kind::Workload => indexed(key),
        Kind::Release | Kind::Rollout => {
            indexed::<(Target, ReleaseNumber)>(key).map(|(workload, _)| workload)
        }
        Kind::Replica => indexed::<ReplicaId>(key).map(|id| id.workload),
        _ => None,
    }
}

/// The environment whose names inside a change of this object may concern.
fn environment_of(kind: Kind, key: &str) -> Option<String> {
    match kind {
        Kind::Environment => Some(key.to_owned()),
        Kind::Service => key.split_once('/').map(|(environment, _)| environment.to_owned()),
        _ => None,
    }
}
