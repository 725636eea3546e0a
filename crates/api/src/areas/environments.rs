//! Environments, applications and declarations.

use mainyard_core::commands::{DeclareOutcome, EnvironmentAdded, EnvironmentChanged, Removed};
use mainyard_core::manifest::SourceFile;
use mainyard_core::model::{Environment, ImageRule, Name, OutgoingMode};
use mainyard_core::views::board::Board;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Done;
use crate::operation::{JsonAnswer, JsonBody, NoBody, Person, operations};
use crate::{AsOf, ExportQuery, Limits, NoPath, NoQuery, OfEnvironment, OfTarget, Trial};

/// Largest text of the files of a declaration, in bytes.
pub const DECLARATION_LIMIT: usize = 8 << 20;

operations! {
    /// Lists the environments.
    ListEnvironments: Get "/api/v1/environments" {
        caller: Person, path: NoPath, query: AsOf, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<Environment>>, problems: [NotFound],
    }
    /// Creates an environment.
    AddEnvironment: Post "/api/v1/environments" {
        caller: Person, path: NoPath, query: Trial, body: JsonBody<NewEnvironment>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<EnvironmentAdded>>, problems: [NotFound, Conflict],
        example: r#"{"name": "trial", "domain": "trial.lockers.localhost"}"#,
    }
    /// Has every gateway forget the answers that it keeps of a route.
    PurgeCache: Post "/api/v1/environments/{environment}/routes/{name}/purge" {
        caller: Person, path: OfTarget, query: NoQuery, body: JsonBody<NewPurge>, limits: Limits::SMALL,
        answer: JsonAnswer<Purged>, problems: [NotFound, Conflict],
        example: r#"{"path": "/pictures"}"#,
    }
    /// Says what the replicas of an environment may reach outside, what images run there, or both.
    ChangeEnvironment: Patch "/api/v1/environments/{environment}" {
        caller: Person, path: OfEnvironment, query: Trial, body: JsonBody<EnvironmentChange>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<EnvironmentChanged>>, problems: [NotFound, Conflict],
        example: r#"{"outgoing": "listed"}"#,
    }
    /// Removes an environment that holds nothing any more.
    RemoveEnvironment: Delete "/api/v1/environments/{environment}" {
        caller: Person, path: OfEnvironment, query: Trial, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Done<Removed>>, problems: [NotFound, Conflict],
    }
    /// Returns the board: a row for each workload, and what needs a person.
    ShowBoard: Get "/api/v1/environments/{environment}/board" {
        caller: Person, path: OfEnvironment, query: AsOf, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Board>, problems: [NotFound],
    }
    /// Returns files that declare what is here, one for each application.
    ExportEnvironment: Get "/api/v1/environments/{environment}/export" {
        caller: Person, path: OfEnvironment, query: ExportQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Exported>, problems: [NotFound],
    }
    /// Removes all that an application declared.
    RemoveApplication: Delete "/api/v1/environments/{environment}/applications/{name}" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Done<Removed>>, problems: [NotFound, Conflict],
    }
    /// Declares files: changes what differs from them in an environment.
    Declare: Post "/api/v1/declare" {
        caller: Person, path: NoPath, query: Trial, body: JsonBody<Declaration>,
        limits: Limits::bytes(2 * DECLARATION_LIMIT as u64),
        answer: JsonAnswer<Done<DeclareOutcome>>, problems: [NotFound, Conflict],
        example: r#"{"environment": "staging", "files": [{"name": "mainyard.toml", "text": "application = \"lockers\"\n"}]}"#,
    }
}

/// An environment that is to be made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewEnvironment {
    /// Its name.
    pub name: Name,
    /// The domain of routes that name no host in full; `NAME.localhost` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(max = 253))]
    pub domain: Option<String>,
    /// What its replicas may reach outside; what workloads list by default.
    #[serde(default, skip_serializing_if = "OutgoingMode::is_usual")]
    pub outgoing: OutgoingMode,
}

/// The answers that are to be forgotten.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPurge {
    /// The path, as visitors write it, with everything below it.
    #[serde(default = "NewPurge::everything")]
    #[schemars(length(min = 1, max = 2000))]
    pub path: String,
}

impl NewPurge {
    fn everything() -> String {
        "/".to_owned()
    }
}

/// The answers that were forgotten.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Purged {
    /// How many there were, in all gateways.
    pub answers: u64,
    /// How many gateways told so.
    pub gateways: u32,
    /// Gateways that did not tell in time.
    pub silent: u32,
}

/// What changes of an environment.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EnvironmentChange {
    /// What its replicas may reach outside, where that changes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outgoing: Option<OutgoingMode>,
    /// What images run there, where that changes; any, where no key is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image_rule: Option<ImageRule>,
    /// Whether files of running replicas may be changed there without a build, where that changes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub live_changes: Option<bool>,
}

/// Files that declare what is there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Exported {
    /// One for each application.
    pub files: Vec<SourceFile>,
}

/// The files to declare.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Declaration {
    /// For which environment.
    pub environment: Name,
    /// The files.
    #[schemars(length(max = 1000))]
    pub files: Vec<SourceFile>,
    /// Also remove what the application no longer declares.
    #[serde(default)]
    pub exact: bool,
    /// The name that the application has here, where it is not its own.
    #[serde(default, rename = "as", skip_serializing_if = "Option::is_none")]
    pub named: Option<Name>,
}
