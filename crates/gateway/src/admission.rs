//! How many connections the gateway holds: in total, from one visitor's address, and from one replica to one service.
//!
//! Descriptors are kept back for the platform itself: control, the table on disk and connections to replicas never
//! wait for a visitor to leave.

use std::collections::HashMap;
use std::hash::Hash;
use std::net::{IpAddr, Ipv4Addr};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// Descriptors that visitors do not get.
const KEPT_BACK: u64 = 512;
/// Descriptors that the process asks for.
const WANTED: u64 = 1 << 18;
/// Connections of one address outside, at most; fewer where there are few descriptors.
const OF_ONE_VISITOR: usize = 20_000;
/// Connections of one replica to one service.
const OF_ONE_CALLER: usize = 128;

/// Counts by key, with a bound for each.
#[derive(Debug)]
struct Counted<K> {
    most: usize,
    counts: Mutex<HashMap<K, usize>>,
}

impl<K: Eq + Hash + Clone> Counted<K> {
    fn new(most: usize) -> Counted<K> {
        Counted { most, counts: Mutex::default() }
    }

    fn enter(&self, key: K) -> bool {
        let mut counts = self.counts.lock().unwrap_or_else(PoisonError::into_inner);
        let count = counts.entry(key).or_insert(0);
        let fits = *count < self.most;
        *count += usize::from(fits);
        fits
    }

    fn leave(&self, key: &K) {
        let mut counts = self.counts.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = counts.get_mut(key) {
            *count -= 1;
            if *count == 0 {
                counts.remove(key);
            }
        }
    }
}

/// Connections by caller alone.
#[derive(Debug)]
pub(crate) struct Callers(Counted<IpAddr>);

impl Callers {
    /// So many of each.
    pub(crate) fn new(most: usize) -> Callers {
        Callers(Counted::new(most))
    }

    /// One more, for as long as it is held.
    pub(crate) fn enter(self: &Arc<Self>, caller: IpAddr) -> Option<Caller> {
        self.0.enter(caller).then(|| Caller { of: Arc::clone(self), caller })
    }
}

/// A caller's connection that is held.
#[derive(Debug)]
pub(crate) struct Caller {
    of: Arc<Callers>,
    caller: IpAddr,
}

impl Drop for Caller {
    fn drop(&mut self) {
        self.of.0.leave(&self.caller);
    }
}

/// The bounds, shared by all workers.
#[derive(Debug)]
pub struct Admission {
    total: AtomicUsize,
    most: usize,
    visitors: Counted<IpAddr>,
    callers: Counted<(IpAddr, Ipv4Addr)>,
}

impl Default for Admission {
    fn default() -> Admission {
        Admission::with_descriptors(WANTED)
    }
}

impl Admission {
    /// By the descriptors that this process may have: a visitor's connection takes one, and one to a replica.
    pub fn with_descriptors(descriptors: u64) -> Admission {
        let most = (descriptors.saturating_sub(KEPT_BACK) / 2).max(16) as usize;
        Admission {
            total: AtomicUsize::new(0),
            most,
            visitors: Counted::new(OF_ONE_VISITOR.min((most / 4 * 3).max(8))),
            callers: Counted::new(OF_ONE_CALLER),
        }
    }

    /// A visitor's connection, for as long as it is held; `None` where there are too many.
    pub fn visitor(self: &Arc<Self>, address: IpAddr) -> Option<Admitted> {
        let address = network_of(address);
        let total = self.total.fetch_add(1, Ordering::Relaxed);
        let mut admitted = Admitted { to: Arc::clone(self), visitor: None, caller: None };
        if total >= self.most || !self.visitors.enter(address) {
            return None;
        }
        admitted.visitor = Some(address);
        Some(admitted)
    }

    /// A replica's connection to a service.
    pub fn caller(self: &Arc<Self>, caller: IpAddr, service: Ipv4Addr) -> Option<Admitted> {
        let total = self.total.fetch_add(1, Ordering::Relaxed);
        let mut admitted = Admitted { to: Arc::clone(self), visitor: None, caller: None };
        if total >= self.most || !self.callers.enter((caller, service)) {
            return None;
        }
        admitted.caller = Some((caller, service));
        Some(admitted)
    }
}

/// One network of IPv6 is one visitor: its owner has 2^64 addresses of it.
pub(crate) fn network_of(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(address) => IpAddr::V6((u128::from(address) >> 64 << 64).into()),
        plain => plain,
    }
}

/// A connection that is held.
#[derive(Debug)]
pub struct Admitted {
    to: Arc<Admission>,
    visitor: Option<IpAddr>,
    caller: Option<(IpAddr, Ipv4Addr)>,
}

impl Drop for Admitted {
    fn drop(&mut self) {
        self.to.total.fetch_sub(1, Ordering::Relaxed);
        if let Some(address) = &self.visitor {
            self.to.visitors.leave(address);
        }
        if let Some(caller) = &self.caller {
            self.to.callers.leave(caller);
        }
    }
}

/// Raises this process's limit of descriptors as far as it may; gives what it is then.
pub(crate) fn raise_descriptor_limit() -> u64 {
    let mut limit = libc::rlimit { rlim_cur: 0, rlim_max: 0 };
    // SAFETY: the structure lives across the calls.
    unsafe {
        if libc::getrlimit(libc::RLIMIT_NOFILE, &mut limit) != 0 {
            return 1024;
        }
        let wanted = libc::rlimit { rlim_cur: WANTED, rlim_max: limit.rlim_max.max(WANTED) };
        if libc::setrlimit(libc::RLIMIT_NOFILE, &wanted) == 0 {
            return WANTED;
        }
        // Only root may raise the upper one.
        limit.rlim_cur = limit.rlim_max.min(WANTED);
        libc::setrlimit(libc::RLIMIT_NOFILE, &limit);
    }
    limit.rlim_cur
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_visitor_has_a_limit_and_all_share_a_total() {
        let admission = Arc::new(Admission::with_descriptors(KEPT_BACK + 40));
        let address = |last: u8| IpAddr::from([192, 0, 2, last]);
        let held: Vec<_> = (0..20).filter_map(|_| admission.visitor(address(1))).collect();
        assert_eq!(held.len(), 15, "one visitor has three quarters of all");
        let others: Vec<_> = (2..40).filter_map(|last| admission.visitor(address(last))).collect();
        assert_eq!(others.len(), 5, "all together have no more");
        drop(held);
        assert!(admission.visitor(address(1)).is_some(), "who left makes room");
        let admission = Arc::new(Admission::default());
        let service = |last: u8| Ipv4Addr::new(10, 118, 0, last);
        let held: Vec<_> = (0..500).filter_map(|_| admission.caller(address(1), service(1))).collect();
        assert_eq!(held.len(), OF_ONE_CALLER);
        assert!(admission.caller(address(2), service(1)).is_some(), "another replica is let in");
        assert!(admission.caller(address(1), service(2)).is_some(), "to another service too");
    }
}
