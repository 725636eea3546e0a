//! One build: what was asked, how far it is, and how it ended.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use mainyard_core::model::{ImageRef, Name};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::Recipe;
use crate::recipe::Part;

/// Lines of a failed step that its fault shows.
pub const LAST_LINES: usize = 20;

/// A build.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Build {
    /// Its number on this platform.
    pub number: u64,
    /// The image that it makes.
    pub image: ImageRef,
    /// The member who asked for it.
    pub by: String,
    /// The way that the code came.
    pub way: Way,
    /// The commit that it is of, where it is of one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commit: Option<Commit>,
    /// The digest of the code's archive.
    pub tree: String,
    /// The folder of the tree that has the recipe; empty for its top.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub folder: String,
    /// The environment whose secrets its steps may use.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secrets_from: Option<Name>,
    /// It uses nothing of builds before: every command is run, and its caches are empty.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub from_scratch: bool,
    /// Files of the tree.
    pub files: u64,
    /// Their bytes.
    pub size: u64,
    /// What is done.
    pub recipe: Recipe,
    /// How it stands.
    pub state: BuildState,
    /// When it was asked for.
    pub asked: Timestamp,
    /// When it began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub began: Option<Timestamp>,
    /// When it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<Timestamp>,
    /// Its steps, those of all parts that are needed, in their order.
    pub steps: Vec<StepRecord>,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<Fault>,
    /// The digest of the image that it made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
}

/// The way that the code came.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[schemars(rename = "BuildWay")]
pub enum Way {
    /// Sent from a folder.
    Sent,
    /// Pushed with Git.
    Pushed,
    /// Of a source that is followed.
    Source,
}

/// The commit that code is of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "BuildCommit")]
pub struct Commit {
    /// Its id.
    pub id: String,
    /// Where its repository is; empty where that is not known.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub repository: String,
    /// The folder differed from it.
    #[serde(default)]
    pub changed: bool,
}

/// How a build stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BuildState {
    /// It waits for others.
    Queued,
    /// It goes on.
    Running,
    /// The image is there.
    Done,
    /// It failed.
    Failed,
    /// A person ended it.
    Cancelled,
}

impl BuildState {
    /// Whether it goes on no more.
    pub fn has_ended(self) -> bool {
        !matches!(self, BuildState::Queued | BuildState::Running)
    }

    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            BuildState::Queued => "queued",
            BuildState::Running => "running",
            BuildState::Done => "done",
            BuildState::Failed => "failed",
            BuildState::Cancelled => "cancelled",
        }
    }
}

/// One step.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "BuildStep")]
pub struct StepRecord {
    /// The part that it is of.
    pub part: Name,
    /// The step in a line.
    pub words: String,
    /// How it stands.
    pub state: StepState,
    /// When it began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub began: Option<Timestamp>,
    /// When it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<Timestamp>,
    /// The layer that it made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub layer: Option<LayerMade>,
}

/// How a step stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[schemars(rename = "BuildStepState")]
pub enum StepState {
    /// It comes later.
    Waiting,
    /// It goes on.
    Running,
    /// It was done.
    Done,
    /// An earlier build did the same.
    Cached,
    /// It failed.
    Failed,
}

/// A layer that a step made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "BuildLayer")]
pub struct LayerMade {
    /// The digest of its blob, which is not compressed: the digest of what it unpacks to as well.
    pub digest: String,
    /// Its length in bytes.
    pub size: u64,
}

/// Why a build failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "BuildFault")]
pub struct Fault {
    /// The kind.
    pub kind: FaultKind,
    /// The cause, in a sentence.
    pub sentence: String,
    /// What to do about it; empty where that is plain.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub fix: String,
    /// The last lines of the step that failed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub last_lines: Vec<String>,
}

/// The kinds of faults.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[schemars(rename = "BuildFaultKind")]
pub enum FaultKind {
    /// A command ended with another status than 0.
    CommandFailed,
    /// A command could not be started.
    CannotStart,
    /// A command took more memory than it may.
    OutOfMemory,
    /// A command wrote more than it may.
    DiskFull,
    /// A command took longer than it may.
    TooLong,
    /// A base is not there.
    NoBase,
    /// A file to take is not there.
    NoFile,
    /// A secret is not there.
    NoSecret,
    /// What a step made is no layer that an image may have.
    BadLayer,
    /// No node can build.
    NoNode,
    /// The platform could not do its part.
    Platform,
}

impl Fault {
    /// A fault without lines of a log.
    pub fn new(kind: FaultKind, sentence: impl Into<String>, fix: impl Into<String>) -> Fault {
        Fault { kind, sentence: sentence.into(), fix: fix.into(), last_lines: Vec::new() }
    }
}

impl Build {
    /// The records of a recipe's steps; none has begun.
    pub fn steps_of(recipe: &Recipe) -> Vec<StepRecord> {
        let record = |part: &Name, words: String| StepRecord {
            part: part.clone(),
            words,
            state: StepState::Waiting,
            began: None,
            ended: None,
            layer: None,
        };
        let parts = recipe.needed_parts().into_iter();
        parts.flat_map(|part| part.steps.iter().map(|step| record(&part.name, step.words()))).collect()
    }

    /// The caches of a part, by their names on the node. A build from scratch has some of its own, which all of its parts
    /// share and the node's rules sweep.
    pub fn caches_of(&self, part: &Part) -> BTreeMap<Name, String> {
        if !self.from_scratch {
            return part.caches.clone();
        }
        let known: BTreeSet<&Name> = self.recipe.parts.iter().flat_map(|part| part.caches.keys()).collect();
        let named = |name: &Name| -> Option<Name> {
            let place = known.iter().position(|it| *it == name)?;
            format!("scratch-{}-{place}", self.number).parse().ok()
        };
        part.caches.iter().filter_map(|(name, path)| Some((named(name)?, path.clone()))).collect()
    }

    /// It begins, or begins again after the control that carried it out ended: what was not done is to be done.
    pub fn begin(&mut self, now: Timestamp) {
        self.state = BuildState::Running;
        self.began.get_or_insert(now);
        for step in self.steps.iter_mut().filter(|step| step.state == StepState::Running) {
            (step.state, step.began) = (StepState::Waiting, None);
        }
    }

    /// A step begins.
    pub fn begin_step(&mut self, number: usize, now: Timestamp) {
        if let Some(step) = self.steps.get_mut(number) {
            (step.state, step.began, step.ended) = (StepState::Running, Some(now), None);
        }
    }

    /// A step made its layer, or an earlier build had made it.
    pub fn end_step(&mut self, number: usize, layer: LayerMade, cached: bool, now: Timestamp) {
        if let Some(step) = self.steps.get_mut(number) {
            step.state = if cached { StepState::Cached } else { StepState::Done };
            step.began.get_or_insert(now);
            (step.ended, step.layer) = (Some(now), Some(layer));
        }
    }

    /// It failed, in the step that went on.
    pub fn fail(&mut self, fault: Fault, now: Timestamp) {
        if self.state.has_ended() {
            return;
        }
        for step in self.steps.iter_mut().filter(|step| step.state == StepState::Running) {
            (step.state, step.ended) = (StepState::Failed, Some(now));
        }
        (self.state, self.fault, self.ended) = (BuildState::Failed, Some(fault), Some(now));
    }

    /// A person ended it.
    pub fn cancel(&mut self, now: Timestamp) {
        if !self.state.has_ended() {
            for step in self.steps.iter_mut().filter(|step| step.state == StepState::Running) {
                (step.state, step.ended) = (StepState::Failed, Some(now));
            }
            (self.state, self.ended) = (BuildState::Cancelled, Some(now));
        }
    }

    /// The image is there.
    pub fn finish(&mut self, digest: String, now: Timestamp) {
        if !self.state.has_ended() {
            (self.state, self.digest, self.ended) = (BuildState::Done, Some(digest), Some(now));
        }
    }

    /// How many steps an earlier build had done.
    pub fn cached_steps(&self) -> usize {
        self.steps.iter().filter(|step| step.state == StepState::Cached).count()
    }

    /// The step that failed, counted from 1.
    pub fn failed_step(&self) -> Option<usize> {
        self.steps.iter().position(|step| step.state == StepState::Failed).map(|at| at + 1)
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    const RECIPE: &str = "image = { name = \"lockers/survey-form\" }\n\
        [part.run]\nbase = \"bases/python:1\"\nsteps = [{ take = [\".\"], to = \"/app\" }, { run = \"make\" }]\n";

    pub(crate) fn build(number: u64, image: &str) -> Build {
        let recipe = crate::recipe::read("recipe.toml", RECIPE).expect("a recipe");
        Build {
            number,
            image: image.parse().expect("an image"),
            by: "mira".to_owned(),
            way: Way::Sent,
            commit: None,
            tree: "sha256:0".to_owned(),
            folder: String::new(),
            secrets_from: None,
            from_scratch: false,
            files: 2,
            size: 100,
            steps: Build::steps_of(&recipe),
            recipe,
            state: BuildState::Queued,
            asked: Timestamp::UNIX_EPOCH,
            began: None,
            ended: None,
            fault: None,
            digest: None,
        }
    }

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).expect("a moment")
    }

    #[test]
    fn a_build_that_is_carried_out_again_repeats_only_what_was_not_done() {
        let mut build = build(1, "lockers/survey-form:1");
        build.begin(at(1));
        build.begin_step(0, at(1));
        let layer = LayerMade { digest: "sha256:1".to_owned(), size: 10 };
        build.end_step(0, layer.clone(), false, at(2));
        build.begin_step(1, at(2));
        build.begin(at(9));
        assert_eq!(build.began, Some(at(1)));
        let states: Vec<StepState> = build.steps.iter().map(|step| step.state).collect();
        assert_eq!(states, [StepState::Done, StepState::Waiting]);
        build.end_step(1, layer, true, at(10));
        build.finish("sha256:2".to_owned(), at(11));
        assert_eq!((build.state, build.cached_steps(), build.ended), (BuildState::Done, 1, Some(at(11))));
    }

    #[test]
    fn the_first_end_counts() {
        let mut build = build(1, "lockers/survey-form:1");
        build.begin(at(1));
        build.begin_step(1, at(1));
        build.cancel(at(2));
        build.fail(Fault::new(FaultKind::Platform, "late", ""), at(3));
        build.finish("sha256:2".to_owned(), at(4));
        assert_eq!((build.state, build.fault, build.digest), (BuildState::Cancelled, None, None));
        assert_eq!(build.steps[1].state, StepState::Failed);
    }
}
