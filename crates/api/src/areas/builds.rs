//! Builds of images from code.

use mainyard_builds::{BuildEvent, BuildView};
use mainyard_core::link::{StepEnd, StepLine};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::operation::{
    JsonAnswer, JsonBody, LineAnswer, NoBody, NoContent, NodeAgent, Person, StreamBody, operations,
};
use crate::{AnyQuery, BuildsQuery, Limits, NewBuildQuery, NoPath, NoQuery, OfBuild, OfStep};

/// Largest archive of code that is taken, and largest layer of a step, in bytes.
pub const TREE_LIMIT: u64 = 2 << 30;
const LAYER_LIMIT: u64 = 64 << 30;

operations! {
    /// Lists builds, the newest first.
    ListBuilds: Get "/api/v1/builds" {
        caller: Person, path: NoPath, query: BuildsQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<BuildView>>, problems: [],
    }
    /// Builds an image from code: a tar archive of a tree with a recipe in it. The build goes on when nobody follows it.
    StartBuild: Post "/api/v1/builds" {
        caller: Person, path: NoPath, query: NewBuildQuery, body: StreamBody, limits: Limits::streamed(TREE_LIMIT),
        answer: JsonAnswer<StartedBuild>, problems: [NoSpace],
    }
    /// Returns a build.
    ShowBuild: Get "/api/v1/builds/{build}" {
        caller: Person, path: OfBuild, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<BuildView>, problems: [NotFound],
    }
    /// Follows a build: how it stands, and each line of its steps from the first on, until it has ended.
    FollowBuild: Get "/api/v1/builds/{build}/events" {
        caller: Person, path: OfBuild, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: LineAnswer<BuildEvent>, problems: [NotFound],
    }
    /// Ends a build. Layers that it made are used by the next one.
    CancelBuild: Post "/api/v1/builds/{build}/cancel" {
        caller: Person, path: OfBuild, query: NoQuery, body: NoBody, limits: Limits::SMALL,
        answer: JsonAnswer<BuildView>, problems: [NotFound, Conflict],
    }
    /// Takes lines that a step wrote on a node.
    ReportStepLines: Post "/api/v1/link/nodes/{node}/builds/{build}/steps/{step}/log" {
        caller: NodeAgent, path: OfStep, query: AnyQuery, body: JsonBody<Vec<StepLine>>, limits: Limits::bytes(64 << 20),
        answer: NoContent, problems: [NotFound],
    }
    /// Takes the layer that a step made: a tar archive, not compressed.
    SendStepLayer: Post "/api/v1/link/nodes/{node}/builds/{build}/steps/{step}/layer" {
        caller: NodeAgent, path: OfStep, query: AnyQuery, body: StreamBody, limits: Limits::streamed(LAYER_LIMIT),
        answer: NoContent, problems: [NotFound, NoSpace],
    }
    /// Takes how a step ended.
    ReportStepEnd: Post "/api/v1/link/nodes/{node}/builds/{build}/steps/{step}/end" {
        caller: NodeAgent, path: OfStep, query: AnyQuery, body: JsonBody<StepEnd>, limits: Limits::SMALL,
        answer: NoContent, problems: [NotFound],
    }
}

/// A build that was asked for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct StartedBuild {
    /// The build; its number is 0 where it was only looked at.
    pub build: BuildView,
    /// Files that differ from the code of the build before, each as `+ path`, `~ path` or `- path`.
    pub changed: Vec<String>,
    /// No image of this repository was built before.
    pub is_first: bool,
}
