//! The protocol of control, node agents and gateways: JSON, one message a line.

mod live_files;
mod outgoing;
mod steps;

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::address::Range;
use crate::drain::GatewayView;
use crate::latency::Latencies;
use crate::model::{
    Bytes, ChallengeKind, Cpu, EnvironmentIndex, FirstOutcome, Given, Name, Once, Reason, ReasonCode,
    ReleaseId, ReleaseNumber, ReleaseSpec, ReplicaId, ReplicaState, SecretKey, SecretUse, SecretValue, Span,
    Target,
};
use crate::routing::{Table, TableChange};

pub use live_files::{LiveFile, LiveFiles, LiveOutcome};
pub use outgoing::{
    AttemptOutcome, ConnectionFigure, NameFigure, NameOutcome, OutgoingAttempt, OutgoingFigures,
};
pub use steps::{StepCaller, StepEnd, StepId, StepLayer, StepLine, StepOrder, StepOutcome};

/// A replica that a node should run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RunOrder {
    /// Which replica.
    pub id: ReplicaId,
    /// Of which release.
    pub release: ReleaseNumber,
    /// Whose id map it has.
    pub environment: EnvironmentIndex,
    /// How it runs.
    pub spec: ReleaseSpec,
    /// The digest of its image's manifest.
    pub digest: String,
    /// Its address.
    pub address: Ipv4Addr,
    /// Set where it is the one run of the release's `run_first`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub once: Option<Once>,
    /// The versions that its secrets stand for ([`crate::model::Release::secrets`]).
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub secrets: BTreeMap<Name, u32>,
    /// Their values. They are filled in on the way to the node, and kept there apart from the order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<Given>,
}

impl RunOrder {
    /// The version of a secret that is used here.
    pub fn version_of(&self, used: &SecretUse) -> Option<SecretKey> {
        used.key(&self.secrets)
    }

    /// Every version of a secret that it needs.
    pub fn secret_keys(&self) -> BTreeSet<SecretKey> {
        self.spec.secret_uses().filter_map(|used| self.version_of(used)).collect()
    }

    /// The value of a secret that is used here, with its version.
    pub fn given(&self, used: &SecretUse) -> Option<&Given> {
        let SecretKey { secret, version } = self.version_of(used)?;
        self.values.iter().find(|given| (&given.secret, given.version) == (&secret, version))
    }

    /// Why it cannot be started, where the value of a secret did not come with it.
    pub fn lacks(&self) -> Option<Reason> {
        let lacking = self.spec.secret_uses().find(|used| self.given(used).is_none())?;
        let which =
            self.version_of(lacking).map_or_else(|| lacking.to_string(), |key| format!("secret {key}"));
        let sentence = format!("control sent no value of {which}; its own log says why");
        Some(Reason::new(ReasonCode::SecretMissing, sentence))
    }
}

/// From control to a node agent.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum NodeOrder {
    /// Replicas to run and replicas to stop. A `whole` one names all that should run: others are stopped.
    Replicas {
        /// Of the control that decided.
        epoch: u64,
        /// The ids of the API's requests that these orders follow from, for the log.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        requests: Vec<String>,
        /// Whether this names everything.
        whole: bool,
        /// To run; those that run already stay.
        run: Vec<RunOrder>,
        /// To stop and forget.
        stop: Vec<ReplicaId>,
        /// Of those to stop: whose log is kept, because their release did not come through.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        keep_logs: Vec<ReplicaId>,
    },
    /// Logs are kept of these releases only: the record has no others.
    Recorded(BTreeSet<ReleaseId>),
    /// These releases went from the record: their logs go as well.
    Forgotten(BTreeSet<ReleaseId>),
    /// The hosts file of an environment's replicas.
    Hosts {
        /// Which environment.
        environment: Name,
        /// The whole text.
        text: String,
    },
    /// Send log lines, by a request of the node's own.
    Log {
        /// The stream to answer to.
        stream: u64,
        /// Whose log.
        replicas: Vec<ReplicaId>,
        /// And what was kept of the replicas of this release that are gone.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        kept: Option<ReleaseId>,
        /// Of those only this one, by its short name.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        only: Option<String>,
        /// At most this many lines of what is there.
        tail: u32,
        /// Go on with what comes.
        follow: bool,
    },
    /// Change files of replicas that run, and tell how that went by a request of the node's own.
    ChangeFiles {
        /// The stream to answer to.
        stream: u64,
        /// Whose files.
        replicas: Vec<ReplicaId>,
        /// The files.
        files: LiveFiles,
    },
    /// The steps of builds that should run on the node now, all of them: others are ended.
    Steps(Vec<StepOrder>),
    /// Nothing; shows that the link lives.
    Beat,
}

/// A node agent's first message.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct NodeHello {
    /// Its name.
    pub node: Name,
    /// Which life of the agent this is: what an earlier one sent and comes late is ignored.
    #[serde(rename = "life")]
    pub incarnation: u64,
    /// Processors it gives.
    pub cpu: Cpu,
    /// Memory it gives.
    pub memory: Bytes,
    /// The addresses of its replicas; a loopback range means that they are ordinary processes.
    #[serde(default)]
    pub range: Range,
}

/// From a node agent to control.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct NodeReport {
    /// The life of the agent that sends it.
    #[serde(rename = "life")]
    pub incarnation: u64,
    /// Counts up in a life: one that comes late or twice is ignored.
    pub number: u64,
    /// Whether `replicas` names all that run.
    pub whole: bool,
    /// Replicas whose state changed.
    pub replicas: Vec<ReplicaReport>,
    /// Replicas that were stopped and are gone.
    pub gone: Vec<ReplicaId>,
}

/// An image that a node fetches now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ImageFetch {
    /// The digest of its manifest.
    pub image: String,
    /// Bytes of its layers that are there, of those that were missing.
    pub fetched: u64,
    /// Bytes of its layers that were missing.
    pub total: u64,
    /// Bytes a second since it began.
    pub rate: u64,
}

impl ImageFetch {
    /// "1.2 GiB of 2.0 GiB, 14 s left".
    pub fn words(&self) -> String {
        let there = format!("{} of {}", Bytes::new(self.fetched), Bytes::new(self.total));
        let missing = self.total.saturating_sub(self.fetched);
        match missing.checked_div(self.rate) {
            Some(seconds) if missing > 0 => format!("{there}, {} left", Span::from_secs(seconds.max(1))),
            _ => there,
        }
    }
}

/// How a replica is, as its node sees it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ReplicaReport {
    /// Which replica.
    pub id: ReplicaId,
    /// How it is.
    pub state: ReplicaState,
    /// And why.
    pub reason: Option<Reason>,
    /// How often its process was started again.
    pub restarts: u32,
    /// How long its process took to be ready, measured on the node; absent until it was, and where the agent was started
    /// again in between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ready_after: Option<Span>,
    /// The digest of what was really started ([`crate::launch_fingerprint`]), once something was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started: Option<String>,
    /// Of what is run once: how it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outcome: Option<FirstOutcome>,
    /// Not ready, though it takes connections: where too few are ready, it may be sent requests.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub takes_connections: bool,
}

impl ReplicaReport {
    /// One that is in this state, with nothing more to say.
    pub fn of(id: ReplicaId, state: ReplicaState) -> ReplicaReport {
        ReplicaReport {
            id,
            state,
            reason: None,
            restarts: 0,
            ready_after: None,
            started: None,
            outcome: None,
            takes_connections: false,
        }
    }
}

/// One line of a replica's log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LogLine {
    /// Microseconds since 1970 UTC.
    pub at: u64,
    /// Which replica.
    pub replica: ReplicaId,
    /// `o` standard output, `e` standard error, `k` the keeper.
    pub source: char,
    /// The line without its line feed.
    pub text: String,
}

/// From control to a gateway.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum GatewayOrder {
    /// The table to serve by.
    Table(Table),
    /// The changes to the table that was sent before.
    Change(TableChange),
    /// The values it needs that no table holds, all of them.
    Private(Private),
    /// Forget kept answers of a route, and tell how many by a request of the gateway's own.
    Purge {
        /// The stream to answer to.
        stream: u64,
        /// The route, as `environment/name`.
        route: String,
        /// The path; everything below it goes as well.
        path: String,
    },
    /// Tell of the request with this id, where it is remembered, by a request of the gateway's own.
    Recall {
        /// The stream to answer to.
        stream: u64,
        /// The request's id.
        id: String,
    },
    /// Tell of requests as they end, by a request of the gateway's own that lasts until it is hung up on.
    Watch {
        /// The stream to answer to.
        stream: u64,
    },
    /// Try to reach a destination outside, and tell of it by a request of the gateway's own.
    TryOutgoing {
        /// The stream to answer to.
        stream: u64,
        /// A name or an address.
        host: String,
        /// The port.
        port: u16,
    },
    /// The steps of builds that reach something outside, all of them.
    StepCallers(Vec<StepCaller>),
    /// Nothing; shows that the link lives.
    Beat,
}

/// Values that gateways need and that nobody else may see. A gateway keeps them sealed.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub struct Private {
    /// Secrets that routes let in by, in their newest version.
    pub values: Vec<(Target, SecretValue)>,
    /// Certificates with their keys. Of two that cover one name, the later in this list is served.
    #[serde(default)]
    pub certificates: Vec<PrivateCertificate>,
    /// What authorities outside are told that ask for a host.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub challenges: Vec<HostChallenge>,
}

/// The answer to an authority that asks for a host.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct HostChallenge {
    /// The host.
    pub host: String,
    /// How it asks.
    pub kind: ChallengeKind,
    /// What it asks for.
    pub token: String,
    /// What it is told.
    pub key_authorization: String,
}

/// A certificate with its key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PrivateCertificate {
    /// Which one.
    pub certificate: Target,
    /// The names that it covers.
    pub names: Vec<String>,
    /// The chain, as PEM.
    pub chain: String,
    /// The key, as PEM; of one that only says whom to trust there is none.
    pub key: Option<SecretValue>,
}

/// A gateway's first message.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct GatewayHello {
    /// Which life of the gateway this is.
    #[serde(rename = "life")]
    pub incarnation: u64,
}

/// From a gateway to control.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct GatewayReport {
    /// The life of the gateway that sends it.
    #[serde(rename = "life")]
    pub incarnation: u64,
    /// The table it works by, and the requests still open.
    pub view: GatewayView,
    /// Ports of routes that it cannot listen on, and why.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub closed_ports: BTreeMap<u16, String>,
    /// Requests since the last report that carried figures.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub figures: Vec<Figure>,
    /// Requests that wait for a replica now, by service.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub waiting: Vec<WaitingRequests>,
    /// Connections to the outside, and names that were looked up, since the last report.
    #[serde(default, skip_serializing_if = "OutgoingFigures::is_empty")]
    pub outgoing: OutgoingFigures,
}

/// Requests that wait for a replica of a service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct WaitingRequests {
    /// Which service.
    pub service: Target,
    /// How many.
    pub count: u32,
}

/// Requests that one replica answered through one way in, in a short while.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Figure {
    /// The host, or the service's name with port for callers inside.
    pub way: String,
    /// Whether the caller was inside.
    pub inside: bool,
    /// The service.
    pub service: Target,
    /// The replica; `None` when none could be reached.
    pub replica: Option<ReplicaId>,
    /// Its release.
    pub release: Option<ReleaseNumber>,
    /// Requests that were open when the figure was taken. It is reported for as long as there are any.
    #[serde(default, skip_serializing_if = "is_none")]
    pub open: u32,
    /// Requests that ended.
    pub requests: u64,
    /// Of those without an answer, or with one of 500 and above.
    pub failed: u64,
    /// Bytes of the requests' bodies.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub received: u64,
    /// Bytes of the answers' bodies.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub sent: u64,
    /// How long they took.
    #[serde(default)]
    pub latencies: Latencies,
    /// Counts a shadow step: copies and what they are compared with, both up to the answer's beginning. No visitor's
    /// answer is counted here.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub shadow: bool,
    /// Of copies: how many were answered in another size.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub other_size: u64,
}

fn is_none(number: &u32) -> bool {
    *number == 0
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

/// One request as a gateway saw it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Served {
    /// When it came, in milliseconds since 1970 UTC.
    pub at: u64,
    /// Its id.
    pub id: String,
    /// The caller.
    pub peer: String,
    /// Such as `GET`.
    pub method: String,
    /// The host it was for; of callers inside there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// The path without its query.
    pub path: String,
    /// Whether it came over TLS.
    pub secure: bool,
    /// The route's host and path, or service and port for callers inside.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub way: Option<String>,
    /// The route, as `environment/name`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub route: Option<String>,
    /// The replica that answered; `None` if the gateway did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub replica: Option<ReplicaId>,
    /// Its release.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub release: Option<ReleaseNumber>,
    /// With which status.
    pub status: u16,
    /// Why the gateway answered itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<Reason>,
    /// Replicas that were tried before without success.
    #[serde(default)]
    pub tried: u8,
    /// Whether the answer was broken off.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub broken: bool,
    /// How long it took, in microseconds.
    pub micros: u64,
    /// Bytes of the request's body.
    pub received: u64,
    /// Bytes of the answer's body.
    pub sent: u64,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_travels_as_it_is() {
        let service = serde_json::json!({
            "target": {"environment": "staging", "name": "locker-api"}, "environment": 1, "address": "10.118.0.16",
            "ports": {"80": []}, "reason": null,
        });
        let table = serde_json::json!({"version": {"epoch": 1, "counter": 2}, "routes": {}, "services": {"staging/locker-api": service}});
        let table: Table = serde_json::from_value(table).expect("a table");
        let order = GatewayOrder::Table(table);
        let line = serde_json::to_string(&order).expect("a line");
        assert_eq!(serde_json::from_str::<GatewayOrder>(&line).expect("read back"), order);
        assert_eq!(serde_json::from_str::<NodeOrder>("\"beat\"").expect("read"), NodeOrder::Beat);
    }
}
