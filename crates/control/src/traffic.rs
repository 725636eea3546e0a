//! What was served in the last quarter of an hour, by way in, service, release and replica.

use std::collections::{BTreeMap, VecDeque};
use std::sync::{Mutex, PoisonError};

use jiff::Timestamp;
use mainyard_core::link::{Figure, bucket_millis, percentile};
use serde::{Deserialize, Serialize};

/// Seconds in one point of a series.
const STEP: i64 = 10;
/// Points kept: 15 minutes.
const POINTS: usize = 90;
/// Seconds that "now" is an average over.
const RECENT: i64 = 10;

#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Key {
    way: String,
    inside: bool,
    service: String,
    workload: String,
    release: u32,
    replica: String,
}

#[derive(Debug, Default, Clone)]
struct Sum {
    requests: u64,
    failed: u64,
    received: u64,
    sent: u64,
    times: BTreeMap<u8, u64>,
}

/// Everything since control started, by way, release and replica.
type Totals = BTreeMap<Key, Sum>;

/// Replicas and ways that totals are kept of; past that the oldest names go first.
const TOTALS: usize = 20_000;

/// Requests and failures, by service.
type Served = BTreeMap<String, (u64, u64)>;

#[derive(Debug, Default)]
struct Inner {
    /// Second → key → sum, for the last seconds.
    seconds: VecDeque<(i64, BTreeMap<Key, Sum>)>,
    /// Step → service → requests and failures, for the whole window.
    steps: VecDeque<(i64, Served)>,
    totals: Totals,
}

/// Recent traffic; in memory only.
#[derive(Debug)]
pub struct Traffic(Mutex<Inner>);

/// Requests in one step of ten seconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Point {
    /// Seconds since 1970 UTC at which the step began.
    pub at: i64,
    /// Requests that ended in it.
    pub requests: u64,
    /// Those that failed.
    pub failed: u64,
}

/// What one way in, release and replica served over the last ten seconds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct WayFigures {
    /// The host, or service and port for callers inside.
    pub way: String,
    /// Whether the callers were inside.
    pub inside: bool,
    /// The service, as `environment/name`.
    pub service: String,
    /// The workload that answered, as `environment/name`; empty where none did.
    pub workload: String,
    /// Its release.
    pub release: u32,
    /// The replica's id; empty where none answered.
    pub replica: String,
    /// Requests a second.
    pub rate: f64,
    /// Requests that failed.
    pub failed: u64,
    /// Bytes a second of the requests' bodies.
    #[serde(default)]
    pub received: f64,
    /// Bytes a second of the answers' bodies.
    #[serde(default)]
    pub sent: f64,
    /// The time that half of the requests took at most, in milliseconds.
    #[serde(default)]
    pub p50: Option<f64>,
    /// The time that 99 of 100 requests took at most, in milliseconds.
    #[serde(default)]
    pub p99: Option<f64>,
    /// The time that 95 of 100 requests took at most, in milliseconds.
    pub p95: Option<f64>,
}

impl Sum {
    fn add(&mut self, figure: &Figure) {
        self.requests += figure.requests;
        self.failed += figure.failed;
        self.received += figure.received;
        self.sent += figure.sent;
        figure.times.iter().for_each(|(bucket, count)| *self.times.entry(*bucket).or_default() += count);
    }
}

impl Default for Traffic {
    fn default() -> Traffic {
        Traffic::new()
    }
}

impl Traffic {
    /// Nothing served yet.
    pub fn new() -> Traffic {
        Traffic(Mutex::default())
    }

    /// Adds a gateway's figures to the present second.
    pub fn add(&self, figures: &[Figure]) {
        // Copies of a shadow step are nobody's requests.
        let figures: Vec<&Figure> = figures.iter().filter(|figure| !figure.shadow).collect();
        if figures.is_empty() {
            return;
        }
        let now = Timestamp::now().as_second();
        let mut inner = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Inner { seconds, steps, totals } = &mut *inner;
        let second = slot(seconds, now, (RECENT + 2) as usize);
        for figure in &figures {
            let key = Key {
                way: figure.way.clone(),
                inside: figure.inside,
                service: figure.service.to_string(),
                workload: figure.replica.as_ref().map(|id| id.workload.to_string()).unwrap_or_default(),
                release: figure.release.map_or(0, |release| release.0),
                replica: figure.replica.as_ref().map(ToString::to_string).unwrap_or_default(),
            };
            second.entry(key.clone()).or_default().add(figure);
            totals.entry(key).or_default().add(figure);
        }
        while totals.len() > TOTALS {
            totals.pop_first();
        }
        let step = slot(steps, now / STEP * STEP, POINTS);
        for figure in figures {
            let sum = step.entry(figure.service.to_string()).or_default();
            sum.0 += figure.requests;
            sum.1 += figure.failed;
        }
    }

    /// The last ten seconds, by way, release and replica.
    pub fn recent(&self) -> Vec<WayFigures> {
        let now = Timestamp::now().as_second();
        let inner = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut sums: BTreeMap<&Key, Sum> = BTreeMap::new();
        for (_, second) in inner.seconds.iter().filter(|(second, _)| *second > now - RECENT) {
            for (key, sum) in second {
                let total = sums.entry(key).or_default();
                total.requests += sum.requests;
                total.failed += sum.failed;
                total.received += sum.received;
                total.sent += sum.sent;
                sum.times
                    .iter()
                    .for_each(|(bucket, count)| *total.times.entry(*bucket).or_default() += count);
            }
        }
        let figures = sums.into_iter().map(|(key, sum)| WayFigures {
            way: key.way.clone(),
            inside: key.inside,
            service: key.service.clone(),
            workload: key.workload.clone(),
            release: key.release,
            replica: key.replica.clone(),
            rate: sum.requests as f64 / RECENT as f64,
            failed: sum.failed,
            received: sum.received as f64 / RECENT as f64,
            sent: sum.sent as f64 / RECENT as f64,
            p50: percentile(&sum.times, 0.5),
            p95: percentile(&sum.times, 0.95),
            p99: percentile(&sum.times, 0.99),
        });
        figures.collect()
    }

    /// Everything since control started, as OpenMetrics 1.0 has it.
    pub fn metrics(&self) -> String {
        let inner = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let labels = |key: &Key| {
            let from = if key.inside { "inside" } else { "outside" };
            format!(
                "way=\"{}\",from=\"{from}\",service=\"{}\",release=\"{}\",replica=\"{}\"",
                escaped(&key.way),
                key.service,
                key.release,
                key.replica
            )
        };
        let mut text = String::new();
        let mut counter = |name: &str, help: &str, of: &dyn Fn(&Sum) -> u64| {
            text.push_str(&format!("# TYPE {name} counter\n# HELP {name} {help}\n"));
            for (key, sum) in &inner.totals {
                text.push_str(&format!("{name}_total{{{}}} {}\n", labels(key), of(sum)));
            }
        };
        counter("mainyard_requests", "Requests that ended.", &|sum| sum.requests);
        counter(
            "mainyard_requests_failed",
            "Requests without an answer, or with one of 500 and above.",
            &|sum| sum.failed,
        );
        counter("mainyard_received_bytes", "Bytes of the requests' bodies.", &|sum| sum.received);
        counter("mainyard_sent_bytes", "Bytes of the answers' bodies.", &|sum| sum.sent);
        let name = "mainyard_request_seconds";
        text.push_str(&format!(
            "# TYPE {name} histogram\n# UNIT {name} seconds\n# HELP {name} Time until a request ended.\n"
        ));
        for (key, sum) in &inner.totals {
            let (labels, mut seen) = (labels(key), 0);
            for (bucket, count) in &sum.times {
                seen += count;
                let end = bucket_millis(*bucket) / 1000.0;
                text.push_str(&format!("{name}_bucket{{{labels},le=\"{end:.6}\"}} {seen}\n"));
            }
            text.push_str(&format!(
                "{name}_bucket{{{labels},le=\"+Inf\"}} {seen}\n{name}_count{{{labels}}} {seen}\n"
            ));
        }
        text
    }

    /// The last quarter of an hour, by service.
    pub fn series(&self) -> BTreeMap<String, Vec<Point>> {
        let inner = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut series: BTreeMap<String, Vec<Point>> = BTreeMap::new();
        let begin = Timestamp::now().as_second() - STEP * POINTS as i64;
        for (at, services) in inner.steps.iter().filter(|(at, _)| *at > begin) {
            for (service, (requests, failed)) in services {
                let point = Point { at: *at, requests: *requests, failed: *failed };
                series.entry(service.clone()).or_default().push(point);
            }
        }
        series
    }
}

/// A label's value (OpenMetrics 1.0, escaping).
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
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
mod tests {
    use super::*;
    use mainyard_core::model::ReleaseNumber;

    #[test]
    fn figures_add_up_by_release_and_in_the_series() {
        let traffic = Traffic::new();
        let figure = |release, requests| Figure {
            way: "api.lockers.localhost".into(),
            inside: false,
            service: "staging/locker-api".parse().expect("a target"),
            replica: Some("staging/locker-api/a0".parse().expect("an id")),
            release: Some(ReleaseNumber(release)),
            requests,
            failed: 1,
            received: 0,
            sent: 0,
            times: BTreeMap::from([(4, requests)]),
            shadow: false,
            other_size: 0,
        };
        traffic.add(&[figure(1, 30), figure(2, 10)]);
        traffic.add(&[figure(1, 20)]);
        let recent = traffic.recent();
        assert_eq!(
            recent.iter().map(|f| (f.release, f.rate, f.failed)).collect::<Vec<_>>(),
            [(1, 5.0, 2), (2, 1.0, 1)]
        );
        assert_eq!(recent[0].p95, Some(0.4));
        let points: u64 = traffic.series()["staging/locker-api"].iter().map(|point| point.requests).sum();
        assert_eq!(points, 60);
        let labels = "way=\"api.lockers.localhost\",from=\"outside\",service=\"staging/locker-api\",release=\"1\",replica=\"staging/locker-api/a0\"";
        let metrics = traffic.metrics();
        for line in [
            format!("mainyard_requests_total{{{labels}}} 50\n"),
            format!("mainyard_requests_failed_total{{{labels}}} 2\n"),
            format!("mainyard_request_seconds_bucket{{{labels},le=\"0.000400\"}} 50\n"),
            format!("mainyard_request_seconds_count{{{labels}}} 50\n"),
        ] {
            assert!(metrics.contains(&line), "{line} is not in\n{metrics}");
        }
    }
}
