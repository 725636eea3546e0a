//! When something that a person follows has come to its end: a scale, a rollout, a source that catches up.
//!
//! Clients ask again after each change of the cluster and stop at the first answer. The rules are here so that every client
//! stops at the same moment and tells the same outcome.

use crate::model::{
    Reason, ReasonCode, ReplicaState, Rollout, RolloutState, Source, SourceState, Span, Target, Workload,
    WorkloadState,
};
use crate::record::State;
use crate::routing::replicas_of;

/// Added to a workload's deadline, as replicas may have to drain before others fit.
const DRAINS_WITHIN: Span = Span::from_secs(60);

/// A workload's replicas as a person counts them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ReplicaCounts {
    /// How many are wanted.
    pub wanted: usize,
    /// How many take requests.
    pub ready: usize,
    /// How many are on their way out.
    pub leaving: usize,
}

impl ReplicaCounts {
    /// Counts the replicas of a workload; none where there is no such workload.
    pub fn of(state: &State, target: &Target) -> ReplicaCounts {
        let wanted = state.workloads.get(target).map_or(0, |workload| workload.wanted as usize);
        let count = |of: ReplicaState| {
            replicas_of(&state.replicas, target).filter(|replica| replica.state == of).count()
        };
        ReplicaCounts { wanted, ready: count(ReplicaState::Ready), leaving: count(ReplicaState::Draining) }
    }
}

/// How a scale ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ScaleOutcome {
    /// As many replicas as wanted are ready, and no more.
    Steady,
    /// None is wanted, and none is left.
    Off,
    /// As many as wanted are ready, and a rollout waits for a person.
    ReadyInRollout,
    /// It fails, and why.
    Failing(Option<Reason>),
    /// The workload was removed.
    Removed,
}

/// Whether a scale has ended; `None` while it goes on.
pub fn scale_outcome(state: &State, target: &Target) -> Option<ScaleOutcome> {
    let Some(workload) = state.workloads.get(target) else { return Some(ScaleOutcome::Removed) };
    let counts = ReplicaCounts::of(state, target);
    let open = state.open_rollout(target);
    let waits = open.is_some_and(|open| workload.held.is_some() || question(open).is_some());
    match workload.state {
        WorkloadState::Steady => Some(ScaleOutcome::Steady),
        WorkloadState::Off | WorkloadState::Asleep => Some(ScaleOutcome::Off),
        WorkloadState::Moving if waits && counts.ready >= counts.wanted => Some(ScaleOutcome::ReadyInRollout),
        WorkloadState::Failing => Some(ScaleOutcome::Failing(workload.reason.clone())),
        _ => None,
    }
}

/// How long a scale may take before nobody waits for it any more.
pub fn scale_limit(workload: &Workload) -> Span {
    Span::from_millis(workload.rule.deadline.millis() + DRAINS_WITHIN.millis())
}

/// How a rollout ended, as far as a person who follows it is concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RolloutOutcome<'r> {
    /// The release serves.
    Done,
    /// No replica was wanted, so nothing was tried.
    Untried,
    /// A step waits for approval, with what the person is asked. A client that follows stops here.
    Asks(&'r str),
    /// It found a fault and waits for a person.
    Awaiting,
    /// It went back by itself.
    WentBack,
    /// It went back because a person cancelled it.
    Cancelled,
    /// A newer release took its place.
    Superseded,
}

/// The question that a rollout asks a person after a step that is well.
fn question(rollout: &Rollout) -> Option<&str> {
    let reason = rollout.reason.as_ref().filter(|_| rollout.state == RolloutState::Awaiting)?;
    (reason.code == ReasonCode::AsksFirst).then_some(reason.sentence.as_str())
}

/// Whether a rollout has ended, or waits for a person; `None` while it goes on.
///
/// ```
/// use mainyard_core::completion::{RolloutOutcome, rollout_outcome};
/// use mainyard_core::model::{Purpose, ReleaseNumber, Rollout, RolloutState};
///
/// let workload = "staging/locker-api".parse().unwrap();
/// let began = "2026-11-23T14:05:00Z".parse().unwrap();
/// let mut rollout = Rollout::new(workload, None, ReleaseNumber(4), Purpose::Change, began);
/// assert_eq!(rollout_outcome(&rollout), None);
/// rollout.state = RolloutState::Done;
/// assert_eq!(rollout_outcome(&rollout), Some(RolloutOutcome::Done));
/// ```
pub fn rollout_outcome(rollout: &Rollout) -> Option<RolloutOutcome<'_>> {
    if let Some(question) = question(rollout) {
        return Some(RolloutOutcome::Asks(question));
    }
    match rollout.state {
        RolloutState::Done => Some(RolloutOutcome::Done),
        RolloutState::Untried => Some(RolloutOutcome::Untried),
        RolloutState::Superseded => Some(RolloutOutcome::Superseded),
        RolloutState::Awaiting => Some(RolloutOutcome::Awaiting),
        RolloutState::WentBack => Some(RolloutOutcome::WentBack),
        RolloutState::Cancelled => Some(RolloutOutcome::Cancelled),
        _ => None,
    }
}

/// How a source that follows a commit came to rest.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SourceOutcome {
    /// It is where it should be, or waits for a person as its state says.
    AtRest,
    /// The commit went back, and is not tried again by itself.
    SetBack,
}

/// Whether a source has settled; `None` while it catches up.
pub fn source_outcome(source: &Source) -> Option<SourceOutcome> {
    // One that is held does nothing until it is resumed.
    if source.held.is_some() {
        return Some(SourceOutcome::AtRest);
    }
    if source.state == SourceState::CatchingUp || source.catching_up.is_some() {
        return None;
    }
    let set_back = source.state != SourceState::InStep && source.set_back.is_some();
    Some(if set_back { SourceOutcome::SetBack } else { SourceOutcome::AtRest })
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;

    use super::*;
    use crate::model::{Purpose, ReleaseNumber};

    fn rollout(state: RolloutState, reason: Option<ReasonCode>) -> Rollout {
        let workload = "staging/locker-api".parse().expect("a target");
        let rollout = Rollout::new(workload, None, ReleaseNumber(2), Purpose::Change, Timestamp::UNIX_EPOCH);
        Rollout { state, reason: reason.map(|code| Reason::new(code, "go on?")), ..rollout }
    }

    #[test]
    fn a_rollout_goes_on_until_it_ends_or_waits_for_a_person() {
        use RolloutState::{Awaiting, Done, GoingBack, Shifting, Starting, Superseded, Untried, WentBack};
        for state in [Starting, Shifting, GoingBack] {
            assert_eq!(rollout_outcome(&rollout(state, None)), None, "{state}");
        }
        let outcome = |state| match rollout_outcome(&rollout(state, Some(ReasonCode::NotReadyInTime))) {
            Some(outcome) => format!("{outcome:?}"),
            None => "goes on".to_owned(),
        };
        let outcomes = [Done, Untried, Awaiting, WentBack, Superseded].map(outcome);
        assert_eq!(outcomes, ["Done", "Untried", "Awaiting", "WentBack", "Superseded"]);
    }

    #[test]
    fn a_question_ends_the_following_only_while_it_is_open() {
        let asks = rollout(RolloutState::Awaiting, Some(ReasonCode::AsksFirst));
        assert_eq!(rollout_outcome(&asks), Some(RolloutOutcome::Asks("go on?")));
        let advanced = rollout(RolloutState::Shifting, Some(ReasonCode::AsksFirst));
        assert_eq!(rollout_outcome(&advanced), None);
    }

    #[test]
    fn a_workload_that_is_gone_ends_a_scale() {
        let target = "staging/locker-api".parse().expect("a target");
        assert_eq!(scale_outcome(&State::default(), &target), Some(ScaleOutcome::Removed));
        let counts = ReplicaCounts { wanted: 0, ready: 0, leaving: 0 };
        assert_eq!(ReplicaCounts::of(&State::default(), &target), counts);
    }
}
