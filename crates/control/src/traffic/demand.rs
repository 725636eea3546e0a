//! What is asked of each workload now, for those whose number of replicas follows it.

use std::collections::BTreeMap;

use jiff::Timestamp;
use mainyard_core::growth::RATE_LAGS;
use mainyard_core::link::WaitingRequests;
use mainyard_core::model::ReplicaId;
use mainyard_core::sizing::{Usage, UsedNow};

use super::{OPEN_FOR, Traffic};

/// Seconds that rates are averages over.
const SECONDS: i64 = RATE_LAGS as i64 / 1000;

/// Seconds that a node's word on what a replica uses counts: it is told every five.
const USAGE_FOR: i64 = 12;

/// What is asked of workloads, and of services while no replica takes it.
#[derive(Debug, Default)]
pub(crate) struct Demand {
    /// By workload: requests that are open, and answered in a second.
    pub workloads: BTreeMap<String, (f64, f64)>,
    /// By service: requests that wait, and that failed without a replica in a second.
    pub services: BTreeMap<String, (f64, f64)>,
    /// What replicas use.
    pub replicas: BTreeMap<ReplicaId, UsedNow>,
    /// Whether any gateway has told its figures lately.
    pub is_told: bool,
}

impl Traffic {
    /// Takes how many requests wait at a gateway, by service.
    pub(crate) fn note_waiting(&self, gateway: &str, waiting: Vec<WaitingRequests>) {
        let now = Timestamp::now().as_second();
        let mut inner = self.lock();
        inner.waiting.insert(gateway.to_owned(), (now, waiting));
        inner.waiting.retain(|_, (at, _)| *at > now - OPEN_FOR);
    }

    /// Takes what replicas use.
    pub(crate) fn note_usage(&self, usage: &[Usage]) {
        let now = Timestamp::now().as_second();
        let mut inner = self.lock();
        let told = usage.iter().filter_map(|it| Some((it.replica.clone(), (now, it.now?))));
        inner.usage.extend(told);
        inner.usage.retain(|_, (at, _)| *at > now - USAGE_FOR);
    }

    /// What is asked now.
    pub(crate) fn demand(&self) -> Demand {
        let now = Timestamp::now().as_second();
        let inner = self.lock();
        let told = || inner.waiting.values().filter(|(at, _)| *at > now - OPEN_FOR);
        let used = inner.usage.iter().filter(|(_, (at, _))| *at > now - USAGE_FOR);
        let replicas = used.map(|(id, (_, used))| (id.clone(), *used)).collect();
        let mut demand = Demand { is_told: told().next().is_some(), replicas, ..Demand::default() };
        for it in told().flat_map(|(_, waiting)| waiting) {
            demand.services.entry(it.service.to_string()).or_default().0 += f64::from(it.count);
        }
        for (key, open) in inner.open_now(now).into_iter().filter(|(key, _)| !key.workload.is_empty()) {
            demand.workloads.entry(key.workload.clone()).or_default().0 += f64::from(open);
        }
        // The present second is not over.
        let seconds = inner.seconds.iter().filter(|(second, _)| (now - SECONDS..now).contains(second));
        for (key, sum) in seconds.flat_map(|(_, sums)| sums) {
            if key.workload.is_empty() {
                demand.services.entry(key.service.clone()).or_default().1 +=
                    sum.failed as f64 / SECONDS as f64;
            } else {
                demand.workloads.entry(key.workload.clone()).or_default().1 +=
                    sum.requests as f64 / SECONDS as f64;
            }
        }
        demand
    }
}
