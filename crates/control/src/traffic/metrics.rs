//! Requests since control started, as metrics.

use jiff::Timestamp;
use mainyard_core::latency::Latencies;
use prometheus_client::collector::Collector;
use prometheus_client::encoding::{DescriptorEncoder, EncodeLabelSet, NoLabelSet};
use prometheus_client::metrics::MetricType;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};

use super::{Key, Sum, Traffic};

/// The upper ends of the duration buckets, in seconds.
const BUCKETS: [f64; 14] =
    [0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, f64::INFINITY];

/// Labels that requests are grouped by.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Labels {
    way: String,
    from: &'static str,
    service: String,
    release: u32,
    replica: String,
}

impl Labels {
    fn of(key: &Key) -> Labels {
        Labels {
            way: key.way.clone(),
            from: if key.inside { "inside" } else { "outside" },
            service: key.service.clone(),
            release: key.release,
            replica: key.replica.clone(),
        }
    }
}

impl Traffic {
    /// Adds everything since control started.
    pub fn register(&self, registry: &mut Registry) {
        let inner = self.lock();
        let mut counter = |name: &str, help: &str, unit: Option<Unit>, of: &dyn Fn(&Sum) -> u64| {
            let family = Family::<Labels, Counter>::default();
            for (key, sum) in &inner.totals {
                family.get_or_create(&Labels::of(key)).inc_by(of(sum));
            }
            match unit {
                Some(unit) => registry.register_with_unit(name, help, unit, family),
                None => registry.register(name, help, family),
            }
        };
        counter("mainyard_requests", "Requests that ended", None, &|sum| sum.requests);
        counter(
            "mainyard_requests_failed",
            "Requests without an answer, or with one of 500 and above",
            None,
            &|sum| sum.failed,
        );
        counter("mainyard_received", "Bytes of the requests' bodies", Some(Unit::Bytes), &|sum| sum.received);
        counter("mainyard_sent", "Bytes of the answers' bodies", Some(Unit::Bytes), &|sum| sum.sent);
        let open = Family::<Labels, Gauge>::default();
        for (key, requests) in inner.open_now(Timestamp::now().as_second()) {
            open.get_or_create(&Labels::of(key)).set(i64::from(requests));
        }
        registry.register("mainyard_requests_open", "Requests that are open now", open);
        let durations = inner.totals.iter().map(|(key, sum)| (Labels::of(key), sum.latencies.clone()));
        registry.register_collector(Box::new(Durations(durations.collect())));
    }
}

/// How long requests took, as a histogram. Counts exist already, so they are written as they are.
#[derive(Debug)]
struct Durations(Vec<(Labels, Latencies)>);

impl Collector for Durations {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> Result<(), std::fmt::Error> {
        let mut family = encoder.encode_descriptor(
            "mainyard_request",
            "Time until a request ended",
            Some(&Unit::Seconds),
            MetricType::Histogram,
        )?;
        for (labels, latencies) in &self.0 {
            let mut longer = latencies.requests();
            // The encoder adds the buckets up: each has only what the one before has not.
            let buckets = BUCKETS.map(|end| {
                let still_longer = latencies.longer_than((end * 1e6) as u64);
                let own = longer - still_longer;
                longer = still_longer;
                (end, own)
            });
            let mut histogram = family.encode_family(labels)?;
            histogram.encode_histogram::<NoLabelSet>(
                latencies.seconds(),
                latencies.requests(),
                &buckets,
                None,
            )?;
        }
        Ok(())
    }
}
