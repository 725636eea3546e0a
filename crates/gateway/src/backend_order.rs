//! Whose turn it is: the replicas behind a port, and the order in which a request tries them.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use mainyard_core::routing::Spread;

use crate::replica::Replica;

/// Counts requests, each worker its own: what one of them sends on in a row is shared out exactly.
#[derive(Debug)]
pub struct Turns(Box<[Turn]>);

/// On a cache line of its own, so that workers don't wait for each other.
#[derive(Debug, Default)]
#[repr(align(64))]
struct Turn(AtomicU64);

impl Turns {
    /// For so many workers.
    pub fn new(workers: usize) -> Turns {
        Turns((0..workers).map(|_| Turn::default()).collect())
    }

    /// The number of this worker's next request.
    pub fn next(&self, worker: usize) -> u64 {
        self.0[worker % self.0.len()].0.fetch_add(1, Ordering::Relaxed)
    }
}

/// Replicas that take turns.
#[derive(Debug)]
pub struct Lane {
    /// The replicas; at least one.
    pub replicas: Vec<Arc<Replica>>,
    /// Whose turn it is.
    pub turns: Arc<Turns>,
}

/// One port of a service and the replicas behind it.
#[derive(Debug)]
pub struct Port {
    /// By share.
    pub lanes: Vec<Lane>,
    /// How requests are spread over them.
    pub spread: Spread,
    /// Whose turn it is, across tables.
    pub turns: Arc<Turns>,
    /// The replicas that get copies of requests that may be repeated.
    pub shadows: Vec<Arc<Replica>>,
    /// Whether connections are passed on as they are.
    pub tcp: bool,
}

impl Port {
    /// Everyone who takes requests here.
    pub fn replicas(&self) -> impl Iterator<Item = &Arc<Replica>> {
        self.lanes.iter().flat_map(|lane| &lane.replicas).chain(&self.shadows)
    }

    /// Replicas in the order in which one request of this worker should try them, at most `tries`; the same one comes
    /// again where there are fewer. The first is by share; where it cannot be reached, others of its kind are tried,
    /// then those of other lanes. Each call is the next request's.
    pub fn in_turn(&self, worker: usize, tries: usize) -> impl Iterator<Item = &Arc<Replica>> {
        let alone = self.lanes.len() < 2;
        let chosen = if alone { Some(0) } else { self.spread.pick(self.turns.next(worker)) };
        let lane = chosen.and_then(|place| self.lanes.get(place)).filter(|lane| !lane.replicas.is_empty());
        let own = lane.into_iter().flat_map(move |lane| {
            // Workers begin at different replicas.
            let (first, count) = (lane.turns.next(worker) as usize + worker, lane.replicas.len());
            let tries = if alone { tries } else { tries.min(count) };
            (0..tries).map(move |step| &lane.replicas[(first + step) % count])
        });
        let others = self.lanes.iter().enumerate().filter(move |(place, _)| Some(*place) != chosen);
        own.chain(others.flat_map(|(_, lane)| &lane.replicas)).take(tries)
    }
}
