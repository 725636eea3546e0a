//! Workloads whose number of replicas follows their load: what changes it, and who may keep it from that.

use super::{Refusal, RefusalKind, Transaction};
use crate::link::WaitingRequests;
use crate::model::{Growing, Grown, Growth, Service, Target, Workload};
use crate::record::Object;
use crate::routing::candidates;

/// The cause of a request that waits for a workload that sleeps.
const A_REQUEST_CAME: &str = "a request came";

impl Transaction<'_> {
    /// Takes the rule that is declared, and its bounds at once. What a person set by hand holds no longer.
    pub(super) fn declare_growth(&mut self, workload: &mut Workload, declared: Option<Growth>) {
        let last = workload.growing.take().and_then(|growing| growing.last);
        let Some(rule) = declared else { return };
        let within = workload.wanted.clamp(rule.least(self.now), rule.max);
        if within != workload.wanted {
            workload.wanted = within;
            workload.wanted_origin = self.cause.clone();
            self.try_untried(workload);
        }
        workload.growing = Some(Growing { last, ..Growing::new(rule) });
    }

    /// The load asks for another number of replicas. Gives the number before, where it changed.
    pub fn grow(&mut self, target: &Target, to: u32, because: &str) -> Result<Option<u32>, Refusal> {
        let mut workload = self.workload(target)?.clone();
        let is_held = workload.held.is_some();
        let Some(rule) = workload.grows_by().filter(|_| !is_held) else { return Ok(None) };
        let (from, to) = (workload.wanted, to.clamp(rule.least(self.now), rule.max));
        if from == to {
            return Ok(None);
        }
        let grown = Grown { from, to, at: self.now, because: because.to_owned() };
        let act = match (from, to) {
            (0, _) => "woken",
            (_, 0) => "put to sleep",
            _ if to > from => "grown",
            _ => "shrunk",
        };
        self.act(act);
        (workload.wanted, workload.wanted_origin) = (to, self.cause.clone());
        if let Some(growing) = &mut workload.growing {
            growing.last = Some(grown);
        }
        self.try_untried(&workload);
        self.put(Object::Workload(workload));
        self.touch(target);
        Ok(Some(from))
    }

    /// The load is followed again, after a person had set a number.
    pub fn follow_load(&mut self, target: &Target) -> Result<(), Refusal> {
        let mut workload = self.workload(target)?.clone();
        let Some(growing) = &mut workload.growing else {
            return Refusal::new(
                RefusalKind::Invalid,
                format!(
                    "{target} declares no rule by which it follows its load: add one to its file, such as \
                     replicas = {{ min = 2, max = 20, each = {{ open = 10 }} }}"
                ),
            );
        };
        if growing.by_hand.take().is_none() {
            return Ok(());
        }
        self.act("scaled");
        let rule = growing.rule.clone();
        let within = workload.wanted.clamp(rule.least(self.now), rule.max);
        (workload.wanted, workload.wanted_origin) = (within, self.cause.clone());
        workload.last_change = self.cause.clone();
        self.put(Object::Workload(workload));
        self.touch(target);
        Ok(())
    }

    /// Requests wait for these services: what sleeps behind them gets a replica at once.
    pub fn requests_wait(&mut self, waiting: &[WaitingRequests]) {
        let services = waiting.iter().filter_map(|it| self.state.services.get(&it.service));
        let asleep: Vec<Target> = services.flat_map(|service| self.asleep_behind(service)).collect();
        for target in asleep {
            // It is there, since it was found just now.
            let _ = self.grow(&target, 1, A_REQUEST_CAME);
        }
    }

    fn asleep_behind(&self, service: &Service) -> Vec<Target> {
        let behind = candidates(&self.state.workloads, service).filter(|workload| workload.is_asleep());
        let led_to = behind.filter(|workload| {
            let release = self.state.releases.get(&(workload.target.clone(), workload.release));
            release.is_some_and(|release| crate::routing::leads_to(service, release))
        });
        led_to.map(|workload| workload.target.clone()).collect()
    }
}
