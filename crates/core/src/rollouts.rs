//! Decides what a workload needs next: replicas to start, replicas to stop, and the new state of its rollout and itself.
//!
//! [`decide`] looks at one workload and answers; it is called again whenever anything about the workload has
//! changed and at the moment it asked for. It never counts on having been called before.
//!
//! A move keeps two promises, unless faults take replicas away: never fewer ready than wanted less `may_lack`, never
//! more staying than wanted plus `may_exceed` (a swap has both sets complete). A new replica counts once it has stayed
//! ready for `settle`. Going forward is in `progression`, going back in `rollback`.

mod progression;
mod replica_counts;
mod rollback;
mod run_first;
mod too_few_ready;

use jiff::Timestamp;

use crate::model::{
    Reason, ReasonCode, ReleaseNumber, Replica, ReplicaId, ReplicaState, Rollout, RolloutState, Span, Style,
    Workload, WorkloadState,
};
pub(crate) use progression::next_step;
use replica_counts::{Counts, first_to_go};
pub use too_few_ready::may_serve;

/// The input of [`decide`].
#[derive(Debug, Clone, Copy)]
pub struct View<'a> {
    /// The workload.
    pub workload: &'a Workload,
    /// All its replicas, those that leave included.
    pub replicas: &'a [Replica],
    /// Commands that run once for its releases.
    pub runs: &'a [Replica],
    /// The newest rollout.
    pub rollout: Option<&'a Rollout>,
    /// The percentage of the replicas that must pass their check for it to be believed.
    pub enough: u32,
}

/// Something to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Act {
    /// Start this many replicas of a release.
    Start(ReleaseNumber, u32),
    /// Run the command of a release that comes before it serves.
    RunFirst(ReleaseNumber),
    /// Take a replica out of every table; once its open requests have ended it is stopped.
    LetGo(ReplicaId),
}

/// The actions to take, and the new state.
#[derive(Debug, Clone, PartialEq)]
pub struct Decision {
    /// In this order.
    pub acts: Vec<Act>,
    /// The workload's state.
    pub state: WorkloadState,
    /// And why, where it is not well.
    pub reason: Option<Reason>,
    /// Since when no replica takes requests although some should.
    pub unanswered_since: Option<Timestamp>,
    /// Whether replicas that fail their check are sent requests as well.
    pub serves_unready: bool,
    /// The rollout, where it changes.
    pub rollout: Option<Rollout>,
    /// When to look again although nothing has changed.
    pub look_again: Option<Timestamp>,
}

/// The current action of a rollout.
struct Moved {
    acts: Vec<Act>,
    rollout: Option<Rollout>,
    look_again: Option<Timestamp>,
}

impl Moved {
    fn nothing_but(acts: Vec<Act>) -> Moved {
        Moved { acts, rollout: None, look_again: None }
    }
}

/// Whether a reason means that waiting will not help.
pub fn is_fault(reason: &Reason) -> bool {
    use ReasonCode::*;
    matches!(
        reason.code,
        OutOfMemory
            | PortSilent
            | LoopbackOnly
            | ImageNotFound
            | NotSigned
            | RegistryRefuses
            | RegistryLacks
            | RegistryLimits
            | RegistryUntrusted
            | RegistrySilent
            | ImageUnusable
            | KeepsEnding
            | NoRoom
            | CannotStart
            | SecretMissing
            | NotAsReleased
    )
}

/// Decides for one workload.
pub fn decide(view: View<'_>, now: Timestamp) -> Decision {
    let counts = Counts::of(view, now);
    let open = view.rollout.filter(|rollout| rollout.state.is_open());
    let moved = match open {
        Some(rollout) if run_first::awaited(rollout).is_some() => {
            run_first::before(view, rollout, &counts, now)
        }
        Some(rollout) if view.workload.held.is_some() => Moved::nothing_but(freeze(view, rollout, &counts)),
        Some(rollout) if rollout.state == RolloutState::GoingBack => {
            rollback::back(view, rollout, &counts, now)
        }
        Some(rollout) => progression::forward(view, rollout, &counts, now),
        None => keep(view, &counts, now),
    };
    let Moved { mut acts, rollout, look_again } = moved;
    never_too_few(view, &mut acts);
    acts.extend(end_stale_runs(view, open));
    let judged = judge(view, &counts, rollout.as_ref().or(view.rollout), now);
    let look_again = look_again.into_iter().chain(judged.look_again).min();
    let Judged { state, reason, unanswered_since, serves_unready, .. } = judged;
    Decision { acts, state, reason, unanswered_since, serves_unready, rollout, look_again }
}

/// A command that is run before a release serves ends where nothing waits for it any more: its release was cancelled, or
/// another has taken its place.
fn end_stale_runs(view: View<'_>, open: Option<&Rollout>) -> Vec<Act> {
    let waits = open.filter(|rollout| rollout.state != RolloutState::GoingBack).map(|rollout| rollout.to);
    let held = view.workload.held.is_some();
    let stale = view.runs.iter().filter(|run| {
        !held && Some(run.release) != waits && !run.stopping && run.state != ReplicaState::Draining
    });
    let_go(stale).collect()
}

/// No rollout: as many of the wanted release as wanted, and nothing else but a set that is kept for going back.
fn keep(view: View<'_>, counts: &Counts<'_>, now: Timestamp) -> Moved {
    let warm = view.rollout.filter(|rollout| rollout.is_warm(now));
    let mut acts = keep_new(view, counts);
    if warm.is_none() {
        acts.extend(let_go(counts.old.iter().copied()));
    }
    let look_again = warm.and_then(|rollout| rollout.warm_until).filter(|_| !counts.old.is_empty());
    Moved { acts, rollout: None, look_again }
}

fn keep_new(view: View<'_>, counts: &Counts<'_>) -> Vec<Act> {
    let wanted = view.workload.wanted as usize;
    let missing = wanted.saturating_sub(counts.new.len());
    let start = (missing > 0).then_some(Act::Start(view.workload.release, missing as u32));
    let surplus = counts.new.len().saturating_sub(wanted);
    start.into_iter().chain(let_go(first_to_go(&counts.new).take(surplus))).collect()
}

/// No rollout moves; the wanted number is kept, with the previous release if it is still there.
fn while_held(view: View<'_>, before: Option<ReleaseNumber>, counts: &Counts<'_>) -> Vec<Act> {
    let wanted = view.workload.wanted as usize;
    let there = counts.old.len();
    match before {
        Some(before) if there < wanted && there > 0 => vec![Act::Start(before, (wanted - there) as u32)],
        Some(_) if there > wanted => let_go(first_to_go(&counts.old).take(there - wanted)).collect(),
        Some(_) if there > 0 => Vec::new(),
        _ => keep_new(view, counts),
    }
}

/// Never drains below the minimum number of ready replicas, whatever else was planned.
fn never_too_few(view: View<'_>, acts: &mut Vec<Act>) {
    let takes = |replica: &&Replica| replica.state == ReplicaState::Ready;
    let mut left = view.replicas.iter().filter(takes).count();
    let least = view.workload.wanted.saturating_sub(view.workload.rule.may_lack) as usize;
    acts.retain(|act| {
        let Act::LetGo(id) = act else { return true };
        if !view.replicas.iter().filter(takes).any(|replica| replica.id == *id) {
            return true;
        }
        let may = left > least;
        left -= usize::from(may);
        may
    });
}

/// Held in the middle of a move: both sets stay as they are, but for the wanted number.
fn freeze(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>) -> Vec<Act> {
    let wanted = view.workload.wanted as usize;
    let there = counts.new.len() + counts.old.len();
    if there < wanted {
        let release = rollout.from.filter(|_| !counts.old.is_empty()).unwrap_or(view.workload.release);
        return vec![Act::Start(release, (wanted - there) as u32)];
    }
    let most = match view.workload.rule.style {
        Style::Swap => wanted * 2,
        Style::Rolling | Style::Stepped => wanted + view.workload.rule.may_exceed.max(1) as usize,
    };
    let all: Vec<&Replica> = counts.new.iter().chain(&counts.old).copied().collect();
    let_go(first_to_go(&all).take(there.saturating_sub(most))).collect()
}

fn let_go<'a>(list: impl Iterator<Item = &'a Replica>) -> impl Iterator<Item = Act> {
    list.map(|replica| Act::LetGo(replica.id.clone()))
}

/// "3.2 s", "17 min 29 s".
fn took(span: jiff::SignedDuration) -> String {
    match span.as_secs_f64() {
        seconds if seconds < 100.0 => format!("{seconds:.1} s"),
        seconds => format!("{:.0} min {:.0} s", (seconds / 60.0).floor(), seconds % 60.0),
    }
}

fn count(number: usize, what: &str) -> String {
    if number == 1 { format!("1 {what}") } else { format!("{number} {what}s") }
}

/// How a workload is.
struct Judged {
    state: WorkloadState,
    reason: Option<Reason>,
    unanswered_since: Option<Timestamp>,
    serves_unready: bool,
    look_again: Option<Timestamp>,
}

/// Replicas are given this long to come up before a workload without a ready one is said to be down.
const COMES_UP_WITHIN: Span = Span::from_millis(1500);

fn judge(view: View<'_>, counts: &Counts<'_>, rollout: Option<&Rollout>, now: Timestamp) -> Judged {
    let (mut state, mut reason) = state_of(view, counts, rollout, now);
    let serves_unready = too_few_ready::applies(view);
    if serves_unready && matches!(state, WorkloadState::TooFew | WorkloadState::Steady) {
        (state, reason) = (WorkloadState::TooFew, Some(too_few_ready::reason(view)));
    }
    let serving = counts.new_ready() + counts.old_ready();
    let should_serve = view.workload.wanted > 0 && view.workload.settled.is_some();
    let unanswered_since =
        (serving == 0 && should_serve).then(|| view.workload.unanswered_since.unwrap_or(now));
    let judged = Judged { state, reason, unanswered_since, serves_unready, look_again: None };
    // While something moves, or is reported otherwise, nobody may take requests although somebody did before.
    let Some(since) = unanswered_since.filter(|_| judged.state == WorkloadState::Moving) else {
        return judged;
    };
    let mut staying = counts.new.iter().chain(&counts.old);
    if let Some(reason) = staying.find_map(|replica| replica.reason.clone()) {
        return Judged { state: WorkloadState::TooFew, reason: Some(reason), ..judged };
    }
    let until = since + COMES_UP_WITHIN.signed();
    if until > now {
        return Judged { look_again: Some(until), ..judged };
    }
    let reason = Reason::new(ReasonCode::StillStarting, "no replica takes requests");
    Judged { state: WorkloadState::TooFew, reason: Some(reason), ..judged }
}

fn state_of(
    view: View<'_>,
    counts: &Counts<'_>,
    rollout: Option<&Rollout>,
    now: Timestamp,
) -> (WorkloadState, Option<Reason>) {
    let wanted = view.workload.wanted as usize;
    let ready = counts.new_ready() + counts.old_ready();
    let open = rollout.filter(|rollout| rollout.state.is_open());
    if let Some(rollout) = open.filter(|rollout| rollout.state == RolloutState::Awaiting) {
        let asks = rollout.reason.as_ref().filter(|reason| reason.code == ReasonCode::AsksFirst);
        return match asks {
            Some(_) => (WorkloadState::Moving, None),
            // The fact as it is now, not as it was when the rollout stopped.
            None => (WorkloadState::Failing, counts.fault().or(rollout.reason.as_ref()).cloned()),
        };
    }
    if let Some(reason) = counts.fault() {
        return (WorkloadState::Failing, Some(reason.clone()));
    }
    if open.is_some() {
        return (WorkloadState::Moving, None);
    }
    // Ready just now says little where it is so in turns.
    let in_turns =
        |code| matches!(code, ReasonCode::Flapping | ReasonCode::ProcessLimit | ReasonCode::DiskFull);
    let reasons = counts.new.iter().filter_map(|replica| replica.reason.as_ref());
    if let Some(reason) = reasons.into_iter().find(|reason| in_turns(reason.code)) {
        return (WorkloadState::Failing, Some(reason.clone()));
    }
    // Others may still answer for it: what it should run does not come up all the same.
    let lacking = || counts.new.iter().filter(|replica| replica.state != ReplicaState::Ready);
    let unready = lacking().find(|replica| replica.state == ReplicaState::Unready);
    let why = unready.or_else(|| lacking().find(|replica| replica.reason.is_some()));
    if let Some(replica) = why.filter(|_| counts.new_ready() < wanted) {
        return (WorkloadState::TooFew, replica.reason.clone());
    }
    let kept_beside = rollout.is_some_and(|rollout| rollout.is_warm(now));
    let beside = if kept_beside { 0 } else { counts.old.len() };
    if ready >= wanted && (counts.leaving > 0 || counts.new.len() > wanted || beside > 0) {
        return (WorkloadState::Moving, None);
    }
    if wanted == 0 {
        let state = if view.workload.is_asleep() { WorkloadState::Asleep } else { WorkloadState::Off };
        return (state, None);
    }
    let state = if ready >= wanted { WorkloadState::Steady } else { WorkloadState::Moving };
    (state, None)
}

#[cfg(test)]
mod strategy_tests;
#[cfg(test)]
mod tests;
