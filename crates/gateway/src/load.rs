//! How many requests a replica works on, how many it may, and whether it is given less for a while.

use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::sync::{Mutex, TryLockError};
use std::time::{Duration, Instant};

use mainyard_core::overload::{AdaptiveLimit, Window};

/// So many connections are open to each replica, where they are of use.
const LEAST_CONNECTIONS: u32 = 32;
/// No window is shorter, in milliseconds.
const SHORTEST_WINDOW: u64 = 100;
/// So many failures in a row, without a success between them, and a replica is given less for a while.
const MANY_FAILURES: u32 = 5;
/// The first such while; each further one is twice as long.
const EASED_FOR: Duration = Duration::from_secs(1);
const EASED_AT_MOST: u32 = 5;

/// What one replica has taken on.
#[derive(Debug)]
pub struct Load {
    busy: AtomicU32,
    limit: AtomicU32,
    /// `None` where the limit is declared.
    found: Option<Mutex<AdaptiveLimit>>,
    /// Answers since the window began, and the time of the fastest in microseconds.
    answered: AtomicU64,
    failed: AtomicU64,
    fastest: AtomicU64,
    /// The fewest connections that it held when it broke one, in this window.
    broke_at: AtomicU32,
    /// Connections to it that nobody uses.
    idle: AtomicU32,
    /// Connections that it is known to hold; `u32::MAX` where it never broke one.
    holds: AtomicU32,
    /// When the window began, in milliseconds since `epoch`.
    window: AtomicU64,
    /// Whether a slot was free at some time in this window.
    had_room: AtomicBool,
    epoch: Instant,
    failures: AtomicU32,
    /// Until when it is given less, in milliseconds since `epoch`.
    eased_until: AtomicU64,
}

impl Load {
    /// Of a replica that has just come into the table; with its declared limit.
    pub(crate) fn new(declared: Option<u32>) -> Load {
        let first = AdaptiveLimit::default();
        Load {
            busy: AtomicU32::new(0),
            limit: AtomicU32::new(declared.unwrap_or_else(|| first.limit())),
            found: declared.is_none().then(|| Mutex::new(first)),
            answered: AtomicU64::new(0),
            failed: AtomicU64::new(0),
            fastest: AtomicU64::new(u64::MAX),
            broke_at: AtomicU32::new(u32::MAX),
            idle: AtomicU32::new(0),
            holds: AtomicU32::new(u32::MAX),
            window: AtomicU64::new(0),
            had_room: AtomicBool::new(true),
            epoch: Instant::now(),
            failures: AtomicU32::new(0),
            eased_until: AtomicU64::new(0),
        }
    }

    /// Requests that it works on.
    pub(crate) fn busy(&self) -> u32 {
        self.busy.load(Ordering::Relaxed)
    }

    /// Requests that it may work on at once.
    pub(crate) fn limit(&self) -> u32 {
        self.limit.load(Ordering::Relaxed)
    }

    /// One more, where it may.
    pub(crate) fn take(&self) -> bool {
        let fits = |busy: u32| (busy < self.limit()).then_some(busy + 1);
        self.busy.fetch_update(Ordering::SeqCst, Ordering::Relaxed, fits).is_ok()
    }

    /// One less.
    pub(crate) fn leave(&self) {
        self.busy.fetch_sub(1, Ordering::SeqCst);
    }

    /// Another connection that nobody uses, where together with those in use there are not more than it holds. Each worker
    /// has its own, and a request may begin before the one before it has given its connection back: with no more of them than
    /// requests, many would be opened and closed for one request.
    pub(crate) fn keep_idle(&self) -> bool {
        let most =
            self.holds.load(Ordering::Relaxed).min(self.limit().saturating_mul(2).max(LEAST_CONNECTIONS));
        let room = most.saturating_sub(self.busy());
        let fits = |idle: u32| (idle < room).then_some(idle + 1);
        self.idle.fetch_update(Ordering::Relaxed, Ordering::Relaxed, fits).is_ok()
    }

    /// One less.
    pub(crate) fn leave_idle(&self) {
        self.idle.fetch_sub(1, Ordering::Relaxed);
    }

    /// A slot is free and nothing waits for it.
    pub(crate) fn note_room(&self) {
        if !self.had_room.load(Ordering::Relaxed) {
            self.had_room.store(true, Ordering::Relaxed);
        }
    }

    /// Something waits: from now on the replica is full.
    pub(crate) fn note_full(&self) {
        if self.had_room.swap(false, Ordering::Relaxed) {
            self.begin_window(self.millis());
            self.had_room.store(false, Ordering::Relaxed);
        }
    }

    fn millis(&self) -> u64 {
        self.epoch.elapsed().as_millis() as u64
    }

    /// An answer began after this time.
    pub(crate) fn note_answer(&self, took: Duration) {
        self.failures.store(0, Ordering::Relaxed);
        if self.found.is_none() {
            return;
        }
        self.answered.fetch_add(1, Ordering::Relaxed);
        self.fastest.fetch_min(took.as_micros() as u64, Ordering::Relaxed);
        self.look_at_window();
    }

    /// Judges the window, where it is long enough.
    fn look_at_window(&self) {
        let Some(found) = &self.found else { return };
        let now = self.millis();
        let millis = now.saturating_sub(self.window.load(Ordering::Relaxed));
        if millis < SHORTEST_WINDOW {
            return;
        }
        let fastest = self.fastest.load(Ordering::Relaxed);
        let window = Window {
            millis,
            answered: self.answered.load(Ordering::Relaxed),
            failed: self.failed.load(Ordering::Relaxed),
            broke_at: Some(self.broke_at.load(Ordering::Relaxed)).filter(|at| *at != u32::MAX),
            fastest: (fastest != u64::MAX).then_some(fastest),
            was_full: !self.had_room.load(Ordering::Relaxed),
        };
        // Another thread that holds it judges the same window.
        let mut found = match found.try_lock() {
            Ok(found) => found,
            Err(TryLockError::Poisoned(poisoned)) => poisoned.into_inner(),
            Err(TryLockError::WouldBlock) => return,
        };
        if !found.is_due(window) {
            return;
        }
        let limit = found.take(window);
        self.limit.store(limit, Ordering::Relaxed);
        self.holds.store(found.holds().unwrap_or(u32::MAX), Ordering::Relaxed);
        self.begin_window(now);
    }

    fn begin_window(&self, now: u64) {
        self.answered.store(0, Ordering::Relaxed);
        self.failed.store(0, Ordering::Relaxed);
        self.fastest.store(u64::MAX, Ordering::Relaxed);
        self.broke_at.store(u32::MAX, Ordering::Relaxed);
        self.window.store(now, Ordering::Relaxed);
        self.had_room.store(self.busy() < self.limit(), Ordering::Relaxed);
    }

    /// It took no connection for a request, broke it, or did not answer.
    pub(crate) fn note_break(&self) {
        self.failed.fetch_add(1, Ordering::Relaxed);
        let held = self.busy() + self.idle.load(Ordering::Relaxed);
        self.broke_at.fetch_min(held, Ordering::Relaxed);
        self.note_failure();
        self.look_at_window();
    }

    /// A request failed at it.
    pub(crate) fn note_failure(&self) {
        let failures = self.failures.fetch_add(1, Ordering::Relaxed) + 1;
        if failures.is_multiple_of(MANY_FAILURES) {
            let doubled = (failures / MANY_FAILURES - 1).min(EASED_AT_MOST);
            let until = self.millis() + EASED_FOR.as_millis() as u64 * (1 << doubled);
            self.eased_until.store(until, Ordering::Relaxed);
        }
    }

    /// Whether so much failed at it that it is given less for now.
    pub(crate) fn is_eased(&self) -> bool {
        let until = self.eased_until.load(Ordering::Relaxed);
        until > 0 && self.millis() < until
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn failures_in_a_row_ease_a_replica_for_longer_each_time_and_a_success_ends_the_row() {
        let load = Load::new(Some(4));
        (0..MANY_FAILURES - 1).for_each(|_| load.note_failure());
        load.note_answer(Duration::ZERO);
        load.note_failure();
        assert!(!load.is_eased(), "there was a success between them");
        (0..MANY_FAILURES).for_each(|_| load.note_failure());
        assert!(load.is_eased());
    }

    #[test]
    fn a_declared_limit_is_kept() {
        let load = Load::new(Some(2));
        assert_eq!((load.take(), load.take(), load.take()), (true, true, false));
        (0..1000).for_each(|_| load.note_answer(Duration::from_micros(5)));
        assert_eq!(load.limit(), 2);
    }
}
