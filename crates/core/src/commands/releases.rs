//! Commands that make releases, steer the rollout to one, and keep them.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, outcome_of};
use crate::cluster::{Cluster, DeployRequest, Goal, Refusal, Transaction, WentTo};
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
    /// The changes to make.
    pub request: DeployRequest,
}

/// The result of a deploy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Deployed {
    /// The new release; absent when nothing would differ.
    pub release: Option<ReleaseNumber>,
    /// The differences, in words.
    pub differences: Vec<String>,
    /// The rollout that this one replaces, in words.
    pub instead_of: Option<String>,
    /// Old releases that went, as nothing needs them any more.
    pub freed: Vec<ReleaseNumber>,
}

impl CommandKind for Deploy {
    type Outcome = Deployed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Deployed, Refusal> {
        let workload = &self.workload;
        let (instead_of, before) = (transaction.under_way(workload), numbers(transaction, workload));
        let made = transaction.deploy(workload, &self.request)?;
        let freed = freed(before, transaction, workload);
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

/// The result of a promotion.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PromoteOutcome {
    /// The workload that it went to, as `environment/name`.
    pub target: String,
    /// The release that was tested.
    pub tested: ReleaseNumber,
    /// The release that it became; absent where that runs already.
    pub release: Option<ReleaseNumber>,
    /// The differences to what was there, in words.
    pub differences: Vec<String>,
}

impl Promote {
    fn target(&self) -> Target {
        Target::new(&self.to, &self.from.name)
    }
}

impl CommandKind for Promote {
    type Outcome = PromoteOutcome;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<PromoteOutcome, Refusal> {
        let made = transaction.promote(&self.from, &self.to)?;
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

/// The result of a rollback.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RolledBack {
    /// The new release.
    pub release: ReleaseNumber,
    /// The earlier one that it equals.
    pub same_as: ReleaseNumber,
    /// Releases in between that it does not go back to, each with the reason.
    pub passed_over: Vec<String>,
    /// The rollout that this one replaces, in words.
    pub instead_of: Option<String>,
    /// Old releases that went, as nothing needs them any more.
    pub freed: Vec<ReleaseNumber>,
}

impl CommandKind for Rollback {
    type Outcome = RolledBack;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<RolledBack, Refusal> {
        let workload = &self.workload;
        let (instead_of, before) = (transaction.under_way(workload), numbers(transaction, workload));
        let WentTo { number, same_as, passed_over } = transaction.rollback(workload, self.goal)?;
        let freed = freed(before, transaction, workload);
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

/// The result of a restart.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Restarted {
    /// The new release.
    pub release: ReleaseNumber,
    /// The one that it equals.
    pub same_as: ReleaseNumber,
}

impl CommandKind for Restart {
    type Outcome = Restarted;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Restarted, Refusal> {
        let (release, same_as) = transaction.restart(&self.workload)?;
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

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Cancelled, Refusal> {
        let (release, back_to) = transaction.cancel(&self.workload)?;
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
pub struct ReleaseKept {
    /// Which release.
    pub release: ReleaseNumber,
    /// Whether it is kept now.
    pub kept: bool,
    /// Whether that is a change.
    pub changed: bool,
}

impl CommandKind for KeepRelease {
    type Outcome = ReleaseKept;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<ReleaseKept, Refusal> {
        let changed = transaction.keep_release(&self.workload, self.release, self.keep)?;
        Ok(ReleaseKept { release: self.release, kept: self.keep, changed })
    }

    outcome_of!(KeepRelease);
}
