//! How long requests took: counts by duration, small enough to travel every second and to be recorded.
//!
//! Durations are rounded to the classes of an HDR histogram of one significant digit: sixteen to each power of two, so
//! that a percentile is within 4 % of the true value. Only classes with requests in them are kept.

use std::collections::BTreeMap;
use std::sync::LazyLock;

use hdrhistogram::Histogram;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The longest duration that is counted exactly, in microseconds: an hour.
const LONGEST: u64 = 3_600_000_000;

/// An empty histogram of the classes that are used everywhere, for counting where requests end.
pub fn histogram() -> Histogram<u32> {
    // The bounds are constants that the constructor accepts.
    Histogram::new_with_bounds(1, LONGEST, 1).expect("bounds of a histogram")
}

static CLASSES: LazyLock<Histogram<u32>> = LazyLock::new(histogram);

/// Requests by how long they took, counted in classes that are at most 8 % wide.
///
/// ```
/// use mainyard_core::latency::Latencies;
///
/// let mut latencies = Latencies::default();
/// assert_eq!(latencies.percentile(0.95), None);
/// latencies.record_many(2_000, 90);
/// latencies.record_many(50_000, 10);
/// let (median, p95) = (latencies.percentile(0.5).unwrap(), latencies.percentile(0.95).unwrap());
/// assert!((1.9..2.1).contains(&median), "{median} ms");
/// assert!((48.0..52.0).contains(&p95), "{p95} ms");
/// ```
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct Latencies(
    /// The longest duration of a class in microseconds → requests in it.
    BTreeMap<u64, u64>,
);

impl Latencies {
    /// Adds one request.
    pub fn record(&mut self, micros: u64) {
        self.record_many(micros, 1);
    }

    /// Adds so many requests that took the same.
    pub fn record_many(&mut self, micros: u64, requests: u64) {
        let class = CLASSES.highest_equivalent(micros.clamp(1, LONGEST));
        *self.0.entry(class).or_default() += requests;
    }

    /// Adds all of another's.
    pub fn add(&mut self, other: &Latencies) {
        for (class, requests) in &other.0 {
            *self.0.entry(*class).or_default() += requests;
        }
    }

    /// The values added after `earlier`, which is an earlier count of the same.
    pub fn since(&self, earlier: &Latencies) -> Latencies {
        let more = self.0.iter().filter_map(|(class, requests)| {
            let before = earlier.0.get(class).copied().unwrap_or_default();
            (*requests > before).then(|| (*class, requests - before))
        });
        Latencies(more.collect())
    }

    /// The requests that are counted.
    pub fn requests(&self) -> u64 {
        self.0.values().sum()
    }

    /// The time that all of them took together, in seconds; within 4 %.
    pub fn seconds(&self) -> f64 {
        self.0
            .iter()
            .map(|(class, count)| CLASSES.median_equivalent(*class) as f64 * *count as f64)
            .sum::<f64>()
            / 1e6
    }

    /// The requests that took longer than this.
    pub fn longer_than(&self, micros: u64) -> u64 {
        self.0.range(micros.saturating_add(1)..).map(|(_, requests)| requests).sum()
    }

    /// The time that this part of the requests took at most, in milliseconds; `None` without requests. It is the middle
    /// of its class.
    pub fn percentile(&self, part: f64) -> Option<f64> {
        let rank = (self.requests() as f64 * part).ceil().max(1.0) as u64;
        let mut passed = 0;
        let class = self.0.iter().find_map(|(class, requests)| {
            passed += requests;
            (passed >= rank).then_some(*class)
        })?;
        Some(CLASSES.median_equivalent(class) as f64 / 1000.0)
    }
}

impl From<&Histogram<u32>> for Latencies {
    fn from(counted: &Histogram<u32>) -> Latencies {
        let classes = counted.iter_recorded().map(|class| {
            (counted.highest_equivalent(class.value_iterated_to()), u64::from(class.count_at_value()))
        });
        Latencies(classes.collect())
    }
}

/// Counts of earlier versions: by half powers of two of a tenth of a millisecond.
impl From<BTreeMap<u8, u64>> for Latencies {
    fn from(times: BTreeMap<u8, u64>) -> Latencies {
        let mut latencies = Latencies::default();
        for (half_power, requests) in times {
            latencies.record_many(((f64::from(half_power) / 2.0).exp2() * 100.0) as u64, requests);
        }
        latencies
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_percentile_is_within_four_percent_of_the_true_value(
            mut micros in prop::collection::vec(1u64..100_000_000, 1..400),
            part in 0.01f64..1.0,
        ) {
            let mut latencies = Latencies::default();
            micros.iter().for_each(|it| latencies.record(*it));
            micros.sort_unstable();
            let rank = ((micros.len() as f64 * part).ceil().max(1.0) as usize).min(micros.len());
            let exact = micros[rank - 1] as f64 / 1000.0;
            let told = latencies.percentile(part).expect("there are requests");
            // A class of one microsecond has no middle of its own.
            prop_assert!((told - exact).abs() <= exact * 0.04 + 0.001, "{told} for {exact}");
        }

        #[test]
        fn counts_of_a_worker_arrive_unchanged(
            micros in prop::collection::vec(0u64..10_000_000, 0..200),
        ) {
            let (mut counted, mut recorded) = (histogram(), Latencies::default());
            for it in micros {
                counted.saturating_record(it.max(1));
                recorded.record(it);
            }
            prop_assert_eq!(Latencies::from(&counted), recorded);
        }

        #[test]
        fn what_was_added_since_is_what_was_added(
            before in prop::collection::vec(1u64..1_000_000, 0..50),
            after in prop::collection::vec(1u64..1_000_000, 0..50),
        ) {
            let of = |all: &[u64]| {
                let mut latencies = Latencies::default();
                all.iter().for_each(|it| latencies.record(*it));
                latencies
            };
            let earlier = of(&before);
            let mut later = earlier.clone();
            later.add(&of(&after));
            prop_assert_eq!(later.since(&earlier), of(&after));
        }
    }

    #[test]
    fn without_requests_there_is_no_percentile() {
        assert_eq!(Latencies::default().percentile(0.95), None);
    }

    #[test]
    fn requests_that_took_longer_are_counted() {
        let mut latencies = Latencies::default();
        latencies.record_many(2_000, 3);
        latencies.record_many(60_000, 2);
        assert_eq!(
            (latencies.longer_than(10_000), latencies.longer_than(100), latencies.requests()),
            (2, 5, 5)
        );
    }

    #[test]
    fn counts_of_earlier_versions_are_read() {
        let times = BTreeMap::from([(4u8, 95u64), (20, 5)]);
        let latencies = Latencies::from(times);
        let p50 = latencies.percentile(0.5).expect("there are requests");
        let p99 = latencies.percentile(0.99).expect("there are requests");
        assert!((p50 - 0.4).abs() < 0.02 && (p99 - 102.4).abs() < 4.0, "{p50}, {p99}");
    }
}
