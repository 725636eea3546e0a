//! What client and console show of a build.

use jiff::Timestamp;
use mainyard_core::link::StepLine;
use mainyard_core::model::Bytes;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{Build, BuildState, StepRecord, StepState};

/// A build with its words.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct BuildView {
    /// The build.
    #[serde(flatten)]
    pub build: Build,
    /// How it stands, in a sentence.
    pub says: String,
    /// How many builds are before it, where it waits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waits_for: Option<u64>,
    /// What each step says of itself, such as `3.2 s`, `as before` or `waits`.
    pub steps_say: Vec<String>,
}

/// Something that happened in a build that is followed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BuildEvent {
    /// The build as it is now.
    Build(Box<BuildView>),
    /// A line of a step.
    Line {
        /// The step, from 0.
        step: u32,
        /// The line.
        line: StepLine,
    },
}

impl BuildView {
    /// What is shown of a build; `before` is how many wait before it.
    pub fn of(build: Build, before: Option<usize>, now: Timestamp) -> BuildView {
        BuildView {
            says: says(&build, before, now),
            waits_for: before.map(|count| count as u64),
            steps_say: build.steps.iter().map(|step| step_says(step, now)).collect(),
            build,
        }
    }
}

/// "0.4 s", "12 s" or "3m 5s".
fn span(from: Timestamp, to: Timestamp) -> String {
    let millis = to.duration_since(from).as_millis().max(0) as u64;
    match millis {
        0..10_000 => format!("{:.1} s", millis as f64 / 1000.0),
        10_000..90_000 => format!("{} s", millis.div_ceil(1000)),
        _ => match (millis / 60_000, millis % 60_000 / 1000) {
            (minutes, 0) => format!("{minutes}m"),
            (minutes, seconds) => format!("{minutes}m {seconds}s"),
        },
    }
}

fn took(build: &Build, now: Timestamp) -> String {
    let began = build.began.unwrap_or(build.asked);
    span(began, build.ended.unwrap_or(now))
}

fn says(build: &Build, before: Option<usize>, now: Timestamp) -> String {
    let (done, all) = (build.steps.iter().filter(|step| is_done(step)).count(), build.steps.len());
    match build.state {
        BuildState::Queued => match before {
            None | Some(0) => "waits: it is the next".to_owned(),
            Some(1) => "waits: one build is before it".to_owned(),
            Some(count) => format!("waits: {count} builds are before it"),
        },
        BuildState::Running => {
            let step = build.steps.iter().find(|step| step.state == StepState::Running);
            let at = step.map_or_else(String::new, |step| format!(": {}", step.words));
            format!("{done} of {all} steps done, {}{at}", took(build, now))
        }
        BuildState::Done => {
            let size: u64 =
                build.steps.iter().filter_map(|step| step.layer.as_ref()).map(|layer| layer.size).sum();
            let cached = match build.cached_steps() {
                0 => String::new(),
                count => format!(", {count} of {all} steps as before"),
            };
            format!("made {} in {}{cached}, {} of layers", build.image, took(build, now), Bytes::new(size))
        }
        BuildState::Failed => {
            let fault = build.fault.as_ref().map_or("it failed", |fault| fault.sentence.as_str());
            match build.failed_step() {
                Some(step) => format!("step {step} of {all}: {fault}"),
                None => fault.to_owned(),
            }
        }
        BuildState::Cancelled => format!("cancelled after {}", took(build, now)),
    }
}

fn is_done(step: &StepRecord) -> bool {
    matches!(step.state, StepState::Done | StepState::Cached)
}

fn step_says(step: &StepRecord, now: Timestamp) -> String {
    let took = || step.began.map(|began| span(began, step.ended.unwrap_or(now)));
    match (step.state, took()) {
        (StepState::Waiting, _) => "waits".to_owned(),
        (StepState::Cached, _) => "as before".to_owned(),
        (StepState::Failed, Some(took)) => format!("failed after {took}"),
        (StepState::Failed, None) => "failed".to_owned(),
        (StepState::Running | StepState::Done, took) => took.unwrap_or_default(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::build::tests::build;
    use crate::{Fault, FaultKind, LayerMade};

    #[test]
    fn times_are_told_as_people_say_them() {
        let after =
            |millis: i64| span(Timestamp::UNIX_EPOCH, Timestamp::from_millisecond(millis).expect("a time"));
        assert_eq!(
            [after(400), after(11_200), after(108_900), after(180_000)],
            ["0.4 s", "12 s", "1m 48s", "3m"]
        );
    }

    #[test]
    fn a_build_says_how_it_stands() {
        let at = |second: i64| Timestamp::from_second(second).expect("a moment");
        let mut said = Vec::new();
        let mut say = |build: &Build, before| said.push(BuildView::of(build.clone(), before, at(20)).says);
        let mut one = build(1, "lockers/survey-form:1");
        say(&one, Some(0));
        say(&one, Some(2));
        one.begin(at(5));
        one.end_step(0, LayerMade { digest: String::new(), size: 2048 }, true, at(6));
        one.begin_step(1, at(6));
        say(&one, None);
        let mut failed = one.clone();
        failed.fail(Fault::new(FaultKind::CommandFailed, "make ended with status 2", ""), at(9));
        say(&failed, None);
        one.end_step(1, LayerMade { digest: String::new(), size: 1024 }, false, at(10));
        one.finish("sha256:1".to_owned(), at(11));
        say(&one, None);
        insta::assert_snapshot!(said.join("\n"));
    }
}
