//! Why a command is refused: nothing was changed then.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Why an act was not done; nothing was changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error, JsonSchema)]
#[error("{message}")]
pub struct Refusal {
    /// The kind of refusal.
    pub kind: RefusalKind,
    /// The reason, and how to fix it.
    pub message: String,
}

/// Kinds of refusals.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RefusalKind {
    /// It names something that is not there.
    NotFound,
    /// It cannot be done as things are.
    Conflict,
    /// It is not valid.
    Invalid,
}

impl Refusal {
    pub(super) fn new<T>(kind: RefusalKind, message: impl Into<String>) -> Result<T, Refusal> {
        Err(Refusal { kind, message: message.into() })
    }
}
