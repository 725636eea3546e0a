//! Taking back changes that the record cannot hold, without reading all of it again.

use super::Cluster;
use super::pending_changes::Undo;
use super::settle::Settled;
use crate::model::{ReleaseNumber, ReplicaId, Target};
use crate::record::{Kind, State, indexed};

impl Cluster {
    /// Makes everything that [`Settled`] would have changed as `written` has it, and notes it to be decided again.
    ///
    /// The table that came out of it was never sent: the caller sends [`Cluster::served`] whole once the next one
    /// is made.
    pub fn withdraw(&mut self, settled: Settled, written: &State) {
        for change in settled.changes {
            let before = written.object(change.kind, &change.key);
            match before {
                Some(object) => self.state.put(object),
                None => self.state.remove(change.kind, &change.key),
            }
            self.work.extend(workload_of(change.kind, &change.key));
            if let Some(environment) = environment_of(change.kind, &change.key) {
                self.stale_hosts.extend(environment.parse().ok());
            }
        }
        self.draining.keep_draining(&self.state);
        self.orders.take_back(settled.orders, &self.state);
        self.changes.clear();
        self.table.touch_all();
    }

    /// Takes back what a command did before it was refused.
    pub(super) fn undo(&mut self, before: Option<Undo>) {
        for ((kind, key), object) in self.changes.undo(before) {
            match object {
                Some(object) => self.state.put(object),
                None => self.state.remove(kind, &key),
            }
        }
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
