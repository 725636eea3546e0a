//! Before a release serves: its command runs once. Until it has ended well, or a person says that it does not matter,
//! no replica of the release is started, and what is there stays.

use jiff::Timestamp;

use super::progression::{deadline, fail};
use super::replica_counts::{Counts, first_to_go};
use super::{Act, Moved, View, is_fault, let_go};
use crate::model::{
    FirstOutcome, FirstRun, FirstState, Reason, ReasonCode, Replica, ReplicaState, Rollout, RolloutState,
};

/// The run that the rollout waits for, where it waits for one.
pub(super) fn awaited(rollout: &Rollout) -> Option<&FirstRun> {
    let due = rollout.state != RolloutState::GoingBack;
    rollout.first.as_ref().filter(|first| due && first.holds_back())
}

/// The goal for the previous release, and none for the new one.
fn keep_before(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>) -> Vec<Act> {
    let wanted = view.workload.wanted as usize;
    let mut acts: Vec<Act> = let_go(counts.new.iter().copied()).collect();
    let missing = wanted.saturating_sub(counts.old.len());
    // Of what never served nothing is started.
    let good = rollout.from.filter(|from| view.workload.settled == Some(*from));
    if let Some(before) = good.filter(|_| missing > 0) {
        acts.push(Act::Start(before, missing as u32));
    }
    acts.extend(let_go(first_to_go(&counts.old).take(counts.old.len().saturating_sub(wanted))));
    acts
}

/// Runs of this release that were not let go yet.
pub(super) fn runs_of<'a>(view: View<'a>, rollout: &Rollout) -> impl Iterator<Item = &'a Replica> {
    let release = rollout.to;
    view.runs.iter().filter(move |run| run.release == release && run.state != ReplicaState::Draining)
}

pub(super) fn before(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>, now: Timestamp) -> Moved {
    let acts = keep_before(view, rollout, counts);
    let waits = view.workload.held.is_some() || rollout.state == RolloutState::Awaiting;
    let Some(first) = awaited(rollout).filter(|_| !waits) else { return Moved::nothing_but(acts) };
    let mut next = rollout.clone();
    let command = run_first(view, rollout);
    match first.state {
        // Two would be in each other's way: one of an earlier release is ended before (see `decide`).
        FirstState::Due if !view.runs.is_empty() => after_another(view, rollout, first, counts, acts, now),
        FirstState::Due => {
            next.first = Some(FirstRun { state: FirstState::Running, how: String::new(), ..first.clone() });
            let acts = acts.into_iter().chain([Act::RunFirst(rollout.to)]).collect();
            Moved { acts, rollout: Some(next), look_again: Some(deadline(view, rollout)) }
        }
        FirstState::Running => match never_begins(view, rollout, first, now) {
            Some(reason) => {
                let outcome = FirstOutcome {
                    state: FirstState::Failed,
                    how: format!("was not begun: {}", reason.sentence),
                };
                next.first = Some(first.clone()).map(|mut first| {
                    first.end(outcome, now);
                    first
                });
                let mut moved = fail(view, next, counts, reason, now);
                moved.acts.extend(acts);
                moved.acts.extend(let_go(runs_of(view, rollout)));
                moved
            }
            None => {
                let look_again =
                    first.began.is_none().then(|| deadline(view, rollout)).filter(|at| *at > now);
                Moved { acts, rollout: None, look_again }
            }
        },
        FirstState::Unknown => {
            let sentence = format!("{command} may have run; its outcome is unknown ({})", first.how);
            let still = rollout.from.map_or(String::new(), |from| format!("; release {from} still answers"));
            next.verdict = Some(format!(
                "release {} waits for a person: {sentence}{still}; look what it has done, then `advance` or `cancel`",
                rollout.to
            ));
            next.reason = Some(Reason::new(ReasonCode::RunFirstUnknown, sentence));
            (next.state, next.ended) = (RolloutState::Awaiting, Some(now));
            Moved { acts, rollout: Some(next), look_again: None }
        }
        FirstState::Failed | FirstState::Passed | FirstState::Waived => {
            let reason = Reason::new(ReasonCode::RunFirstFailed, format!("{command} {}", first.how));
            let mut moved = fail(view, next, counts, reason, now);
            moved.acts.extend(acts);
            moved
        }
    }
}

/// It waits until the run of another release has ended, and says so; at the deadline it has failed.
fn after_another(
    view: View<'_>,
    rollout: &Rollout,
    first: &FirstRun,
    counts: &Counts<'_>,
    acts: Vec<Act>,
    now: Timestamp,
) -> Moved {
    let others: Vec<String> =
        view.runs.iter().map(|run| format!("{} of release {}", run.id.short, run.release)).collect();
    let how = format!("waits until {} has ended", others.join(", "));
    let mut next = rollout.clone();
    let until = deadline(view, rollout);
    if now >= until {
        let reason = Reason::new(
            ReasonCode::NotReadyInTime,
            format!("run_first was not begun by the deadline: it {how}"),
        );
        next.first = Some(FirstRun { how, ..first.clone() });
        let mut moved = fail(view, next, counts, reason, now);
        moved.acts.extend(acts);
        return moved;
    }
    next.first = Some(FirstRun { how, ..first.clone() });
    Moved { acts, rollout: (next != *rollout).then_some(next), look_again: Some(until) }
}

/// The command as it is shown.
fn run_first(view: View<'_>, rollout: &Rollout) -> String {
    let run = view.runs.iter().find(|run| run.release == rollout.to);
    run.map_or("run_first".to_owned(), |run| format!("run_first ({})", run.id.short))
}

/// Why it will not be begun: a fault, or the deadline. Once it runs it has all the time it needs.
fn never_begins(view: View<'_>, rollout: &Rollout, first: &FirstRun, now: Timestamp) -> Option<Reason> {
    if first.began.is_some() {
        return None;
    }
    let reason = runs_of(view, rollout).find_map(|run| run.reason.as_ref());
    if let Some(fault) = reason.filter(|reason| is_fault(reason)) {
        return Some(fault.clone());
    }
    let why = reason.map_or(String::new(), |reason| format!("; {}", reason.sentence));
    (now >= deadline(view, rollout)).then(|| {
        Reason::new(ReasonCode::NotReadyInTime, format!("run_first was not begun by the deadline{why}"))
    })
}
