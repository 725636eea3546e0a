//! The whole platform as one value: commands and reports go in, changes and orders come out.
//!
//! [`Cluster`] holds the record's objects and what is known only now (which gateway confirmed which table). A
//! command changes it in memory; [`Transaction::settle`] then decides everything that follows and hands out what is
//! to be written, ordered and served. The caller writes first and orders after, so that nothing is done that is
//! not recorded. What the record cannot hold is taken back ([`Cluster::withdraw`]); where the record is away, the caller
//! throws the value away and reads the record again.

mod applications;
mod authorities;
mod bindings;
mod certificates;
mod decisions;
mod declarations;
mod dirty_set;
mod draining;
mod environments;
mod evidence;
mod growth;
mod holds;
mod images;
mod incarnations;
mod live_changes;
mod lookup;
mod new_release;
mod node_orders;
mod observations;
mod pending_changes;
mod present;
mod promotion;
mod refusal;
mod registries;
mod releases;
mod removal;
mod replica_placement;
mod reports;
mod revert;
mod rollback_target;
mod rollout_commands;
mod routing_table;
mod run_first_reports;
mod scaling;
mod secret_uses;
mod secrets;
mod set_aside;
mod settle;
mod signatures;
mod source_commands;
mod source_follower;
mod source_plan;
mod source_sync;
mod spent_numbers;
mod storage_rules;
mod transaction;
mod work_queue;
mod yields;

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;

use self::draining::Draining;
use self::evidence::EvidenceBuffer;
use self::incarnations::Incarnations;
use self::node_orders::PendingOrders;
use self::observations::Observations;
use self::pending_changes::PendingChanges;
use self::replica_placement::ReplicaPlacement;
use self::routing_table::RoutingTable;
use self::work_queue::WorkQueue;
use crate::model::Name;
use crate::record::State;
use crate::routing::{Table, TableVersion, build};

pub use images::AddedImage;
pub use live_changes::live_replicas;
pub use node_orders::NodeOrders;
pub use observations::{Declarations, Looked};
pub use promotion::{Promoted, promoted};
pub use refusal::{Refusal, RefusalKind};
pub use releases::{DeployRequest, Goal, MadeRelease, WentTo};
pub(crate) use removal::ends;
pub(crate) use rollback_target::History;
pub use scaling::{LimitChange, Resized};
pub use secret_uses::SecretUses;
pub use secrets::{SealedValue, Versioned};
pub use settle::Settled;
pub use source_commands::{NewSource, Transport, reach};
pub use transaction::Transaction;

/// Hosts and ports that are the platform's own, and no route's.
#[derive(Debug, Clone, Default)]
pub(crate) struct Reserved {
    /// The hosts.
    pub(crate) hosts: BTreeSet<String>,
    /// The ports, and what listens there.
    pub(crate) ports: BTreeMap<u16, String>,
}

/// The platform's state and what is being changed about it. Each part has one job, and its state is its own.
#[derive(Debug, Clone)]
pub struct Cluster {
    /// The objects, with all changes made so far.
    pub(crate) state: State,
    changes: PendingChanges,
    work: WorkQueue,
    table: RoutingTable,
    draining: Draining,
    incarnations: Incarnations,
    orders: PendingOrders,
    placement: ReplicaPlacement,
    evidence: EvidenceBuffer,
    observations: Observations,
    /// Environments whose hosts file may differ from the record.
    stale_hosts: BTreeSet<Name>,
    pub(crate) reserved: Reserved,
}

impl Cluster {
    /// Takes over a record, as the control of this epoch. Everything is looked at once.
    pub fn new(state: State, epoch: u64, now: Timestamp) -> Cluster {
        Cluster {
            changes: PendingChanges::default(),
            work: WorkQueue::of(state.workloads.keys().cloned()),
            table: RoutingTable::of_epoch(epoch),
            draining: Draining::of(state.gateways.keys().cloned(), now),
            incarnations: Incarnations::default(),
            orders: PendingOrders::default(),
            placement: ReplicaPlacement::of_epoch(epoch),
            evidence: EvidenceBuffer::default(),
            observations: Observations::default(),
            stale_hosts: state.environments.keys().cloned().collect(),
            reserved: Reserved::default(),
            state,
        }
    }

    /// Hosts and ports that are the platform's own, and no route's.
    pub fn reserve(&mut self, hosts: BTreeSet<String>, ports: BTreeMap<u16, String>) {
        self.reserved = Reserved { hosts, ports };
    }

    /// The objects, with all changes made so far.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// The objects, of a cluster that is needed no more.
    pub fn into_state(self) -> State {
        self.state
    }

    /// The number of the newest table.
    pub fn table_version(&self) -> TableVersion {
        self.table.version()
    }

    /// The table as the record has it now.
    pub fn table(&self) -> Table {
        build(&self.state, self.table.version())
    }

    /// The table as it was last made.
    pub fn served(&self) -> &Table {
        self.table.served()
    }
}

#[cfg(test)]
mod tests;
