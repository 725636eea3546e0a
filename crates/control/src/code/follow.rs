//! What the member who pushes reads along: the builds, the changes, the rollouts, and the address at the end.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use actix_web::web::Bytes;
use jiff::Timestamp;
use mainyard_builds::{Build, BuildLog, BuildState, Delivery, DeliveryState, LogLine};
use mainyard_core::completion::{
    ReplicaCounts, RolloutOutcome, ScaleOutcome, rollout_outcome, scale_limit, scale_outcome,
};
use mainyard_core::declare::{ChangeKind, ChangeLine};
use mainyard_core::model::{Signal, Target};
use mainyard_core::record::State;
use mainyard_core::untrusted_text::visible_lines;
use mainyard_core::views::EnvironmentView;
use mainyard_git::hosting::pkt_line::{self, Band};
use tokio::sync::mpsc;

use super::repositories;
use crate::Control;
use crate::builds::{Following, Shared};

/// How often rollouts and deliveries are looked at.
const LOOK_EVERY: Duration = Duration::from_millis(200);
/// A client that hears nothing for so long may think that the connection is cut.
const ALIVE_EVERY: Duration = Duration::from_secs(5);
/// Pieces that are sent ahead of the client; more wait, for so long.
const AHEAD: usize = 256;
const READS_WITHIN: Duration = Duration::from_secs(30);

/// The way to the client of a push. Nothing that is said fails when it has gone.
#[derive(Debug, Clone)]
pub(super) struct Output {
    to: mpsc::Sender<Bytes>,
    shows_progress: Arc<AtomicBool>,
    has_gone: Arc<AtomicBool>,
}

impl Output {
    /// The output, and what is sent by it.
    pub(super) fn new() -> (Output, mpsc::Receiver<Bytes>) {
        let (to, sent) = mpsc::channel(AHEAD);
        (Output { to, shows_progress: Arc::default(), has_gone: Arc::default() }, sent)
    }

    /// Whether its client shows what is said beside the report.
    pub(super) fn shows_progress(&self, shows: bool) {
        self.shows_progress.store(shows, Ordering::Relaxed);
    }

    /// Bytes of the answer itself.
    pub(super) async fn send(&self, bytes: Vec<u8>) {
        if self.has_gone.load(Ordering::Relaxed) {
            return;
        }
        // A client that has left, or does not read, hears no more; the push goes on.
        if self.to.send_timeout(bytes.into(), READS_WITHIN).await.is_err() {
            self.has_gone.store(true, Ordering::Relaxed);
        }
    }

    /// A line for the member, or several.
    pub(super) async fn say(&self, text: &str) {
        if self.shows_progress.load(Ordering::Relaxed) {
            self.send(pkt_line::in_band(Band::Progress, format!("{text}\n").as_bytes())).await;
        }
    }

    /// Nothing to say, so that the client knows that somebody is there.
    async fn keep_alive(&self) {
        if self.shows_progress.load(Ordering::Relaxed) {
            self.send(pkt_line::line(&[Band::Progress as u8])).await;
        }
    }

    /// The answer is whole.
    pub(super) async fn end(&self) {
        if self.shows_progress.load(Ordering::Relaxed) {
            self.send(pkt_line::FLUSH.to_vec()).await;
        }
    }
}

/// Lets the client read along with a build; gives it as it ended.
pub(super) async fn tell_build(control: &Shared, number: u64, output: &Output) -> Option<Build> {
    let mut following = Following::new(Arc::clone(control), number);
    let mut log = BuildLog::default();
    loop {
        let events = match tokio::time::timeout(ALIVE_EVERY, following.next()).await {
            Ok(Some(events)) => events,
            Ok(None) => break,
            Err(_) => {
                output.keep_alive().await;
                continue;
            }
        };
        for LogLine { signal, indent, text } in events.into_iter().flat_map(|event| log.take(event)) {
            let mark = signal.map(|signal| format!("{} ", signal.shape())).unwrap_or_default();
            output.say(&format!("{:indent$}{mark}{text}", "")).await;
        }
    }
    let view = log.last()?;
    let mark = if view.build.state == BuildState::Done { Signal::Good } else { Signal::Fault };
    output.say(&format!("{} {}", mark.shape(), view.ending())).await;
    Some(view.build.clone())
}

/// A commit, in a line.
pub(super) fn header(target: &Target, delivery: &Delivery) -> String {
    let short: String = delivery.commit.chars().take(12).collect();
    format!("{target}: {short}, {}", visible_lines(&delivery.subject))
}

/// Lets the client read along with a commit, until it is rolled out or has ended otherwise.
pub(super) async fn tell_delivery(
    control: &Shared,
    target: &Target,
    commit: &str,
    told_builds: bool,
    output: &Output,
) {
    let Some(delivery) = delivery_of(control, target, commit).await else { return };
    if !told_builds && !delivery.state.has_ended() {
        output.say(&header(target, &delivery)).await;
    }
    for build in delivery.builds.iter().filter(|_| !told_builds) {
        tell_build(control, *build, output).await;
    }
    let Some(delivery) = until_ended(control, target, commit, output).await else { return };
    let signal = match delivery.state {
        DeliveryState::Failed => Signal::Fault,
        DeliveryState::Replaced | DeliveryState::Building => Signal::Caution,
        DeliveryState::Built | DeliveryState::Declared => Signal::Good,
    };
    output.say(&format!("{} {}", signal.shape(), visible_lines(&delivery.says))).await;
    if delivery.state == DeliveryState::Failed {
        output.say(&format!("{target} was not changed")).await;
    }
    for change in &delivery.changes {
        let sign = match change.kind {
            ChangeKind::Add => "+",
            ChangeKind::Change => "~",
            ChangeKind::Remove => "-",
        };
        output.say(&format!("  {sign} {}  {}", change.object, visible_lines(&change.words))).await;
    }
    if delivery.state == DeliveryState::Declared {
        tell_rollouts(control, target, &delivery, output).await;
    }
}

async fn delivery_of(control: &Control, target: &Target, commit: &str) -> Option<Delivery> {
    let kept = repositories::find(&control.store, target).await.ok()??;
    kept.code.delivery.filter(|delivery| delivery.commit == commit)
}

/// The delivery once it has ended; `None` when another took its place.
async fn until_ended(control: &Control, target: &Target, commit: &str, output: &Output) -> Option<Delivery> {
    let mut changes = control.code.changes.subscribe();
    loop {
        changes.mark_unchanged();
        let Some(delivery) = delivery_of(control, target, commit).await else {
            output.say("a newer push took the place of this one").await;
            return None;
        };
        if delivery.state.has_ended() {
            return Some(delivery);
        }
        if tokio::time::timeout(ALIVE_EVERY, changes.changed()).await.is_err() {
            output.keep_alive().await;
        }
    }
}

/// Lets the client read along with the rollouts, and says where the application is reached.
async fn tell_rollouts(control: &Control, target: &Target, delivery: &Delivery, output: &Output) {
    let moved = delivery.changes.iter().filter(|line| line.kind != ChangeKind::Remove);
    let mut is_well = true;
    for line in moved.filter(|line| line.workload.is_some()) {
        is_well &= tell_rollout(control, target, line, output).await;
    }
    if !is_well {
        output.say(&format!("for the cause: mainyard why {target}")).await;
        return;
    }
    let addresses = addresses(control, &control.leader.published.read().await.0, target, delivery);
    for address in addresses {
        output.say(&format!("  open {address}")).await;
    }
}

/// Where visitors reach what a commit declares.
pub(super) fn addresses(
    control: &Control,
    state: &State,
    target: &Target,
    delivery: &Delivery,
) -> BTreeSet<String> {
    let ports = control.gateway_ports();
    let view = EnvironmentView::of(state, &target.environment, ports, Timestamp::now());
    let declared = delivery.declaration.as_deref().unwrap_or_default();
    let names = mainyard_builds::declaration::workloads(declared);
    let workloads = names.iter().filter_map(|name| view.workloads.get(name));
    let services: BTreeSet<_> = workloads.flat_map(|workload| &workload.services).collect();
    let routes = view.routes.iter().filter(|(_, route)| {
        route.legs.iter().any(|leg| services.iter().any(|service| **service == leg.service))
    });
    let routes = routes.filter_map(|(name, _)| state.routes.get(&Target::new(&target.environment, name)));
    routes.map(|route| state.url_of(route, ports.http, ports.https)).collect()
}

/// How a rollout or a scale stands.
enum Standing {
    GoesOn(String),
    Well(String),
    Ill(String),
}

/// Lets the client read along with one workload; gives whether it got there.
async fn tell_rollout(control: &Control, target: &Target, line: &ChangeLine, output: &Output) -> bool {
    let Some(name) = &line.workload else { return true };
    let workload = Target::new(&target.environment, name);
    let begun = Instant::now();
    let (mut said, mut alive) = (String::new(), Instant::now());
    loop {
        let (standing, limit) = {
            let published = control.leader.published.read().await;
            let limit =
                published.0.workloads.get(&workload).map_or(Duration::ZERO, |it| scale_limit(it).duration());
            (standing(&published.0, &workload, line), limit)
        };
        let took = format!("{:.1} s", begun.elapsed().as_secs_f64());
        match standing {
            Standing::Well(words) => {
                output.say(&format!("{} {words} · {took}", Signal::Good.shape())).await;
                return true;
            }
            Standing::Ill(words) => {
                output.say(&format!("{} {words} · {took}", Signal::Fault.shape())).await;
                return false;
            }
            Standing::GoesOn(words) if begun.elapsed() > limit * 3 => {
                output.say(&format!("{} it goes on without you: {words}", Signal::Caution.shape())).await;
                return false;
            }
            Standing::GoesOn(words) if words != said => {
                output.say(&format!("  {words}")).await;
                (said, alive) = (words, Instant::now());
            }
            Standing::GoesOn(_) if alive.elapsed() > ALIVE_EVERY => {
                output.keep_alive().await;
                alive = Instant::now();
            }
            Standing::GoesOn(_) => {}
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
}

fn standing(state: &State, workload: &Target, line: &ChangeLine) -> Standing {
    let ReplicaCounts { wanted, ready, .. } = ReplicaCounts::of(state, workload);
    let counts = format!("{} of {wanted} ready", ready.min(wanted));
    if let Some(release) = line.release {
        let Some(rollout) = state.rollouts.get(&(workload.clone(), release)) else {
            return Standing::Ill(format!("{workload} was removed meanwhile"));
        };
        let because = || rollout.reason.as_ref().map_or_else(String::new, |reason| format!(": {reason}"));
        match rollout_outcome(rollout) {
            None => return Standing::GoesOn(format!("{workload}: release {release}, {counts}")),
            Some(RolloutOutcome::Done | RolloutOutcome::Untried) => {}
            Some(RolloutOutcome::Asks(question)) => {
                return Standing::Ill(format!(
                    "{workload}: release {release} waits for an answer: {question}"
                ));
            }
            Some(RolloutOutcome::WentBack) => {
                return Standing::Ill(format!("{workload}: release {release} went back{}", because()));
            }
            Some(RolloutOutcome::Awaiting) => {
                return Standing::Ill(format!("{workload}: release {release} is held{}", because()));
            }
            Some(RolloutOutcome::Cancelled) => {
                return Standing::Ill(format!("{workload}: release {release} was cancelled"));
            }
            Some(RolloutOutcome::Superseded) => {
                return Standing::Ill(format!("{workload}: a newer release took the place of {release}"));
            }
        }
    }
    match scale_outcome(state, workload) {
        None => Standing::GoesOn(format!("{workload}: {counts}")),
        Some(ScaleOutcome::Off) => Standing::Well(format!("{workload} is off")),
        Some(ScaleOutcome::Steady | ScaleOutcome::ReadyInRollout) => {
            Standing::Well(format!("{workload}: {counts}"))
        }
        Some(ScaleOutcome::Removed) => Standing::Ill(format!("{workload} was removed meanwhile")),
        Some(ScaleOutcome::Failing(reason)) => {
            let because = reason.map_or_else(String::new, |reason| format!(": {reason}"));
            Standing::Ill(format!("{workload}: {counts}{because}"))
        }
    }
}
