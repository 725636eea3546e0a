//! The move to a release, and what was seen while it moved.

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::latency::Latencies;

use super::{FirstRun, Origin, Reason, ReleaseNumber, RolloutState, Target};

/// The move to a release.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Rollout {
    /// Of which workload.
    pub workload: Target,
    /// The release before, where there was one.
    pub from: Option<ReleaseNumber>,
    /// The release that takes over; a rollout is known by it.
    pub to: ReleaseNumber,
    /// How it is.
    pub state: RolloutState,
    /// When it began.
    pub started: Timestamp,
    /// When it ended or began to wait for a person.
    pub ended: Option<Timestamp>,
    /// Why it does not go on.
    pub reason: Option<Reason>,
    /// One sentence with numbers.
    pub verdict: Option<String>,
    /// Answers counted while it moved.
    pub evidence: Evidence,
    /// Its purpose.
    #[serde(default)]
    pub purpose: Purpose,
    /// Of 1,000 requests to the workload so many go to the new release; by the number of ready replicas where none is set.
    #[serde(default)]
    pub share: Option<u32>,
    /// How the shadow step stands, where there is one.
    #[serde(default)]
    pub shadow: Shadowing,
    /// Of a stepped rollout: which step it is at, from 0; the last one is all requests.
    #[serde(default)]
    pub step: u32,
    /// Since when the deadline counts, where not since the beginning.
    #[serde(default)]
    pub step_began: Option<Timestamp>,
    /// Since when the step's share is in force and watched.
    #[serde(default)]
    pub watched_since: Option<Timestamp>,
    /// Until then the old set stays beside the new one.
    #[serde(default)]
    pub warm_until: Option<Timestamp>,
    /// The command that runs once before the release serves, where it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<FirstRun>,
    /// The member who continued it despite the findings.
    #[serde(default)]
    pub waived: Option<Origin>,
    /// The member who sent it back.
    #[serde(default)]
    pub cancelled: Option<Origin>,
}

impl Rollout {
    /// One that begins now.
    pub fn new(
        workload: Target,
        from: Option<ReleaseNumber>,
        to: ReleaseNumber,
        purpose: Purpose,
        now: Timestamp,
    ) -> Rollout {
        Rollout {
            workload,
            from,
            to,
            state: RolloutState::Starting,
            started: now,
            ended: None,
            reason: None,
            verdict: None,
            evidence: Evidence::default(),
            purpose,
            share: None,
            shadow: Shadowing::Before,
            step: 0,
            step_began: None,
            watched_since: None,
            warm_until: None,
            first: None,
            waived: None,
            cancelled: None,
        }
    }

    /// Whether the old set is kept beside the new one although the rollout is done.
    pub fn is_warm(&self, now: Timestamp) -> bool {
        self.state == RolloutState::Done && self.warm_until.is_some_and(|until| now < until)
    }
}

/// The purpose of a rollout.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Purpose {
    /// To bring something new, in the manner that is declared.
    #[default]
    Change,
    /// To bring an earlier release back, as fast as is safe: without steps, and judged by its checks alone.
    Back,
    /// To put fresh replicas of the same in the place of those that are there.
    Restart,
}

/// How the shadow step of a rollout stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Shadowing {
    /// No request was copied yet.
    #[default]
    Before,
    /// Copies go to the new release.
    Copying,
    /// It has been passed, or there is none.
    Passed,
}

/// The gateways' evidence while a rollout moved.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub struct Evidence {
    /// Requests answered.
    pub served: u64,
    /// Requests that failed: no answer, or one of 500 and above.
    pub failed: u64,
    /// Of those, what the new release answered.
    #[serde(default)]
    pub new: Answered,
    /// Answers of the previous release, counted from when the new one first answered.
    #[serde(default)]
    pub old: Answered,
    /// The new release's answers to copies in the shadow step.
    #[serde(default)]
    pub copies: Answered,
    /// And what the previous one answered to the same requests.
    #[serde(default)]
    pub copied: Answered,
    /// How many of the copies' answers had another size.
    #[serde(default)]
    pub other_size: u64,
    /// How often the two were compared.
    #[serde(default)]
    pub looks: u32,
    /// The answers of both up to when the new release was first found slower; it is compared again from there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub suspected: Option<Box<Suspicion>>,
    /// Requests that were still open when the drain limit passed, by the short name of the replica that was stopped.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub outlived: BTreeMap<String, u32>,
}

/// The answers up to the moment when a new release looked slower.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub struct Suspicion {
    /// By the new release.
    pub new: Answered,
    /// By the previous one.
    pub old: Answered,
}

/// The answers of one release.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(from = "StoredAnswered")]
pub struct Answered {
    /// Requests that ended.
    pub requests: u64,
    /// Those that failed.
    pub failed: u64,
    /// How long they took.
    pub latencies: Latencies,
}

/// The same as the record may hold it: earlier versions counted durations by half powers of two.
#[derive(Deserialize, JsonSchema)]
struct StoredAnswered {
    requests: u64,
    failed: u64,
    #[serde(default)]
    latencies: Latencies,
    #[serde(default)]
    #[schemars(skip)]
    times: BTreeMap<u8, u64>,
}

impl From<StoredAnswered> for Answered {
    fn from(stored: StoredAnswered) -> Answered {
        let StoredAnswered { requests, failed, mut latencies, times } = stored;
        latencies.add(&Latencies::from(times));
        Answered { requests, failed, latencies }
    }
}

impl Evidence {
    /// Adds what was seen since. The release before is counted only from when the new one answers: what it answered
    /// earlier, in a quieter minute, is nothing to compare with.
    pub fn add(&mut self, more: &Evidence) {
        self.served += more.new.requests + more.old.requests;
        self.failed += more.new.failed + more.old.failed;
        self.other_size += more.other_size;
        let Evidence { new, old, copies, copied, .. } = more;
        let new_answers = [&self.new, &self.copies, new, copies].iter().any(|seen| seen.requests > 0);
        let nothing = Answered::default();
        let old = if new_answers { old } else { &nothing };
        for (to, from) in [
            (&mut self.new, new),
            (&mut self.old, old),
            (&mut self.copies, copies),
            (&mut self.copied, copied),
        ] {
            to.add(from.requests, from.failed, &from.latencies);
        }
    }
}

impl Answered {
    /// The answers after `earlier`, which is an earlier count of the same release.
    pub fn since(&self, earlier: &Answered) -> Answered {
        Answered {
            requests: self.requests.saturating_sub(earlier.requests),
            failed: self.failed.saturating_sub(earlier.failed),
            latencies: self.latencies.since(&earlier.latencies),
        }
    }

    /// Adds what was counted somewhere in a short while.
    pub fn add(&mut self, requests: u64, failed: u64, latencies: &Latencies) {
        self.requests += requests;
        self.failed += failed;
        self.latencies.add(latencies);
    }
}
