//! Metrics of the leader's decisions.

use std::time::Duration;

use mainyard_core::model::Target;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::registry::{Registry, Unit};

/// The upper ends of the duration buckets, in seconds. A decision about 100,000 replicas is to stay below 10 ms.
const BUCKETS: [f64; 9] = [0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 1.0];

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct WorkloadLabels {
    workload: String,
}

/// Counts since control started; clones count together.
#[derive(Debug, Clone)]
pub(crate) struct DecisionMetrics {
    durations: Histogram,
    unsettled: Family<WorkloadLabels, Counter>,
}

impl DecisionMetrics {
    /// No decisions yet.
    pub(super) fn new() -> DecisionMetrics {
        DecisionMetrics { durations: Histogram::new(BUCKETS), unsettled: Family::default() }
    }

    /// Counts one decision.
    pub(super) fn observe(&self, took: Duration) {
        self.durations.observe(took.as_secs_f64());
    }

    /// Counts a decision that did not settle for a workload.
    pub(super) fn count_unsettled(&self, workload: &Target) {
        self.unsettled.get_or_create(&WorkloadLabels { workload: workload.to_string() }).inc();
    }

    /// Adds them to what collectors read.
    pub(super) fn register(&self, registry: &mut Registry) {
        registry.register_with_unit(
            "mainyard_decision",
            "Time that the leader takes to decide, without writing to the record",
            Unit::Seconds,
            self.durations.clone(),
        );
        registry.register(
            "mainyard_decisions_unsettled",
            "Decisions about a workload that did not settle within the allowed rounds",
            self.unsettled.clone(),
        );
    }
}
