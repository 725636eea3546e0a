//! Sources: folders of Git repositories that environments follow.

use mainyard_builds::BuildView;
use mainyard_core::cluster::NewSource;
use mainyard_core::commands::{
    CaughtUp, SourceAdded, SourceChanged, SourceHeld, SourceRemoved, SourceResumed,
};
use mainyard_core::git_plan::comparison::Row;
use mainyard_core::model::{Commit, Name, ReleaseNumber, RuleChange, Source};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Done;
use crate::operation::{Anyone, Created, JsonAnswer, JsonBody, NoBody, Person, RawBody, operations};
use crate::{AnyQuery, AsOf, Limits, NewHold, NoPath, NoQuery, OfTarget, Trial};

/// Largest body of a webhook, in bytes.
const PUSH_LIMIT: u64 = 1 << 20;

operations! {
    /// Lists all sources.
    ListSources: Get "/api/v1/sources" {
        caller: Person, path: NoPath, query: AsOf, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<Source>>, problems: [NotFound],
    }
    /// Shows one source.
    ShowSource: Get "/api/v1/environments/{environment}/sources/{name}" {
        caller: Person, path: OfTarget, query: AsOf, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Source>, problems: [NotFound],
    }
    /// Adds a source: follows a folder of a repository from now on, and looks at it at once.
    AddSource: Put "/api/v1/environments/{environment}/sources/{name}" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewSource>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<SourceFollowed>>, problems: [NotFound, Conflict],
        example: r#"{"url": "https://git.example/larkfield/lockers", "at": "main", "folder": "deploy"}"#,
    }
    /// Changes how a source is followed. Keys that are left out stay as they are.
    ChangeSource: Patch "/api/v1/environments/{environment}/sources/{name}" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<RuleChange>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<SourceChanged>>, problems: [NotFound, Conflict],
        example: r#"{"look_every": "30s"}"#,
    }
    /// Stops following a source; what it declared stays.
    RemoveSource: Delete "/api/v1/environments/{environment}/sources/{name}" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Done<SourceRemoved>>, problems: [NotFound, Conflict],
    }
    /// Looks at the repository now.
    LookAtSource: Post "/api/v1/environments/{environment}/sources/{name}/look" {
        caller: Person, path: OfTarget, query: NoQuery, body: NoBody, limits: Limits::SMALL,
        answer: JsonAnswer<LookOutcome>, problems: [NotFound],
    }
    /// Builds the code of a source at a commit, also at one that was built before.
    BuildSource: Post "/api/v1/environments/{environment}/sources/{name}/build" {
        caller: Person, path: OfTarget, query: NoQuery, body: JsonBody<NewSourceBuild>, limits: Limits::SMALL,
        answer: JsonAnswer<Vec<BuildView>>, problems: [NotFound, Conflict],
        example: r#"{"at": "4f2a9c1"}"#,
    }
    /// Compares what Git says, what is declared here, and what runs.
    CompareSource: Get "/api/v1/environments/{environment}/sources/{name}/compare" {
        caller: Person, path: OfTarget, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<SourceDifferences>, problems: [NotFound, Conflict],
    }
    /// Changes the environment so that it is as a commit declares it.
    CatchUpWithSource: Post "/api/v1/environments/{environment}/sources/{name}/catch-up" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewCatchUp>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<CaughtUp>>, problems: [NotFound, Conflict],
        example: r#"{"to": "4f2a9c1", "remove": false}"#,
    }
    /// Holds a source: it changes nothing until it is resumed.
    HoldSource: Post "/api/v1/environments/{environment}/sources/{name}/hold" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewHold>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<SourceHeld>>, problems: [NotFound, Conflict],
        example: r#"{"because": "stocktaking until noon"}"#,
    }
    /// Ends a hold: what was left alone follows Git again.
    ResumeSource: Post "/api/v1/environments/{environment}/sources/{name}/resume" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::SMALL,
        answer: JsonAnswer<Done<SourceResumed>>, problems: [NotFound, Conflict],
    }
    /// Writes the commit that would make Git agree with what is declared here, and pushes it where that is asked for.
    WriteBack: Post "/api/v1/environments/{environment}/sources/{name}/write-back" {
        caller: Person, path: OfTarget, query: NoQuery, body: JsonBody<NewWriteBack>, limits: Limits::SMALL,
        answer: JsonAnswer<WrittenCommit>, problems: [NotFound, Conflict],
        example: r#"{"push": false}"#,
    }
    /// Writes the commit with which Git declares in another environment what was tested here.
    PromoteInGit: Post "/api/v1/environments/{environment}/workloads/{name}/promote-in-git" {
        caller: Person, path: OfTarget, query: NoQuery, body: JsonBody<NewPromotionInGit>, limits: Limits::SMALL,
        answer: JsonAnswer<WrittenCommit>, problems: [NotFound, Conflict],
        example: r#"{"to": "production", "push": false}"#,
    }
    /// Told of a push by a forge, signed with HMAC-SHA256 (RFC 2104) over the body: looks at the source at once.
    ///
    /// A caller without a valid signature can't find out whether the source exists. The signature is in a header
    /// whose name ends in `-signature-256` or `-signature`, the delivery's id in one that ends in `-delivery`.
    TellOfPush: Post "/api/v1/pushes/{environment}/{name}" {
        caller: Anyone, path: OfTarget, query: AnyQuery, body: RawBody, limits: Limits::bytes(PUSH_LIMIT),
        answer: Created, problems: [NotSignedIn, AnotherDecides, RecordUnreachable],
    }
}

/// The result of a look at a repository: the newest commit, or why there is none.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LookOutcome {
    /// The newest commit.
    Commit(Commit),
    /// Why it could not be read.
    Failed(String),
}

/// A source is followed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SourceFollowed {
    /// Which one.
    #[serde(flatten)]
    pub added: SourceAdded,
    /// The result of the first look; absent in a forecast.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub looked: Option<LookOutcome>,
}

/// Differences between Git, the declared state and the running state.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SourceDifferences {
    /// The commit that is compared.
    pub commit: Commit,
    /// Field by field.
    pub rows: Vec<Row>,
}

/// To which commit, and how far.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewCatchUp {
    /// A commit, as its id or the beginning of it; the newest by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(max = 64))]
    pub to: Option<String>,
    /// Also remove what Git declares no longer.
    #[serde(default)]
    pub remove: bool,
}

/// Whether to push the commit, and as which branch.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewWriteBack {
    /// The branch; by default named after the environment and the commit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(max = 200))]
    pub branch: Option<String>,
    /// Push it.
    #[serde(default)]
    pub push: bool,
}

/// A promotion that is made as a commit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPromotionInGit {
    /// The environment that it goes to.
    pub to: Name,
    /// The branch; by default named after the environment and the commit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(max = 200))]
    pub branch: Option<String>,
    /// Push it.
    #[serde(default)]
    pub push: bool,
}

/// A commit that was written.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct WrittenCommit {
    /// The source whose repository it is in, as `environment/name`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// Its id; absent where nothing differs.
    pub commit: Option<String>,
    /// Its message.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// The change, as a unified difference.
    pub difference: String,
    /// The parts that the commit leaves out, in words.
    pub left: Vec<String>,
    /// The branch that it was pushed as.
    pub pushed: Option<String>,
    /// The release that was tested, of a promotion.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tested: Option<ReleaseNumber>,
}

/// The commit to be built.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSourceBuild {
    /// A commit that the source knows, by its first digits; the newest by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 4, max = 64))]
    pub at: Option<String>,
}
