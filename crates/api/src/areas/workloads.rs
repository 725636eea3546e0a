//! Workloads: how they are, how much there is of them, and what they write and use.

use std::net::IpAddr;

use jiff::Timestamp;
use mainyard_core::commands::{HoldOutcome, Removed, Resumed, Scaled, SetAsideOutcome};
use mainyard_core::link::{LiveFiles, LiveOutcome, LogLine, NameOutcome};
use mainyard_core::model::{
    Bytes, Cpu, OutgoingMode, OutgoingRule, Release, Replica, Rollout, Span, Workload,
};
use mainyard_core::sizing::WorkloadUsage;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Done;
use crate::operation::{JsonAnswer, JsonBody, LineAnswer, NoBody, Person, operations};
use crate::{AsOf, Limits, LogQuery, NoPath, NoQuery, OfTarget, Trial, UsageQuery};

operations! {
    /// Shows a workload with its releases, rollouts and replicas.
    ShowWorkload: Get "/api/v1/environments/{environment}/workloads/{name}" {
        caller: Person, path: OfTarget, query: AsOf, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<WorkloadDetails>, problems: [NotFound],
    }
    /// Removes a workload with its own service and the routes that lead only there.
    RemoveWorkload: Delete "/api/v1/environments/{environment}/workloads/{name}" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Done<Removed>>, problems: [NotFound, Conflict],
    }
    /// Sets how many replicas a workload has, how much each may use, or both.
    ScaleWorkload: Post "/api/v1/environments/{environment}/workloads/{name}/scale" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewScale>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<Scaled>>, problems: [NotFound, Conflict],
        example: r#"{"replicas": 4, "memory": "256 MiB"}"#,
    }
    /// Takes a replica out of service for study; a new one replaces it.
    SetReplicaAside: Post "/api/v1/environments/{environment}/workloads/{name}/set-aside" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewSetAside>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<SetAsideOutcome>>, problems: [NotFound, Conflict],
        example: r#"{"replica": "a0", "lasts": "1h"}"#,
    }
    /// Holds a workload: nothing of it moves until it is resumed.
    HoldWorkload: Post "/api/v1/environments/{environment}/workloads/{name}/hold" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewHold>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<HoldOutcome>>, problems: [NotFound, Conflict],
        example: r#"{"because": "stocktaking until noon"}"#,
    }
    /// Ends a hold.
    ResumeWorkload: Post "/api/v1/environments/{environment}/workloads/{name}/resume" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::SMALL,
        answer: JsonAnswer<Done<Resumed>>, problems: [NotFound, Conflict],
    }
    /// Changes files of the replicas that run, without a build, where the environment allows it. The replicas are marked as
    /// changed until they are started again.
    ChangeLiveFiles: Post "/api/v1/environments/{environment}/workloads/{name}/live-files" {
        caller: Person, path: OfTarget, query: NoQuery, body: JsonBody<LiveFiles>, limits: Limits::bytes(12 << 20),
        answer: JsonAnswer<LiveChanges>, problems: [NotFound, Conflict],
        example: r#"{"files": [{"path": "/app/style.css", "name": "style.css", "content": "Ym9keSB7fQo="}]}"#,
    }
    /// Shows what a workload's replicas may reach outside, and what they reached since control started.
    ShowOutgoing: Get "/api/v1/environments/{environment}/workloads/{name}/outgoing" {
        caller: Person, path: OfTarget, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<OutgoingTraffic>, problems: [NotFound],
    }
    /// Returns log lines. Of a release that failed, each replica's last 1,000 lines are kept for as long as the release is.
    ReadLogs: Get "/api/v1/environments/{environment}/workloads/{name}/logs" {
        caller: Person, path: OfTarget, query: LogQuery, body: NoBody, limits: Limits::NONE,
        answer: LineAnswer<LogLine>, problems: [NotFound],
    }
    /// Shows what one workload used in the last seven days, and whether its memory limit is right.
    ShowUsage: Get "/api/v1/environments/{environment}/workloads/{name}/stats" {
        caller: Person, path: OfTarget, query: UsageQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<WorkloadUsage>, problems: [NotFound],
    }
    /// Lists what all workloads used in the last seven days, and whether their memory limits are right.
    ListUsage: Get "/api/v1/stats" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<WorkloadUsage>>, problems: [],
    }
}

/// How changing files of running replicas went.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LiveChanges {
    /// For each replica.
    pub replicas: Vec<LiveOutcome>,
}

/// The way out of a workload.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct OutgoingTraffic {
    /// What its environment allows.
    pub mode: OutgoingMode,
    /// What its wanted release lists.
    pub rules: Vec<OutgoingRule>,
    /// Whether every node keeps replicas to that; elsewhere they are ordinary processes with the machine's network.
    pub enforced: bool,
    /// Destinations, those with the latest connections first.
    pub destinations: Vec<OutgoingDestination>,
    /// Names that were looked up, the latest first.
    pub names: Vec<OutgoingName>,
}

/// A destination outside, and what went there since control started.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct OutgoingDestination {
    /// The name or address, and the port.
    pub destination: String,
    /// The rule that allowed the last connection, where a rule did.
    pub rule: Option<String>,
    /// Connections that are open now.
    pub open: u32,
    /// Connections that were made.
    pub made: u64,
    /// Connections that no rule allows.
    pub refused: u64,
    /// Connections that could not be made.
    pub failed: u64,
    /// Bytes to the outside.
    pub sent: u64,
    /// Bytes from the outside.
    pub received: u64,
    /// Why the last one was not made.
    pub says: Option<String>,
    /// When a gateway last told of it.
    pub at: Timestamp,
}

/// A name that replicas looked up.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct OutgoingName {
    /// The name.
    pub name: String,
    /// How often it was asked for.
    pub asked: u64,
    /// How that ended the last time.
    pub outcome: NameOutcome,
    /// The addresses that were given.
    pub addresses: Vec<IpAddr>,
    /// When a gateway last told of it.
    pub at: Timestamp,
}

/// A workload with all that belongs to it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct WorkloadDetails {
    /// The number of the last change.
    pub cursor: u64,
    /// The moment, where it is one of the past.
    pub as_of: Option<Timestamp>,
    /// The workload.
    pub workload: Workload,
    /// Its releases that are kept, the oldest first.
    pub releases: Vec<Release>,
    /// The rollout to each.
    pub rollouts: Vec<Rollout>,
    /// Its replicas.
    pub replicas: Vec<ReplicaDetails>,
}

/// A replica, and whether the kernel keeps it apart.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ReplicaDetails {
    /// The replica.
    #[serde(flatten)]
    pub replica: Replica,
    /// Whether its node keeps replicas apart; elsewhere they are ordinary processes.
    pub isolated: bool,
}

/// How large a workload is to be.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewScale {
    /// How many replicas are wanted; as many as before where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(max = 10_000))]
    pub replicas: Option<u32>,
    /// Another limit of memory for each.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<Bytes>,
    /// Another limit of processors for each, from 0.01 to 1024.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cpu: Option<Cpu>,
    /// Whether the number follows the load again, after a person had set one.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub by_load: bool,
}

/// Which replica is set aside, and for how long.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSetAside {
    /// Which replica, by its short name.
    #[schemars(length(max = 40))]
    pub replica: String,
    /// For how long; `0s` ends it now.
    pub lasts: Span,
}

/// Why nothing may move.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewHold {
    /// The reason.
    pub because: String,
}
