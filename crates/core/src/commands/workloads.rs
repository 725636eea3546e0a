//! Commands on a workload as it runs: how much there is of it, what is held, and what goes.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, Removed, outcome_of};
use crate::cluster::{LimitChange, Refusal, Resized, Transaction};
use crate::model::{Origin, ReleaseNumber, ReplicaId, Span, Target};

/// Sets how many replicas a workload has, how much each may use, or both.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Scale {
    /// Which workload.
    pub workload: Target,
    /// How many replicas are wanted; as many as before where it is left out.
    pub replicas: Option<u32>,
    /// Other limits of each.
    pub limits: LimitChange,
    /// Whether the number follows the load again.
    #[serde(default)]
    pub by_load: bool,
}

/// The new size of a workload.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Scaled {
    /// How many replicas were wanted before.
    pub before: u32,
    /// How many are wanted now.
    pub replicas: u32,
    /// The member who had set the previous number, if it was another one.
    pub set_by: Option<Origin>,
    /// The new release, where limits differ.
    pub release: Option<ReleaseNumber>,
    /// The differences of the limits, in words.
    pub differences: Vec<String>,
}

impl CommandKind for Scale {
    type Outcome = Scaled;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Scaled, Refusal> {
        let set_by = Some(transaction.workload(&self.workload)?.wanted_origin.clone());
        if self.by_load {
            transaction.follow_load(&self.workload)?;
        }
        let Resized { before, release, differences } =
            transaction.resize(&self.workload, self.replicas, self.limits)?;
        Ok(Scaled {
            before,
            replicas: transaction.workload(&self.workload)?.wanted,
            set_by: set_by.filter(|origin| origin.by != transaction.by()),
            release,
            differences,
        })
    }

    fn moved(&self, _: &Scaled) -> BTreeSet<Target> {
        BTreeSet::from([self.workload.clone()])
    }

    outcome_of!(Scale);
}

/// Takes a replica out of service for study, or ends that.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SetAside {
    /// Which replica.
    pub replica: ReplicaId,
    /// For how long; no time at all ends it now.
    pub lasts: Span,
}

/// A replica is set aside, or not any more.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SetAsideOutcome {
    /// Which replica.
    pub replica: ReplicaId,
    /// Until when it is set aside.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
    /// Whether that was ended.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ended: bool,
}

impl CommandKind for SetAside {
    type Outcome = SetAsideOutcome;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<SetAsideOutcome, Refusal> {
        let replica = self.replica.clone();
        if self.lasts.millis() == 0 {
            transaction.end_aside(&replica)?;
            return Ok(SetAsideOutcome { replica, until: None, ended: true });
        }
        let until = Some(transaction.set_aside(&replica, self.lasts)?);
        Ok(SetAsideOutcome { replica, until, ended: false })
    }

    fn moved(&self, _: &SetAsideOutcome) -> BTreeSet<Target> {
        BTreeSet::from([self.replica.workload.clone()])
    }

    outcome_of!(SetAside);
}

/// Remembers that files of running replicas were changed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NoteLiveChange {
    /// Which workload.
    pub workload: Target,
    /// Its replicas by their short names, and how many files of each were written or removed; none before it is begun.
    pub replicas: BTreeMap<String, Option<u32>>,
}

/// It is remembered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LiveChangeNoted {
    /// How many replicas are marked because of it.
    pub marked: u32,
}

impl CommandKind for NoteLiveChange {
    type Outcome = LiveChangeNoted;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<LiveChangeNoted, Refusal> {
        Ok(LiveChangeNoted { marked: transaction.note_live_change(&self.workload, &self.replicas)? })
    }

    outcome_of!(NoteLiveChange);
}

/// Holds a workload: nothing of it moves until it is resumed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Hold {
    /// Which workload.
    pub workload: Target,
    /// Why.
    pub because: String,
}

/// A workload is held.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HoldOutcome {
    /// The paused work, in words.
    pub stands: String,
}

impl CommandKind for Hold {
    type Outcome = HoldOutcome;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<HoldOutcome, Refusal> {
        Ok(HoldOutcome { stands: transaction.hold(&self.workload, &self.because)? })
    }

    fn moved(&self, _: &HoldOutcome) -> BTreeSet<Target> {
        BTreeSet::from([self.workload.clone()])
    }

    outcome_of!(Hold);
}

/// Ends a hold.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Resume {
    /// Of which workload.
    pub workload: Target,
}

/// A workload goes on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Resumed {
    /// The work that continues, in words.
    pub goes_on: String,
    /// The release that is being rolled out.
    pub release: Option<ReleaseNumber>,
    /// The source that waits with a commit until this workload is steady, as `environment/name`.
    pub source: Option<String>,
}

impl CommandKind for Resume {
    type Outcome = Resumed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Resumed, Refusal> {
        let goes_on = transaction.resume(&self.workload)?;
        let release = transaction.state.open_rollout(&self.workload).map(|rollout| rollout.to);
        let source = transaction.catching_up_with(&self.workload).map(Target::to_string);
        Ok(Resumed { goes_on, release, source })
    }

    fn moved(&self, _: &Resumed) -> BTreeSet<Target> {
        BTreeSet::from([self.workload.clone()])
    }

    outcome_of!(Resume);
}

/// Lets a rollout go to its next step, or goes on despite what was found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Advance {
    /// Of which workload.
    pub workload: Target,
}

/// A rollout goes on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Advanced {
    /// The next step, in words.
    pub goes_on: String,
    /// The release that is being rolled out.
    pub release: Option<ReleaseNumber>,
}

impl CommandKind for Advance {
    type Outcome = Advanced;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Advanced, Refusal> {
        let goes_on = transaction.advance(&self.workload)?;
        let release = transaction.state.open_rollout(&self.workload).map(|rollout| rollout.to);
        Ok(Advanced { goes_on, release })
    }

    fn moved(&self, _: &Advanced) -> BTreeSet<Target> {
        BTreeSet::from([self.workload.clone()])
    }

    outcome_of!(Advance);
}

/// Removes a workload with its own service and the routes that lead only there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveWorkload {
    /// Which workload.
    pub workload: Target,
}

impl CommandKind for RemoveWorkload {
    type Outcome = Removed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Removed, Refusal> {
        Ok(Removed { gone: transaction.remove_target(&self.workload)? })
    }

    outcome_of!(RemoveWorkload);
}
