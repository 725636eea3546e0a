//! The state machine by which a node agent runs one replica, without I/O.
//!
//! The agent tells it what happened ([`Event`]) and when, in milliseconds of a clock that only goes forward; it
//! answers with what to do ([`Do`]). Starting, probing, pausing and giving reasons are decided here.

mod ends;
mod probing;

use crate::link::{ReplicaReport, RunOrder};
use crate::model::{Bytes, FirstOutcome, FirstState, Reason, ReplicaState, Span};

/// A replica that ran this long without ending is no longer held to have trouble.
const TROUBLE_FORGOTTEN_AFTER: u64 = 60_000;
/// A run that goes on for so much longer than the one that ended has other troubles.
const A_RUN_LASTS_AFTER: u64 = 10_000;
/// The first pause before a process is started again; each further one is twice as long.
const FIRST_PAUSE: u64 = 1000;
const LONGEST_PAUSE: u64 = 60_000;
/// One keeper that is lost is an accident and is replaced; so many in a row are a fault.
const MANY_KEEPERS_LOST: u32 = 5;
/// A port that refuses for this long makes the agent look what the process listens on.
const LOOK_AT_PORTS_AFTER: u64 = 1500;
/// A run that was ready and not again so often within so many milliseconds flaps.
const FLAPS: usize = 3;
const FLAPS_WITHIN: u64 = 5 * 60_000;
/// A process without any check is ready when it has run this long.
const UNCHECKED_READY_AFTER: u64 = 300;

/// Why a probe failed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ProbeFault {
    /// It was answered in TLS.
    Tls,
    /// The connection was refused.
    Refused,
    /// No answer in time.
    Late,
    /// An answer, but not one of success.
    Status(u16),
    /// Something else, in words.
    Other(String),
}

/// How a process ended.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Ended {
    /// Its exit status.
    pub code: Option<i32>,
    /// The signal that ended it.
    pub signal: Option<i32>,
    /// How often the kernel killed for memory in this run.
    pub memory_kills: u64,
    /// Whether its keeper was there to say so.
    pub told: bool,
}

/// How much a replica has written, once it is as much as it may.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DiskFull {
    /// Bytes in its root file system that are not the image's.
    pub written: Bytes,
    /// The directory that holds the most of it, where that was found.
    pub most_in: Option<String>,
}

impl DiskFull {
    /// Whether so much written counts as full. The file system keeps some of it for its own records, so that a
    /// program is refused a little before the limit.
    pub fn counts(written: Bytes, limit: Bytes) -> bool {
        written.bytes() + Bytes::mib(4).bytes().min(limit.bytes() / 20) >= limit.bytes()
    }
}

/// Something that happened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// The order came.
    Begin,
    /// It was found running, after the agent itself was started again.
    Found,
    /// The image is on the node.
    Fetched,
    /// The image can't be fetched or used.
    FetchFailed(Reason),
    /// The program was started.
    Running,
    /// The program could not be started.
    CouldNotStart(String),
    /// The process ended.
    Ended(Ended),
    /// A ready probe of this run came back.
    Probed(u32, Result<(), ProbeFault>),
    /// An alive probe of this run came back.
    AliveProbed(u32, Result<(), ProbeFault>),
    /// The ports the processes listen on: reached from outside, and on loopback only.
    Listening(Vec<u16>, Vec<u16>),
    /// A probe of this run that came too late was answered after all, so long after it was made.
    AnsweredLate(u32, Span),
    /// How often the kernel killed for memory in this run, so far.
    MemoryKills(u64),
    /// How often the kernel refused it another process or thread in this run, so far.
    ProcessesRefused(u64),
    /// It has written as much to its root file system as it may.
    DiskFull(DiskFull),
    /// It should stop.
    Stop,
    /// The time that was asked for has come.
    Wake,
}

/// Something to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Do {
    /// Get the image onto the node.
    Fetch,
    /// Start the program.
    Start,
    /// Ask the keeper to stop the process.
    AskToStop,
    /// Probe after this time and tell what came back, with this run's number.
    Probe(u32, Span),
    /// The same for the alive check.
    ProbeAlive(u32, Span),
    /// Look what the processes listen on.
    LookAtPorts,
    /// Wake it after this time.
    WakeAfter(Span),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    Fetching,
    Launching,
    Running,
    Pausing,
    Stopping,
    /// Of what is run once: its end is known, or known not to be known.
    Ended,
    Gone,
}

/// One replica on its node.
#[derive(Debug, Clone)]
pub struct ReplicaRun {
    /// The order.
    pub order: RunOrder,
    phase: Phase,
    run: u32,
    since: u64,
    /// When the pause is over; a wake that was asked for something else may come before.
    pause_until: u64,
    /// Found running by a new agent, and not yet known how it is: nothing is reported of it until then, so that a replica
    /// that takes requests is not taken out of service because its agent was started again.
    unsure: bool,
    was_ready: bool,
    is_ready: bool,
    /// Whether this run was seen from its beginning.
    seen_to_begin: bool,
    /// How long the process took to be ready.
    ready_after: Option<Span>,
    /// Whether this run of its process was ready, or has gone on for longer than the previous one.
    lasts: bool,
    /// How long the run before went on.
    last_run: u64,
    /// When this run began, or something of it was killed for memory.
    last_trouble: u64,
    tries: u32,
    failures: u32,
    alive_failures: u32,
    looked_at_ports: u64,
    ends: u32,
    kills_before: u64,
    kills_now: u64,
    /// How often this run was refused a process.
    refused_now: u64,
    refused_told: u64,
    /// Whether this run has met its disk limit, in words.
    full: Option<String>,
    /// When this run was ready and its check failed after all, the newest last.
    lapses: Vec<u64>,
    /// The result of its last failed check.
    last_failure: String,
    /// Whether its last failed check found it taking connections.
    takes_connections: bool,
    /// How long the last answer took that came too late.
    late_by: Option<Span>,
    restarts: u32,
    reason: Option<Reason>,
    check_reason: Option<Reason>,
    outcome: Option<FirstOutcome>,
    /// Of what is run once: it was asked to end because it took too long.
    took_too_long: bool,
}

impl ReplicaRun {
    /// A replica that has nothing on the node yet.
    pub fn new(order: RunOrder) -> ReplicaRun {
        ReplicaRun {
            order,
            phase: Phase::Fetching,
            run: 0,
            since: 0,
            pause_until: 0,
            unsure: false,
            was_ready: false,
            is_ready: false,
            seen_to_begin: false,
            ready_after: None,
            lasts: false,
            last_run: 0,
            last_trouble: 0,
            tries: 0,
            failures: 0,
            alive_failures: 0,
            looked_at_ports: 0,
            ends: 0,
            kills_before: 0,
            kills_now: 0,
            refused_now: 0,
            refused_told: 0,
            full: None,
            lapses: Vec::new(),
            last_failure: String::new(),
            takes_connections: false,
            late_by: None,
            restarts: 0,
            reason: None,
            check_reason: None,
            outcome: None,
            took_too_long: false,
        }
    }

    /// A command that runs once and may have been started by an agent that is gone, without a trace: it is never started again.
    pub fn lost(order: RunOrder, why: &str) -> ReplicaRun {
        let mut run = ReplicaRun::new(order);
        run.end_once(FirstState::Unknown, why.to_owned());
        run
    }

    /// The number of the present run of its process.
    pub fn run_number(&self) -> u32 {
        self.run
    }

    /// Whether nothing is left of it and it may be forgotten.
    pub fn is_gone(&self) -> bool {
        self.phase == Phase::Gone
    }

    /// Whether its process is there, or is being started.
    pub fn is_alive(&self) -> bool {
        matches!(self.phase, Phase::Launching | Phase::Running | Phase::Stopping)
    }

    /// Whether it takes requests.
    pub fn is_ready(&self) -> bool {
        self.is_ready
    }

    /// Whether nothing should be told of it yet.
    pub fn is_unsure(&self) -> bool {
        self.unsure && self.phase == Phase::Running
    }

    /// Why it is not as it should be, now. What ended an earlier run is the cause for as long as it ends again and
    /// again; once a run lasts, what its checks find is.
    fn present_reason(&self) -> Option<&Reason> {
        let of_this_run = self.check_reason.as_ref().filter(|_| self.lasts);
        of_this_run.or(self.reason.as_ref()).or(self.check_reason.as_ref())
    }

    /// The report for control.
    pub fn report(&self) -> ReplicaReport {
        let reason = self.present_reason().cloned();
        let fault = reason.as_ref().is_some_and(crate::rollouts::is_fault);
        let state = match self.phase {
            Phase::Running if self.is_ready => ReplicaState::Ready,
            Phase::Stopping => ReplicaState::Draining,
            Phase::Ended | Phase::Gone => ReplicaState::Ended,
            Phase::Running if self.order.once.is_some() => ReplicaState::Ready,
            _ if fault => ReplicaState::Failed,
            Phase::Fetching => ReplicaState::Fetching,
            Phase::Running if self.was_ready => ReplicaState::Unready,
            _ => ReplicaState::Starting,
        };
        ReplicaReport {
            id: self.order.id.clone(),
            state,
            reason,
            restarts: self.restarts,
            ready_after: self.ready_after,
            started: None,
            outcome: self.outcome.clone(),
            takes_connections: state == ReplicaState::Unready && self.takes_connections,
        }
    }

    /// Takes an event and says what to do.
    pub fn handle(&mut self, event: Event, now: u64) -> Vec<Do> {
        if self.phase == Phase::Ended {
            if event == Event::Stop {
                self.phase = Phase::Gone;
            }
            return Vec::new();
        }
        if matches!(self.phase, Phase::Stopping | Phase::Gone)
            && !matches!(event, Event::Ended(_) | Event::CouldNotStart(_))
        {
            return Vec::new();
        }
        match event {
            Event::Begin => self.begin(),
            Event::Found => {
                self.run += 1;
                (self.unsure, self.seen_to_begin) = (true, false);
                self.begin_running(now)
            }
            Event::Fetched => self.launch(),
            Event::FetchFailed(reason) => {
                self.reason = Some(reason);
                vec![Do::WakeAfter(Span::from_secs(5))]
            }
            Event::Running => {
                self.seen_to_begin = true;
                self.begin_running(now)
            }
            Event::CouldNotStart(step) => self.could_not_start(step, now),
            Event::Ended(ended) => self.ended(ended, now),
            Event::Probed(run, result) if run == self.run => self.probed(result, now),
            Event::AliveProbed(run, result) if run == self.run => self.alive_probed(result),
            Event::AnsweredLate(run, took) if run == self.run => self.answered_late(took),
            Event::Probed(..) | Event::AliveProbed(..) | Event::AnsweredLate(..) => Vec::new(),
            Event::Listening(open, loopback) => self.judge_ports(&open, &loopback, now),
            Event::MemoryKills(count) => self.memory_kills(count, now),
            Event::ProcessesRefused(count) => self.processes_refused(count, now),
            Event::DiskFull(full) => self.disk_full(full, now),
            Event::Stop => self.stop(),
            Event::Wake => self.wake(now),
        }
    }

    /// Without the values of its secrets it waits; they come with the next order.
    fn begin(&mut self) -> Vec<Do> {
        if let Some(lacking) = self.order.lacks() {
            self.reason = Some(lacking);
            return Vec::new();
        }
        self.reason = None;
        vec![Do::Fetch]
    }

    /// An order of the same replica came again, with values that were lacking.
    pub fn complete(&mut self, order: RunOrder) -> Vec<Do> {
        if self.phase != Phase::Fetching || self.order.lacks().is_none() || order.lacks().is_some() {
            return Vec::new();
        }
        self.order = order;
        self.begin()
    }

    fn launch(&mut self) -> Vec<Do> {
        self.phase = Phase::Launching;
        if self.ends == 0 {
            self.reason = None;
        }
        self.run += 1;
        self.kills_now = 0;
        vec![Do::Start]
    }

    fn begin_running(&mut self, now: u64) -> Vec<Do> {
        self.phase = Phase::Running;
        self.since = now;
        if self.order.once.is_some() {
            self.unsure = false;
            return vec![Do::WakeAfter(self.order.spec.run_first_limit())];
        }
        (self.tries, self.failures, self.alive_failures, self.looked_at_ports) = (0, 0, 0, 0);
        (self.lasts, self.last_trouble) = (false, now);
        (self.refused_now, self.refused_told, self.late_by, self.full) = (0, 0, None, None);
        self.lapses.clear();
        let mut list = Vec::new();
        if self.order.spec.ready_check().is_some() {
            list.push(Do::Probe(self.run, Span::from_millis(0)));
        } else {
            list.push(Do::WakeAfter(Span::from_millis(UNCHECKED_READY_AFTER)));
        }
        if let Some(alive) = &self.order.spec.checks.alive {
            list.push(Do::ProbeAlive(self.run, alive.every));
        }
        if self.reason.is_some() {
            list.push(Do::WakeAfter(Span::from_millis(TROUBLE_FORGOTTEN_AFTER)));
        }
        list
    }

    /// From now on it takes requests. The first time in a run that was seen from its beginning tells how long starting takes.
    fn become_ready(&mut self, now: u64) {
        if std::mem::take(&mut self.seen_to_begin) {
            self.ready_after = Some(Span::from_millis(now.saturating_sub(self.since)));
        }
        (self.is_ready, self.was_ready, self.unsure) = (true, true, false);
    }

    fn stop(&mut self) -> Vec<Do> {
        if self.is_alive() {
            self.phase = Phase::Stopping;
            return vec![Do::AskToStop];
        }
        self.phase = Phase::Gone;
        Vec::new()
    }

    fn wake(&mut self, now: u64) -> Vec<Do> {
        match self.phase {
            Phase::Pausing if now >= self.pause_until => self.launch(),
            Phase::Fetching => self.begin(),
            Phase::Running if self.order.once.is_some() => {
                let ran = Span::from_millis(now.saturating_sub(self.since));
                if self.took_too_long || ran < self.order.spec.run_first_limit() {
                    return Vec::new();
                }
                self.took_too_long = true;
                vec![Do::AskToStop]
            }
            Phase::Running => {
                let ran = now.saturating_sub(self.since);
                if self.order.spec.ready_check().is_none() && ran >= UNCHECKED_READY_AFTER {
                    self.become_ready(now);
                }
                if now.saturating_sub(self.last_trouble) >= TROUBLE_FORGOTTEN_AFTER {
                    self.reason = None;
                }
                Vec::new()
            }
            _ => Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests;
