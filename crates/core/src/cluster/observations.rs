//! What is known from Git, and not from the record.

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::manifest::{Declared, Problem};
use crate::model::{Commit, Target};

/// What commits declare, by source and commit: known from Git, not from the record.
pub type Declarations = BTreeMap<(Target, String), Arc<Declared>>;

/// What came of looking at a repository.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Looked {
    /// It was read.
    Read {
        /// The newest commit.
        commit: Commit,
        /// It and those before it, the newest first.
        commits: Vec<Commit>,
        /// What it declares, or everything that is wrong.
        declared: Result<Arc<Declared>, Vec<Problem>>,
    },
    /// It could not be reached or read.
    Failed(String),
}
