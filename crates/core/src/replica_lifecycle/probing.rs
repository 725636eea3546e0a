//! Evaluates probes of a replica: whether it is ready, and why not.

use super::{A_RUN_LASTS_AFTER, Do, FLAPS, FLAPS_WITHIN, LOOK_AT_PORTS_AFTER, Phase, ProbeFault, ReplicaRun};
use crate::model::{Check, CheckKind, Reason, ReasonCode, Span};

impl ReplicaRun {
    pub(super) fn probed(&mut self, result: Result<(), ProbeFault>, now: u64) -> Vec<Do> {
        let Some(check) = self.order.spec.ready_check() else { return Vec::new() };
        if self.phase != Phase::Running {
            return Vec::new();
        }
        let fault = match result {
            Ok(()) => {
                self.failures = 0;
                self.become_ready(now);
                (self.check_reason, self.lasts) = (self.flapping(now), true);
                return vec![Do::Probe(self.run, check.every)];
            }
            Err(fault) => fault,
        };
        self.tries += 1;
        self.failures += 1;
        self.takes_connections = !matches!(fault, ProbeFault::Refused | ProbeFault::Tls);
        let ran = now.saturating_sub(self.since);
        self.lasts |= now.saturating_sub(self.last_trouble) >= self.last_run + A_RUN_LASTS_AFTER;
        let mut list = Vec::new();
        let refused = fault == ProbeFault::Refused;
        if refused && ran >= LOOK_AT_PORTS_AFTER && now >= self.looked_at_ports + 1000 {
            self.looked_at_ports = now;
            list.push(Do::LookAtPorts);
        }
        if self.failures >= check.after {
            if self.is_ready {
                self.lapses.push(now);
            }
            (self.is_ready, self.unsure) = (false, false);
        }
        let port_known = self.check_reason.as_ref().is_some_and(|reason| {
            use ReasonCode::*;
            matches!(reason.code, PortSilent | NotListening | LoopbackOnly)
        });
        let worth_saying = self.was_ready && !self.is_ready || ran >= 3000;
        if worth_saying && !(refused && port_known) && !self.is_ready {
            self.last_failure = self.sentence_of(&fault, &check);
            let failed = Reason::new(code_of(&fault), self.last_failure.clone());
            self.check_reason = self.flapping(now).or(Some(failed));
        }
        let pause = if self.is_ready { check.every } else { first_pauses(self.tries, ran).min(check.every) };
        list.push(Do::Probe(self.run, pause));
        list
    }

    /// Ready and not ready in turns: one reason for as long as it lasts, with what the check said last.
    fn flapping(&mut self, now: u64) -> Option<Reason> {
        self.lapses.retain(|at| now.saturating_sub(*at) < FLAPS_WITHIN);
        if self.lapses.len() < FLAPS {
            return None;
        }
        let sentence = format!(
            "it was ready and was not again {} times in the last {} minutes; the last failed check: {}",
            self.lapses.len(),
            FLAPS_WITHIN / 60_000,
            self.last_failure
        );
        Some(Reason::new(ReasonCode::Flapping, sentence))
    }

    /// A check's answer came after its time; the next sentence says how long it took. Each sentence is written down, so
    /// that only another order of time makes another one.
    pub(super) fn answered_late(&mut self, took: Span) -> Vec<Do> {
        let told = self.late_by.map_or(0, Span::millis);
        if took.millis() >= told * 2 || took.millis() * 2 <= told {
            self.late_by = Some(Span::from_millis(took.millis() / 100 * 100));
        }
        Vec::new()
    }

    pub(super) fn sentence_of(&self, fault: &ProbeFault, check: &Check) -> String {
        let within = check.within;
        let what = match check.kind(&self.order.spec.ports) {
            Some(CheckKind::Http(path, port)) => format!("GET {path} on {port}"),
            Some(CheckKind::Connect(port)) => format!("a connection to {port}"),
            Some(CheckKind::Grpc(service, port)) if service.is_empty() => {
                format!("the gRPC health check on {port}")
            }
            Some(CheckKind::Grpc(service, port)) => format!("the gRPC health check of {service} on {port}"),
            None => "the check".to_owned(),
        };
        match fault {
            ProbeFault::Refused => format!("{what} is refused"),
            ProbeFault::Late => match self.late_by {
                Some(took) => format!("{what} is answered after {took}; the check allows {within}"),
                None => format!("{what} is not answered within {within}, which the check allows"),
            },
            ProbeFault::Status(status) => format!("{what} answers {status}"),
            ProbeFault::Tls => format!("{what} is answered in TLS; the process expects TLS there"),
            ProbeFault::Other(words) => format!("{what} fails: {words}"),
        }
    }

    pub(super) fn alive_probed(&mut self, result: Result<(), ProbeFault>) -> Vec<Do> {
        let Some(alive) = &self.order.spec.checks.alive else { return Vec::new() };
        if self.phase != Phase::Running {
            return Vec::new();
        }
        self.alive_failures = if result.is_ok() { 0 } else { self.alive_failures + 1 };
        if self.alive_failures >= alive.after && self.was_ready {
            // Its end is noticed like any other, and it is started again.
            return vec![Do::AskToStop];
        }
        vec![Do::ProbeAlive(self.run, alive.every)]
    }

    pub(super) fn judge_ports(&mut self, open: &[u16], loopback: &[u16], now: u64) -> Vec<Do> {
        let kind = self.order.spec.ready_check().and_then(|check| check.kind(&self.order.spec.ports));
        let Some(port) = kind.map(|kind| kind.port()) else { return Vec::new() };
        let list = |ports: &[u16]| ports.iter().map(u16::to_string).collect::<Vec<_>>().join(", ");
        // Many a process takes long, and some open another port before: only time that was declared makes it a fault.
        let ran = Span::from_millis(now.saturating_sub(self.since));
        let over = self.order.spec.checks.start_within.is_some_and(|within| ran >= within);
        let (mut code, yet) =
            if over { (ReasonCode::PortSilent, "") } else { (ReasonCode::NotListening, " yet") };
        let sentence = if self.is_ready || self.phase != Phase::Running || open.contains(&port) {
            return Vec::new();
        } else if loopback.contains(&port) {
            code = ReasonCode::LoopbackOnly;
            format!("{port} is open on loopback only; the process must listen on 0.0.0.0")
        } else if !open.is_empty() {
            format!("nothing listens on {port}{yet}; the process listens on {}", list(open))
        } else {
            format!("nothing listens on {port}{yet}; the process listens on no port")
        };
        self.check_reason = Some(Reason::new(code, sentence));
        Vec::new()
    }
}

fn code_of(fault: &ProbeFault) -> ReasonCode {
    match fault {
        ProbeFault::Tls => ReasonCode::PlainWhereTls,
        ProbeFault::Refused => ReasonCode::CheckRefused,
        ProbeFault::Late => ReasonCode::CheckSlow,
        ProbeFault::Status(_) | ProbeFault::Other(_) => ReasonCode::CheckFails,
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
