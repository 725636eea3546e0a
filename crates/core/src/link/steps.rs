//! Steps of builds: what a node is told to run, and what it tells of it.

use std::collections::BTreeMap;
use std::fmt;
use std::net::Ipv4Addr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Limits, Name, OutgoingRule, SecretValue, Span, Target};

/// A step of a build, as `BUILD.STEP`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
pub struct StepId {
    /// The number of the build.
    pub build: u64,
    /// The number of the step in it, from 0.
    pub step: u32,
}

impl fmt::Display for StepId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.build, self.step)
    }
}

/// A command that a node runs on top of layers; what it writes becomes a layer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct StepOrder {
    /// Which step.
    pub id: StepId,
    /// The key of its layer: what was begun under another one is of no use.
    pub key: String,
    /// The repository of the image, to which its caches belong.
    pub repository: String,
    /// The layers below, the lowest first.
    pub layers: Vec<StepLayer>,
    /// Program and arguments.
    pub command: Vec<String>,
    /// `KEY=value` pairs.
    pub env: Vec<String>,
    /// The working directory.
    pub folder: String,
    /// The user, by name or number; empty for root.
    pub user: String,
    /// Folders that outlive the build, by name.
    pub caches: BTreeMap<Name, String>,
    /// Files with secrets: paths and contents.
    pub secrets: Vec<(String, SecretValue)>,
    /// Its address, where it reaches something outside; without one it has no network.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<Ipv4Addr>,
    /// The limits that the kernel enforces.
    pub limits: Limits,
    /// How long it may take.
    pub time: Span,
}

/// A step that reaches something outside, as gateways have it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StepCaller {
    /// Its address.
    pub address: Ipv4Addr,
    /// What its connections are counted under.
    pub counted_as: Target,
    /// What it may reach.
    pub rules: Vec<OutgoingRule>,
}

/// A layer below a step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StepLayer {
    /// The digest of its blob.
    pub digest: String,
    /// The blob's length.
    pub size: u64,
    /// The digest of what it unpacks to.
    pub diff_id: String,
}

/// How a step ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct StepEnd {
    /// The key that it was ordered with.
    pub key: String,
    /// What came of it.
    pub outcome: StepOutcome,
}

/// What came of a step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StepOutcome {
    /// The command ended with 0; its layer was sent before.
    Made {
        /// The digest of the layer.
        digest: String,
        /// Its length.
        size: u64,
    },
    /// The command ended otherwise.
    Ended {
        /// Its status.
        code: Option<i32>,
        /// Or the signal that ended it.
        signal: Option<i32>,
        /// Whether the kernel ended a process of it for memory.
        out_of_memory: bool,
        /// Whether it wrote as much as it may.
        disk_full: bool,
        /// Whether its time was over.
        too_long: bool,
    },
    /// It could not be started.
    CannotStart(String),
    /// What it wrote cannot be a layer.
    BadLayer(String),
    /// This node cannot run steps.
    NotHere(String),
}

/// A line that a step wrote.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StepLine {
    /// The number of the line in the step, from 0.
    pub number: u64,
    /// Microseconds since 1970 UTC.
    pub at: u64,
    /// `o` standard output, `e` standard error, `k` the platform.
    pub source: char,
    /// The line without its line feed.
    pub text: String,
}
