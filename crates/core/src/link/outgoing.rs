//! What gateways tell of the way out: connections, names that were looked up, and a connection that was tried for
//! a person who asks.

use std::net::IpAddr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::Target;

/// The way out of all workloads, in a short while.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub struct OutgoingFigures {
    /// Connections, by workload and destination.
    pub connections: Vec<ConnectionFigure>,
    /// Names that were looked up, by workload.
    pub names: Vec<NameFigure>,
}

impl OutgoingFigures {
    /// Whether there is nothing to tell.
    pub fn is_empty(&self) -> bool {
        self.connections.is_empty() && self.names.is_empty()
    }
}

/// Connections of one workload to one destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ConnectionFigure {
    /// The workload.
    pub workload: Target,
    /// The name or address, and the port, such as `mail.example:25`.
    pub destination: String,
    /// The rule that allowed the last of them, where a rule did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    /// Connections that are open now.
    #[serde(default)]
    pub open: u32,
    /// Connections that were made.
    #[serde(default)]
    pub made: u64,
    /// Connections that no rule allows.
    #[serde(default)]
    pub refused: u64,
    /// Connections that could not be made.
    #[serde(default)]
    pub failed: u64,
    /// Bytes to the outside.
    #[serde(default)]
    pub sent: u64,
    /// Bytes from the outside.
    #[serde(default)]
    pub received: u64,
    /// Why the last one was not made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub says: Option<String>,
}

/// How looking a name up ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum NameOutcome {
    /// There were addresses, or other records that were asked for.
    Found,
    /// The name is known, and has nothing of the kind that was asked for.
    Nothing,
    /// The machine's resolvers know no such name.
    Unknown,
    /// No rule allows it; nobody was asked.
    Refused,
    /// The machine's resolvers gave no answer.
    Failed,
}

/// A name that one workload looked up.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct NameFigure {
    /// The workload.
    pub workload: Target,
    /// The name.
    pub name: String,
    /// How often it was asked for.
    pub asked: u64,
    /// How that ended the last time.
    pub outcome: NameOutcome,
    /// The addresses that were given the last time.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub addresses: Vec<IpAddr>,
}

/// What became of a connection to a destination outside that was tried for a person who asks.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct OutgoingAttempt {
    /// The addresses of its name, or its address.
    pub addresses: Vec<IpAddr>,
    /// The outcome.
    pub outcome: AttemptOutcome,
}

/// How it ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AttemptOutcome {
    /// The connection was taken.
    Answered {
        /// By this address.
        address: IpAddr,
        /// After so many microseconds.
        micros: u64,
    },
    /// Its name has no address.
    Unresolved {
        /// In the resolver's words.
        says: String,
    },
    /// Each of its addresses is one that no replica reaches.
    NeverReached,
    /// No address took the connection.
    Unreachable {
        /// In the machine's words.
        says: String,
    },
}
