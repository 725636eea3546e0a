//! Requests that wait for a free slot, whatever that is, of the replicas behind one port of a service.

use std::net::IpAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use http::StatusCode;
use mainyard_core::model::ReasonCode;
use mainyard_core::overload::{FairQueue, Pace, Pushed};
use tokio::sync::oneshot;

use crate::admission::network_of;
use crate::rejections::Refused;

#[derive(Debug)]
struct Queue<S> {
    waiting: FairQueue<IpAddr, oneshot::Sender<S>>,
    pace: Pace,
}

/// The queue of one port, shared by all workers, across tables.
#[derive(Debug)]
pub struct Waiting<S> {
    queue: Mutex<Queue<S>>,
    epoch: Instant,
    /// How many wait, to be looked at without the lock.
    length: AtomicUsize,
}

/// Why a request got no slot.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum NoSlot {
    /// As many wait as may, or another visitor who has less in the queue came.
    Full,
    /// It waited as long as it may.
    Late,
}

impl<S> Default for Waiting<S> {
    fn default() -> Waiting<S> {
        let queue = Queue { waiting: FairQueue::default(), pace: Pace::default() };
        Waiting { queue: Mutex::new(queue), epoch: Instant::now(), length: AtomicUsize::new(0) }
    }
}

impl<S> Waiting<S> {
    fn now(&self) -> u64 {
        self.epoch.elapsed().as_millis() as u64
    }

    fn lock(&self) -> MutexGuard<'_, Queue<S>> {
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How many wait.
    pub(crate) fn len(&self) -> usize {
        self.length.load(Ordering::SeqCst)
    }

    /// Whether nothing waits.
    pub(crate) fn is_empty(&self) -> bool {
        self.length.load(Ordering::SeqCst) == 0
    }

    /// Gives the slot to the next that waits; gives it back where nothing does.
    pub(crate) fn offer(&self, slot: S) -> Option<S> {
        let mut slot = slot;
        loop {
            let next = {
                let mut queue = self.lock();
                let next = queue.waiting.pop();
                if next.is_some() {
                    queue.pace.serve(self.now());
                }
                self.length.store(queue.waiting.len(), Ordering::SeqCst);
                next
            };
            let Some(next) = next else { return Some(slot) };
            match next.send(slot) {
                Ok(()) => return None,
                // It waits no longer.
                Err(back) => slot = back,
            }
        }
    }

    /// Waits for a slot, so long at most, where fewer than `most` wait. `entered` is called once it is in the queue: a slot
    /// that became free before that is for it.
    pub(crate) async fn wait(
        self: &Arc<Self>,
        visitor: IpAddr,
        most: usize,
        at_most: Duration,
        entered: impl FnOnce(),
    ) -> Result<S, NoSlot> {
        let visitor = network_of(visitor);
        let (sender, mut receiver) = oneshot::channel();
        let number = {
            let (mut queue, now) = (self.lock(), self.now());
            if queue.waiting.is_empty() {
                queue.pace.begin(now);
            }
            let room = queue.pace.room(now, most, at_most.as_millis() as u64);
            let pushed = queue.waiting.push(visitor, sender, room);
            self.length.store(queue.waiting.len(), Ordering::SeqCst);
            match pushed {
                Pushed::Waits(number) => number,
                // Dropped, the other's sender tells it that it has to leave.
                Pushed::Instead(number, _) => number,
                Pushed::Full(_) => return Err(NoSlot::Full),
            }
        };
        let _place = Place { of: Arc::clone(self), visitor, number };
        entered();
        match tokio::time::timeout(at_most, &mut receiver).await {
            Ok(Ok(slot)) => Ok(slot),
            Ok(Err(_)) => Err(NoSlot::Full),
            // One may have come at the last moment.
            Err(_) => receiver.try_recv().map_err(|_| NoSlot::Late),
        }
    }
}

/// A place in the queue: left when the request goes, whyever.
struct Place<S> {
    of: Arc<Waiting<S>>,
    visitor: IpAddr,
    number: u64,
}

impl<S> Drop for Place<S> {
    fn drop(&mut self) {
        let mut queue = self.of.lock();
        queue.waiting.remove(&self.visitor, self.number);
        self.of.length.store(queue.waiting.len(), Ordering::SeqCst);
    }
}

/// The answer to a request that got no slot of a service.
pub(crate) fn overloaded(service: &str, why: NoSlot, most: usize, at_most: Duration) -> Refused {
    let detail = match why {
        NoSlot::Full if most == 0 => "none may wait".to_owned(),
        NoSlot::Full => format!("as many wait as can be served within {} s", at_most.as_secs_f32()),
        NoSlot::Late => format!("none had room within {} s", at_most.as_secs_f32()),
    };
    let sentence =
        format!("all replicas of {service} take as many requests as they may at once, and {detail}");
    let seconds = at_most.as_secs().max(1);
    Refused::new(StatusCode::SERVICE_UNAVAILABLE, ReasonCode::Overloaded, sentence).retry_after(seconds)
}
