//! A source: its line of commits with what came of each, what it leaves alone, and what may be done.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::workload::LeftAlone;
use crate::model::{Commit, Name, ReleaseNumber, RolloutState, Signal, Source, SourceState};
use crate::record::State;

/// How many commits are shown; the newest ones.
const COMMITS_SHOWN: usize = 8;

/// The view of a source, beside its own fields.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SourceView {
    /// How its state is shown.
    pub signal: Signal,
    /// Its newest commits, the newest first.
    pub commits: Vec<CommitView>,
    /// The objects it leaves alone, because a person changed them here.
    pub left_alone: Vec<LeftAlone>,
    /// The acts that are possible now.
    pub acts: BTreeSet<SourceAct>,
}

/// A commit, and what came of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CommitView {
    /// The commit itself.
    #[serde(flatten)]
    pub commit: Commit,
    /// Whether the environment has it: it stands there, or on a later one.
    pub taken: bool,
    /// The environments that follow the same folder and stand at it.
    pub stands: Vec<Name>,
    /// Whether it went back.
    pub went_back: bool,
    /// The releases that it made here.
    pub releases: Vec<CommitRelease>,
}

/// A release that a commit made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CommitRelease {
    /// Of which workload.
    pub workload: Name,
    /// Its number.
    pub release: ReleaseNumber,
    /// The state of its rollout, where it was rolled out.
    pub state: Option<RolloutState>,
    /// Whether it is the wanted one.
    pub wanted: bool,
}

/// Something that may be done to a source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SourceAct {
    /// Look for new commits at once.
    Look,
    /// Hold it.
    Hold,
    /// Lift the hold, or take up again what it leaves alone.
    Resume,
    /// Take the newest commit.
    CatchUp,
    /// Write what is declared here into Git.
    WriteBack,
}

impl SourceView {
    pub(super) fn of(state: &State, source: &Source) -> SourceView {
        let left = source.yields.iter().map(|it| LeftAlone {
            source: source.target.name.clone(),
            what: it.what.to_string(),
            origin: it.origin.clone(),
        });
        SourceView {
            signal: source.state.signal(),
            commits: commits(state, source),
            left_alone: left.collect(),
            acts: acts(source),
        }
    }
}

fn commits(state: &State, source: &Source) -> Vec<CommitView> {
    let environment = &source.target.environment;
    let shown = &source.commits[..source.commits.len().min(COMMITS_SHOWN)];
    let applied = |other: &Source| other.applied.as_ref().map(|commit| commit.id.clone());
    let stands_at = shown.iter().position(|commit| Some(&commit.id) == applied(source).as_ref());
    let alike = |other: &&Source| other.url == source.url && other.folder == source.folder;
    let view = |(place, commit): (usize, &Commit)| {
        let is_of = |other: &&Source| applied(other).as_ref() == Some(&commit.id);
        let followers = state.sources.values().filter(alike).filter(is_of);
        let made = state.releases.values().filter(|release| {
            release.workload.environment == *environment && release.origin.commit.as_ref() == Some(&commit.id)
        });
        let made = made.map(|release| CommitRelease {
            workload: release.workload.name.clone(),
            release: release.number,
            state: state.rollouts.get(&(release.workload.clone(), release.number)).map(|it| it.state),
            wanted: state.workloads.get(&release.workload).is_some_and(|it| it.release == release.number),
        });
        CommitView {
            commit: commit.clone(),
            taken: stands_at.is_some_and(|at| place >= at),
            stands: followers.map(|other| other.target.environment.clone()).collect(),
            went_back: source.set_back.as_ref().is_some_and(|back| back.commit == commit.id),
            releases: made.collect(),
        }
    };
    shown.iter().enumerate().map(view).collect()
}

fn acts(source: &Source) -> BTreeSet<SourceAct> {
    let mut acts = BTreeSet::from([SourceAct::Look]);
    if source.held.is_some() || source.set_back.is_some() || !source.yields.is_empty() {
        acts.insert(SourceAct::Resume);
    }
    if source.state == SourceState::Drifted || !source.yields.is_empty() {
        acts.insert(SourceAct::WriteBack);
    }
    if source.held.is_none() {
        acts.insert(SourceAct::Hold);
        if matches!(source.state, SourceState::Behind | SourceState::Drifted) {
            acts.insert(SourceAct::CatchUp);
        }
    }
    acts
}
