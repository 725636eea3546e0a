//! Whether a new release does worse than the previous one, from what the gateways saw of both in the same minutes.
//!
//! The rule. Both are compared when the new release has answered 20, 40, 80, … requests. A comparison finds against
//! it only if two things hold: chance alone would hardly show such a difference, and the difference matters.
//!
//! - *More errors*: Fisher's exact test, one-sided, on failed and answered requests of both; and the new release
//!   fails at least half as often again, and 5 in 1,000 more.
//! - *Slower*: the same test on requests slower than a bucket's edge, at each edge, divided by the number of edges
//!   (Bonferroni); and 95 of 100 requests take at least twice as long, and 20 ms more. A short stall of the machine
//!   makes a few requests slow together, which the test takes for independent ones. So this finding counts only when
//!   it is found again among the requests after it ([`compare_when_due`]).
//!
//! The *n*-th comparison asks for a chance below `0.0024 / (n (n + 1))`; all of them together stay below 0.0024 for
//! each of the two, in the shadow step and again with visitors, so that a release that is as good as the previous one is
//! found against in fewer than 1 of 100 rollouts, however long they are watched. If the previous one answered too few to compare with, the new one is found
//! against when the exact binomial test shows, at the same level, that it fails more than 1 request in 20.

use statrs::distribution::{Binomial, DiscreteCDF, Hypergeometric};

use crate::model::{
    Answered, Evidence, Purpose, Reason, ReasonCode, ReleaseNumber, Rollout, Shadowing, Suspicion,
};

/// Requests that the new release has answered at the first comparison, and the fewest of the old one to compare with.
pub const FIRST_LOOK: u64 = 20;
/// The chance, over all comparisons, that a good release is found to fail more; and again, that it is found slower.
pub const CHANCE: f64 = 0.0024;
/// The part of failed requests that is too much where there is nothing to compare with.
const TOO_MANY: f64 = 0.05;
/// Durations at which both are compared: half powers of two from 0.1 ms to a minute.
const EDGES: u32 = 40;

/// One of them, in microseconds.
fn edge_micros(edge: u32) -> u64 {
    ((f64::from(edge) / 2.0).exp2() * 100.0) as u64
}

/// How many requests the new release must have answered for the comparison of this number, from 0.
pub fn due_at(look: u32) -> u64 {
    FIRST_LOOK.saturating_mul(1u64.checked_shl(look).unwrap_or(u64::MAX))
}

/// The chance that this comparison may take.
fn level(look: u32) -> f64 {
    let number = f64::from(look) + 1.0;
    CHANCE / (number * (number + 1.0))
}

/// Which of both things was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Finding {
    /// It fails more.
    MoreErrors,
    /// It is slower.
    Slower,
}

/// Compares both releases where enough was answered since the last time: their copies in the shadow step, what visitors
/// were answered otherwise. Notes in `evidence` what was looked at.
pub fn compare_when_due(evidence: &mut Evidence, copying: bool) -> Option<Finding> {
    let (new, alike) =
        if copying { (&evidence.copies, &evidence.copied) } else { (&evidence.new, &evidence.old) };
    if let Some(suspected) = &evidence.suspected
        && let Some(still_slower) = confirm(new, alike, suspected, evidence.looks)
    {
        evidence.suspected = None;
        if still_slower {
            return Some(Finding::Slower);
        }
    }
    if new.requests < due_at(evidence.looks) {
        return None;
    }
    let finding = compare(new, &evidence.old, alike, evidence.looks);
    evidence.looks += 1;
    if finding == Some(Finding::Slower) {
        let suspicion = Suspicion { new: new.clone(), old: alike.clone() };
        evidence.suspected.get_or_insert_with(|| Box::new(suspicion));
        return None;
    }
    finding
}

/// Compares for this time, counted from 0: failures with all that the previous one answered, times with `alike`, which were
/// measured in the same way.
fn compare(new: &Answered, old: &Answered, alike: &Answered, look: u32) -> Option<Finding> {
    let level = level(look);
    if old.requests < FIRST_LOOK {
        let proven = beyond_binomial(new.failed, new.requests, TOO_MANY) <= level;
        return (proven && rate(new) > TOO_MANY).then_some(Finding::MoreErrors);
    }
    let matters = rate(new) >= (rate(old) * 1.5).max(rate(old) + 0.005);
    if matters && by_chance((new.failed, new.requests), (old.failed, old.requests)) <= level {
        return Some(Finding::MoreErrors);
    }
    slower(new, alike, level / f64::from(EDGES)).then_some(Finding::Slower)
}

/// Whether the new release, once found slower, still is: among what both answered since. `None` until it has answered
/// enough since. If the previous one answered too few since, all of its answers are compared with.
fn confirm(new: &Answered, old: &Answered, suspected: &Suspicion, look: u32) -> Option<bool> {
    let new = new.since(&suspected.new);
    let old_since = old.since(&suspected.old);
    let old = if old_since.requests < FIRST_LOOK { old } else { &old_since };
    (new.requests >= FIRST_LOOK).then(|| slower(&new, old, level(look) / f64::from(EDGES)))
}

fn slower(new: &Answered, old: &Answered, level: f64) -> bool {
    let (Some(now), Some(before)) = (new.latencies.percentile(0.95), old.latencies.percentile(0.95)) else {
        return false;
    };
    // A little less than twice: both are rounded to a class of durations.
    if now < before * 1.95 || now < before + 20.0 {
        return false;
    }
    let above = |answered: &Answered, edge: u32| answered.latencies.longer_than(edge_micros(edge));
    (0..EDGES).any(|edge| {
        let slow = above(new, edge);
        slow > 0 && by_chance((slow, new.requests), (above(old, edge), old.requests)) <= level
    })
}

fn rate(seen: &Answered) -> f64 {
    seen.failed as f64 / seen.requests.max(1) as f64
}

/// The chance of at least so many marked among the first ones, if marks fell on all alike (Fisher's exact test,
/// one-sided).
fn by_chance((marked, of): (u64, u64), (others, of_others): (u64, u64)) -> f64 {
    if marked == 0 {
        return 1.0;
    }
    Hypergeometric::new(of + of_others, (marked + others).min(of + of_others), of)
        .map_or(1.0, |all| all.sf(marked - 1))
}

/// The chance of at least so many of all, if each were marked with this probability.
fn beyond_binomial(marked: u64, of: u64, probability: f64) -> f64 {
    if marked == 0 {
        return 1.0;
    }
    Binomial::new(probability, of).map_or(1.0, |all| all.sf(marked - 1))
}

/// Whether a copy's answer counts as failed beside the visitor's, by their status codes (RFC 9110): none, one of 500 and
/// above, or a refusal where the visitor was served.
pub fn copy_failed(visitors: u16, copys: Option<u16>) -> bool {
    copys.is_none_or(|copys| copys >= 500 || (copys >= 400 && !(400..500).contains(&visitors)))
}

/// The finding in a sentence with its numbers; in the shadow step of the copies.
pub fn reason(finding: Finding, rollout: &Rollout) -> Reason {
    let copying = rollout.shadow == Shadowing::Copying;
    let evidence = &rollout.evidence;
    let (new, old) =
        if copying { (&evidence.copies, &evidence.copied) } else { (&evidence.new, &evidence.old) };
    let untouched = if copying { "; no visitor was touched" } else { "" };
    match finding {
        Finding::MoreErrors => {
            let what = if copying { "copied requests" } else { "requests" };
            let beside = beside(rollout.from, &evidence.old);
            let sentence =
                format!("{} failed{beside}{untouched}", failures_of(new.failed, new.requests, what));
            Reason::new(ReasonCode::MoreErrors, sentence)
        }
        Finding::Slower => {
            let time = |seen: &Answered| seen.latencies.percentile(0.95).unwrap_or(0.0);
            let from = rollout.from.map_or_else(String::new, |from| format!("release {from} "));
            let sentence = format!(
                "95 of 100 requests took up to {:.0} ms, with {from}up to {:.0} ms ({} and {} requests compared){untouched}",
                time(new),
                time(old),
                new.requests,
                old.requests
            );
            Reason::new(ReasonCode::Slower, sentence)
        }
    }
}

/// "41 of 412 requests (10.0 %)".
pub fn failures(failed: u64, requests: u64) -> String {
    failures_of(failed, requests, "requests")
}

fn failures_of(failed: u64, requests: u64, what: &str) -> String {
    let percent = failed as f64 / requests.max(1) as f64 * 100.0;
    let of = format!("{failed} of {requests} {what}");
    match percent {
        0.0 => of,
        _ if percent < 0.1 => format!("{of} ({percent:.2} %)"),
        _ => format!("{of} ({percent:.1} %)"),
    }
}

fn beside(from: Option<ReleaseNumber>, old: &Answered) -> String {
    match from {
        Some(from) if old.requests >= FIRST_LOOK => {
            format!(", of release {from} in the same time {} of {}", old.failed, old.requests)
        }
        _ => format!(", more than {:.0} in 100", TOO_MANY * 100.0),
    }
}

/// The grounds of a good verdict, in words: the comparison, or the checks alone if too few requests came.
pub fn grounds(rollout: &Rollout) -> String {
    let (new, old) = (&rollout.evidence.new, &rollout.evidence.old);
    if rollout.purpose == Purpose::Back {
        return "known from before, judged by its checks alone".to_owned();
    }
    if rollout.from.is_none() {
        return "the first one, judged by its checks alone".to_owned();
    }
    let copies = rollout.evidence.copies.requests;
    if rollout.evidence.looks == 0 && copies >= FIRST_LOOK {
        let copied =
            failures_of(rollout.evidence.copies.failed, rollout.evidence.copies.requests, "copied requests");
        return format!("{copied} failed, and too few visitors came to compare");
    }
    if rollout.evidence.looks == 0 {
        return match new.requests {
            0 => "judged by its checks alone: no requests came".to_owned(),
            1 => "judged by its checks alone: 1 request is too few to compare".to_owned(),
            few => format!("judged by its checks alone: {few} requests are too few to compare"),
        };
    }
    let begin = format!("{} failed", failures(new.failed, new.requests));
    match rollout.from {
        Some(from) if old.requests >= FIRST_LOOK => {
            format!("{begin}, of release {from}: {} of {}", old.failed, old.requests)
        }
        _ => begin,
    }
}

#[cfg(test)]
mod tests;
