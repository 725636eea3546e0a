//! The specification that a release freezes.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Bytes, Cpu, ImageRef, Name, OutgoingRule, SecretUse, Setting, Span};

/// Everything about how one copy of a workload runs. Any change of it makes a release.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ReleaseSpec {
    /// The image by name; the release records the digest it stood for.
    pub image: ImageRef,
    /// The image of this digest, whatever its name stands for by now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// Ports the process listens on, by name.
    #[serde(default)]
    pub ports: BTreeMap<Name, u16>,
    /// Labels for selectors.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    /// Values given to the process as environment variables.
    #[serde(default)]
    pub settings: BTreeMap<String, Setting>,
    /// Files put into the replica, by absolute path; each holds the value of a secret.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub files: BTreeMap<String, SecretUse>,
    /// The most that a replica may use.
    #[serde(default)]
    pub limits: Limits,
    /// Resources reserved for a replica on its node.
    #[serde(default)]
    pub reserve: Reserve,
    /// Instead of the image's own command.
    #[serde(default)]
    pub command: Option<Vec<String>>,
    /// Run once for each release, in its own surroundings, before it serves.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run_first: Option<Vec<String>>,
    /// How long that may take; then it is ended, and the release has failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run_first_within: Option<Span>,
    /// The root file system can only be read; `/tmp`, `/run`, `/dev/shm` and the image's volumes can be written.
    #[serde(default, skip_serializing_if = "is_false")]
    pub read_only: bool,
    /// Processes of the replica may trace each other (`ptrace`), as debuggers do.
    #[serde(default, skip_serializing_if = "is_false")]
    pub ptrace: bool,
    /// Destinations outside that a replica may reach, where its environment allows what is listed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub outgoing: Vec<OutgoingRule>,
    /// How a replica is stopped.
    #[serde(default)]
    pub stop: Stop,
    /// How a replica's health is checked.
    #[serde(default)]
    pub checks: Checks,
}

fn is_false(value: &bool) -> bool {
    !value
}

/// The limits of a replica: the kernel enforces them, and gateways those of requests.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Limits {
    /// Processor time.
    pub cpu: Cpu,
    /// Memory, files in memory included: those in `/dev/shm`, and in a `/tmp` of its own.
    pub memory: Bytes,
    /// What it writes to its root file system, on the node's disk.
    #[serde(skip_serializing_if = "Limits::is_usual_disk")]
    pub disk: Bytes,
    /// Files in `/dev/shm`, which are memory.
    #[serde(skip_serializing_if = "Limits::is_usual_shared_memory")]
    pub shared_memory: Bytes,
    /// The size of a `/tmp` in memory; without it, `/tmp` is part of the root file system.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tmp: Option<Bytes>,
    /// Processes and threads.
    pub processes: u32,
    /// Files that one process may have open.
    #[serde(skip_serializing_if = "Limits::are_usual_files")]
    pub open_files: u32,
    /// Lines of its log in a second, over some seconds; what is more is dropped and counted.
    #[serde(skip_serializing_if = "Limits::are_usual_lines")]
    pub log_lines: u32,
    /// Requests that it takes at once; without it, as many as keep it busy, which gateways find out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub requests: Option<u32>,
    /// Requests that wait in a gateway while it takes no more, at most; fewer where they would wait for too long.
    #[serde(skip_serializing_if = "Limits::is_usual_queue")]
    pub queue: u32,
    /// How long a request waits, at most.
    #[serde(skip_serializing_if = "Limits::is_usual_queue_time")]
    pub queue_time: Span,
}

impl Limits {
    /// Lines in a second where nobody says how many.
    const LOG_LINES: u32 = 1000;
    const DISK: Bytes = Bytes::mib(1024);
    const SHARED_MEMORY: Bytes = Bytes::mib(64);
    const OPEN_FILES: u32 = 65_536;
    const QUEUE: u32 = 1000;
    const QUEUE_TIME: Span = Span::from_secs(1);

    fn is_usual_queue(queue: &u32) -> bool {
        *queue == Limits::QUEUE
    }

    fn is_usual_queue_time(time: &Span) -> bool {
        *time == Limits::QUEUE_TIME
    }

    fn is_usual_disk(disk: &Bytes) -> bool {
        *disk == Limits::DISK
    }

    fn is_usual_shared_memory(size: &Bytes) -> bool {
        *size == Limits::SHARED_MEMORY
    }

    fn are_usual_files(files: &u32) -> bool {
        *files == Limits::OPEN_FILES
    }

    fn are_usual_lines(lines: &u32) -> bool {
        *lines == Limits::LOG_LINES
    }
}

impl Default for Limits {
    fn default() -> Limits {
        Limits {
            cpu: Cpu::from_milli(1000),
            memory: Bytes::mib(256),
            disk: Limits::DISK,
            shared_memory: Limits::SHARED_MEMORY,
            tmp: None,
            processes: 128,
            open_files: Limits::OPEN_FILES,
            log_lines: Limits::LOG_LINES,
            requests: None,
            queue: Limits::QUEUE,
            queue_time: Limits::QUEUE_TIME,
        }
    }
}

/// Room kept on the node.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Reserve {
    /// Processor time.
    pub cpu: Cpu,
    /// Memory.
    pub memory: Bytes,
}

impl Default for Reserve {
    fn default() -> Reserve {
        Reserve { cpu: Cpu::from_milli(10), memory: Bytes::mib(32) }
    }
}

/// How a replica is stopped: out of every table, then its open requests end, then it is asked, then killed.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Stop {
    /// How long open requests may take to end.
    pub drain: Span,
    /// How long the process may take to end after it was asked.
    pub grace: Span,
}

impl Default for Stop {
    fn default() -> Stop {
        Stop { drain: Span::from_secs(30), grace: Span::from_secs(10) }
    }
}

/// A workload's health checks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Checks {
    /// May it take requests?
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ready: Option<Check>,
    /// Should it be replaced?
    #[serde(skip_serializing_if = "Option::is_none")]
    pub alive: Option<Check>,
    /// How long the process may take until it listens where the ready check asks; by default, until the rollout's
    /// deadline.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub start_within: Option<Span>,
    /// The percentage of the wanted replicas that must pass their check for it to be believed. Where fewer do, the others that
    /// take connections are sent requests as well.
    #[serde(skip_serializing_if = "Checks::is_usual_enough")]
    pub enough: u32,
}

impl Checks {
    const ENOUGH: u32 = 50;

    fn is_usual_enough(enough: &u32) -> bool {
        *enough == Checks::ENOUGH
    }
}

impl Default for Checks {
    fn default() -> Checks {
        Checks { ready: None, alive: None, start_within: None, enough: Checks::ENOUGH }
    }
}

/// One check. Either `path` (an HTTP GET that must answer 200 to 399) or `connect` (a connection that must be
/// taken) is given.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Check {
    /// The path to get.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// The port's name for `path`; the only port where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<Name>,
    /// The port's name to connect to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connect: Option<Name>,
    /// The service to ask for by the gRPC health protocol; empty for the whole server.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grpc: Option<String>,
    /// How often, once it has succeeded.
    #[serde(default = "Check::default_every")]
    pub every: Span,
    /// How long one try may take.
    #[serde(default = "Check::default_within")]
    pub within: Span,
    /// Failures in a row that count.
    #[serde(default = "Check::default_after", skip_serializing_if = "Check::is_usual_after")]
    pub after: u32,
}

/// The request that a check makes, resolved to a port number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CheckKind {
    /// A GET of this path on this port.
    Http(String, u16),
    /// A connection to this port.
    Connect(u16),
    /// A call of the gRPC health protocol for this service on this port.
    Grpc(String, u16),
}

impl CheckKind {
    /// The port that it asks.
    pub fn port(&self) -> u16 {
        match self {
            CheckKind::Http(_, port) | CheckKind::Connect(port) | CheckKind::Grpc(_, port) => *port,
        }
    }
}

impl Check {
    fn default_every() -> Span {
        Span::from_secs(1)
    }
    fn default_within() -> Span {
        Span::from_secs(1)
    }
    fn default_after() -> u32 {
        3
    }
    fn is_usual_after(after: &u32) -> bool {
        *after == Check::default_after()
    }

    /// The check on a release's ports; `None` when the port it names is not declared.
    pub fn kind(&self, ports: &BTreeMap<Name, u16>) -> Option<CheckKind> {
        let port = match self.connect.as_ref().or(self.port.as_ref()) {
            Some(name) => *ports.get(name)?,
            None => *ports.values().next()?,
        };
        Some(match (&self.path, &self.grpc) {
            (Some(path), _) => CheckKind::Http(path.clone(), port),
            (None, Some(service)) => CheckKind::Grpc(service.clone(), port),
            (None, None) => CheckKind::Connect(port),
        })
    }
}

impl ReleaseSpec {
    /// How long the command that is run first may take.
    pub fn run_first_limit(&self) -> Span {
        self.run_first_within.unwrap_or(Span::from_secs(600))
    }

    /// Every use of a secret.
    pub fn secret_uses(&self) -> impl Iterator<Item = &SecretUse> {
        self.settings.values().filter_map(Setting::secret).chain(self.files.values())
    }

    /// The ready check in force: the declared one, or a connection to the first port. A workload without ports
    /// has none.
    pub fn ready_check(&self) -> Option<Check> {
        self.checks.ready.clone().or_else(|| {
            let first = self.ports.keys().next()?.clone();
            let (every, within) = (Check::default_every(), Check::default_within());
            let after = Check::default_after();
            Some(Check { path: None, port: None, connect: Some(first), grpc: None, every, within, after })
        })
    }
}
