//! The answers of both releases of a rollout, in figures that a person compares.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Answered, ReleaseNumber, Rollout};

/// The answers of one release while a rollout moved.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct EvidenceRow {
    /// Which release.
    pub release: ReleaseNumber,
    /// Whether these are the copies of the shadow step, or for the previous release the requests that were copied.
    pub copies: bool,
    /// Requests that ended.
    pub requests: u64,
    /// Those that failed.
    pub failed: u64,
    /// The time that half of them took at most, in milliseconds.
    pub p50: Option<f64>,
    /// The time that 95 of 100 took at most, in milliseconds.
    pub p95: Option<f64>,
    /// The time that 99 of 100 took at most, in milliseconds.
    pub p99: Option<f64>,
}

/// The rows of a rollout's evidence; none where nothing was answered meanwhile.
pub fn evidence(rollout: &Rollout) -> Vec<EvidenceRow> {
    let evidence = &rollout.evidence;
    let row = |release: ReleaseNumber, copies: bool, answered: &Answered| EvidenceRow {
        release,
        copies,
        requests: answered.requests,
        failed: answered.failed,
        p50: answered.latencies.percentile(0.5),
        p95: answered.latencies.percentile(0.95),
        p99: answered.latencies.percentile(0.99),
    };
    let mut rows = Vec::new();
    if evidence.copies.requests > 0 {
        rows.push(row(rollout.to, true, &evidence.copies));
        rows.extend(rollout.from.map(|from| row(from, true, &evidence.copied)));
    }
    if evidence.served > 0 {
        rows.push(row(rollout.to, false, &evidence.new));
        rows.extend(rollout.from.map(|from| row(from, false, &evidence.old)));
    }
    rows
}
