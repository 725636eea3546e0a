//! The rules of a workload's rollouts. They are not part of a release: they control the change and are not changed by it.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Span;

/// How a rollout moves.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct RolloutRule {
    /// In which manner replicas and requests move over.
    pub style: Style,
    /// Replicas above the wanted number while moving; a swap needs as many again as are wanted.
    pub may_exceed: u32,
    /// Replicas below the wanted number while moving.
    pub may_lack: u32,
    /// A replica counts after it stayed ready this long.
    pub settle: Span,
    /// How long the whole rollout, or one step of a stepped one, may take until its replicas count.
    pub deadline: Span,
    /// The rule for a release that fails.
    pub on_failure: OnFailure,
    /// Before any visitor: copies of requests go to the new release, and its answers are compared.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shadow: Option<Shadow>,
    /// The steps of a stepped rollout, before all requests go to the new release.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<Step>,
    /// How long the whole new set is watched with all requests before it is done. Where left out, not at all; of a swap
    /// for `settle`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub watch: Option<Span>,
    /// Of a swap: how long the old set stays beside the new one, so that going back is instant.
    pub keep_old: Span,
}

/// The manner of a rollout.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Style {
    /// One after the other; requests go to the replicas that are ready.
    #[default]
    Rolling,
    /// By exact shares of the requests, each watched before the next.
    Stepped,
    /// The new set complete beside the old one, then all requests at once.
    Swap,
}

/// The rule for a release that fails.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OnFailure {
    /// The one before takes over again.
    #[default]
    GoBack,
    /// Everything stays as it is until a person decides.
    Hold,
}

/// Copies of requests that may be repeated go to the new release; its answers are compared and thrown away.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Shadow {
    /// After so many copies the first visitors come.
    pub copies: u32,
    /// Or after this time, however few requests there were to copy.
    pub within: Span,
}

impl Default for Shadow {
    fn default() -> Shadow {
        Shadow { copies: 200, within: Span::from_secs(30) }
    }
}

/// One step of a stepped rollout: a part of the requests, and when the next step comes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Step {
    /// Of 100 requests so many.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<u32>,
    /// Or so many replicas, with the part of the requests that falls to them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u32>,
    /// The time until the next step, if nothing is wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch: Option<Span>,
    /// Or when a person says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub then: Option<Then>,
}

/// The action after a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Then {
    /// A person is asked.
    Ask,
}

impl Step {
    /// Of 1,000 requests so many, where this many replicas are wanted.
    pub fn per_mille(&self, wanted: usize) -> u32 {
        match (self.share, self.count) {
            (Some(share), _) => (share * 10).min(1000),
            (None, Some(count)) => (u64::from(count) * 1000 / wanted.max(1) as u64).min(1000) as u32,
            (None, None) => 1000,
        }
    }
}

impl std::fmt::Display for Step {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (self.share, self.count) {
            (Some(share), _) => write!(f, "{share} %")?,
            (None, Some(1)) => f.write_str("1 replica")?,
            (None, Some(count)) => write!(f, "{count} replicas")?,
            (None, None) => f.write_str("all")?,
        }
        match (self.watch, self.then) {
            (_, Some(Then::Ask)) => f.write_str(", then ask"),
            (Some(watch), None) => write!(f, " for {watch}"),
            (None, None) => Ok(()),
        }
    }
}

impl Default for RolloutRule {
    fn default() -> RolloutRule {
        RolloutRule {
            style: Style::Rolling,
            may_exceed: 1,
            may_lack: 0,
            settle: Span::from_secs(1),
            deadline: Span::from_secs(120),
            on_failure: OnFailure::GoBack,
            shadow: None,
            steps: Vec::new(),
            watch: None,
            keep_old: Span::from_secs(300),
        }
    }
}
