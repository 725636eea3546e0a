//! The parts of the gateways' table that may differ from the record.

use std::collections::BTreeSet;

use crate::model::{ReleaseNumber, ReplicaId, Target};
use crate::record::{Kind, indexed};

/// The parts of the table that may differ from the record.
#[derive(Debug, Clone, Default)]
pub(super) struct DirtySet {
    /// All of it.
    pub whole: bool,
    /// Services that select these.
    pub workloads: BTreeSet<Target>,
    /// These, and routes that lead to them.
    pub services: BTreeSet<Target>,
    pub routes: BTreeSet<Target>,
}

impl DirtySet {
    /// Everything may differ.
    pub(super) fn whole() -> DirtySet {
        DirtySet { whole: true, ..DirtySet::default() }
    }

    /// An object was changed, or came or went.
    pub(super) fn mark(&mut self, kind: Kind, key: &str) {
        match kind {
            Kind::Environment => self.whole = true,
            Kind::Workload => self.workloads.extend(indexed::<Target>(key)),
            Kind::Release | Kind::Rollout => {
                self.workloads.extend(indexed::<(Target, ReleaseNumber)>(key).map(|(workload, _)| workload));
            }
            Kind::Replica => self.workloads.extend(indexed::<ReplicaId>(key).map(|id| id.workload)),
            Kind::Service => self.services.extend(indexed::<Target>(key)),
            Kind::Route => self.routes.extend(indexed::<Target>(key)),
            Kind::Secret
            | Kind::Certificate
            | Kind::Authority
            | Kind::Source
            | Kind::Image
            | Kind::Registry
            | Kind::StorageRule
            | Kind::Gateway
            | Kind::Node => {}
        }
    }
}
