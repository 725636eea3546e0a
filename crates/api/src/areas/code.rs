//! Repositories of code that are pushed to.

use mainyard_builds::CodeRepository;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::operation::{JsonAnswer, JsonBody, NoBody, NoContent, Person, operations};
use crate::{Limits, NoPath, NoQuery, OfSkeleton, OfTarget, SkeletonQuery};

operations! {
    /// Lists the repositories of code that are pushed to.
    ListCode: Get "/api/v1/code" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<CodeView>>, problems: [],
    }
    /// Returns a repository of code, and how its newest commit fares.
    ShowCode: Get "/api/v1/environments/{environment}/code/{name}" {
        caller: Person, path: OfTarget, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<CodeView>, problems: [NotFound],
    }
    /// Returns the files of code to begin with, of a kind and under a name.
    PreviewCode: Get "/api/v1/skeletons/{like}" {
        caller: Person, path: OfSkeleton, query: SkeletonQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Skeleton>, problems: [NotFound],
    }
    /// Makes a repository of code to begin with, builds it and rolls it out.
    MakeCode: Post "/api/v1/environments/{environment}/code/{name}" {
        caller: Person, path: OfTarget, query: NoQuery, body: JsonBody<NewCode>, limits: Limits::SMALL,
        answer: JsonAnswer<CodeView>, problems: [NotFound, Conflict],
        example: r#"{"like": "python"}"#,
    }
    /// Removes a repository of code with its history. What it declared stays.
    RemoveCode: Delete "/api/v1/environments/{environment}/code/{name}" {
        caller: Person, path: OfTarget, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: NoContent, problems: [NotFound],
    }
}

/// Code to begin with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Skeleton {
    /// The kinds that there are.
    pub kinds: Vec<String>,
    /// The files.
    pub files: Vec<SkeletonFile>,
    /// The command that makes the base of its recipe, where the store does not have it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub base_missing: Option<String>,
}

/// A file of code to begin with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SkeletonFile {
    /// Its path.
    pub path: String,
    /// Its content.
    pub text: String,
}

/// The code to be made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewCode {
    /// The kind: python, nodejs, rust, static-site or program.
    #[schemars(length(min = 1, max = 63))]
    pub like: String,
}

/// A repository of code.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CodeView {
    /// The repository.
    #[serde(flatten)]
    pub repository: CodeRepository,
    /// The path under the API's address that it is cloned from and pushed to.
    pub path: String,
    /// Its address over ssh, where code is reached by it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ssh: Option<String>,
    /// Where visitors reach what its newest commit declares.
    pub addresses: Vec<String>,
}
