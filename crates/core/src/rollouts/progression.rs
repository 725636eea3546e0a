//! A rollout on its way to the new release, in one of three manners, and what stops it.

use jiff::{SignedDuration, Timestamp};

use super::replica_counts::{Counts, first_to_go};
use super::{Act, Moved, View, count, let_go, took};
use crate::canary_analysis;
use crate::model::{
    Answered, Evidence, OnFailure, Purpose, Reason, ReasonCode, ReleaseNumber, Replica, ReplicaState,
    Rollout, RolloutState, Shadow, Shadowing, Span, Style, Then,
};

/// The goals for both sets at this point of the rollout.
struct Aim {
    /// Replicas of the new release.
    new: usize,
    /// Replicas of others that stay for now.
    old: usize,
}

pub(super) fn forward(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>, now: Timestamp) -> Moved {
    if rollout.state == RolloutState::Awaiting
        && let Some(moved) = awaiting(view, rollout, counts)
    {
        return moved;
    }
    let mut next = rollout.clone();
    if next.state == RolloutState::Awaiting && !asks(rollout) {
        // It is well after all, or a person said go on.
        (next.state, next.reason, next.ended) = (RolloutState::Shifting, None, None);
        next.step_began = Some(now);
    }
    if let Some(reason) = trouble(view, &mut next, counts, now) {
        return fail(view, next, counts, reason, now);
    }
    let aim = aim(view, &next, counts);
    let old = start_old(view, &next, counts, &aim);
    let mut acts = start_new(view, &next, counts, &aim, old);
    acts.extend(rollout.from.filter(|_| old > 0).map(|before| Act::Start(before, old as u32)));
    acts.extend(let_old_go(view, &next, counts, &aim));
    let surplus = counts.new.len().saturating_sub(aim.new);
    acts.extend(let_go(first_to_go(&counts.new).take(surplus)));
    let waits_until = advance(view, &mut next, counts, &aim, now);
    let deadline = deadline(view, &next);
    let look_again =
        counts.settled_at.into_iter().chain(waits_until).chain(Some(deadline)).filter(|at| *at > now).min();
    Moved { acts, rollout: (next != *rollout).then_some(next), look_again }
}

/// While an image is pulled from elsewhere, nothing else counts: this much longer stands for "not before it is there".
const WHILE_PULLED: SignedDuration = SignedDuration::from_hours(24 * 30);

/// When its replicas must count.
pub(super) fn deadline(view: View<'_>, rollout: &Rollout) -> Timestamp {
    let all = view.replicas.iter().chain(view.runs).filter(|replica| replica.release == rollout.to);
    let is_awaited = |replica: &Replica| {
        replica.reason.as_ref().is_some_and(|reason| reason.code == ReasonCode::ImageAwaited)
    };
    let longer = if all.into_iter().any(is_awaited) { WHILE_PULLED } else { SignedDuration::ZERO };
    rollout.step_began.unwrap_or(rollout.started) + view.workload.rule.deadline.signed() + longer
}

/// Whether all requests go to the new release at this step.
fn is_last_step(view: View<'_>, rollout: &Rollout) -> bool {
    rollout.step as usize >= view.workload.rule.steps.len()
}

/// Of 1,000 requests, how many the present step gives to the new release.
fn step_share(view: View<'_>, step: u32) -> u32 {
    let wanted = view.workload.wanted as usize;
    view.workload.rule.steps.get(step as usize).map_or(1000, |step| step.per_mille(wanted))
}

/// The manner in which it moves: what is known to be good, or comes first, needs no steps.
fn style(view: View<'_>, rollout: &Rollout) -> Style {
    match rollout.purpose {
        Purpose::Change if rollout.from.is_some() => view.workload.rule.style,
        _ => Style::Rolling,
    }
}

/// The shadow step that is not passed yet.
fn shadow(view: View<'_>, rollout: &Rollout) -> Option<Shadow> {
    let due = rollout.purpose == Purpose::Change && rollout.from.is_some() && rollout.waived.is_none();
    view.workload.rule.shadow.filter(|_| due && rollout.shadow != Shadowing::Passed)
}

fn aim(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>) -> Aim {
    let wanted = view.workload.wanted as usize;
    if shadow(view, rollout).is_some() && style(view, rollout) != Style::Swap {
        // One is enough to answer copies, and all the others are needed for the visitors.
        return Aim { new: wanted.min(1), old: wanted };
    }
    match style(view, rollout) {
        Style::Rolling => Aim { new: wanted, old: 0 },
        Style::Swap if rollout.share == Some(1000) => Aim { new: wanted, old: counts.old.len() },
        Style::Swap => Aim { new: wanted, old: wanted },
        Style::Stepped => {
            let share = step_share(view, rollout.step) as usize;
            let new = (wanted * share).div_ceil(1000).max(usize::from(wanted > 0));
            Aim { new, old: wanted - (wanted * share / 1000).min(wanted) }
        }
    }
}

fn start_new(
    view: View<'_>,
    rollout: &Rollout,
    counts: &Counts<'_>,
    aim: &Aim,
    old_to_come: usize,
) -> Vec<Act> {
    let rule = &view.workload.rule;
    let missing = aim.new.saturating_sub(counts.new.len());
    let exceed = (rule.may_exceed as usize).max(usize::from(rule.may_lack == 0));
    let most = view.workload.wanted as usize + exceed;
    let room = match style(view, rollout) {
        Style::Swap => missing,
        // With nothing to replace there is nothing to move around; and what goes back is in a hurry.
        _ if counts.old.len() + old_to_come == 0 || rollout.purpose == Purpose::Back => missing,
        _ => most.saturating_sub(counts.new.len() + counts.old.len() + old_to_come),
    };
    let start = missing.min(room);
    if start == 0 { Vec::new() } else { vec![Act::Start(view.workload.release, start as u32)] }
}

/// How many replicas of the previous release are to be started: faults, or a stop of the whole platform, may have taken some, or more
/// are wanted by now. What served before serves until the new ones count.
fn start_old(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>, aim: &Aim) -> usize {
    match style(view, rollout) {
        Style::Rolling => {
            // Of a release that gave way before it was proven, only those who take requests are of use.
            let of_use = counts.old.iter().filter(|replica| {
                Some(replica.release) == rollout.from || replica.state == ReplicaState::Ready
            });
            least_of_before(view, rollout, counts.counted + of_use.count())
        }
        Style::Stepped | Style::Swap if rollout.from.is_none() => 0,
        Style::Stepped | Style::Swap => aim.old.saturating_sub(counts.old.len()),
    }
}

/// How many of a proven release before are needed beside so many others, until the new ones count.
fn least_of_before(view: View<'_>, rollout: &Rollout, others: usize) -> usize {
    let proven = rollout.from.is_some() && rollout.from == view.workload.settled;
    if !proven || rollout.purpose == Purpose::Back {
        return 0;
    }
    (view.workload.wanted as usize)
        .saturating_sub(view.workload.rule.may_lack as usize)
        .saturating_sub(others)
}

fn let_old_go(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>, aim: &Aim) -> Vec<Act> {
    let rule = &view.workload.rule;
    let surplus = counts.old.len().saturating_sub(aim.old);
    let (serving, idle): (Vec<&Replica>, Vec<&Replica>) =
        counts.old.iter().copied().partition(|replica| replica.state == ReplicaState::Ready);
    // Some are only coming up again, because nobody else would answer.
    let coming = match style(view, rollout) {
        Style::Rolling => least_of_before(view, rollout, counts.counted + serving.len()),
        Style::Stepped | Style::Swap => 0,
    };
    let (proven, others): (Vec<&Replica>, Vec<&Replica>) =
        idle.into_iter().partition(|replica| Some(replica.release) == rollout.from);
    let spare = first_to_go(&proven).take(proven.len().saturating_sub(coming));
    let idle: Vec<&Replica> = first_to_go(&others).chain(spare).take(surplus).collect();
    let surplus = surplus - idle.len();
    // Before its share is reached a step still needs those who answer the rest.
    let must_stay = (view.workload.wanted as usize).saturating_sub(rule.may_lack as usize);
    let spare = (counts.counted + serving.len()).saturating_sub(must_stay).min(serving.len()).min(surplus);
    let spare =
        if style(view, rollout) == Style::Swap && rollout.share != Some(1000) { surplus } else { spare };
    let_go(idle.into_iter().chain(first_to_go(&serving).take(spare))).collect()
}

/// Moves the share, the step and the state on as far as they may. Gives when the present watch ends.
fn advance(
    view: View<'_>,
    rollout: &mut Rollout,
    counts: &Counts<'_>,
    aim: &Aim,
    now: Timestamp,
) -> Option<Timestamp> {
    let wanted = view.workload.wanted as usize;
    // More may be there, where nobody could take the place of those that are too many.
    let complete = counts.counted >= aim.new;
    let style = style(view, rollout);
    if let Some(shadow) = shadow(view, rollout) {
        return copying(rollout, shadow, counts, complete && wanted > 0, now);
    }
    let watched_until = match style {
        Style::Rolling => {
            rollout.share = None;
            last_watch(view, rollout, complete, now)
        }
        Style::Stepped if is_last_step(view, rollout) => {
            step_share_carried(view, rollout, counts, complete);
            last_watch(view, rollout, complete, now)
        }
        Style::Stepped => step(view, rollout, counts, complete, now),
        Style::Swap => {
            rollout.share = if complete || rollout.share == Some(1000) { Some(1000) } else { Some(0) };
            last_watch(view, rollout, complete, now)
        }
    };
    if rollout.state == RolloutState::Awaiting {
        return None;
    }
    let watched = watched_until.is_none_or(|until| until <= now);
    let all_there = counts.new.len() == wanted && (counts.old.is_empty() || style == Style::Swap);
    let state = match () {
        // Nobody ran it, so nothing is known of it.
        () if all_there && wanted == 0 && rollout.purpose == Purpose::Change => RolloutState::Untried,
        () if all_there && counts.counted == wanted && watched && is_whole(view, rollout, style) => {
            RolloutState::Done
        }
        () if all_there && counts.new_ready() == wanted => RolloutState::Settling,
        () if counts.new_ready() > 0 => RolloutState::Shifting,
        () => RolloutState::Starting,
    };
    if state != rollout.state {
        (rollout.state, rollout.reason) = (state, None);
    }
    if state == RolloutState::Untried {
        rollout.verdict = Some(format!(
            "release {} is there and was not tried: 0 replicas are wanted; it is tried when more are",
            rollout.to
        ));
        rollout.ended = Some(now);
    }
    if state == RolloutState::Done {
        let after = took(now.duration_since(rollout.started));
        let there = count(wanted, "replica");
        let grounds = canary_analysis::grounds(rollout);
        rollout.verdict =
            Some(format!("release {} runs with {there} ready after {after}; {grounds}", rollout.to));
        rollout.ended = Some(now);
        let keep = view.workload.rule.keep_old.signed();
        rollout.warm_until =
            (style == Style::Swap && !counts.old.is_empty()).then(|| now + keep).filter(|until| *until > now);
    }
    watched_until.filter(|until| *until > now)
}

/// The shadow step: no visitor reaches the new release, and copies go to it until there were enough.
fn copying(
    rollout: &mut Rollout,
    shadow: Shadow,
    counts: &Counts<'_>,
    complete: bool,
    now: Timestamp,
) -> Option<Timestamp> {
    rollout.share = Some(0);
    rollout.state = if counts.new_ready() > 0 { RolloutState::Shifting } else { RolloutState::Starting };
    if rollout.shadow == Shadowing::Before && !complete {
        return None;
    }
    rollout.shadow = Shadowing::Copying;
    let until = *rollout.watched_since.get_or_insert(now) + shadow.within.signed();
    if rollout.evidence.copies.requests >= u64::from(shadow.copies) || until <= now {
        rollout.shadow = Shadowing::Passed;
        let Evidence { looks, suspected, old, .. } = &mut rollout.evidence;
        (*looks, *suspected, *old) = (0, None, Answered::default());
        (rollout.step_began, rollout.watched_since) = (Some(now), None);
        // What comes next is decided at once.
        return Some(now + jiff::SignedDuration::from_millis(1));
    }
    Some(until)
}

/// Whether all requests go to the new release.
fn is_whole(view: View<'_>, rollout: &Rollout, style: Style) -> bool {
    match style {
        Style::Rolling => true,
        Style::Stepped => is_last_step(view, rollout),
        Style::Swap => rollout.share == Some(1000),
    }
}

/// The new release has all requests, and is watched for a while where that is declared. Gives when it ends.
fn last_watch(view: View<'_>, rollout: &mut Rollout, complete: bool, now: Timestamp) -> Option<Timestamp> {
    let rule = &view.workload.rule;
    let unsaid = if style(view, rollout) == Style::Swap { rule.settle } else { Span::default() };
    let watch = rule.watch.filter(|_| rollout.purpose == Purpose::Change).unwrap_or(unsaid);
    if complete && watch > Span::default() {
        rollout.watched_since.get_or_insert(now);
    }
    rollout.watched_since.map(|since| since + watch.signed())
}

/// The share grows with the replicas that count, up to the step's.
fn step_share_carried(view: View<'_>, rollout: &mut Rollout, counts: &Counts<'_>, complete: bool) {
    let wanted = (view.workload.wanted as usize).max(1);
    let goal = step_share(view, rollout.step);
    let before = rollout.step.checked_sub(1).map_or(0, |step| step_share(view, step)).min(goal);
    let carried = (counts.counted * 1000 / wanted) as u32;
    rollout.share = Some(if complete { goal } else { carried.clamp(before, goal) });
}

/// A step of a stepped rollout, which is watched once its share is in force.
fn step(
    view: View<'_>,
    rollout: &mut Rollout,
    counts: &Counts<'_>,
    complete: bool,
    now: Timestamp,
) -> Option<Timestamp> {
    step_share_carried(view, rollout, counts, complete);
    if !complete {
        return None;
    }
    let rule = &view.workload.rule;
    let present = rule.steps.get(rollout.step as usize)?;
    let since = *rollout.watched_since.get_or_insert(now);
    if present.then == Some(Then::Ask) {
        if rollout.state != RolloutState::Awaiting {
            let next =
                rule.steps.get(rollout.step as usize + 1).map_or("all".to_owned(), ToString::to_string);
            let sentence = format!(
                "step {} of {} is there ({present}); next: {next}",
                rollout.step + 1,
                rule.steps.len()
            );
            rollout.state = RolloutState::Awaiting;
            rollout.reason = Some(Reason::new(ReasonCode::AsksFirst, sentence));
        }
        return None;
    }
    let until = since + present.watch.unwrap_or_default().signed();
    if until <= now {
        next_step(rollout, now);
    }
    Some(until)
}

/// The next step begins.
pub(crate) fn next_step(rollout: &mut Rollout, now: Timestamp) {
    rollout.step += 1;
    (rollout.step_began, rollout.watched_since) = (Some(now), None);
}

/// Whether it waits after a step that is well.
fn asks(rollout: &Rollout) -> bool {
    rollout.reason.as_ref().is_some_and(|reason| reason.code == ReasonCode::AsksFirst)
}

/// Waiting for a person: after a step that asks all goes on being watched; after a failure only the number that is
/// wanted is kept, until the new replicas are well after all.
fn awaiting(view: View<'_>, rollout: &Rollout, counts: &Counts<'_>) -> Option<Moved> {
    if asks(rollout) {
        return None;
    }
    let code = rollout.reason.as_ref().map(|reason| reason.code);
    let judged =
        matches!(code, Some(ReasonCode::MoreErrors | ReasonCode::Slower)) && rollout.waived.is_none();
    // A replica may be ready and keep ending all the same: its reason stays until it has run for long enough.
    let well = !counts.new.is_empty() && counts.counted == counts.new.len() && counts.fault().is_none();
    if well && !judged {
        return None;
    }
    let acts = super::while_held(view, rollout.from, counts);
    Some(Moved { acts, rollout: None, look_again: counts.settled_at })
}

/// The evidence against the new release.
fn trouble(view: View<'_>, rollout: &mut Rollout, counts: &Counts<'_>, now: Timestamp) -> Option<Reason> {
    if let Some(reason) = counts.fault() {
        return Some(reason.clone());
    }
    if rollout.from.is_some() && rollout.purpose != Purpose::Back {
        let copying = rollout.shadow == Shadowing::Copying;
        let finding = canary_analysis::compare_when_due(&mut rollout.evidence, copying);
        if let Some(finding) = finding.filter(|_| rollout.waived.is_none()) {
            return Some(canary_analysis::reason(finding, rollout));
        }
    }
    let aim = aim(view, rollout, counts);
    let met = counts.counted >= aim.new || rollout.watched_since.is_some();
    if met || now < deadline(view, rollout) {
        return None;
    }
    let detail = counts.new.iter().find_map(|replica| replica.reason.as_ref());
    let detail = detail.map(|reason| format!("; {}", reason.sentence)).unwrap_or_default();
    let ready = counts.new_ready();
    // All may be ready, and not yet for as long as is asked.
    let settled = if ready < aim.new {
        String::new()
    } else {
        format!(", {} of them for at least {}", counts.counted, view.workload.rule.settle)
    };
    let sentence = format!("{ready} of {} replicas were ready by the deadline{settled}{detail}", aim.new);
    Some(Reason::new(ReasonCode::NotReadyInTime, sentence))
}

/// The rollout turns round, or waits for a person where it may not or there is nothing to go back to.
pub(super) fn fail(
    view: View<'_>,
    mut rollout: Rollout,
    counts: &Counts<'_>,
    reason: Reason,
    now: Timestamp,
) -> Moved {
    // A release that was never good and that no replica answers with is nothing to go back to.
    let is_good = |from: ReleaseNumber| {
        let answers = |replica: &&Replica| replica.release == from && replica.state == ReplicaState::Ready;
        view.workload.settled == Some(from) || counts.old.iter().copied().any(|replica| answers(&replica))
    };
    let verdict = match (rollout.from, view.workload.rule.on_failure) {
        (Some(from), OnFailure::GoBack) if rollout.purpose != Purpose::Back && !is_good(from) => {
            rollout.state = RolloutState::Awaiting;
            rollout.ended = Some(now);
            format!(
                "release {} is not ready: {}; there is nothing to go back to, as release {from} was never ready",
                rollout.to, reason.sentence
            )
        }
        // What is brought back and fails is not taken for the other one again: neither is known to be good.
        (Some(from), OnFailure::GoBack) if rollout.purpose != Purpose::Back => {
            rollout.state = RolloutState::GoingBack;
            rollout.step_began = Some(now);
            format!("release {} goes back to {from}: {}", rollout.to, reason.sentence)
        }
        (from, _) => {
            rollout.state = RolloutState::Awaiting;
            rollout.ended = Some(now);
            let wanted = view.workload.wanted;
            let still = from.map_or(String::new(), |from| {
                format!("; release {from} still answers with {} of {wanted} ready", counts.old_ready())
            });
            format!("release {} does not take over: {}{still}", rollout.to, reason.sentence)
        }
    };
    (rollout.reason, rollout.verdict) = (Some(reason), Some(verdict));
    Moved { acts: Vec::new(), rollout: Some(rollout), look_again: None }
}
