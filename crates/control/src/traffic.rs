//! Requests of the last quarter of an hour, by way in, service, release and replica.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use jiff::Timestamp;
pub(crate) use mainyard_api::{Facet, Figures, Point, TrafficRow, TrafficSum, WayFigures};
use mainyard_core::latency::Latencies;
use mainyard_core::link::{Figure, WaitingRequests};
use mainyard_core::model::ReplicaId;
use mainyard_core::sizing::UsedNow;

mod demand;
mod metrics;
pub(crate) mod responses;

pub(crate) use demand::Demand;
pub(crate) use responses::operations;

/// Seconds in one point of a series.
const STEP: i64 = 10;
/// Points kept: 15 minutes.
const POINTS: usize = 90;
/// Seconds that "now" is an average over.
const RECENT: i64 = 10;
/// Seconds that a gateway's word on what is open counts: it is reported every second.
const OPEN_FOR: i64 = 3;
/// How many series one point has; past that, replicas of a release are taken together.
const APART: usize = 2_000;
/// The number of names that totals are kept for; past that the oldest names go first.
const TOTALS: usize = 20_000;

#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
struct Key {
    way: String,
    inside: bool,
    service: String,
    workload: String,
    release: u32,
    replica: String,
}

impl Key {
    fn of(figure: &Figure) -> Key {
        Key {
            way: figure.way.clone(),
            inside: figure.inside,
            service: figure.service.to_string(),
            workload: figure.replica.as_ref().map(|id| id.workload.to_string()).unwrap_or_default(),
            release: figure.release.map_or(0, |release| release.0),
            replica: figure.replica.as_ref().map(ToString::to_string).unwrap_or_default(),
        }
    }

    /// Only series of these facets.
    fn by(&self, facets: &BTreeSet<Facet>) -> Key {
        let mut key = Key::default();
        for facet in facets {
            match facet {
                Facet::Route => (key.way, key.inside) = (self.way.clone(), self.inside),
                Facet::Service => key.service.clone_from(&self.service),
                Facet::Release => (key.workload, key.release) = (self.workload.clone(), self.release),
                Facet::Replica => {
                    (key.workload, key.release) = (self.workload.clone(), self.release);
                    key.replica.clone_from(&self.replica);
                }
            }
        }
        key
    }

    /// Whether it is of this environment, or of this service or workload.
    fn is_of(&self, of: &str) -> bool {
        let is = |name: &str| name == of || name.strip_prefix(of).is_some_and(|rest| rest.starts_with('/'));
        is(&self.service) || is(&self.workload)
    }

    fn of_release(&self) -> Key {
        Key { replica: String::new(), ..self.clone() }
    }
}

#[derive(Debug, Default, Clone)]
struct Sum {
    requests: u64,
    failed: u64,
    received: u64,
    sent: u64,
    latencies: Latencies,
}

type Sums = BTreeMap<Arc<Key>, Sum>;

#[derive(Debug, Default)]
struct Inner {
    /// Second → key → sum, for the last seconds.
    seconds: VecDeque<(i64, Sums)>,
    /// The same in steps, for the whole window.
    steps: VecDeque<(i64, Sums)>,
    /// Everything since control started.
    totals: Sums,
    /// A gateway's last count of open requests, and the second it was made.
    open: BTreeMap<(String, Arc<Key>), (i64, u32)>,
    /// What each replica used when it was told last, and the second of that.
    usage: BTreeMap<ReplicaId, (i64, UsedNow)>,
    /// A gateway's last count of requests that wait, by service, and the second it was made.
    waiting: BTreeMap<String, (i64, Vec<WaitingRequests>)>,
}

/// Recent traffic; in memory only.
#[derive(Debug)]
pub struct Traffic(Mutex<Inner>);

impl Sum {
    fn add(&mut self, figure: &Figure) {
        self.requests += figure.requests;
        self.failed += figure.failed;
        self.received += figure.received;
        self.sent += figure.sent;
        self.latencies.add(&figure.latencies);
    }

    fn merge(&mut self, other: &Sum) {
        self.requests += other.requests;
        self.failed += other.failed;
        self.received += other.received;
        self.sent += other.sent;
        self.latencies.add(&other.latencies);
    }

    fn point(&self, at: i64) -> Point {
        Point { at, requests: self.requests, failed: self.failed, p95: self.latencies.percentile(0.95) }
    }

    fn together(&self) -> TrafficSum {
        TrafficSum {
            rate: self.requests as f64 / RECENT as f64,
            failed: self.failed,
            p50: self.latencies.percentile(0.5),
            p95: self.latencies.percentile(0.95),
            p99: self.latencies.percentile(0.99),
        }
    }

    fn figures(&self, key: &Key, open: u32) -> WayFigures {
        WayFigures {
            way: key.way.clone(),
            inside: key.inside,
            service: key.service.clone(),
            workload: key.workload.clone(),
            release: key.release,
            replica: key.replica.clone(),
            open,
            rate: self.requests as f64 / RECENT as f64,
            failed: self.failed,
            received: self.received as f64 / RECENT as f64,
            sent: self.sent as f64 / RECENT as f64,
            p50: self.latencies.percentile(0.5),
            p95: self.latencies.percentile(0.95),
            p99: self.latencies.percentile(0.99),
        }
    }
}

impl Inner {
    fn add(&mut self, gateway: &str, figure: &Figure, now: i64) {
        let key = Arc::new(Key::of(figure));
        let told = (gateway.to_owned(), Arc::clone(&key));
        match figure.open {
            0 => self.open.remove(&told),
            open => self.open.insert(told, (now, open)),
        };
        if figure.requests + figure.received + figure.sent == 0 {
            return;
        }
        slot(&mut self.seconds, now, (RECENT + 2) as usize).entry(Arc::clone(&key)).or_default().add(figure);
        let step = slot(&mut self.steps, now / STEP * STEP, POINTS);
        let apart = step.len() < APART || step.contains_key(&key);
        let own = if apart { Arc::clone(&key) } else { Arc::new(key.of_release()) };
        step.entry(own).or_default().add(figure);
        self.totals.entry(key).or_default().add(figure);
        if self.totals.len() > TOTALS {
            self.totals.pop_first();
        }
    }

    /// Requests that are open by the word of all gateways.
    fn open_now(&self, now: i64) -> BTreeMap<&Key, u32> {
        let mut sums: BTreeMap<&Key, u32> = BTreeMap::new();
        for ((_, key), (_, open)) in self.open.iter().filter(|(_, (at, _))| *at > now - OPEN_FOR) {
            *sums.entry(key).or_default() += open;
        }
        sums
    }

    fn of_seconds(&self, now: i64) -> impl Iterator<Item = (&Arc<Key>, &Sum)> {
        self.seconds.iter().filter(move |(second, _)| *second > now - RECENT).flat_map(|(_, sums)| sums)
    }

    fn of_steps(&self, now: i64) -> impl Iterator<Item = (i64, &Arc<Key>, &Sum)> {
        let begin = now - STEP * POINTS as i64;
        let steps = self.steps.iter().filter(move |(at, _)| *at > begin);
        steps.flat_map(|(at, sums)| sums.iter().map(|(key, sum)| (*at, key, sum)))
    }
}

impl Default for Traffic {
    fn default() -> Traffic {
        Traffic::new()
    }
}

impl Traffic {
    /// No requests yet.
    pub fn new() -> Traffic {
        Traffic(Mutex::default())
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds a gateway's figures to the present second.
    pub fn add(&self, gateway: &str, figures: &[Figure]) {
        let now = Timestamp::now().as_second();
        let mut inner = self.lock();
        // Copies of a shadow step are nobody's requests.
        for figure in figures.iter().filter(|figure| !figure.shadow) {
            inner.add(gateway, figure, now);
        }
        inner.open.retain(|_, (at, _)| *at > now - OPEN_FOR);
    }

    /// The last ten seconds, by way, release and replica, and each of those taken together.
    pub fn recent(&self) -> Figures {
        let now = Timestamp::now().as_second();
        let inner = self.lock();
        let open = inner.open_now(now);
        let mut sums: BTreeMap<&Key, Sum> = open.keys().map(|key| (*key, Sum::default())).collect();
        inner.of_seconds(now).for_each(|(key, sum)| sums.entry(key).or_default().merge(sum));
        let by = |name: &dyn Fn(&Key) -> Option<String>| taken_together(&sums, name);
        let named = |name: &str| (!name.is_empty()).then(|| name.to_owned());
        Figures {
            routes: by(&|key| named(&key.way).filter(|_| !key.inside)),
            services: by(&|key| named(&key.service)),
            inside: by(&|key| named(&key.service).filter(|_| key.inside)),
            workloads: by(&|key| named(&key.workload)),
            releases: by(&|key| named(&key.workload).map(|workload| format!("{workload}@{}", key.release))),
            replicas: by(&|key| named(&key.replica)),
            ways: sums
                .iter()
                .map(|(key, sum)| sum.figures(key, open.get(key).copied().unwrap_or(0)))
                .collect(),
        }
    }

    /// The last ten seconds and the last quarter of an hour, distinguished by these; of an environment, a service or a
    /// workload, or of all. Percentiles are of all requests of a row together.
    pub fn grouped_by(&self, facets: &BTreeSet<Facet>, of: Option<&str>) -> Vec<TrafficRow> {
        #[derive(Default)]
        struct Row {
            open: u32,
            now: Sum,
            steps: BTreeMap<i64, Sum>,
        }
        let now = Timestamp::now().as_second();
        let inner = self.lock();
        let wanted = |key: &Key| of.is_none_or(|of| key.is_of(of));
        let mut rows: BTreeMap<Key, Row> = BTreeMap::new();
        for (key, open) in inner.open_now(now).into_iter().filter(|(key, _)| wanted(key)) {
            rows.entry(key.by(facets)).or_default().open += open;
        }
        for (key, sum) in inner.of_seconds(now).filter(|(key, _)| wanted(key)) {
            rows.entry(key.by(facets)).or_default().now.merge(sum);
        }
        for (at, key, sum) in inner.of_steps(now).filter(|(_, key, _)| wanted(key)) {
            rows.entry(key.by(facets)).or_default().steps.entry(at).or_default().merge(sum);
        }
        let told = rows.into_iter().map(|(key, row)| TrafficRow {
            now: row.now.figures(&key, row.open),
            points: row.steps.iter().map(|(at, sum)| sum.point(*at)).collect(),
        });
        told.collect()
    }

    /// The last quarter of an hour, by service.
    pub fn series(&self) -> BTreeMap<String, Vec<Point>> {
        let now = Timestamp::now().as_second();
        let inner = self.lock();
        let mut series: BTreeMap<&str, BTreeMap<i64, Sum>> = BTreeMap::new();
        for (at, key, sum) in inner.of_steps(now) {
            series.entry(&key.service).or_default().entry(at).or_default().merge(sum);
        }
        let points = |steps: BTreeMap<i64, Sum>| steps.iter().map(|(at, sum)| sum.point(*at)).collect();
        series.into_iter().map(|(service, steps)| (service.to_owned(), points(steps))).collect()
    }
}

/// Sums by a name that several keys may share; keys without one count nowhere.
fn taken_together(
    sums: &BTreeMap<&Key, Sum>,
    name: &dyn Fn(&Key) -> Option<String>,
) -> BTreeMap<String, TrafficSum> {
    let mut together: BTreeMap<String, Sum> = BTreeMap::new();
    for (key, sum) in sums {
        if let Some(name) = name(key) {
            together.entry(name).or_default().merge(sum);
        }
    }
    together.into_iter().map(|(name, sum)| (name, sum.together())).collect()
}

/// The entry for this moment; older ones than `keep` make room.
fn slot<T: Default>(list: &mut VecDeque<(i64, T)>, at: i64, keep: usize) -> &mut T {
    if list.back().is_none_or(|(last, _)| *last < at) {
        list.push_back((at, T::default()));
        while list.len() > keep {
            list.pop_front();
        }
    }
    let last = list.len() - 1;
    &mut list[last].1
}

#[cfg(test)]
mod tests;
