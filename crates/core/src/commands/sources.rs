//! Commands on sources, and what the look at a repository found.

use std::collections::BTreeSet;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, changed_workloads, outcome_of};
use crate::cluster::{Looked, NewSource, Refusal, Transaction};
use crate::declare::ChangeLine;
use crate::manifest::Declared;
use crate::model::{Commit, FollowRule, SourceBuilds, Target};

/// Follows a folder of a repository.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AddSource {
    /// Its name here.
    pub source: Target,
    /// The repository and branch it follows.
    pub new: NewSource,
}

/// A source was added.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SourceAdded {
    /// Which one, as `environment/name`.
    pub source: String,
}

impl CommandKind for AddSource {
    type Outcome = SourceAdded;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<SourceAdded, Refusal> {
        transaction.add_source(&self.source, self.new.clone())?;
        Ok(SourceAdded { source: self.source.to_string() })
    }

    outcome_of!(AddSource);
}

/// Changes how a source is followed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ChangeSource {
    /// Which one.
    pub source: Target,
    /// The whole rule.
    pub rule: FollowRule,
}

/// How a source is followed now.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SourceChanged {
    /// The whole rule.
    pub rule: FollowRule,
}

impl CommandKind for ChangeSource {
    type Outcome = SourceChanged;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<SourceChanged, Refusal> {
        transaction.change_source(&self.source, self.rule.clone())?;
        Ok(SourceChanged { rule: self.rule.clone() })
    }

    outcome_of!(ChangeSource);
}

/// Follows a source no longer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveSource {
    /// Which one.
    pub source: Target,
}

/// A source is no longer followed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SourceRemoved {
    /// The objects that it declared and that are still there, in words.
    pub stays: Vec<String>,
}

impl CommandKind for RemoveSource {
    type Outcome = SourceRemoved;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<SourceRemoved, Refusal> {
        Ok(SourceRemoved { stays: transaction.remove_source(&self.source)? })
    }

    outcome_of!(RemoveSource);
}

/// Makes the environment like a commit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CatchUp {
    /// Which source.
    pub source: Target,
    /// The commit.
    pub commit: Commit,
    /// Its declaration.
    pub declared: Arc<Declared>,
    /// Also remove what Git no longer declares.
    pub remove: bool,
}

/// The changes of a commit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct CaughtUp {
    /// The commit.
    pub commit: Commit,
    /// The changes that were made, or would be.
    pub changes: Vec<ChangeLine>,
}

impl CommandKind for CatchUp {
    type Outcome = CaughtUp;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<CaughtUp, Refusal> {
        let given = Some((self.commit.clone(), Arc::clone(&self.declared)));
        let changes = transaction.catch_up(&self.source, given, self.remove)?;
        Ok(CaughtUp { commit: self.commit.clone(), changes })
    }

    fn moved(&self, outcome: &CaughtUp) -> BTreeSet<Target> {
        changed_workloads(&outcome.changes, &self.source.environment)
    }

    outcome_of!(CatchUp);
}

/// Holds a source: it changes nothing until it is resumed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HoldSource {
    /// Which one.
    pub source: Target,
    /// Why.
    pub because: String,
}

/// A source is held.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SourceHeld {
    /// The effect, in words.
    pub words: String,
}

impl CommandKind for HoldSource {
    type Outcome = SourceHeld;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<SourceHeld, Refusal> {
        Ok(SourceHeld { words: transaction.hold_source(&self.source, &self.because)? })
    }

    outcome_of!(HoldSource);
}

/// Ends a hold: what was left alone follows Git again.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ResumeSource {
    /// Which one.
    pub source: Target,
}

/// A source goes on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SourceResumed {
    /// The work that continues, in words.
    pub words: Vec<String>,
}

impl CommandKind for ResumeSource {
    type Outcome = SourceResumed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<SourceResumed, Refusal> {
        Ok(SourceResumed { words: transaction.resume_source(&self.source)? })
    }

    outcome_of!(ResumeSource);
}

/// Notes what the look at a repository found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NoteLook {
    /// Of which source.
    pub source: Target,
    /// The result of the look.
    pub looked: Looked,
}

/// Commits that a source needs, whose declarations have not been read yet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct UnknownCommits {
    /// Their ids.
    pub commits: BTreeSet<String>,
}

impl CommandKind for NoteLook {
    type Outcome = UnknownCommits;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<UnknownCommits, Refusal> {
        transaction.repository_read(&self.source, self.looked.clone());
        Ok(UnknownCommits { commits: transaction.unknown_commits(&self.source) })
    }

    outcome_of!(NoteLook);
}

/// Notes what an earlier commit declares.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NoteDeclared {
    /// Of which source.
    pub source: Target,
    /// The commit's id.
    pub commit: String,
    /// Its declaration.
    pub declared: Arc<Declared>,
}

impl CommandKind for NoteDeclared {
    type Outcome = UnknownCommits;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<UnknownCommits, Refusal> {
        transaction.declaration_read(&self.source, &self.commit, Arc::clone(&self.declared));
        Ok(UnknownCommits { commits: transaction.unknown_commits(&self.source) })
    }

    outcome_of!(NoteDeclared);
}

/// Notes how the builds of a source's commit stand.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NoteBuilds {
    /// Of which source.
    pub source: Target,
    /// The builds.
    pub builds: SourceBuilds,
}

/// How builds stand was noted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BuildsNoted {}

impl CommandKind for NoteBuilds {
    type Outcome = BuildsNoted;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<BuildsNoted, Refusal> {
        transaction.note_builds(&self.source, self.builds.clone())?;
        Ok(BuildsNoted {})
    }

    outcome_of!(NoteBuilds);
}
