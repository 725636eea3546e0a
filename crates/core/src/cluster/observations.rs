//! State that is known from Git, and is not in the record.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::manifest::{Declared, Problem};
use crate::model::{Commit, Target};

/// The declarations of commits, by source and commit: known from Git, not from the record.
pub type Declarations = BTreeMap<(Target, String), Arc<Declared>>;

/// The result of a look at a repository.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Looked {
    /// It was read.
    Read {
        /// The newest commit.
        commit: Commit,
        /// It and those before it, the newest first.
        commits: Vec<Commit>,
        /// Its declaration, or everything that is wrong.
        declared: Result<Arc<Declared>, Vec<Problem>>,
    },
    /// It was read, and holds code.
    Code {
        /// The newest commit.
        commit: Commit,
        /// It and those before it, the newest first.
        commits: Vec<Commit>,
    },
    /// It could not be reached or read.
    Failed(String),
}

/// State known from Git, and the sources that have to be looked at again.
#[derive(Debug, Clone, Default)]
pub(super) struct Observations {
    declared: Declarations,
    to_follow: BTreeSet<Target>,
}

impl Observations {
    /// A commit of a source declares this. Gives whether that is news.
    pub(super) fn note(&mut self, source: &Target, commit: &str, declared: Arc<Declared>) -> bool {
        self.declared.insert((source.clone(), commit.to_owned()), declared).is_none()
    }

    /// The declaration of a source's commit, if it is known.
    pub(super) fn declared(&self, source: &Target, commit: &str) -> Option<&Arc<Declared>> {
        self.declared.get(&(source.clone(), commit.to_owned()))
    }

    /// All that is known from Git.
    #[cfg(test)]
    pub(super) fn declarations(&self) -> &Declarations {
        &self.declared
    }

    /// Keeps of a source only what these commits declare.
    pub(super) fn keep_only(&mut self, source: &Target, commits: &BTreeSet<&String>) {
        self.declared.retain(|(of, commit), _| of != source || commits.contains(commit));
    }

    /// A source has to be looked at again.
    pub(super) fn follow(&mut self, source: &Target) {
        self.to_follow.insert(source.clone());
    }

    /// Takes the sources that have to be looked at again.
    pub(super) fn take(&mut self) -> BTreeSet<Target> {
        std::mem::take(&mut self.to_follow)
    }
}
