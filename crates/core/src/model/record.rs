//! The record: declared things, releases, replicas, nodes.

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::address::Range;

use super::{
    Bytes, Cpu, EnvironmentIndex, Growing, Growth, ImageRef, ImageRule, Leg, Name, OutgoingMode, Reason,
    ReleaseNumber, ReleaseSpec, ReplicaId, ReplicaState, RolloutRule, RouteSpec, SecretKey, SecretUse,
    ServiceSpec, Span, Target, WorkloadState,
};

/// The author of an act, its time and its means.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Origin {
    /// A member, or `platform`.
    pub by: String,
    /// Such as `declared`, `scaled`, `deployed`, `rolled back`.
    pub act: String,
    /// When.
    pub at: Timestamp,
    /// The commit that it follows, where a source did it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commit: Option<String>,
}

impl Origin {
    /// Something that a person or the platform did.
    pub fn new(by: impl Into<String>, act: impl Into<String>, at: Timestamp) -> Origin {
        Origin { by: by.into(), act: act.into(), at, commit: None }
    }
}

impl std::fmt::Display for Origin {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let from = self.commit.as_deref().map(super::short_commit);
        let from = from.map_or(String::new(), |commit| format!(" from {commit}"));
        write!(f, "{} by {}{from} at {:.0}", self.act, self.by, self.at)
    }
}

/// A place to run things.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Environment {
    /// Its name.
    pub name: Name,
    /// Its place among address ranges and id maps.
    pub index: EnvironmentIndex,
    /// The domain of routes that name no host in full; `NAME.localhost` if none was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub domain: Option<String>,
    /// What its replicas may reach outside.
    #[serde(default, skip_serializing_if = "OutgoingMode::is_usual")]
    pub outgoing: OutgoingMode,
    /// What it asks of the images that run there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image_rule: Option<ImageRule>,
    /// Whether files of its running replicas may be changed without a build.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub live_changes: bool,
    /// Numbers that were given to what is gone: they never come again.
    #[serde(default, skip_serializing_if = "SpentNumbers::is_empty")]
    pub spent: SpentNumbers,
    /// The member who made it.
    pub origin: Origin,
}

/// Numbers that were given in an environment to what is gone.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct SpentNumbers {
    /// Replicas, by workload: the number that the next one gets.
    pub replicas: BTreeMap<Name, u64>,
    /// The last release, by workload.
    pub releases: BTreeMap<Name, u32>,
    /// The last version, by secret.
    pub versions: BTreeMap<Name, u32>,
}

impl SpentNumbers {
    fn is_empty(&self) -> bool {
        self.replicas.is_empty() && self.releases.is_empty() && self.versions.is_empty()
    }
}

impl Environment {
    /// The domain of routes that name no host in full.
    pub fn domain(&self) -> String {
        self.domain.clone().unwrap_or_else(|| format!("{}.localhost", self.name))
    }
}

/// A declared workload: how many replicas of which release should run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Workload {
    /// Its environment and name.
    pub target: Target,
    /// The application it is declared, upgraded and removed with.
    pub application: Name,
    /// How many replicas are wanted.
    pub wanted: u32,
    /// The member who set that number.
    pub wanted_origin: Origin,
    /// How its rollouts move.
    pub rule: RolloutRule,
    /// The release that is wanted.
    pub release: ReleaseNumber,
    /// The newest release that was done; a rollback goes to the one before it.
    pub settled: Option<ReleaseNumber>,
    /// The next replica's number.
    pub next_replica: u64,
    /// The member or source that declared it.
    pub origin: Origin,
    /// The last thing that was done to it.
    pub last_change: Origin,
    /// How it is.
    pub state: WorkloadState,
    /// Why it is not well.
    pub reason: Option<Reason>,
    /// Since when it is in this state.
    pub since: Timestamp,
    /// Workloads of its application that are steady before a source changes it.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub after: BTreeSet<Name>,
    /// How often its image's tag is looked at in a registry outside, for another image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub follow_tag: Option<Span>,
    /// Set where the number of replicas follows the load.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub growing: Option<Growing>,
    /// Since when no replica takes requests although some should.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unanswered_since: Option<Timestamp>,
    /// Too few replicas pass their check: the others that take connections are sent requests as well.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub serves_unready: bool,
    /// It was taken out of the declaration, and goes once what takes its place answers.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub leaves: bool,
    /// A mark that nothing automatic touches it.
    #[serde(default)]
    pub held: Option<HoldMark>,
    /// Releases that are kept however old they get, and who said so.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub kept: BTreeMap<ReleaseNumber, Origin>,
}

impl Workload {
    /// By which rule the number of its replicas follows the load now.
    pub fn grows_by(&self) -> Option<&Growth> {
        self.growing.as_ref().filter(|growing| growing.by_hand.is_none()).map(|growing| &growing.rule)
    }

    /// Whether it has no replica because nobody asks, and gets one when somebody does.
    pub fn is_asleep(&self) -> bool {
        self.wanted == 0 && self.grows_by().is_some_and(|growth| growth.max > 0)
    }
}

/// Why nothing automatic touches a thing, and who said so.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HoldMark {
    /// The reason that was given.
    pub because: String,
    /// By whom and when.
    pub origin: Origin,
}

/// One immutable snapshot of a workload.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Release {
    /// Of which workload.
    pub workload: Target,
    /// Which one.
    pub number: ReleaseNumber,
    /// Everything about how a copy runs.
    pub spec: ReleaseSpec,
    /// The digest of the image's manifest; `None` when the store had no such image.
    pub digest: Option<String>,
    /// The versions that its secrets stood for, where it does not name them itself.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub secrets: BTreeMap<Name, u32>,
    /// The earlier release that this one equals, after going back.
    pub same_as: Option<ReleaseNumber>,
    /// By service: the names of its own ports that the service's ports led to, until the service changed.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub bound: BTreeMap<Name, BTreeMap<u16, Name>>,
    /// The member or part that caused it.
    pub origin: Origin,
}

impl Release {
    /// Whether replicas of both run the same: image, settings, secrets and all else that is declared.
    pub fn runs_the_same_as(&self, other: &Release) -> bool {
        (&self.digest, &self.spec, &self.secrets) == (&other.digest, &other.spec, &other.secrets)
    }

    /// Which version of a secret it uses here; `None` where it was made without one.
    pub fn version_of(&self, used: &SecretUse) -> Option<SecretKey> {
        used.key(&self.secrets)
    }

    /// Every version of a secret that it uses.
    pub fn secret_keys(&self) -> BTreeSet<SecretKey> {
        self.spec.secret_uses().filter_map(|used| self.version_of(used)).collect()
    }
}

/// One running copy of a release.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Replica {
    /// Its name.
    pub id: ReplicaId,
    /// The release that it runs.
    pub release: ReleaseNumber,
    /// The node it runs on.
    pub node: Option<Name>,
    /// Its address on that node.
    pub address: Option<Ipv4Addr>,
    /// How it is.
    pub state: ReplicaState,
    /// Why it is not well.
    pub reason: Option<Reason>,
    /// Since when it is in this state.
    pub since: Timestamp,
    /// When it was made.
    pub created: Timestamp,
    /// How long its process took to be ready, as its node measured it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ready_after: Option<super::Span>,
    /// How often its process was started again.
    pub restarts: u32,
    /// The digest of what its node really started ([`crate::launch_fingerprint`]).
    #[serde(default)]
    pub started: Option<String>,
    /// Set where it is no copy that serves, but the one run of the release's `run_first`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub once: Option<Once>,
    /// Set where it is out of service for study.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub aside: Option<Aside>,
    /// Set where files of it were changed while it runs: it is no longer what its release says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed: Option<LiveChange>,
    /// Not ready, though it takes connections.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub takes_connections: bool,
    /// Whether its stop was ordered; only a replica that left every table may be stopped.
    pub stopping: bool,
}

/// Files of a running replica that are no longer those of its image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LiveChange {
    /// How many files were written or removed since it was started; 0 while that goes on, or where its node did not tell.
    pub files: u32,
    /// Who changed them last.
    pub origin: Origin,
}

impl LiveChange {
    /// "3 files were changed live by mira at …": why the replica is not what its release says.
    pub fn words(&self) -> String {
        let what = match self.files {
            0 => "files may have been".to_owned(),
            1 => "1 file was".to_owned(),
            files => format!("{files} files were"),
        };
        format!("{what} changed live by {} at {:.0}", self.origin.by, self.origin.at)
    }
}

/// Until when a replica stays out of service, and who said so.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Aside {
    /// Then it ends.
    pub until: Timestamp,
    /// By whom.
    pub origin: Origin,
}

/// A command that runs once.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub struct Once {
    /// The life of the agent that it was handed to. Another one begins it only where it finds the order and that it was
    /// not begun.
    #[serde(rename = "life")]
    pub incarnation: Option<u64>,
}

/// A stable name and address in front of replicas.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Service {
    /// Its environment and name.
    pub target: Target,
    /// The application it is declared with.
    pub application: Name,
    /// The declaration.
    #[serde(flatten)]
    pub spec: ServiceSpec,
    /// Its address inside.
    pub address: Ipv4Addr,
    /// Workloads with releases that it led to before it changed ([`Release::bound`]).
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub bound: BTreeSet<Name>,
    /// It was taken out of the declaration, and goes once what takes its place answers.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub leaves: bool,
    /// The member or source that declared it.
    pub origin: Origin,
}

/// A way in from outside: a host, or a port of the gateway.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Route {
    /// Its environment and name.
    pub target: Target,
    /// The application it is declared with.
    pub application: Name,
    /// The declaration; its host is always there, unless it takes a port.
    #[serde(flatten)]
    pub spec: RouteSpec,
    /// Its former target, which serves until every service of the new target answers.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub stand_in: Vec<Leg>,
    /// The member or source that declared it.
    pub origin: Origin,
}

/// An image in the store.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ImageRecord {
    /// Its name.
    pub image: ImageRef,
    /// The digest of its manifest.
    pub digest: String,
    /// Of its layers, as stored.
    pub size: u64,
    /// How many layers.
    pub layers: u32,
    /// The member who added it.
    pub origin: Origin,
    /// The digest that its tag named in a registry outside: the image's own, or that of a list.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub named: Option<String>,
    /// Public keys whose signatures of it were looked at and are right.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub signed_by: BTreeSet<String>,
}

/// A machine that runs replicas.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Node {
    /// Its name.
    pub name: Name,
    /// Processors it has.
    pub cpu: Cpu,
    /// Memory it has.
    pub memory: Bytes,
    /// The addresses of its replicas.
    #[serde(default)]
    pub range: Range,
    /// When its agent last reported.
    pub heard: Timestamp,
}

impl Node {
    /// Whether the kernel keeps its replicas apart from each other and from the machine.
    pub fn isolates(&self) -> bool {
        self.range.is_private()
    }
}

/// A gateway that may hold requests: the control that decides next must know that it waits for it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Gateway {
    /// Its name.
    pub name: String,
    /// Ports of routes that it cannot listen on, and why.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub closed_ports: BTreeMap<u16, String>,
}
