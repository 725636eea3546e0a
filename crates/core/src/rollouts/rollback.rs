//! A rollout on its way back: the previous release is wanted again, and the other one leaves.

use jiff::Timestamp;

use super::replica_counts::{Counts, first_to_go};
use super::{Act, Moved, View, let_go, took};
use crate::model::{Replica, ReplicaState, Rollout, RolloutState};

/// Of the requests none go to the release that leaves, once half of the wanted replicas can take them.
fn share(counts: &Counts<'_>, wanted: usize) -> Option<u32> {
    (counts.new_ready() * 2 >= wanted && counts.new_ready() > 0).then_some(0)
}

/// Missing replicas of the previous release start at once, whatever the limits say; of the other those that take no
/// requests go at once, and the rest as it is replaced.
pub(super) fn back(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>, now: Timestamp) -> Moved {
    let workload = view.workload;
    let wanted = workload.wanted as usize;
    let mut next = rollout.clone();
    let mut acts = Vec::new();
    let missing = wanted.saturating_sub(counts.new.len());
    if missing > 0 {
        acts.push(Act::Start(workload.release, missing as u32));
    }
    let (serving, idle): (Vec<&Replica>, Vec<&Replica>) =
        counts.old.iter().copied().partition(|replica| replica.state == ReplicaState::Ready);
    let spare = (counts.new_ready() + serving.len()).saturating_sub(wanted).min(serving.len());
    acts.extend(let_go(idle.into_iter().chain(first_to_go(&serving).take(spare))));
    let surplus = counts.new.len().saturating_sub(wanted);
    acts.extend(let_go(first_to_go(&counts.new).take(surplus)));
    next.share = share(counts, wanted);
    let began = rollout.step_began.unwrap_or(rollout.started);
    let deadline = began + workload.rule.deadline.signed();
    let runs = view.runs.iter().any(|run| run.release == rollout.to);
    let whole = counts.old.is_empty() && !runs && counts.new_ready() >= wanted;
    if whole || now >= deadline {
        end(view, &mut next, counts, began, now);
    }
    let look_again = (!whole && deadline > now).then_some(deadline);
    Moved { acts, rollout: (next != *rollout).then_some(next), look_again }
}

fn end(view: View<'_>, rollout: &mut Rollout, counts: &Counts<'_>, began: Timestamp, now: Timestamp) {
    let wanted = view.workload.wanted;
    rollout.state =
        if rollout.cancelled.is_some() { RolloutState::Cancelled } else { RolloutState::WentBack };
    rollout.ended = Some(now);
    let why = match (&rollout.cancelled, &rollout.reason) {
        (Some(origin), _) => format!("cancelled by {}", origin.by),
        (None, Some(reason)) => reason.sentence.clone(),
        (None, None) => "taken back".to_owned(),
    };
    let release = view.workload.release;
    let span = now.duration_since(began);
    let after = if span.as_millis() < 100 { "at once".to_owned() } else { format!("after {}", took(span)) };
    rollout.verdict = Some(format!(
        "release {} went back: {why}; release {release} answers with {} of {wanted} ready {after}",
        rollout.to,
        counts.new_ready()
    ));
}
