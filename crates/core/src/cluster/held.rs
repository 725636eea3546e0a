//! The value itself: the record's objects, what is known only now, and what is noted to be written.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;

use super::heard::Declarations;
use super::marks::Marks;
use super::objects::{Change, Kind, Object, State};
use crate::address;
use crate::drain::{GatewayView, Leaving};
use crate::model::{Evidence, Name, Origin, ReleaseNumber, ReplicaId, Target};
use crate::routing::{Table, TableVersion};

/// The platform's state and what is being changed about it.
#[derive(Debug, Clone)]
pub struct Cluster {
    /// The objects, with all changes made so far.
    pub state: State,
    pub(super) version: TableVersion,
    pub(super) pending: BTreeMap<(Kind, String), Change>,
    pub(super) dirty: BTreeSet<Target>,
    pub(super) wake: BTreeMap<Target, Timestamp>,
    pub(super) table_stale: bool,
    /// What of the table may differ from the record, and the table as it was last made.
    pub(super) marks: Marks,
    pub(super) served: Table,
    pub(super) hosts_stale: BTreeSet<Name>,
    pub(super) leaving: BTreeMap<ReplicaId, Leaving>,
    pub(super) gateways: BTreeMap<String, (GatewayView, Timestamp)>,
    /// The lives of nodes and gateways that called, and the last report of each.
    pub(super) lives: BTreeMap<String, (u64, u64)>,
    pub(super) to_run: BTreeSet<ReplicaId>,
    pub(super) to_stop: BTreeSet<(Name, ReplicaId)>,
    /// What was answered and is not yet in a rollout's evidence.
    pub(super) unwritten: BTreeMap<(Target, ReleaseNumber), Evidence>,
    pub(super) next_address: u16,
    /// What commits of sources declare, and sources to be looked at.
    pub(super) declared: Declarations,
    pub(super) to_follow: BTreeSet<Target>,
    /// Hosts that are the platform's own, and no route's.
    pub reserved_hosts: BTreeSet<String>,
    /// Ports that the platform itself listens on, and what for.
    pub reserved_ports: BTreeMap<u16, String>,
    pub(super) cause: Origin,
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
            marks: Marks::whole(),
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

    /// The number of the newest table.
    pub fn table_version(&self) -> TableVersion {
        self.version
    }

    /// Records an object as it is now, and why.
    pub(super) fn put(&mut self, object: Object) {
        self.note(object.kind(), object.key(), Some(object.clone()));
        self.state.put(object);
    }

    pub(super) fn remove(&mut self, kind: Kind, key: String) {
        self.state.remove(kind, &key);
        self.note(kind, key, None);
    }

    /// What a person caused stays theirs when the platform goes on with it in the same transaction.
    pub(super) fn note(&mut self, kind: Kind, key: String, object: Option<Object>) {
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

    pub(super) fn touch(&mut self, workload: &Target) {
        self.dirty.insert(workload.clone());
        self.table_stale = true;
    }
}

/// Who did what nobody asked for.
const PLATFORM: &str = "platform";

/// What the platform did by itself.
pub(super) fn platform(now: Timestamp) -> Origin {
    Origin::new(PLATFORM, "settled", now)
}
