//! The platform itself: whether it is there, all that it holds, and what changes.

use std::collections::BTreeMap;

use jiff::Timestamp;
use mainyard_core::link::Served;
use mainyard_core::model::{Name, Origin, Signal};
use mainyard_core::record::{Kind, Objects};
use mainyard_core::trail::TrailEntry;
use mainyard_core::views::Views;
use mainyard_core::why::Why;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::operation::{Anyone, EventAnswer, JsonAnswer, LineAnswer, NoBody, Person, TextAnswer, operations};
use crate::{
    AnyQuery, AsOf, CompareQuery, Limits, NoPath, NoQuery, SinceQuery, StreamQuery, TrafficQuery, TrailQuery,
    WhyQuery,
};

operations! {
    /// Tells that control answers, and its version.
    ShowHealth: Get "/api/v1/health" {
        caller: Anyone, path: NoPath, query: AnyQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Health>, problems: [],
    }
    /// Returns this document.
    ShowDocument: Get "/api/v1/openapi.json" {
        caller: Anyone, path: NoPath, query: AnyQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Value>, problems: [],
    }
    /// Returns everything that the record holds, and the number to follow the stream from.
    ShowSnapshot: Get "/api/v1/snapshot" {
        caller: Person, path: NoPath, query: AsOf, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Snapshot>, problems: [NotFound],
    }
    /// Returns every change after a number, as it comes.
    ///
    /// An event `change` has the change's number as its id and a `ChangeEvent` as its data; a caller that comes back with
    /// `Last-Event-ID` goes on exactly there. `reset` says that the record no longer reaches back so far: read the snapshot
    /// again. `figures` comes once a second, without an id, with `Figures`. Where they are asked for, `views` comes
    /// after the changes that it follows from, with a list of `ViewChange`.
    FollowChanges: Get "/api/v1/stream" {
        caller: Person, path: NoPath, query: StreamQuery, body: NoBody, limits: Limits::NONE,
        answer: EventAnswer, problems: [TooManyStreams],
    }
    /// Explains why something answers, or does not: the chain of causes, from the outside to the process.
    ExplainWhy: Get "/api/v1/why" {
        caller: Person, path: NoPath, query: WhyQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Why>, problems: [NotFound],
    }
    /// Returns requests as they end, for as long as they are read; empty lines come in between.
    FollowRequests: Get "/api/v1/requests" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: LineAnswer<Served>, problems: [TooManyStreams],
    }
    /// Returns figures for anyone who gathers them (OpenMetrics 1.0).
    ShowMetrics: Get "/api/v1/metrics" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: TextAnswer, problems: [],
    }
    /// Lists what was served in the last ten seconds and the last quarter of an hour.
    ListTraffic: Get "/api/v1/traffic" {
        caller: Person, path: NoPath, query: TrafficQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<TrafficRow>>, problems: [NotFound],
    }
    /// Lists who did what, the newest first.
    ListTrail: Get "/api/v1/trail" {
        caller: Person, path: NoPath, query: TrailQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<TrailEntry>>, problems: [NotFound],
    }
    /// Compares a moment of the past with now, object by object and field by field.
    CompareMoments: Get "/api/v1/since" {
        caller: Person, path: NoPath, query: SinceQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Since>, problems: [NotFound],
    }
    /// Compares two releases, field by field.
    CompareReleases: Get "/api/v1/compare" {
        caller: Person, path: NoPath, query: CompareQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Compared>, problems: [NotFound],
    }
}

/// Control answers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Health {
    /// Always true: what is not well does not answer.
    pub ok: bool,
    /// The platform's version.
    pub version: String,
    /// The number of the last change.
    pub change: u64,
}

/// The signal of each state, by kind.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Signals {
    /// Of workloads.
    pub workload: BTreeMap<String, Signal>,
    /// Of replicas.
    pub replica: BTreeMap<String, Signal>,
    /// Of rollouts.
    pub rollout: BTreeMap<String, Signal>,
    /// Of sources.
    pub source: BTreeMap<String, Signal>,
}

/// Everything the record holds, and the number to follow the stream from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Snapshot {
    /// The number of the last change.
    pub cursor: u64,
    /// The moment, where it is one of the past.
    pub as_of: Option<Timestamp>,
    /// Whether replicas, nodes and gateways of that moment are known.
    pub whole: bool,
    /// The caller.
    pub member: String,
    /// The gateway's address for HTTP.
    pub gateway: String,
    /// The address for TLS.
    pub gateway_tls: String,
    /// By kind, then by key.
    pub objects: Objects,
    /// The signal of each state, by kind.
    pub signals: Signals,
    /// Groups of connected objects, and the list of those that need a person, by environment.
    pub views: Views,
    /// The last ten seconds.
    pub figures: Figures,
    /// The last quarter of an hour, by service.
    pub series: BTreeMap<String, Vec<Point>>,
}

/// One change of the record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ChangeEvent {
    /// Its number; each is larger than the previous one.
    pub number: u64,
    /// The kind of what changed.
    pub kind: Kind,
    /// Its key.
    pub key: String,
    /// Its present value, as in the snapshot; `null` if it was removed.
    pub body: Option<Value>,
    /// The member or part that caused it.
    pub cause: Origin,
    /// When it was written.
    pub at: Timestamp,
}

/// Objects that differ from an earlier moment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Since {
    /// The moment of the past.
    pub as_of: Timestamp,
    /// Whether replicas of that moment are known.
    pub whole: bool,
    /// Each object that differs.
    pub became: Vec<mainyard_core::history::Became>,
}

/// The differences between two releases.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Compared {
    /// A release, as `environment/name@number`.
    pub from: String,
    /// The other one.
    pub to: String,
    /// Field by field.
    pub differences: Vec<mainyard_core::difference::Difference>,
}

/// How figures are grouped.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Facet {
    /// The way in: what a route takes, or service and port for callers inside.
    Route,
    /// The service.
    Service,
    /// The workload's release.
    Release,
    /// The replica.
    Replica,
}

/// Requests in one step of ten seconds.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Point {
    /// Seconds since 1970 UTC at which the step began.
    pub at: i64,
    /// Requests that ended in it.
    pub requests: u64,
    /// Those that failed.
    pub failed: u64,
    /// The time that 95 of 100 requests took at most, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p95: Option<f64>,
}

/// One row of a view is new, or different, or gone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ViewChange {
    /// The environment; `null` for a node.
    pub environment: Option<Name>,
    /// Which part of the view: a field of `EnvironmentView`, or `nodes`.
    pub part: ViewPart,
    /// The row's name; empty for `needs`, which comes as a whole.
    pub name: String,
    /// Its present value; `null` if it was removed.
    pub row: Option<Value>,
}

/// A part of the views.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ViewPart {
    /// The list of things that need a person.
    Needs,
    /// Workloads.
    Workloads,
    /// Services.
    Services,
    /// Routes.
    Routes,
    /// Sources.
    Sources,
    /// Certificates.
    Certificates,
    /// Nodes.
    Nodes,
}

/// Requests of the last ten seconds.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct Figures {
    /// By way in, release and replica.
    pub ways: Vec<WayFigures>,
    /// By route, named by what it takes; requests from outside only.
    pub routes: BTreeMap<String, TrafficSum>,
    /// By service, as `environment/name`.
    pub services: BTreeMap<String, TrafficSum>,
    /// By service, requests from replicas only.
    pub inside: BTreeMap<String, TrafficSum>,
    /// By workload, as `environment/name`.
    pub workloads: BTreeMap<String, TrafficSum>,
    /// By release, as `environment/name@number`.
    pub releases: BTreeMap<String, TrafficSum>,
    /// By replica, by its id.
    pub replicas: BTreeMap<String, TrafficSum>,
}

/// Requests of ten seconds taken together.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct TrafficSum {
    /// Requests a second.
    pub rate: f64,
    /// Requests that failed.
    pub failed: u64,
    /// The time that half of the requests took at most, in milliseconds.
    pub p50: Option<f64>,
    /// The time that 95 of 100 requests took at most, in milliseconds.
    pub p95: Option<f64>,
    /// The time that 99 of 100 requests took at most, in milliseconds.
    pub p99: Option<f64>,
}

/// Requests of the last ten seconds for one way in, release and replica.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
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
    /// Requests that are open now.
    #[serde(default)]
    pub open: u32,
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

/// Requests of the last ten seconds and the last quarter of an hour.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TrafficRow {
    /// The last ten seconds; what it is not distinguished by is empty.
    #[serde(flatten)]
    pub now: WayFigures,
    /// The last quarter of an hour.
    pub points: Vec<Point>,
}
