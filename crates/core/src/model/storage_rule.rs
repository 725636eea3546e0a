//! What a repository may keep in the image store, and which of its images go by themselves.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Bytes, Origin, Span};

/// Stands for every repository that has no rule of its own.
pub const EVERY_OTHER: &str = "*";

/// A rule for the images of a repository.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StorageRule {
    /// The repository, such as `lockers/locker-api`; `*` for all that have no rule of their own.
    pub repository: String,
    /// The bytes that its images may take up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<Bytes>,
    /// Which of its images go by themselves.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prune: Option<PruneSchedule>,
    /// When its images were last looked through.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pruned: Option<Timestamp>,
    /// The member who declared it.
    pub origin: Origin,
}

/// Images that go by themselves.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PruneSchedule {
    /// How many of a repository stay, the newest first.
    #[schemars(range(max = 10_000))]
    pub keep: u32,
    /// Only images that were added longer ago than this, in days.
    #[serde(default)]
    #[schemars(range(max = 10_000))]
    pub older_than: u32,
    /// How often they are looked through.
    pub every: Span,
}

impl StorageRule {
    /// Whether its images are to be looked through now.
    pub fn is_due(&self, now: Timestamp) -> bool {
        let last = self.pruned.unwrap_or(self.origin.at);
        self.prune.as_ref().is_some_and(|prune| now.duration_since(last) >= prune.every.signed())
    }

    /// "at most 20.0 GiB; of those older than 30 days the newest 10 stay, looked through every 24h".
    pub fn words(&self) -> String {
        let limit = self.limit.map(|limit| format!("at most {limit}"));
        let prune = self.prune.as_ref().map(|prune| {
            let age = match prune.older_than {
                0 => String::new(),
                1 => ", and what is younger than a day".to_owned(),
                days => format!(", and what is younger than {days} days"),
            };
            format!("the newest {} stay{age}, looked through every {}", prune.keep, prune.every)
        });
        let parts: Vec<String> = limit.into_iter().chain(prune).collect();
        if parts.is_empty() { "no limit".to_owned() } else { parts.join("; ") }
    }
}
