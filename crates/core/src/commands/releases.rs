//! Commands that make releases, steer the rollout to one, and keep them.

use std::collections::BTreeSet;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, outcome_of};
use crate::cluster::{Cluster, DeployRequest, Goal, Refusal, WentTo};
use crate::model::{Name, ReleaseNumber, Target};

/// The releases that a workload has.
fn numbers(cluster: &Cluster, workload: &Target) -> BTreeSet<ReleaseNumber> {
    cluster.releases_of(workload).map(|release| release.number).collect()
}

/// Those that it had and has no more.
fn freed(before: BTreeSet<ReleaseNumber>, cluster: &Cluster, workload: &Target) -> Vec<ReleaseNumber> {
    let now = numbers(cluster, workload);
    before.into_iter().filter(|number| !now.contains(number)).collect()
}

/// Makes a release with another image, other settings or other limits, and rolls it out.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Deploy {
    /// Of which workload.
    pub workload: Target,
    /// What is to differ.
    pub request: DeployRequest,
}

/// What a deploy made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Deployed {
    /// The new release; absent when nothing would differ.
    pub release: Option<ReleaseNumber>,
    /// What differs, in words.
    pub differences: Vec<String>,
    /// The rollout that this one takes the place of, in words.
    pub instead_of: Option<String>,
    /// Old releases that went, as nothing needs them any more.
    pub freed: Vec<ReleaseNumber>,
}

impl CommandKind for Deploy {
    type Outcome = Deployed;

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<Deployed, Refusal> {
        let workload = &self.workload;
        let (instead_of, before) = (cluster.under_way(workload), numbers(cluster, workload));
        let made = cluster.deploy(workload, &self.request, by, now)?;
        let freed = freed(before, cluster, workload);
        let (release, differences) = made.unzip();
        let instead_of = instead_of.filter(|_| release.is_some());
        Ok(Deployed { release, differences: differences.unwrap_or_default(), instead_of, freed })
    }

    fn moved(&self, _: &Deployed) -> BTreeSet<Target> {
        BTreeSet::from([self.workload.clone()])
    }

    outcome_of!(Deploy);
}

/// Makes the release that was tested in one environment in another one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Promote {
    /// The workload that was tested.
    pub from: Target,
    /// The environment that it goes to.
    pub to: Name,
}

/// What a promotion made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PromoteOutcome {
    /// The workload that it went to, as `environment/name`.
    pub target: String,
    /// The release that was tested.
    pub tested: ReleaseNumber,
    /// The release that it became; absent where that runs already.
    pub release: Option<ReleaseNumber>,
    /// What differs from what was there, in words.
    pub differences: Vec<String>,
}

impl Promote {
    fn target(&self) -> Target {
        Target::new(&self.to, &self.from.name)
    }
}

impl CommandKind for Promote {
    type Outcome = PromoteOutcome;

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<PromoteOutcome, Refusal> {
        let made = cluster.promote(&self.from, &self.to, by, now)?;
        let (target, differences) = (self.target().to_string(), made.words);
        Ok(PromoteOutcome { target, tested: made.tested, release: made.release, differences })
    }

    fn moved(&self, _: &PromoteOutcome) -> BTreeSet<Target> {
        BTreeSet::from([self.target()])
    }

    outcome_of!(Promote);
}

/// Goes back to an earlier release: makes one that equals it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rollback {
    /// Of which workload.
    pub workload: Target,
    /// To which release.
    pub goal: Goal,
}

/// What a rollback made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RolledBack {
    /// The new release.
    pub release: ReleaseNumber,
    /// The earlier one that it equals.
    pub same_as: ReleaseNumber,
    /// Releases in between that it does not go back to, each with the reason.
    pub passed_over: Vec<String>,
    /// The rollout that this one takes the place of, in words.
    pub instead_of: Option<String>,
    /// Old releases that went, as nothing needs them any more.
    pub freed: Vec<ReleaseNumber>,
}

impl CommandKind for Rollback {
    type Outcome = RolledBack;

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<RolledBack, Refusal> {
        let workload = &self.workload;
        let (instead_of, before) = (cluster.under_way(workload), numbers(cluster, workload));
        let WentTo { number, same_as, passed_over } = cluster.rollback(workload, self.goal, by, now)?;
        let freed = freed(before, cluster, workload);
        Ok(RolledBack { release: number, same_as, passed_over, instead_of, freed })
    }

    fn moved(&self, _: &RolledBack) -> BTreeSet<Target> {
        BTreeSet::from([self.workload.clone()])
    }

    outcome_of!(Rollback);
}

/// Puts fresh replicas of the same release in the place of those that are there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Restart {
    /// Of which workload.
    pub workload: Target,
}

/// What a restart made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Restarted {
    /// The new release.
    pub release: ReleaseNumber,
    /// The one that it equals.
    pub same_as: ReleaseNumber,
}

impl CommandKind for Restart {
    type Outcome = Restarted;

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<Restarted, Refusal> {
        let (release, same_as) = cluster.restart(&self.workload, by, now)?;
        Ok(Restarted { release, same_as })
    }

    fn moved(&self, _: &Restarted) -> BTreeSet<Target> {
        BTreeSet::from([self.workload.clone()])
    }

    outcome_of!(Restart);
}

/// Takes the rollout that is under way back.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Cancel {
    /// Of which workload.
    pub workload: Target,
}

/// A rollout goes back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Cancelled {
    /// The release that goes.
    pub release: ReleaseNumber,
    /// The one that takes its place again.
    pub back_to: ReleaseNumber,
}

impl CommandKind for Cancel {
    type Outcome = Cancelled;

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<Cancelled, Refusal> {
        let (release, back_to) = cluster.cancel(&self.workload, by, now)?;
        Ok(Cancelled { release, back_to })
    }

    fn moved(&self, _: &Cancelled) -> BTreeSet<Target> {
        BTreeSet::from([self.workload.clone()])
    }

    outcome_of!(Cancel);
}

/// Keeps a release however old it gets, or no longer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct KeepRelease {
    /// Of which workload.
    pub workload: Target,
    /// Which release.
    pub release: ReleaseNumber,
    /// Whether to keep it.
    pub keep: bool,
}

/// A release is kept, or no longer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Kept {
    /// Which release.
    pub release: ReleaseNumber,
    /// Whether it is kept now.
    pub kept: bool,
    /// Whether that is a change.
    pub changed: bool,
}

impl CommandKind for KeepRelease {
    type Outcome = Kept;

    fn run(&self, cluster: &mut Cluster, by: &str, now: Timestamp) -> Result<Kept, Refusal> {
        let changed = cluster.keep_release(&self.workload, self.release, self.keep, by, now)?;
        Ok(Kept { release: self.release, kept: self.keep, changed })
    }

    outcome_of!(KeepRelease);
}
