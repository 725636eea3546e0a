//! Following something long to its end: a line that redraws in a terminal, plain lines in a pipe.

use std::io::IsTerminal;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};
use mainyard_core::cluster::State;
use mainyard_core::model::{ReleaseNumber, ReplicaState, RolloutState, Signal, Target, WorkloadState};
use mainyard_core::routing::replicas_of;

use crate::client::{Client, Snapshot};
use crate::words::{Failure, Paint, shape};

/// In a pipe, a line at most this often.
const LINE_EVERY: Duration = Duration::from_millis(500);

/// Shows how far something is.
struct Progress {
    bar: Option<ProgressBar>,
    begun: Instant,
    last: Option<(Instant, String)>,
}

impl Progress {
    fn new(length: u64) -> Progress {
        let bar = std::io::stdout().is_terminal().then(|| {
            let bar = ProgressBar::with_draw_target(Some(length), indicatif::ProgressDrawTarget::stdout());
            let template = if crate::words::colours() { "{bar:28.blue/238} {msg}" } else { "{bar:28} {msg}" };
            if let Ok(style) = ProgressStyle::with_template(template) {
                bar.set_style(style.progress_chars("━━─"));
            }
            bar
        });
        Progress { bar, begun: Instant::now(), last: None }
    }

    fn show(&mut self, position: u64, length: u64, words: String) {
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

    fn end(self, signal: Signal, words: &str) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
        println!(
            "{} {words} · {:.1} s",
            Paint::stdout().signal(signal, shape(signal)),
            self.begun.elapsed().as_secs_f64()
        );
    }
}

struct Counts {
    wanted: usize,
    ready: usize,
    leaving: usize,
}

fn counts(state: &State, target: &Target) -> Counts {
    let wanted = state.workloads.get(target).map_or(0, |workload| workload.wanted as usize);
    let in_state = |wanted: ReplicaState| {
        replicas_of(&state.replicas, target).filter(|replica| replica.state == wanted).count()
    };
    Counts { wanted, ready: in_state(ReplicaState::Ready), leaving: in_state(ReplicaState::Draining) }
}

/// Until as many replicas are ready as wanted, and no more.
pub async fn scaling(client: &Client, target: &Target) -> Result<(), Failure> {
    let mut snapshot = client.snapshot().await?;
    let mut progress = Progress::new(1);
    let ended = client.follow(&mut snapshot, |now: &Snapshot| {
        let Counts { wanted, ready, leaving } = counts(&now.state, target);
        let workload = now.state.workloads.get(target);
        let there = ready + leaving;
        let (position, length) = if there > wanted { (wanted, there) } else { (ready, wanted) };
        let left = if leaving > 0 { format!(", {leaving} leaving") } else { String::new() };
        progress.show(position as u64, length as u64, format!("{ready} of {wanted} ready{left}"));
        let Some(workload) = workload else { return Some(Err(format!("{target} was removed meanwhile"))) };
        match workload.state {
            WorkloadState::Steady | WorkloadState::Off => Some(Ok(wanted)),
            WorkloadState::Failing => {
                let reason = workload.reason.as_ref().map(ToString::to_string).unwrap_or_default();
                Some(Err(format!("{ready} of {wanted} ready; {reason}")))
            }
            _ => None,
        }
    });
    match ended.await? {
        Ok(wanted) => {
            let words = if wanted == 0 {
                format!("{target} is off")
            } else {
                format!("{target} is steady, {wanted} of {wanted} ready")
            };
            progress.end(if wanted == 0 { Signal::Rest } else { Signal::Good }, &words);
            Ok(())
        }
        Err(words) => {
            progress.end(Signal::Fault, &format!("{target} does not get there"));
            Err(Failure::failed(words))
        }
    }
}

/// Until a release's rollout comes to a verdict.
pub async fn rollout(client: &Client, target: &Target, release: ReleaseNumber) -> Result<(), Failure> {
    let mut snapshot = client.snapshot().await?;
    let mut progress = Progress::new(1);
    let key = (target.clone(), release);
    let ended = client.follow(&mut snapshot, |now: &Snapshot| {
        let Some(rollout) = now.state.rollouts.get(&key) else {
            return Some(Err(format!("{target} was removed meanwhile")));
        };
        let wanted = now.state.workloads.get(target).map_or(0, |workload| workload.wanted as usize);
        let ready = |of_new: bool| {
            let all = replicas_of(&now.state.replicas, target)
                .filter(|replica| replica.state == ReplicaState::Ready);
            all.filter(|replica| (replica.release == release) == of_new).count()
        };
        let (new, old) = (ready(true), ready(false));
        let before = rollout.from.map_or(String::new(), |from| format!(", {old} of release {from}"));
        progress.show(
            new as u64,
            wanted as u64,
            format!("{}: {new} of {wanted} ready in release {release}{before}", rollout.state),
        );
        if rollout.state == RolloutState::Superseded {
            return Some(Err(rollout
                .verdict
                .clone()
                .unwrap_or_else(|| "a newer release took its place".to_owned())));
        }
        let verdict = rollout.verdict.clone().unwrap_or_default();
        match rollout.state {
            RolloutState::Done => Some(Ok(verdict)),
            RolloutState::Awaiting | RolloutState::WentBack | RolloutState::Cancelled => {
                let code =
                    rollout.reason.as_ref().map_or(String::new(), |reason| format!("{}: ", reason.code));
                Some(Err(format!("{code}{verdict}")))
            }
            _ => None,
        }
    });
    match ended.await? {
        Ok(verdict) => {
            progress.end(Signal::Good, &format!("done: {verdict}"));
            Ok(())
        }
        Err(verdict) => {
            progress.end(Signal::Caution, &format!("{target} waits for a person"));
            let next = format!(
                "Read more with: mainyard logs {target}    Take it back with: mainyard rollback {target}"
            );
            Err(Failure::failed(format!("{verdict}\n{next}")))
        }
    }
}
