//! The whole platform as one value: commands and reports go in, changes and orders come out.
//!
//! [`Cluster`] holds the record's objects and what is known only now (which gateway confirmed which table). A
//! command changes it in memory; [`Cluster::settle`] then decides everything that follows and hands out what is
//! to be written, ordered and served. The caller writes first and orders after, so that nothing is done that is
//! not recorded. What the record cannot hold is taken back ([`Cluster::withdraw`]); where the record is away, the caller
//! throws the value away and reads the record again.

mod applications;
mod bindings;
mod certificates;
mod declarations;
mod dirty_set;
mod environments;
mod images;
mod observations;
mod promotion;
mod refusal;
mod releases;
mod removal;
mod reports;
mod revert;
mod rollout_commands;
mod routing_table;
mod run_first_reports;
mod scaling;
mod secrets;
mod set_aside;
mod settle;
mod source_commands;
mod source_sync;

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;

use self::dirty_set::DirtySet;
use crate::address;
use crate::drain::{GatewayView, Leaving};
use crate::model::{Evidence, Name, Origin, ReleaseNumber, ReplicaId, Target};
use crate::record::{Change, Kind, Object, State};
use crate::routing::{Table, TableVersion};

pub use images::AddedImage;
pub use observations::{Declarations, Looked};
pub use promotion::{Promoted, promoted};
pub use refusal::{Refusal, RefusalKind};
pub use releases::{DeployRequest, Goal, MadeRelease, WentTo};
pub(crate) use removal::ends;
pub use scaling::{LimitChange, Resized};
pub use secrets::{SealedValue, Versioned};
pub use settle::{NodeOrders, Settled};
pub use source_commands::{NewSource, Reach, reach};

/// The platform's state and what is being changed about it.
#[derive(Debug, Clone)]
pub struct Cluster {
    /// The objects, with all changes made so far.
    pub(crate) state: State,
    version: TableVersion,
    pending: BTreeMap<(Kind, String), Change>,
    dirty: BTreeSet<Target>,
    wake: BTreeMap<Target, Timestamp>,
    table_stale: bool,
    /// What of the table may differ from the record, and the table as it was last made.
    marks: DirtySet,
    served: Table,
    hosts_stale: BTreeSet<Name>,
    leaving: BTreeMap<ReplicaId, Leaving>,
    gateways: BTreeMap<String, (GatewayView, Timestamp)>,
    /// The lives of nodes and gateways that called, and the last report of each.
    lives: BTreeMap<String, (u64, u64)>,
    to_run: BTreeSet<ReplicaId>,
    to_stop: BTreeSet<(Name, ReplicaId)>,
    /// What was answered and is not yet in a rollout's evidence.
    unwritten: BTreeMap<(Target, ReleaseNumber), Evidence>,
    next_address: u16,
    /// What commits of sources declare, and sources to be looked at.
    declared: Declarations,
    to_follow: BTreeSet<Target>,
    /// Hosts that are the platform's own, and no route's.
    pub(crate) reserved_hosts: BTreeSet<String>,
    /// Ports that the platform itself listens on, and what for.
    pub(crate) reserved_ports: BTreeMap<u16, String>,
    cause: Origin,
}

impl Cluster {
    /// Takes over a record, as the control of this epoch. Everything is looked at once.
    pub fn new(state: State, epoch: u64, now: Timestamp) -> Cluster {
        let dirty = state.workloads.keys().cloned().collect();
        let hosts_stale = state.environments.keys().cloned().collect();
        // Of none of them it is known by which table it serves.
        let unknown = |name: &String| (name.clone(), (GatewayView::default(), now));
        let gateways = state.gateways.keys().map(unknown).collect();
        Cluster {
            state,
            version: TableVersion { epoch, counter: 0 },
            pending: BTreeMap::new(),
            dirty,
            wake: BTreeMap::new(),
            table_stale: true,
            marks: DirtySet::whole(),
            served: Table::default(),
            hosts_stale,
            leaving: BTreeMap::new(),
            gateways,
            lives: BTreeMap::new(),
            to_run: BTreeSet::new(),
            to_stop: BTreeSet::new(),
            unwritten: BTreeMap::new(),
            // Each control begins elsewhere: it does not know what an earlier one gave up a moment ago.
            next_address: (epoch.wrapping_mul(401) % u64::from(address::REPLICAS_PER_NODE)) as u16,
            declared: Declarations::new(),
            to_follow: BTreeSet::new(),
            reserved_hosts: BTreeSet::new(),
            reserved_ports: BTreeMap::new(),
            cause: platform(now),
        }
    }

    /// Hosts and ports that are the platform's own, and no route's.
    pub fn reserve(&mut self, hosts: BTreeSet<String>, ports: BTreeMap<u16, String>) {
        (self.reserved_hosts, self.reserved_ports) = (hosts, ports);
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
        self.version
    }

    /// Records an object as it is now, and why.
    fn put(&mut self, object: Object) {
        self.note(object.kind(), object.key(), Some(object.clone()));
        self.state.put(object);
    }

    fn remove(&mut self, kind: Kind, key: String) {
        self.state.remove(kind, &key);
        self.note(kind, key, None);
    }

    /// What a person caused stays theirs when the platform goes on with it in the same transaction.
    fn note(&mut self, kind: Kind, key: String, object: Option<Object>) {
        self.marks.mark(kind, &key);
        let index = (kind, key.clone());
        let theirs = self
            .pending
            .get(&index)
            .filter(|_| self.cause.by == PLATFORM)
            .map(|earlier| earlier.cause.clone());
        let cause = theirs.unwrap_or_else(|| self.cause.clone());
        self.pending.insert(index, Change { kind, key, object, cause });
    }

    fn touch(&mut self, workload: &Target) {
        self.dirty.insert(workload.clone());
        self.table_stale = true;
    }
}

/// Who did what nobody asked for.
const PLATFORM: &str = "platform";

/// What the platform did by itself.
fn platform(now: Timestamp) -> Origin {
    Origin::new(PLATFORM, "settled", now)
}

#[cfg(test)]
mod tests;
