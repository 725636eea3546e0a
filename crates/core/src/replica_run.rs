//! What a node agent does for one replica: a machine without I/O.
//!
//! The agent tells it what happened ([`Event`]) and when, in milliseconds of a clock that only goes forward; it
//! answers with what to do ([`Do`]). Starting, probing, pausing and giving reasons are decided here.

use crate::link::{ReplicaReport, RunOrder};
use crate::model::{CheckKind, Reason, ReasonCode, ReplicaState, Span};

/// A replica that ran this long without ending is no longer held to have trouble.
const TROUBLE_FORGOTTEN_AFTER: u64 = 60_000;
/// The first pause before a process is started again; each further one is twice as long.
const FIRST_PAUSE: u64 = 1000;
const LONGEST_PAUSE: u64 = 60_000;
/// A port that refuses for this long makes the agent look what the process listens on.
const LOOK_AT_PORTS_AFTER: u64 = 1500;
/// A process that listens on nothing is given this long.
const NO_PORT_AFTER: u64 = 5000;
/// Checks in a row that fail before a ready replica is unready, or a live one is replaced.
const FAILURES_IN_A_ROW: u32 = 3;
/// A process without any check is ready when it has run this long.
const UNCHECKED_READY_AFTER: u64 = 300;

/// Why a probe failed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ProbeFault {
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
    /// The last lines of its output.
    pub tail: Vec<String>,
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
    /// The image cannot be had or used.
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
    /// What the processes listen on: reached from outside, and on loopback only.
    Listening(Vec<u16>, Vec<u16>),
    /// How often the kernel killed for memory in this run, so far.
    MemoryKills(u64),
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
    Gone,
}

/// One replica on its node.
#[derive(Debug, Clone)]
pub struct ReplicaRun {
    /// What was ordered.
    pub order: RunOrder,
    phase: Phase,
    run: u32,
    since: u64,
    /// When the pause is over; a wake that was asked for something else may come before.
    pause_until: u64,
    /// Found running by a new agent, and not yet known how it is: nothing is told of it until then, so that a replica
    /// that takes requests is not taken out of service because its agent was started anew.
    unsure: bool,
    was_ready: bool,
    is_ready: bool,
    tries: u32,
    failures: u32,
    alive_failures: u32,
    looked_at_ports: u64,
    ends: u32,
    kills_before: u64,
    kills_now: u64,
    restarts: u32,
    reason: Option<Reason>,
    check_reason: Option<Reason>,
}

impl ReplicaRun {
    /// A replica of which nothing is there yet.
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
            tries: 0,
            failures: 0,
            alive_failures: 0,
            looked_at_ports: 0,
            ends: 0,
            kills_before: 0,
            kills_now: 0,
            restarts: 0,
            reason: None,
            check_reason: None,
        }
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

    /// Whether nothing should be told of it yet.
    pub fn is_unsure(&self) -> bool {
        self.unsure && self.phase == Phase::Running
    }

    /// What is told to control.
    pub fn report(&self) -> ReplicaReport {
        let reason = self.reason.clone().or_else(|| self.check_reason.clone());
        let fault = reason.as_ref().is_some_and(crate::steer::is_fault);
        let state = match self.phase {
            Phase::Running if self.is_ready => ReplicaState::Ready,
            Phase::Stopping => ReplicaState::Draining,
            Phase::Gone => ReplicaState::Ended,
            _ if fault => ReplicaState::Failed,
            Phase::Fetching => ReplicaState::Fetching,
            Phase::Running if self.was_ready => ReplicaState::Unready,
            _ => ReplicaState::Starting,
        };
        ReplicaReport { id: self.order.id.clone(), state, reason, restarts: self.restarts }
    }

    /// Takes an event and says what to do.
    pub fn handle(&mut self, event: Event, now: u64) -> Vec<Do> {
        if matches!(self.phase, Phase::Stopping | Phase::Gone)
            && !matches!(event, Event::Ended(_) | Event::CouldNotStart(_))
        {
            return Vec::new();
        }
        match event {
            Event::Begin => vec![Do::Fetch],
            Event::Found => {
                self.run += 1;
                self.unsure = true;
                self.begin_running(now)
            }
            Event::Fetched => self.launch(),
            Event::FetchFailed(reason) => {
                self.reason = Some(reason);
                vec![Do::WakeAfter(Span::from_secs(5))]
            }
            Event::Running => self.begin_running(now),
            Event::CouldNotStart(step) => self.could_not_start(step, now),
            Event::Ended(ended) => self.ended(ended, now),
            Event::Probed(run, result) if run == self.run => self.probed(result, now),
            Event::AliveProbed(run, result) if run == self.run => self.alive_probed(result),
            Event::Probed(..) | Event::AliveProbed(..) => Vec::new(),
            Event::Listening(open, loopback) => self.judge_ports(&open, &loopback, now),
            Event::MemoryKills(count) => self.memory_kills(count),
            Event::Stop => self.stop(),
            Event::Wake => self.wake(now),
        }
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
        (self.tries, self.failures, self.alive_failures, self.looked_at_ports) = (0, 0, 0, 0);
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

    fn probed(&mut self, result: Result<(), ProbeFault>, now: u64) -> Vec<Do> {
        let Some(check) = self.order.spec.ready_check() else { return Vec::new() };
        if self.phase != Phase::Running {
            return Vec::new();
        }
        let fault = match result {
            Ok(()) => {
                (self.is_ready, self.was_ready, self.failures, self.unsure) = (true, true, 0, false);
                self.check_reason = None;
                return vec![Do::Probe(self.run, check.every)];
            }
            Err(fault) => fault,
        };
        self.tries += 1;
        self.failures += 1;
        let ran = now.saturating_sub(self.since);
        let mut list = Vec::new();
        let refused = fault == ProbeFault::Refused;
        if refused && ran >= LOOK_AT_PORTS_AFTER && now >= self.looked_at_ports + 1000 {
            self.looked_at_ports = now;
            list.push(Do::LookAtPorts);
        }
        if self.failures >= FAILURES_IN_A_ROW {
            (self.is_ready, self.unsure) = (false, false);
        }
        let port_known =
            self.check_reason.as_ref().is_some_and(|reason| reason.code == ReasonCode::PortSilent);
        let worth_saying = self.was_ready && !self.is_ready || ran >= 3000;
        if worth_saying && !(refused && port_known) && !self.is_ready {
            self.check_reason = Some(Reason::new(
                ReasonCode::CheckFails,
                self.sentence_of(&fault, check.kind(&self.order.spec.ports)),
            ));
        }
        let pause = if self.is_ready { check.every } else { first_pauses(self.tries, ran).min(check.every) };
        list.push(Do::Probe(self.run, pause));
        list
    }

    fn sentence_of(&self, fault: &ProbeFault, kind: Option<CheckKind>) -> String {
        let what = match kind {
            Some(CheckKind::Http(path, port)) => format!("GET {path} on {port}"),
            Some(CheckKind::Connect(port)) => format!("a connection to {port}"),
            None => "the check".to_owned(),
        };
        match fault {
            ProbeFault::Refused => format!("{what} is refused"),
            ProbeFault::Late => format!("{what} is not answered in time"),
            ProbeFault::Status(status) => format!("{what} answers {status}"),
            ProbeFault::Other(words) => format!("{what} fails: {words}"),
        }
    }

    fn alive_probed(&mut self, result: Result<(), ProbeFault>) -> Vec<Do> {
        let Some(alive) = &self.order.spec.checks.alive else { return Vec::new() };
        if self.phase != Phase::Running {
            return Vec::new();
        }
        self.alive_failures = if result.is_ok() { 0 } else { self.alive_failures + 1 };
        if self.alive_failures >= FAILURES_IN_A_ROW && self.was_ready {
            // Its end is noticed like any other, and it is started again.
            return vec![Do::AskToStop];
        }
        vec![Do::ProbeAlive(self.run, alive.every)]
    }

    fn judge_ports(&mut self, open: &[u16], loopback: &[u16], now: u64) -> Vec<Do> {
        let kind = self.order.spec.ready_check().and_then(|check| check.kind(&self.order.spec.ports));
        let Some(CheckKind::Http(_, port) | CheckKind::Connect(port)) = kind else { return Vec::new() };
        let list = |ports: &[u16]| ports.iter().map(u16::to_string).collect::<Vec<_>>().join(", ");
        let sentence = if self.is_ready || self.phase != Phase::Running || open.contains(&port) {
            return Vec::new();
        } else if loopback.contains(&port) {
            format!("{port} is open on loopback only; the process must listen on 0.0.0.0")
        } else if !open.is_empty() {
            format!("nothing listens on {port}; the process listens on {}", list(open))
        } else if now.saturating_sub(self.since) < NO_PORT_AFTER {
            return Vec::new();
        } else {
            format!("nothing listens on {port}; the process listens on no port")
        };
        self.check_reason = Some(Reason::new(ReasonCode::PortSilent, sentence));
        Vec::new()
    }

    fn memory_kills(&mut self, count: u64) -> Vec<Do> {
        if count > self.kills_now {
            self.kills_now = count;
            self.reason = Some(self.out_of_memory());
            return vec![Do::WakeAfter(Span::from_millis(TROUBLE_FORGOTTEN_AFTER))];
        }
        Vec::new()
    }

    fn out_of_memory(&self) -> Reason {
        let (count, limit) = (self.kills_before + self.kills_now, self.order.spec.limits.memory);
        let times = if count == 1 { "once".to_owned() } else { format!("{count} times") };
        Reason::new(
            ReasonCode::OutOfMemory,
            format!("the kernel killed it for memory {times}; its limit is {limit}"),
        )
    }

    fn could_not_start(&mut self, step: String, now: u64) -> Vec<Do> {
        if self.phase == Phase::Stopping {
            self.phase = Phase::Gone;
            return Vec::new();
        }
        self.ends += 1;
        self.reason = Some(Reason::new(ReasonCode::CannotStart, step));
        self.pause(now)
    }

    fn ended(&mut self, ended: Ended, now: u64) -> Vec<Do> {
        self.is_ready = false;
        self.check_reason = None;
        if self.phase == Phase::Stopping {
            self.phase = Phase::Gone;
            return Vec::new();
        }
        if now.saturating_sub(self.since) >= TROUBLE_FORGOTTEN_AFTER && self.phase == Phase::Running {
            (self.ends, self.kills_before) = (0, 0);
        }
        self.ends += 1;
        self.restarts += 1;
        self.kills_now = self.kills_now.max(ended.memory_kills);
        self.reason = Some(if self.kills_now > 0 {
            self.out_of_memory()
        } else if !ended.told {
            Reason::new(ReasonCode::KeeperLost, "its keeper was ended from outside, and the replica with it")
        } else {
            let how = match (ended.code, ended.signal) {
                (Some(code), _) => format!("exit code {code}"),
                (None, signal) => format!("signal {}", signal.unwrap_or(0)),
            };
            let tail =
                if ended.tail.is_empty() { String::new() } else { format!(": {}", ended.tail.join(" | ")) };
            if self.ends == 1 {
                Reason::new(ReasonCode::EndedOnce, format!("ended with {how}{tail}"))
            } else {
                Reason::new(
                    ReasonCode::KeepsEnding,
                    format!("ended {} times, the last with {how}{tail}", self.ends),
                )
            }
        });
        self.kills_before += self.kills_now;
        self.kills_now = 0;
        self.pause(now)
    }

    fn pause(&mut self, now: u64) -> Vec<Do> {
        self.phase = Phase::Pausing;
        let doubled = FIRST_PAUSE.saturating_mul(1 << (self.ends.saturating_sub(1)).min(10));
        let pause = doubled.min(LONGEST_PAUSE);
        self.pause_until = now + pause;
        vec![Do::WakeAfter(Span::from_millis(pause))]
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
            Phase::Fetching => vec![Do::Fetch],
            Phase::Running => {
                let ran = now.saturating_sub(self.since);
                if self.order.spec.ready_check().is_none() && ran >= UNCHECKED_READY_AFTER {
                    (self.is_ready, self.was_ready, self.unsure) = (true, true, false);
                }
                if ran >= TROUBLE_FORGOTTEN_AFTER {
                    self.reason = None;
                }
                Vec::new()
            }
            _ => Vec::new(),
        }
    }
}

/// Before the first success: at once, then often, then less often.
fn first_pauses(tries: u32, ran: u64) -> Span {
    const EARLY: [u64; 10] = [1, 1, 2, 3, 5, 8, 13, 20, 30, 50];
    let early = EARLY.get(tries as usize).copied().unwrap_or(50);
    Span::from_millis(if ran > 10_000 {
        1000
    } else if ran > 2000 {
        250
    } else {
        early
    })
}

#[cfg(test)]
mod tests;
