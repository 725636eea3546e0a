//! Releases and the rollouts to them: made, taken back, steered and kept.

use std::collections::BTreeMap;

use jiff::Timestamp;
use mainyard_core::commands::{
    Advanced, Cancelled, Deployed, PromoteOutcome, ReleaseKept, Restarted, RolledBack,
};
use mainyard_core::model::{Bytes, Cpu, ImageRef, Name, ReleaseNumber, Setting};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Done;
use crate::operation::{JsonAnswer, JsonBody, NoBody, Person, operations};
use crate::{Limits, OfTarget, Trial};

operations! {
    /// Deploys: makes a release with another image, other settings or other limits, and rolls it out.
    DeployRelease: Post "/api/v1/environments/{environment}/workloads/{name}/deploy" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewDeploy>, limits: Limits::bytes(1 << 20),
        answer: JsonAnswer<Done<Deployed>>, problems: [NotFound, Conflict],
        example: r#"{"image": "lockers/locker-api:1.5.0", "settings": {"GREETING": "hello"}}"#,
    }
    /// Promotes the release that was tested here: makes it in another environment.
    PromoteRelease: Post "/api/v1/environments/{environment}/workloads/{name}/promote" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewPromotion>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<PromoteOutcome>>, problems: [NotFound, Conflict],
        example: r#"{"to": "production"}"#,
    }
    /// Goes back to an earlier release.
    RollBack: Post "/api/v1/environments/{environment}/workloads/{name}/rollback" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewRollback>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<RolledBack>>, problems: [NotFound, Conflict],
        example: r#"{"to": 3}"#,
    }
    /// Restarts a workload: fresh replicas of the same release take the place of those that run.
    RestartWorkload: Post "/api/v1/environments/{environment}/workloads/{name}/restart" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::SMALL,
        answer: JsonAnswer<Done<Restarted>>, problems: [NotFound, Conflict],
    }
    /// Lets a rollout go to its next step, or goes on despite what was found.
    AdvanceRollout: Post "/api/v1/environments/{environment}/workloads/{name}/advance" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::SMALL,
        answer: JsonAnswer<Done<Advanced>>, problems: [NotFound, Conflict],
    }
    /// Cancels the rollout that is under way: the previous release takes over again.
    CancelRollout: Post "/api/v1/environments/{environment}/workloads/{name}/cancel" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::SMALL,
        answer: JsonAnswer<Done<Cancelled>>, problems: [NotFound, Conflict],
    }
    /// Keeps a release however old it gets, or no longer.
    KeepRelease: Post "/api/v1/environments/{environment}/workloads/{name}/keep" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewKeep>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<ReleaseKept>>, problems: [NotFound, Conflict],
        example: r#"{"release": 3, "keep": true}"#,
    }
}

/// Changes to make to the present release.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDeploy {
    /// Another image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<ImageRef>,
    /// Settings to set: text, or `{"secret": "NAME"}`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub settings: BTreeMap<String, Setting>,
    /// Another limit of memory.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<Bytes>,
    /// Another limit of processors, from 0.01 to 1024.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cpu: Option<Cpu>,
}

/// The target of the promotion.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPromotion {
    /// The environment.
    pub to: Name,
}

/// The target of the rollback; if both are missing, the last good release that runs something else.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRollback {
    /// This release.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<ReleaseNumber>,
    /// Or the one that ran at this moment.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<Timestamp>,
}

/// Which release is kept.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewKeep {
    /// Which release.
    pub release: ReleaseNumber,
    /// Whether to keep it, or to keep it no longer.
    #[serde(default = "yes")]
    pub keep: bool,
}

fn yes() -> bool {
    true
}
