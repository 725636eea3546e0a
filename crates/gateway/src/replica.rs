//! One replica as the workers know it: how it is dialled, what is open to it, and what it answered.

use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, Weak};
use std::time::Duration;

use arc_swap::ArcSwap;
use mainyard_core::link::Figure;
use mainyard_core::model::Target;
use mainyard_core::routing::Backend;
use tokio::sync::Notify;

use crate::affinity::affinity_of;
use crate::counts::{Counts, EntryPoint};
use crate::load::Load;
use crate::waiting::Waiting;

/// Requests and connections that are open to one replica, at most: a slow one must not use up the gateway's descriptors.
const MOST_OPEN: u32 = 10_000;

/// One replica as it is dialled, shared by all tables that hold it.
#[derive(Debug)]
pub struct Replica {
    /// Which replica, of which release, and how to dial it.
    pub backend: Backend,
    /// Its name in a visitor's cookie.
    pub affinity: u64,
    /// Requests that it works on, and may.
    pub load: Load,
    /// What waits for it, at each port that it stands behind.
    queues: ArcSwap<Vec<Arc<Waiting<Slot>>>>,
    /// Those beside it, and itself.
    peers: ArcSwap<Vec<Weak<Replica>>>,
    /// Requests open to it now, until the last byte of their answers.
    pub open: AtomicU32,
    /// Whether it has left the table.
    pub retired: AtomicBool,
    /// Its answers so far.
    pub counts: Counts,
    /// Copies that it answered in a shadow step, or that were made of what it answered.
    pub copies: Counts,
}

/// A request that is open to a replica.
#[derive(Debug)]
pub struct Open {
    /// The replica.
    pub replica: Arc<Replica>,
    /// Woken when the last one ends of a replica that has left.
    pub changed: Arc<Notify>,
    /// How a visitor's request came, and to which service; `None` for a copy.
    pub by: Option<(EntryPoint, Arc<Target>)>,
}

impl Drop for Open {
    fn drop(&mut self) {
        if let Some((way, service)) = &self.by {
            self.replica.counts.close(way, service);
        }
        let last = self.replica.open.fetch_sub(1, Ordering::SeqCst) == 1;
        if last && self.replica.retired.load(Ordering::SeqCst) {
            self.changed.notify_one();
        }
    }
}

impl Replica {
    /// One that has just come into the table.
    pub fn new(backend: Backend) -> Replica {
        Replica {
            affinity: affinity_of(&backend.replica),
            load: Load::new(backend.capacity.requests),
            queues: ArcSwap::default(),
            peers: ArcSwap::default(),
            backend,
            open: AtomicU32::new(0),
            retired: AtomicBool::new(false),
            counts: Counts::default(),
            copies: Counts::default(),
        }
    }

    /// Whether as much is open to it as may be.
    pub fn is_full(&self) -> bool {
        self.open.load(Ordering::Relaxed) >= MOST_OPEN
    }

    /// Whether it is given less for now because much fails at it. Where most of those beside it are no better, the fault is
    /// hardly theirs, and the few others must not be overrun.
    pub(crate) fn is_eased(&self) -> bool {
        if !self.load.is_eased() {
            return false;
        }
        let peers = self.peers.load();
        let eased = peers.iter().filter_map(Weak::upgrade).filter(|peer| peer.load.is_eased()).count();
        eased * 2 <= peers.len()
    }

    /// Its free slots go to what waits there, too; it stands beside these.
    pub(crate) fn serve(&self, waiting: &Arc<Waiting<Slot>>, peers: &Arc<Vec<Weak<Replica>>>) {
        self.peers.store(Arc::clone(peers));
        self.queues.rcu(|queues| {
            // One that nobody else holds is of a port that is gone.
            let kept = queues.iter().filter(|it| Arc::strong_count(it) > 1 && !Arc::ptr_eq(it, waiting));
            kept.chain([waiting]).map(Arc::clone).collect::<Vec<_>>()
        });
    }

    /// Takes what was counted since the last call.
    pub fn take_figures(&self) -> impl Iterator<Item = Figure> {
        let backend = Some(&self.backend);
        self.counts.take(backend, false).into_iter().chain(self.copies.take(backend, true))
    }

    /// Counts in a shadow step: a copy that was answered, or the visitor's request that it is a copy of.
    pub fn count_copy(
        &self,
        way: &EntryPoint,
        service: &Target,
        failed: bool,
        micros: u64,
        other_size: bool,
    ) {
        self.copies.add_copy(way, service, failed, micros, other_size);
    }

    /// Whether it has left the table.
    pub fn is_retired(&self) -> bool {
        self.retired.load(Ordering::SeqCst)
    }
}

/// A place among the requests that a replica works on.
///
/// A request holds it from when it is sent until its answer begins. What comes after takes its time from the visitor's
/// connection: a slow reader or a stream that goes on for hours keeps nobody else waiting. One that becomes free goes to the
/// next that waits.
#[derive(Debug)]
pub struct Slot {
    replica: Arc<Replica>,
    is_held: bool,
}

impl Slot {
    /// A free one of this replica.
    pub(crate) fn take(replica: &Arc<Replica>) -> Option<Slot> {
        replica.load.take().then(|| Slot { replica: Arc::clone(replica), is_held: true })
    }

    /// Whose it is.
    pub(crate) fn replica(&self) -> &Arc<Replica> {
        &self.replica
    }

    /// The answer began after this time: the slot is free.
    pub(crate) fn answered(self, took: Duration) {
        self.replica.load.note_answer(took);
    }

    /// Gives it up without looking who waits.
    fn put_back(mut self) {
        self.is_held = false;
        self.replica.load.leave();
    }
}

impl Drop for Slot {
    fn drop(&mut self) {
        if !self.is_held {
            return;
        }
        self.replica.load.leave();
        if !hand_out(&self.replica) {
            self.replica.load.note_room();
        }
    }
}

/// Gives free slots of a replica to what waits for one; tells whether none is left free.
pub(crate) fn hand_out(replica: &Arc<Replica>) -> bool {
    let queues = replica.queues.load();
    // One that fails at once always has room, and would be given all that waits.
    if queues.iter().all(|queue| queue.is_empty()) || replica.is_retired() || replica.is_eased() {
        return false;
    }
    replica.load.note_full();
    for turn in 0.. {
        let Some(slot) = Slot::take(replica) else { break };
        // Services that share a replica take turns.
        let mut queues = queues.iter().cycle().skip(turn % queues.len()).take(queues.len());
        if let Some(left) = queues.try_fold(slot, |slot, queue| queue.offer(slot)) {
            left.put_back();
            return false;
        }
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn open_requests_to_a_replica_stay_within_its_limit() {
        let backend = serde_json::json!({
            "replica": "staging/locker-api/a0", "release": 1, "node": "node-1", "address": "10.118.16.2:5000",
        });
        let replica = Replica::new(serde_json::from_value(backend).expect("a backend"));
        replica.open.store(MOST_OPEN - 1, Ordering::Relaxed);
        assert!(!replica.is_full());
        replica.open.store(MOST_OPEN, Ordering::Relaxed);
        assert!(replica.is_full());
    }
}
