//! Ends of a replica's process: what is reported of them, and when it is started again.

use super::{
    DiskFull, Do, Ended, FIRST_PAUSE, LONGEST_PAUSE, MANY_KEEPERS_LOST, Phase, ReplicaRun,
    TROUBLE_FORGOTTEN_AFTER,
};
use crate::model::{FirstOutcome, FirstState, Reason, ReasonCode, Span};

impl ReplicaRun {
    pub(super) fn memory_kills(&mut self, count: u64, now: u64) -> Vec<Do> {
        if count > self.kills_now {
            self.kills_now = count;
            self.reason = Some(self.out_of_memory());
            (self.lasts, self.last_trouble) = (false, now);
            return vec![Do::WakeAfter(Span::from_millis(TROUBLE_FORGOTTEN_AFTER))];
        }
        Vec::new()
    }

    pub(super) fn processes_refused(&mut self, count: u64, now: u64) -> Vec<Do> {
        if count <= self.refused_now {
            return Vec::new();
        }
        // Each sentence is written down: one that says almost the same is not worth it.
        let is_news = count >= self.refused_told * 2 || self.reason.is_none();
        self.refused_now = count;
        if !is_news {
            (self.lasts, self.last_trouble) = (false, now);
            return vec![Do::WakeAfter(Span::from_millis(TROUBLE_FORGOTTEN_AFTER))];
        }
        self.refused_told = count;
        let limit = self.order.spec.limits.processes;
        let times = if count == 1 { "once".to_owned() } else { format!("{count} times") };
        let sentence =
            format!("the kernel refused it another process or thread {times}; its limit is {limit}");
        self.reason = Some(Reason::new(ReasonCode::ProcessLimit, sentence));
        (self.lasts, self.last_trouble) = (false, now);
        vec![Do::WakeAfter(Span::from_millis(TROUBLE_FORGOTTEN_AFTER))]
    }

    pub(super) fn disk_full(&mut self, full: DiskFull, now: u64) -> Vec<Do> {
        let most = full.most_in.map_or(String::new(), |dir| format!(", most in {dir}"));
        let limit = self.order.spec.limits.disk;
        let sentence = format!("wrote {} of {limit} to its root file system{most}", full.written);
        // It stays full until something is removed: the first sentence is enough, unless another reason came between.
        if self.full.is_none() || self.reason.is_none() {
            self.reason = Some(Reason::new(ReasonCode::DiskFull, sentence.clone()));
        }
        self.full = Some(sentence);
        (self.lasts, self.last_trouble) = (false, now);
        vec![Do::WakeAfter(Span::from_millis(TROUBLE_FORGOTTEN_AFTER))]
    }

    pub(super) fn out_of_memory(&self) -> Reason {
        let (count, limit) = (self.kills_before + self.kills_now, self.order.spec.limits.memory);
        let times = if count == 1 { "once".to_owned() } else { format!("{count} times") };
        Reason::new(
            ReasonCode::OutOfMemory,
            format!("the kernel killed it for memory {times}; its limit is {limit}"),
        )
    }

    pub(super) fn could_not_start(&mut self, step: String, now: u64) -> Vec<Do> {
        if self.phase == Phase::Stopping {
            self.phase = Phase::Gone;
            return Vec::new();
        }
        if self.order.once.is_some() {
            return self.end_once(FirstState::Failed, format!("could not be started: {step}"));
        }
        self.ends += 1;
        self.reason = Some(Reason::new(ReasonCode::CannotStart, step));
        self.pause(now)
    }

    pub(super) fn ended(&mut self, ended: Ended, now: u64) -> Vec<Do> {
        self.is_ready = false;
        self.check_reason = None;
        if self.phase == Phase::Stopping {
            self.phase = Phase::Gone;
            return Vec::new();
        }
        if self.order.once.is_some() {
            return self.ended_once(ended);
        }
        if now.saturating_sub(self.since) >= TROUBLE_FORGOTTEN_AFTER && self.phase == Phase::Running {
            (self.ends, self.kills_before) = (0, 0);
        }
        self.ends += 1;
        self.restarts += 1;
        self.last_run = now.saturating_sub(self.since);
        self.kills_now = self.kills_now.max(ended.memory_kills);
        self.reason = Some(if self.kills_now > 0 {
            self.out_of_memory()
        } else if let Some(full) = self.full.take().filter(|_| ended.told) {
            Reason::new(ReasonCode::DiskFull, format!("{full}, and ended with {}", how(&ended)))
        } else if !ended.told && self.ends < MANY_KEEPERS_LOST {
            Reason::new(ReasonCode::KeeperLost, "its keeper was ended from outside, and the replica with it")
        } else if !ended.told {
            let sentence =
                format!("ended {} times, the last because its keeper was ended from outside", self.ends);
            Reason::new(ReasonCode::KeepsEnding, sentence)
        } else {
            let how = how(&ended);
            if self.ends == 1 {
                Reason::new(ReasonCode::EndedOnce, format!("ended with {how}"))
            } else {
                Reason::new(
                    ReasonCode::KeepsEnding,
                    format!("ended {} times, the last with {how}", self.ends),
                )
            }
        });
        self.kills_before += self.kills_now;
        self.kills_now = 0;
        self.pause(now)
    }

    /// A command that runs once is not started again, however it ended.
    fn ended_once(&mut self, ended: Ended) -> Vec<Do> {
        self.kills_now = self.kills_now.max(ended.memory_kills);
        let (state, words) = match () {
            () if self.took_too_long => {
                let limit = self.order.spec.run_first_limit();
                (FirstState::Failed, format!("did not end within {limit}, and was ended"))
            }
            () if !ended.told => {
                (FirstState::Unknown, "its keeper was killed from outside, and reported nothing".to_owned())
            }
            () if self.kills_now > 0 => (FirstState::Failed, self.out_of_memory().sentence),
            () if self.full.is_some() && ended.code != Some(0) => {
                (FirstState::Failed, self.full.take().unwrap_or_default())
            }
            () if ended.code == Some(0) => (FirstState::Passed, how(&ended)),
            () => (FirstState::Failed, format!("ended with {}", how(&ended))),
        };
        self.end_once(state, words)
    }

    pub(super) fn end_once(&mut self, state: FirstState, how: String) -> Vec<Do> {
        self.phase = Phase::Ended;
        self.reason = None;
        self.outcome = Some(FirstOutcome { state, how });
        Vec::new()
    }

    pub(super) fn pause(&mut self, now: u64) -> Vec<Do> {
        self.phase = Phase::Pausing;
        let doubled = FIRST_PAUSE.saturating_mul(1 << (self.ends.saturating_sub(1)).min(10));
        let pause = doubled.min(LONGEST_PAUSE);
        self.pause_until = now + pause;
        vec![Do::WakeAfter(Span::from_millis(pause))]
    }
}

fn how(ended: &Ended) -> String {
    match (ended.code, ended.signal) {
        (Some(code), _) => format!("exit code {code}"),
        (None, signal) => format!("signal {}", signal.unwrap_or(0)),
    }
}
