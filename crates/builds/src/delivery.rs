//! A repository of code that is pushed to, and the commit of it that is on its way to its environment.

use std::collections::BTreeMap;

use jiff::Timestamp;
use mainyard_core::declare::ChangeLine;
use mainyard_core::model::Target;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::declaration::with_image;
use crate::{Build, BuildState};

/// The branch that is rolled out where none is there yet.
pub const USUAL_BRANCH: &str = "main";

/// A repository of code.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CodeRepository {
    /// The environment that its branch is rolled out to, and the application that it is.
    pub target: Target,
    /// The branch that is rolled out.
    pub branch: String,
    /// The commit that each branch and tag is at, by its whole name.
    pub refs: BTreeMap<String, String>,
    /// When it was made.
    pub made: Timestamp,
    /// When it was pushed to last, and by whom.
    pub pushed: Timestamp,
    /// The member who pushed last.
    pub by: String,
    /// The newest commit of its branch, on its way.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub delivery: Option<Delivery>,
}

/// A commit on its way: its images are built, and then it is declared.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Delivery {
    /// The commit.
    pub commit: String,
    /// The first line of its message.
    pub subject: String,
    /// The member who pushed it.
    pub by: String,
    /// When.
    pub at: Timestamp,
    /// The builds of its images.
    pub builds: Vec<u64>,
    /// The commit's declaration, as it is written there. Without one, its images are built and nothing is declared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub declaration: Option<String>,
    /// How far it is.
    pub state: DeliveryState,
    /// The same in a sentence.
    pub says: String,
    /// What the declaration changed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changes: Vec<ChangeLine>,
}

/// How far a commit is on its way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DeliveryState {
    /// Its images are built.
    Building,
    /// It was declared.
    Declared,
    /// It has no declaration: its images were built.
    Built,
    /// A build or the declaration failed.
    Failed,
    /// A newer commit took its place.
    Replaced,
}

impl DeliveryState {
    /// Whether it goes on no more.
    pub fn has_ended(self) -> bool {
        self != DeliveryState::Building
    }

    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            DeliveryState::Building => "building",
            DeliveryState::Declared => "declared",
            DeliveryState::Built => "built",
            DeliveryState::Failed => "failed",
            DeliveryState::Replaced => "replaced",
        }
    }
}

/// What comes next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NextAct {
    /// Some builds go on.
    Wait,
    /// This is declared.
    Declare(String),
    /// Nothing is left to do.
    End,
    /// It cannot go on, and why.
    Fail(String),
}

impl Delivery {
    /// What comes next, by how its builds stand. A build that is not in the record any more is `None`.
    pub fn next(&self, builds: &[Option<Build>]) -> NextAct {
        let mut text = self.declaration.clone();
        for (number, build) in self.builds.iter().zip(builds) {
            let Some(build) = build else {
                return NextAct::Fail(format!("build {number} is not known any more; push the commit again"));
            };
            match build.state {
                BuildState::Queued | BuildState::Running => return NextAct::Wait,
                BuildState::Cancelled => return NextAct::Fail(format!("build {number} was ended")),
                BuildState::Failed => {
                    let because = build.fault.as_ref().map_or("", |fault| fault.sentence.as_str());
                    return NextAct::Fail(format!("build {number} failed: {because}"));
                }
                BuildState::Done => {}
            }
            let filled = text.as_deref().map(|text| {
                let (repository, image) = (&build.image.repository, build.image.to_string());
                with_image(text, repository, &image, crate::DECLARATION)
            });
            text = match filled.transpose() {
                Ok(text) => text,
                Err(words) => return NextAct::Fail(words),
            };
        }
        text.map_or(NextAct::End, NextAct::Declare)
    }

    /// How its builds are called, such as `build 3`.
    pub fn builds_words(&self) -> String {
        let numbers: Vec<String> = self.builds.iter().map(u64::to_string).collect();
        format!("{} {}", if numbers.len() == 1 { "build" } else { "builds" }, numbers.join(", "))
    }

    /// It has come so far.
    pub fn end(&mut self, state: DeliveryState, says: impl Into<String>) {
        self.state = state;
        self.says = says.into();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Fault, FaultKind};

    fn delivery() -> Delivery {
        Delivery {
            commit: "3f07".to_owned(),
            subject: "A friendlier question".to_owned(),
            by: "mira".to_owned(),
            at: Timestamp::UNIX_EPOCH,
            builds: vec![1],
            declaration: Some("[workload.form]\nimage = \"lockers/survey-form:0\"\n".to_owned()),
            state: DeliveryState::Building,
            says: String::new(),
            changes: Vec::new(),
        }
    }

    fn build(end: impl FnOnce(&mut Build)) -> Vec<Option<Build>> {
        let mut build = crate::build::tests::build(1, "lockers/survey-form:3f07");
        build.begin(Timestamp::UNIX_EPOCH);
        end(&mut build);
        vec![Some(build)]
    }

    #[test]
    fn a_commit_is_declared_once_its_images_are_there() {
        let now = Timestamp::UNIX_EPOCH;
        assert_eq!(delivery().next(&build(|_| {})), NextAct::Wait);
        let NextAct::Declare(text) = delivery().next(&build(|it| it.finish("sha256:1".to_owned(), now)))
        else {
            panic!("it is declared")
        };
        assert_eq!(text, "[workload.form]\nimage = \"lockers/survey-form:3f07\"\n");
        let images_only = Delivery { declaration: None, ..delivery() };
        assert_eq!(images_only.next(&build(|it| it.finish("sha256:1".to_owned(), now))), NextAct::End);
    }

    #[test]
    fn a_commit_whose_build_fails_goes_no_further() {
        let fault = Fault::new(FaultKind::Platform, "the disk is full", "");
        let failed = delivery().next(&build(|it| it.fail(fault, Timestamp::UNIX_EPOCH)));
        assert_eq!(failed, NextAct::Fail("build 1 failed: the disk is full".to_owned()));
        let cancelled = delivery().next(&build(|it| it.cancel(Timestamp::UNIX_EPOCH)));
        assert_eq!(cancelled, NextAct::Fail("build 1 was ended".to_owned()));
        assert!(matches!(delivery().next(&[None]), NextAct::Fail(_)));
    }
}
