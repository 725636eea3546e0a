//! Replicas that left the table, and what each gateway has confirmed about them.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};

use crate::drain::{GatewayView, Leaving, may_stop};
use crate::model::{ReplicaId, ReplicaState, Stop};
use crate::record::State;
use crate::routing::TableVersion;

/// A gateway that was silent for so long is forgotten, so that the list does not grow.
const FORGOTTEN_AFTER: SignedDuration = SignedDuration::from_hours(1);

/// A lease of a gateway may end at any time: it is looked at this often while a replica leaves.
const LOOK_EVERY: SignedDuration = SignedDuration::from_secs(1);

/// Replicas that left the table and are not stopped yet, and the gateways that are waited for.
#[derive(Debug, Clone, Default)]
pub(super) struct Draining {
    leaving: BTreeMap<ReplicaId, Leaving>,
    gateways: BTreeMap<String, (GatewayView, Timestamp)>,
}

impl Draining {
    /// These gateways are in the record; which table they work by is not known.
    pub(super) fn of(gateways: impl IntoIterator<Item = String>, now: Timestamp) -> Draining {
        let unknown = |name| (name, (GatewayView::default(), now));
        Draining { leaving: BTreeMap::new(), gateways: gateways.into_iter().map(unknown).collect() }
    }

    /// A gateway begins a new life: it works by no table that is known.
    pub(super) fn gateway_began(&mut self, gateway: &str, now: Timestamp) {
        self.gateways.insert(gateway.to_owned(), (GatewayView::default(), now));
    }

    /// A gateway tells what it works by. Gives the gateways that have been silent for too long to be remembered.
    pub(super) fn confirm(&mut self, gateway: &str, view: GatewayView, now: Timestamp) -> Vec<String> {
        // A table is never given back: an older confirmation has come late.
        if self.gateways.get(gateway).is_some_and(|(known, _)| known.confirmed > view.confirmed) {
            return Vec::new();
        }
        self.gateways.insert(gateway.to_owned(), (view, now));
        let silent = |heard: Timestamp| now.duration_since(heard) > FORGOTTEN_AFTER;
        let gone = self.gateways.iter().filter(|(_, (_, heard))| silent(*heard));
        let gone: Vec<String> = gone.map(|(name, _)| name.clone()).collect();
        self.gateways.retain(|name, _| !gone.contains(name));
        gone
    }

    /// Everything that drains is out of the table of this version, and of every later one.
    pub(super) fn begin(&mut self, state: &State, left_at: TableVersion, since: Timestamp) {
        let draining = state
            .replicas
            .values()
            .filter(|replica| replica.state == ReplicaState::Draining && !replica.stopping);
        for replica in draining {
            let release = state.releases.get(&(replica.id.workload.clone(), replica.release));
            let limit = release.map_or(Stop::default().drain, |release| release.spec.stop.drain);
            self.leaving.entry(replica.id.clone()).or_insert(Leaving { left_at, since, limit });
        }
    }

    /// Takes the replicas that may be stopped now.
    pub(super) fn take_idle(&mut self, now: Timestamp) -> Vec<ReplicaId> {
        let gateways = || self.gateways.values().map(|(view, heard)| (view, *heard));
        let idle = self.leaving.iter().filter(|(id, leaving)| may_stop(id, leaving, gateways(), now));
        let idle: Vec<ReplicaId> = idle.map(|(id, _)| id.clone()).collect();
        self.leaving.retain(|id, _| !idle.contains(id));
        idle
    }

    /// How many requests to a replica are still open.
    pub(super) fn open_requests(&self, id: &ReplicaId) -> u32 {
        self.gateways.values().filter_map(|(view, _)| view.open.get(id)).sum()
    }

    /// A replica is gone.
    pub(super) fn forget(&mut self, id: &ReplicaId) {
        self.leaving.remove(id);
    }

    /// Keeps only the replicas that the record still has as draining.
    pub(super) fn keep_draining(&mut self, state: &State) {
        self.leaving.retain(|id, _| {
            let replica = state.replicas.get(id);
            replica.is_some_and(|it| it.state == ReplicaState::Draining && !it.stopping)
        });
    }

    /// The times at which a replica may have become free to stop though nobody said so.
    pub(super) fn times(&self, now: Timestamp) -> impl Iterator<Item = Timestamp> {
        let limits = self.leaving.values().map(|leaving| leaving.since + leaving.limit.signed());
        let look = (!self.leaving.is_empty()).then(|| now + LOOK_EVERY);
        limits.chain(look)
    }
}
