//! What a workload needs next: replicas to start, replicas to let go, and how its rollout and itself now are.
//!
//! [`decide`] looks at one workload and answers; it is called again whenever anything about the workload has
//! changed and at the moment it asked for. It never counts on having been called before.
//!
//! The rolling move keeps two promises, unless faults take replicas away: never fewer ready than wanted less
//! `may_lack`, never more staying than wanted plus `may_exceed`. A new replica counts once it has stayed ready
//! for `settle`.

use jiff::Timestamp;

use crate::model::{
    Reason, ReasonCode, ReleaseNumber, Replica, ReplicaId, ReplicaState, Rollout, RolloutState, Workload,
    WorkloadState,
};

/// What [`decide`] looks at.
#[derive(Debug, Clone, Copy)]
pub struct View<'a> {
    /// The workload.
    pub workload: &'a Workload,
    /// All its replicas, those that leave included.
    pub replicas: &'a [Replica],
    /// The newest rollout.
    pub rollout: Option<&'a Rollout>,
}

/// Something to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Act {
    /// Start this many replicas of a release.
    Start(ReleaseNumber, u32),
    /// Take a replica out of every table; once its open requests have ended it is stopped.
    LetGo(ReplicaId),
}

/// How a rollout goes on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RolloutStep {
    /// Its state from now on.
    pub state: RolloutState,
    /// Why it waits, where it does.
    pub reason: Option<Reason>,
    /// Its verdict, where it has come to one.
    pub verdict: Option<String>,
}

/// What to do, and how things are.
#[derive(Debug, Clone, PartialEq)]
pub struct Decision {
    /// In this order.
    pub acts: Vec<Act>,
    /// The workload's state.
    pub state: WorkloadState,
    /// And why, where it is not well.
    pub reason: Option<Reason>,
    /// The rollout's next state, where it changes.
    pub rollout: Option<RolloutStep>,
    /// When to look again although nothing has changed.
    pub look_again: Option<Timestamp>,
}

/// Whether a reason means that waiting will not help.
pub fn is_fault(reason: &Reason) -> bool {
    use ReasonCode::*;
    matches!(
        reason.code,
        OutOfMemory | PortSilent | ImageNotFound | ImageUnusable | KeepsEnding | NoRoom | CannotStart
    )
}

struct Counts<'a> {
    new: Vec<&'a Replica>,
    old: Vec<&'a Replica>,
    leaving: usize,
    settled_at: Option<Timestamp>,
    counted: usize,
}

impl<'a> Counts<'a> {
    fn of(view: View<'a>, now: Timestamp) -> Counts<'a> {
        let target = view.workload.release;
        let staying = view.replicas.iter().filter(|replica| replica.state.is_staying());
        let (new, old): (Vec<_>, Vec<_>) = staying.partition(|replica| replica.release == target);
        let settle = view.workload.rule.settle.signed();
        let ready = new.iter().filter(|replica| replica.state == ReplicaState::Ready);
        let settled: Vec<Timestamp> = ready.map(|replica| replica.since + settle).collect();
        let leaving = view.replicas.iter().filter(|replica| replica.state == ReplicaState::Draining).count();
        Counts {
            counted: settled.iter().filter(|at| **at <= now).count(),
            settled_at: settled.into_iter().filter(|at| *at > now).min(),
            new,
            old,
            leaving,
        }
    }

    fn ready(list: &[&Replica]) -> usize {
        list.iter().filter(|replica| replica.state == ReplicaState::Ready).count()
    }

    fn fault(&self) -> Option<&'a Reason> {
        self.new.iter().filter_map(|replica| replica.reason.as_ref()).find(|reason| is_fault(reason))
    }
}

/// Decides for one workload.
pub fn decide(view: View<'_>, now: Timestamp) -> Decision {
    let counts = Counts::of(view, now);
    let open = view.rollout.filter(|rollout| rollout.state.is_open() && rollout.to == view.workload.release);
    let (acts, rollout, look_again) = match open {
        Some(rollout) => roll(view, rollout, &counts, now),
        None => (keep(view, &counts), None, None),
    };
    let rollout_state = rollout.as_ref().map(|step| step.state).or(open.map(|rollout| rollout.state));
    let rollout_reason =
        rollout.as_ref().map_or(open.and_then(|rollout| rollout.reason.as_ref()), |s| s.reason.as_ref());
    let (state, reason) = judge(view, &counts, rollout_state, rollout_reason);
    Decision { acts, state, reason, rollout, look_again }
}

/// No rollout: as many of the wanted release as wanted, and nothing else.
fn keep(view: View<'_>, counts: &Counts<'_>) -> Vec<Act> {
    let wanted = view.workload.wanted as usize;
    let mut acts = Vec::new();
    if counts.new.len() < wanted {
        acts.push(Act::Start(view.workload.release, (wanted - counts.new.len()) as u32));
    }
    let surplus = counts.new.len().saturating_sub(wanted);
    let leave = first_to_go(&counts.new).take(surplus).chain(counts.old.iter().copied());
    acts.extend(leave.map(|replica| Act::LetGo(replica.id.clone())));
    acts
}

/// Those that take no requests first, then the youngest.
fn first_to_go<'a>(list: &[&'a Replica]) -> impl Iterator<Item = &'a Replica> + use<'a> {
    let mut sorted: Vec<&Replica> = list.to_vec();
    sorted.sort_by_key(|replica| (replica.state == ReplicaState::Ready, std::cmp::Reverse(replica.created)));
    sorted.into_iter()
}

type Rolled = (Vec<Act>, Option<RolloutStep>, Option<Timestamp>);

fn roll(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>, now: Timestamp) -> Rolled {
    let workload = view.workload;
    let wanted = workload.wanted as usize;
    let deadline = rollout.started + workload.rule.deadline.signed();
    let all_new_count = !counts.new.is_empty() && counts.counted == counts.new.len();
    let waiting = rollout.state == RolloutState::Awaiting;
    if waiting && !all_new_count {
        let look_again = counts.settled_at;
        return (stand_still(view, rollout, counts), None, look_again);
    }
    if let Some(reason) = trouble(counts, deadline, now, wanted) {
        let verdict = verdict_of_trouble(rollout, counts, &reason, wanted);
        let step =
            RolloutStep { state: RolloutState::Awaiting, reason: Some(reason), verdict: Some(verdict) };
        return (Vec::new(), Some(step), None);
    }

    let mut acts = Vec::new();
    let may_exceed = (workload.rule.may_exceed as usize).max(usize::from(workload.rule.may_lack == 0));
    let room = (wanted + may_exceed).saturating_sub(counts.new.len() + counts.old.len());
    // With nothing to replace there is nothing to move around: all start at once.
    let room = if counts.old.is_empty() { wanted } else { room };
    let start = wanted.saturating_sub(counts.new.len()).min(room);
    if start > 0 {
        acts.push(Act::Start(workload.release, start as u32));
    }
    let old_ready = Counts::ready(&counts.old);
    let (serving, idle): (Vec<&Replica>, Vec<&Replica>) =
        counts.old.iter().copied().partition(|replica| replica.state == ReplicaState::Ready);
    let must_stay = wanted.saturating_sub(workload.rule.may_lack as usize);
    let spare = (counts.counted + old_ready).saturating_sub(must_stay).min(old_ready);
    let leave = idle.into_iter().chain(first_to_go(&serving).take(spare));
    acts.extend(leave.map(|replica| Act::LetGo(replica.id.clone())));
    let surplus = counts.new.len().saturating_sub(wanted);
    acts.extend(first_to_go(&counts.new).take(surplus).map(|replica| Act::LetGo(replica.id.clone())));

    let all_there = counts.new.len() == wanted && counts.old.is_empty();
    let state = match () {
        () if all_there && counts.counted == wanted => RolloutState::Done,
        () if all_there && Counts::ready(&counts.new) == wanted => RolloutState::Settling,
        () if Counts::ready(&counts.new) > 0 => RolloutState::Shifting,
        () => RolloutState::Starting,
    };
    let verdict = (state == RolloutState::Done).then(|| {
        let seconds = now.duration_since(rollout.started).as_secs_f64();
        format!("release {} runs with {} ready after {seconds:.1} s", rollout.to, replicas(wanted))
    });
    let changed = (state != rollout.state).then_some(RolloutStep { state, reason: None, verdict });
    let look_again = counts.settled_at.into_iter().chain([deadline].into_iter().filter(|at| *at > now)).min();
    (acts, changed, look_again)
}

/// A rollout that waits for a person moves nothing by itself; only the wanted number is kept, with the release
/// that was there before.
fn stand_still(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>) -> Vec<Act> {
    let wanted = view.workload.wanted as usize;
    let there = counts.old.len();
    match rollout.from {
        Some(before) if there < wanted && there > 0 => vec![Act::Start(before, (wanted - there) as u32)],
        Some(_) if there > wanted => first_to_go(&counts.old)
            .take(there - wanted)
            .map(|replica| Act::LetGo(replica.id.clone()))
            .collect(),
        None if counts.new.len() != wanted => keep(view, counts),
        _ => Vec::new(),
    }
}

fn trouble(counts: &Counts<'_>, deadline: Timestamp, now: Timestamp, wanted: usize) -> Option<Reason> {
    if let Some(reason) = counts.fault() {
        return Some(reason.clone());
    }
    let done = counts.counted >= wanted && counts.old.is_empty();
    if now < deadline || done {
        return None;
    }
    let detail = counts.new.iter().find_map(|replica| replica.reason.as_ref());
    let detail = detail.map(|reason| format!("; {}", reason.sentence)).unwrap_or_default();
    let ready = Counts::ready(&counts.new);
    let sentence = format!("{ready} of {wanted} replicas were ready by the deadline{detail}");
    Some(Reason::new(ReasonCode::NotReadyInTime, sentence))
}

fn verdict_of_trouble(rollout: &Rollout, counts: &Counts<'_>, reason: &Reason, wanted: usize) -> String {
    let begin = format!("release {} does not take over: {}", rollout.to, reason.sentence);
    match rollout.from {
        Some(from) => {
            let still = Counts::ready(&counts.old);
            format!("{begin}; release {from} still answers with {still} of {wanted} ready")
        }
        None => begin,
    }
}

fn replicas(count: usize) -> String {
    if count == 1 { "1 replica".to_owned() } else { format!("{count} replicas") }
}

fn judge(
    view: View<'_>,
    counts: &Counts<'_>,
    rollout: Option<RolloutState>,
    rollout_reason: Option<&Reason>,
) -> (WorkloadState, Option<Reason>) {
    let wanted = view.workload.wanted as usize;
    let ready = Counts::ready(&counts.new) + Counts::ready(&counts.old);
    if rollout == Some(RolloutState::Awaiting) {
        // The fact as it is now, not as it was when the rollout stopped.
        return (WorkloadState::Failing, counts.fault().or(rollout_reason).cloned());
    }
    if let Some(reason) = counts.fault() {
        return (WorkloadState::Failing, Some(reason.clone()));
    }
    if rollout.is_some_and(RolloutState::is_open) {
        return (WorkloadState::Moving, None);
    }
    if ready >= wanted && (counts.leaving > 0 || counts.new.len() > wanted || !counts.old.is_empty()) {
        return (WorkloadState::Moving, None);
    }
    if wanted == 0 {
        return (WorkloadState::Off, None);
    }
    if ready >= wanted {
        return (WorkloadState::Steady, None);
    }
    let unready = counts.new.iter().find(|replica| replica.state == ReplicaState::Unready);
    match unready {
        Some(replica) => (WorkloadState::TooFew, replica.reason.clone()),
        None => (WorkloadState::Moving, None),
    }
}

#[cfg(test)]
mod tests;
