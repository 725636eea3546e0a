//! The two ways to run replicas, behind one face.

use std::net::Ipv4Addr;
use std::path::Path;
use std::process::Command;

use mainyard_core::address::Range;
use mainyard_core::model::Bytes;
use serde::{Deserialize, Serialize};

use crate::{DiskScratch, Error, Isolation, Listening, Plain, Reading, Run, listening, listening_below};

/// The isolation that a node reports for its replicas.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum IsolationMode {
    /// Isolated by the kernel, with control groups of this name.
    Isolated {
        /// Unique on the machine.
        groups: String,
    },
    /// Ordinary processes in a loopback range.
    Plain {
        /// Its own on the machine.
        range: Range,
    },
}

/// A node's way to run replicas.
pub enum Driver {
    /// In namespaces and control groups.
    Isolated(Box<Isolation>),
    /// As ordinary processes.
    Plain(Plain),
}

impl Driver {
    /// Prepares the node in `dir`.
    ///
    /// # Errors
    /// When the machine does not have what is needed; the error says what was being done.
    pub fn open(dir: &Path, means: &IsolationMode) -> Result<Driver, Error> {
        Ok(match means {
            IsolationMode::Isolated { groups } => Driver::Isolated(Box::new(Isolation::open(dir, groups)?)),
            IsolationMode::Plain { range } => Driver::Plain(Plain::open(dir, *range)?),
        })
    }

    /// Whether replicas are ordinary processes.
    pub fn is_plain(&self) -> bool {
        matches!(self, Driver::Plain(_))
    }

    /// The addresses of replicas.
    pub fn range(&self) -> Range {
        match self {
            Driver::Isolated(_) => Range::PRIVATE,
            Driver::Plain(plain) => plain.range(),
        }
    }

    /// The file that names the node's network namespace, where it has one.
    pub fn network(&self) -> Option<&Path> {
        match self {
            Driver::Isolated(isolation) => Some(isolation.network().file()),
            Driver::Plain(_) => None,
        }
    }

    /// The command that starts a keeper for this run; it tells its [`crate::Progress`] on standard output.
    pub fn command(&self, run: &Run) -> Result<Command, Error> {
        match self {
            Driver::Isolated(isolation) => isolation.command(run),
            Driver::Plain(plain) => plain.command(run),
        }
    }

    /// The kernel's counters of the replica now; `None` if there are none.
    pub fn reading(&self, name: &str) -> Option<Reading> {
        match self {
            Driver::Isolated(isolation) => {
                let written = self.written(name).map_or(0, Bytes::bytes);
                Some(Reading { disk: written, ..isolation.groups().reading(name)? })
            }
            Driver::Plain(_) => None,
        }
    }

    /// What the replica has written to its root file system; `None` where nothing counts it.
    pub fn written(&self, name: &str) -> Option<Bytes> {
        self.scratch()?.written(name)
    }

    /// The scratch on disk, where the node has one.
    pub fn scratch(&self) -> Option<&DiskScratch> {
        match self {
            Driver::Isolated(isolation) => isolation.scratch(),
            Driver::Plain(_) => None,
        }
    }

    /// How often the kernel killed a process of the replica for memory; `None` where nothing counts it.
    pub fn memory_kills(&self, name: &str) -> Option<u64> {
        match self {
            Driver::Isolated(isolation) => isolation.groups().memory_kills(name),
            Driver::Plain(_) => None,
        }
    }

    /// How often the kernel refused the replica another process or thread; `None` where nothing counts it.
    pub fn processes_refused(&self, name: &str) -> Option<u64> {
        match self {
            Driver::Isolated(isolation) => isolation.groups().processes_refused(name),
            Driver::Plain(_) => None,
        }
    }

    /// The ports on which the replica with this init and address listens.
    pub fn listening(&self, init: u32, address: Ipv4Addr) -> Listening {
        match self {
            Driver::Isolated(_) => listening(init),
            Driver::Plain(_) => listening_below(init, address),
        }
    }
}
