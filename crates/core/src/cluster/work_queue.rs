//! Workloads that are to be decided about, now or at a time.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;

use crate::model::Target;

/// Workloads that are to be decided about.
#[derive(Debug, Clone, Default)]
pub(super) struct WorkQueue {
    due: BTreeSet<Target>,
    later: BTreeMap<Target, Timestamp>,
}

impl WorkQueue {
    /// All of these are to be decided about now.
    pub(super) fn of(workloads: impl IntoIterator<Item = Target>) -> WorkQueue {
        WorkQueue { due: workloads.into_iter().collect(), later: BTreeMap::new() }
    }

    /// Decide about this one now.
    pub(super) fn add(&mut self, workload: &Target) {
        self.due.insert(workload.clone());
    }

    /// Decide about these now.
    pub(super) fn extend(&mut self, workloads: impl IntoIterator<Item = Target>) {
        self.due.extend(workloads);
    }

    /// Decide about this one at a time, unless it is decided about before.
    pub(super) fn add_at(&mut self, workload: &Target, at: Timestamp) {
        self.later.insert(workload.clone(), at);
    }

    /// Not now, as there is no such workload any more.
    pub(super) fn forget(&mut self, workload: &Target) {
        self.due.remove(workload);
    }

    /// Work that was planned for later is done now.
    pub(super) fn forget_later(&mut self, workload: &Target) {
        self.later.remove(workload);
    }

    /// Adds those whose time has come.
    pub(super) fn add_due(&mut self, now: Timestamp) {
        let due = self.later.iter().filter(|(_, at)| **at <= now);
        self.due.extend(due.map(|(workload, _)| workload.clone()));
    }

    /// Takes all that are to be decided about now.
    pub(super) fn take(&mut self) -> BTreeSet<Target> {
        std::mem::take(&mut self.due)
    }

    /// Those that are to be decided about now.
    pub(super) fn due(&self) -> &BTreeSet<Target> {
        &self.due
    }

    /// The times at which there is something to decide.
    pub(super) fn times(&self) -> impl Iterator<Item = Timestamp> {
        self.later.values().copied()
    }
}
