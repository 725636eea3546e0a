//! Whose turn it is: the replicas behind a port, and the order in which a request tries them.

use std::net::IpAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use mainyard_core::routing::Spread;

use crate::replica::{Replica, Slot, hand_out};
use crate::waiting::{NoSlot, Waiting};

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

/// Of the requests that would be its turn, one in so many is sent to a replica that is given less.
const TRIED_EACH: u64 = 8;

impl Lane {
    /// The place of the replica that the next request of this worker tries first: whose turn it is, unless another one, chosen
    /// by chance, has less to do, or this one is given less for now.
    fn first(&self, worker: usize) -> usize {
        let (turn, count) = (self.turns.next(worker), self.replicas.len());
        // Workers begin at different replicas.
        let first = (turn as usize + worker) % count;
        if count == 1 {
            return first;
        }
        let replica = |place: usize| &self.replicas[place % count];
        let load = |place: usize| &replica(place).load;
        if replica(first).is_eased() && !turn.is_multiple_of(TRIED_EACH) {
            let mut others = (1..count).map(|step| first + step);
            return others.find(|place| !replica(*place).is_eased()).unwrap_or(first) % count;
        }
        let other = first + 1 + (scatter(turn) as usize) % (count - 1);
        if load(other).busy() + 1 < load(first).busy() { other % count } else { first }
    }
}

/// Spreads numbers that follow each other (Knuth, The Art of Computer Programming, volume 3, section 6.4).
fn scatter(number: u64) -> u64 {
    number.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 33
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
    /// Whether its replicas are spoken to in HTTP/2.
    pub h2: bool,
    /// Requests that wait for a replica.
    pub waiting: Arc<Waiting<Slot>>,
    /// How many may wait.
    pub queue: usize,
    /// How long each may.
    pub queue_time: Duration,
}

impl Port {
    /// Everyone who takes requests here.
    pub fn replicas(&self) -> impl Iterator<Item = &Arc<Replica>> {
        self.lanes.iter().flat_map(|lane| &lane.replicas).chain(&self.shadows)
    }

    /// Free slots of these replicas go to what waits here, now and from now on.
    pub(crate) fn serve_what_waits(&self) {
        let all = || self.lanes.iter().flat_map(|lane| &lane.replicas);
        let peers = Arc::new(all().map(Arc::downgrade).collect());
        for replica in all() {
            replica.serve(&self.waiting, &peers);
            hand_out(replica);
        }
    }

    /// Waits until a replica has room.
    pub(crate) async fn wait(&self, visitor: IpAddr) -> Result<Slot, NoSlot> {
        let free = || self.lanes.iter().flat_map(|lane| &lane.replicas).for_each(|it| _ = hand_out(it));
        self.waiting.wait(visitor, self.queue, self.queue_time, free).await
    }

    /// Replicas in the order in which one request of this worker should try them, at most `tries`; the same one comes
    /// again where there are fewer. The first is by share; where it cannot be reached, others of its kind are tried,
    /// then those of other lanes. Each call is the next request's.
    pub fn in_turn(&self, worker: usize, tries: usize) -> impl Iterator<Item = &Arc<Replica>> {
        let alone = self.lanes.len() < 2;
        let chosen = if alone { Some(0) } else { self.spread.pick(self.turns.next(worker)) };
        let lane = chosen.and_then(|place| self.lanes.get(place)).filter(|lane| !lane.replicas.is_empty());
        let own = lane.into_iter().flat_map(move |lane| {
            let count = lane.replicas.len();
            let first = lane.first(worker);
            let tries = if alone { tries } else { tries.min(count) };
            (0..tries).map(move |step| &lane.replicas[(first + step) % count])
        });
        let others = self.lanes.iter().enumerate().filter(move |(place, _)| Some(*place) != chosen);
        own.chain(others.flat_map(|(_, lane)| &lane.replicas)).take(tries)
    }
}
