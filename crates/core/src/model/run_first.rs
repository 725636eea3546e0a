//! The command that a release runs once before it serves.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Name, Origin};

/// How the command of a release that runs before it serves stands. It is begun at most once.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FirstRun {
    /// How it stands.
    pub state: FirstState,
    /// When it was seen to run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub began: Option<Timestamp>,
    /// When its end was told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<Timestamp>,
    /// The node it ran on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub node: Option<Name>,
    /// How it ended, such as `exit code 3`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub how: String,
    /// The member who continued the release without it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waived: Option<Origin>,
}

/// How it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FirstState {
    /// It is to be begun.
    Due,
    /// It was handed to a node.
    Running,
    /// It ended well.
    Passed,
    /// It ended otherwise, or could not be begun.
    Failed,
    /// It may have run; its outcome is unknown.
    Unknown,
    /// A person said that the release go on without it.
    Waived,
}

/// A node's report about its end.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FirstOutcome {
    /// Passed, failed or unknown.
    pub state: FirstState,
    /// How it ended.
    pub how: String,
}

impl FirstRun {
    /// One that is to be begun.
    pub fn due() -> FirstRun {
        FirstRun {
            state: FirstState::Due,
            began: None,
            ended: None,
            node: None,
            how: String::new(),
            waived: None,
        }
    }

    /// Whether the release must wait for it.
    pub fn holds_back(&self) -> bool {
        !matches!(self.state, FirstState::Passed | FirstState::Waived)
    }

    /// It ended, or will not be begun any more.
    pub fn end(&mut self, outcome: FirstOutcome, now: Timestamp) {
        (self.state, self.how, self.ended) = (outcome.state, outcome.how, Some(now));
    }

    /// How it stands, in words that follow the command.
    pub fn words(&self) -> String {
        let node = self.node.as_ref().map_or(String::new(), |node| format!(" on {node}"));
        let took = self.began.zip(self.ended).map_or(String::new(), |(began, ended)| {
            format!(" after {:.1} s", ended.duration_since(began).as_secs_f64())
        });
        let by = self.waived.as_ref().map_or(String::new(), |origin| format!(" by {}", origin.by));
        match self.state {
            FirstState::Due if self.how.is_empty() => "waits to start".to_owned(),
            FirstState::Due => format!("waits to start: it {}", self.how),
            FirstState::Running if self.began.is_none() => format!("is being begun{node}"),
            FirstState::Running => format!("runs{node}"),
            FirstState::Passed => format!("ended well{node}{took}"),
            FirstState::Failed => format!("failed{node}{took}: {}", self.how),
            FirstState::Unknown => format!("may have run{node}, and its outcome is unknown: {}", self.how),
            FirstState::Waived => format!("was skipped{by}, although it {}", self.how),
        }
    }
}
