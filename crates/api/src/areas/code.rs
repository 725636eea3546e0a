//! Repositories of code that are pushed to.

use mainyard_builds::CodeRepository;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::operation::{JsonAnswer, NoBody, NoContent, Person, operations};
use crate::{Limits, NoPath, NoQuery, OfTarget};

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
    /// Removes a repository of code with its history. What it declared stays.
    RemoveCode: Delete "/api/v1/environments/{environment}/code/{name}" {
        caller: Person, path: OfTarget, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: NoContent, problems: [NotFound],
    }
}

/// A repository of code.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CodeView {
    /// The repository.
    #[serde(flatten)]
    pub repository: CodeRepository,
    /// The path under the API's address that it is cloned from and pushed to.
    pub path: String,
}
