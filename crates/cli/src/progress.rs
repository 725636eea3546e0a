//! Following something long to its end: a line that redraws in a terminal, plain lines in a pipe.

use std::io::IsTerminal;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};
use mainyard_core::completion::{
    ReplicaCounts, RolloutOutcome, ScaleOutcome, rollout_outcome, scale_limit, scale_outcome,
};
use mainyard_core::model::{
    ReleaseId, ReleaseNumber, ReplicaState, Rollout, RolloutState, Shadowing, Signal, Target,
};
use mainyard_core::record::State;
use mainyard_core::routing::replicas_of;

use crate::client::{Client, Snapshot};
use crate::commands::logs::last_of;
use crate::terminal::{Failure, Paint, shape};

/// In a pipe, a line at most this often.
const LINE_EVERY: Duration = Duration::from_millis(500);

/// Shows how far something is.
pub(crate) struct Progress {
    bar: Option<ProgressBar>,
    begun: Instant,
    last: Option<(Instant, String)>,
}

impl Progress {
    pub(crate) fn new(length: u64) -> Progress {
        let bar = std::io::stdout().is_terminal().then(|| {
            let bar = ProgressBar::with_draw_target(Some(length), indicatif::ProgressDrawTarget::stdout());
            let template =
                if crate::terminal::colours() { "{bar:28.blue/238} {msg}" } else { "{bar:28} {msg}" };
            if let Ok(style) = ProgressStyle::with_template(template) {
                bar.set_style(style.progress_chars("━━─"));
            }
            bar
        });
        Progress { bar, begun: Instant::now(), last: None }
    }

    pub(crate) fn show(&mut self, position: u64, length: u64, words: String) {
        if let Some(bar) = &self.bar {
            bar.set_length(length.max(1));
            bar.set_position(position);
            bar.set_message(format!("{words} · {:.1} s", self.begun.elapsed().as_secs_f64()));
            return;
        }
        let due = self.last.as_ref().is_none_or(|(at, said)| *said != words && at.elapsed() >= LINE_EVERY);
        if due {
            println!("{words}");
            self.last = Some((Instant::now(), words));
        }
    }

    pub(crate) fn clear(&self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }

    pub(crate) fn end(self, signal: Signal, words: &str) {
        self.clear();
        println!(
            "{} {words} · {:.1} s",
            Paint::stdout().signal(signal, shape(signal)),
            self.begun.elapsed().as_secs_f64()
        );
    }
}

/// Until as many replicas are ready as wanted, and no more; or until the workload's deadline has passed.
pub(crate) async fn scaling(client: &Client, target: &Target) -> Result<(), Failure> {
    let mut snapshot = client.snapshot().await?;
    let mut progress = Progress::new(1);
    let limit = snapshot.state.workloads.get(target).map_or(Duration::ZERO, |it| scale_limit(it).duration());
    let ended = client.follow(&mut snapshot, |now: &Snapshot| {
        let ReplicaCounts { wanted, ready, leaving } = ReplicaCounts::of(&now.state, target);
        let there = ready + leaving;
        let (position, length) = if there > wanted { (wanted, there) } else { (ready, wanted) };
        let left = if leaving > 0 { format!(", {leaving} leaving") } else { String::new() };
        // While it moves both releases are ready at once.
        let words = format!("{} of {wanted} ready{left}", ready.min(wanted));
        progress.show(position as u64, length as u64, words);
        Some(match scale_outcome(&now.state, target)? {
            ScaleOutcome::Steady | ScaleOutcome::Off => Ok((wanted, "steady")),
            ScaleOutcome::ReadyInRollout => {
                Ok((wanted, "in the middle of a rollout that waits for a person"))
            }
            ScaleOutcome::Failing(reason) => {
                let reason = reason.as_ref().map(ToString::to_string).unwrap_or_default();
                Err(format!("{ready} of {wanted} ready; {reason}"))
            }
            ScaleOutcome::Removed => Err(format!("{target} was removed while you waited")),
        })
    });
    let ended = match tokio::time::timeout(limit, ended).await {
        Ok(ended) => ended?,
        Err(_) => Err(not_in_time(&snapshot.state, target, limit)),
    };
    match ended {
        Ok((wanted, how)) => {
            let words = if wanted == 0 {
                format!("{target} is off")
            } else {
                format!("{target} is {how}, {wanted} of {wanted} ready")
            };
            progress.end(if wanted == 0 { Signal::Rest } else { Signal::Good }, &words);
            Ok(())
        }
        Err(words) => {
            progress.end(Signal::Fault, &format!("{target} does not become ready"));
            Err(Failure::failed(words))
        }
    }
}

/// How it stands when the time is over.
fn not_in_time(state: &State, target: &Target, limit: Duration) -> String {
    let ReplicaCounts { wanted, ready, .. } = ReplicaCounts::of(state, target);
    let reason = state.workloads.get(target).and_then(|workload| workload.reason.as_ref());
    let reason = reason.map_or("no replica says why".to_owned(), ToString::to_string);
    format!("{ready} of {wanted} ready after {} s; {reason}", limit.as_secs())
}

/// Follows until `ends` says so; an interrupt ends the following, not what is followed.
async fn watch<T>(
    client: &Client,
    target: &Target,
    release: ReleaseNumber,
    progress: &mut Progress,
    ends: impl Fn(&Rollout) -> Option<T>,
) -> Result<T, Failure> {
    let mut snapshot = client.snapshot().await?;
    let key = (target.clone(), release);
    let last_time = last_time(&snapshot.state, target, release);
    let ended = client.follow(&mut snapshot, |now: &Snapshot| {
        let Some(rollout) = now.state.rollouts.get(&key) else {
            return Some(Err(format!("{target} was removed while you waited")));
        };
        let wanted = now.state.workloads.get(target).map_or(0, |workload| workload.wanted as usize);
        let (position, words) = how_far(&now.state, rollout, wanted, last_time.as_deref());
        progress.show(position as u64, wanted as u64, words);
        ends(rollout).map(Ok)
    });
    tokio::select! {
        ended = ended => ended?.map_err(Failure::failed),
        _ = tokio::signal::ctrl_c() => {
            progress.clear();
            println!("{target}: the rollout to {release} goes on without being followed\nSee it with: mainyard show {target}");
            Err(Failure::said())
        }
    }
}

/// How long the last rollout took that was done, for comparison.
fn last_time(state: &State, target: &Target, release: ReleaseNumber) -> Option<String> {
    let done = state.rollouts.values().rev().find(|rollout| {
        rollout.workload == *target && rollout.to < release && rollout.state == RolloutState::Done
    })?;
    let took = done.ended?.duration_since(done.started).as_secs_f64();
    Some(format!("last time {took:.1} s"))
}

/// Ready replicas of the new release, and how far it is in words.
fn how_far(state: &State, rollout: &Rollout, wanted: usize, last_time: Option<&str>) -> (usize, String) {
    let ready = |of: Option<ReleaseNumber>| {
        let all = replicas_of(&state.replicas, &rollout.workload);
        all.filter(|replica| replica.state == ReplicaState::Ready && Some(replica.release) == of).count()
    };
    let (new, old) = (ready(Some(rollout.to)), ready(rollout.from));
    let before = rollout.from.map_or(String::new(), |from| format!(", {old} of release {from}"));
    let copying = match rollout.shadow {
        Shadowing::Copying => {
            let copies = &rollout.evidence.copies;
            format!(", {} copies answered, {} failed", copies.requests, copies.failed)
        }
        _ => String::new(),
    };
    let share =
        rollout.share.map_or(String::new(), |share| format!(", {} % of requests", f64::from(share) / 10.0));
    let seen = &rollout.evidence.new;
    let served = match seen.requests {
        0 => String::new(),
        requests => format!(", {requests} answered, {} failed", seen.failed),
    };
    let last_time = last_time.map_or(String::new(), |words| format!(", {words}"));
    let first = rollout.first.as_ref().filter(|first| first.holds_back());
    let first = first.map_or(String::new(), |first| format!("run_first {}, ", first.words()));
    let rule = state.workloads.get(&rollout.workload).map(|workload| &workload.rule);
    let deadline = rule.map_or(String::new(), |rule| format!(", deadline {}", rule.deadline));
    let words = format!(
        "{}: {first}{new} of {wanted} ready in release {}{before}{copying}{share}{served}{deadline}{last_time}",
        rollout.state, rollout.to
    );
    (new, words)
}

/// Lines of its replicas' output that are reported of a release that failed.
const LINES_OF_FAILED: usize = 5;

/// Until a release's rollout comes to a verdict.
pub(crate) async fn rollout(client: &Client, target: &Target, release: ReleaseNumber) -> Result<(), Failure> {
    let mut progress = Progress::new(1);
    let ended = watch(client, target, release, &mut progress, |rollout| {
        rollout_outcome(rollout).map(|_| rollout.clone())
    });
    let rollout = ended.await?;
    let verdict = rollout.verdict.clone().unwrap_or_default();
    let next = match rollout_outcome(&rollout) {
        Some(RolloutOutcome::Untried) => {
            progress.end(Signal::Rest, &format!("untried: {verdict}"));
            return Ok(());
        }
        Some(RolloutOutcome::Done) | None => {
            progress.end(Signal::Good, &format!("done: {verdict}"));
            return Ok(());
        }
        Some(RolloutOutcome::Asks(question)) => {
            progress.end(Signal::Caution, &format!("waits for your decision: {question}"));
            println!("Continue with: mainyard advance {target}    Go back with: mainyard cancel {target}");
            return Ok(());
        }
        Some(RolloutOutcome::Superseded) => {
            progress.end(Signal::Caution, &format!("{target} moves to a newer release"));
            return Err(Failure::failed(verdict));
        }
        Some(RolloutOutcome::Cancelled) => {
            progress.end(Signal::Caution, &format!("{target} went back, as a person said"));
            return Err(Failure::failed(format!("{}{verdict}", code_of(&rollout))));
        }
        Some(RolloutOutcome::Awaiting) => {
            progress.end(Signal::Caution, &format!("{target} waits for a person"));
            format!(
                "Read more with: mainyard logs {target}    Go back with: mainyard cancel {target}    Or continue with: mainyard advance {target}"
            )
        }
        Some(RolloutOutcome::WentBack) => {
            progress.end(Signal::Caution, &format!("{target} went back"));
            format!("Read more with: mainyard show {target}@{release}")
        }
    };
    let release = ReleaseId { workload: target.clone(), number: release };
    let lines = last_of(client, &release, None, LINES_OF_FAILED).await;
    let lines: String = lines.iter().map(|line| format!("\n  │ {line}")).collect();
    Err(Failure::failed(format!("{}{verdict}{lines}\n{next}", code_of(&rollout))))
}

fn code_of(rollout: &Rollout) -> String {
    rollout.reason.as_ref().map_or(String::new(), |reason| format!("{}: ", reason.code))
}

/// Until a rollout that was cancelled has gone back.
pub(crate) async fn going_back(
    client: &Client,
    target: &Target,
    release: ReleaseNumber,
) -> Result<(), Failure> {
    let mut progress = Progress::new(1);
    let back = watch(client, target, release, &mut progress, |rollout| {
        (!rollout.state.is_open()).then(|| rollout.verdict.clone().unwrap_or_default())
    });
    let verdict = back.await?;
    progress.end(Signal::Good, &verdict);
    Ok(())
}
