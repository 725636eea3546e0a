//! Counting what was served, without a lock that all workers share and without memory for each request.

use std::sync::{Arc, Mutex, PoisonError};

use hdrhistogram::Histogram;
use mainyard_core::latency::{self, Latencies};
use mainyard_core::link::Figure;
use mainyard_core::model::Target;
use mainyard_core::routing::Backend;

/// How a request came in.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct EntryPoint {
    /// The host, or service and port for callers inside.
    pub name: Arc<str>,
    /// Whether the caller was inside.
    pub inside: bool,
}

/// How a request ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ended {
    /// Without an answer, or with one of 500 and above.
    pub failed: bool,
    /// How long it took.
    pub micros: u64,
    /// Bytes of the request's body.
    pub received: u64,
    /// Bytes of the answer's body.
    pub sent: u64,
}

#[derive(Debug, Clone)]
struct Count {
    service: Target,
    open: u32,
    requests: u64,
    failed: u64,
    received: u64,
    sent: u64,
    other_size: u64,
    latencies: Histogram<u32>,
}

impl Count {
    fn of(service: &Target) -> Count {
        Count {
            service: service.clone(),
            open: 0,
            requests: 0,
            failed: 0,
            received: 0,
            sent: 0,
            other_size: 0,
            latencies: latency::histogram(),
        }
    }

    fn add(&mut self, failed: bool, micros: u64) {
        self.requests += 1;
        self.failed += u64::from(failed);
        self.latencies.saturating_record(micros.max(1));
    }

    /// Forgets what was told; what is open stays open.
    fn begin_again(&mut self) {
        self.latencies.reset();
        (self.requests, self.failed, self.other_size) = (0, 0, 0);
        (self.received, self.sent) = (0, 0);
    }

    /// Whether there is anything to tell.
    fn tells(&self) -> bool {
        self.requests > 0 || self.open > 0 || self.received + self.sent > 0
    }

    fn figure(&self, way: &EntryPoint, backend: Option<&Backend>, shadow: bool) -> Figure {
        Figure {
            way: way.name.to_string(),
            inside: way.inside,
            service: self.service.clone(),
            replica: backend.map(|backend| backend.replica.clone()),
            release: backend.map(|backend| backend.release),
            open: self.open,
            requests: self.requests,
            failed: self.failed,
            received: self.received,
            sent: self.sent,
            latencies: Latencies::from(&self.latencies),
            shadow,
            other_size: self.other_size,
        }
    }
}

/// Counts by the way in. Few ways lead to one replica: a linear search is enough.
#[derive(Debug, Default)]
pub struct Counts(Mutex<Vec<(EntryPoint, Count)>>);

impl Counts {
    fn lock(&self) -> std::sync::MutexGuard<'_, Vec<(EntryPoint, Count)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds one request.
    pub fn add(&self, way: &EntryPoint, service: &Target, ended: Ended) {
        self.with(way, service, |count| {
            count.add(ended.failed, ended.micros);
            count.received += ended.received;
            count.sent += ended.sent;
        });
    }

    /// A request begins.
    pub fn open(&self, way: &EntryPoint, service: &Target) {
        self.with(way, service, |count| count.open += 1);
    }

    /// A request that began has ended.
    pub fn close(&self, way: &EntryPoint, service: &Target) {
        self.with(way, service, |count| count.open = count.open.saturating_sub(1));
    }

    /// Adds what a connection carried that began as a request, which was counted before.
    pub fn add_bytes(&self, way: &EntryPoint, service: &Target, received: u64, sent: u64) {
        self.with(way, service, |count| {
            count.received += received;
            count.sent += sent;
        });
    }

    /// Adds a copy that was answered, where its answer had another size than the visitor's.
    pub fn add_copy(&self, way: &EntryPoint, service: &Target, failed: bool, micros: u64, other_size: bool) {
        self.with(way, service, |count| {
            count.add(failed, micros);
            count.other_size += u64::from(other_size);
        });
    }

    fn with(&self, way: &EntryPoint, service: &Target, add: impl FnOnce(&mut Count)) {
        let mut list = self.lock();
        let same = |known: &EntryPoint| {
            known.inside == way.inside && (Arc::ptr_eq(&known.name, &way.name) || known.name == way.name)
        };
        match list.iter_mut().find(|(known, count)| same(known) && count.service == *service) {
            Some((_, count)) => add(count),
            None => {
                let mut count = Count::of(service);
                add(&mut count);
                list.push((way.clone(), count));
            }
        }
    }

    /// Takes what was counted since the last call, with what is open now.
    pub fn take(&self, backend: Option<&Backend>, shadow: bool) -> Vec<Figure> {
        let mut list = self.lock();
        let told = list.iter().filter(|(_, count)| count.tells());
        let figures = told.map(|(way, count)| count.figure(way, backend, shadow)).collect();
        list.retain(|(_, count)| count.open > 0);
        list.iter_mut().for_each(|(_, count)| count.begin_again());
        figures
    }
}
