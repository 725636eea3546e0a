//! Steering a move by hand: hold and resume, go on, go back, start afresh; and keeping a release.

use super::{Cluster, Refusal, RefusalKind, Transaction};
use crate::model::{
    FirstState, Purpose, Reason, ReasonCode, ReleaseNumber, Rollout, RolloutState, Target, Touched, Workload,
};
use crate::record::Object;
use crate::rollouts::next_step;

impl Cluster {
    /// The move that goes on or waits, in words: which release, by whom, and how it is.
    pub fn under_way(&self, target: &Target) -> Option<String> {
        let open = self.state.open_rollout(target)?;
        let origin = self.state.releases.get(&(target.clone(), open.to)).map(|release| &release.origin);
        let by = origin.map_or(String::new(), |origin| format!(" ({origin})"));
        Some(format!("release {}{by}, which was {}", open.to, open.state))
    }

    fn open(&self, target: &Target, to: &str) -> Result<Rollout, Refusal> {
        self.not_held(target)?;
        self.state.open_rollout(target).cloned().ok_or_else(|| {
            let last = self.state.newest_rollout(target);
            let last = last
                .map_or(String::new(), |last| format!("; the last one, to {}, is {}", last.to, last.state));
            let message = format!("{target} has no rollout under way to {to}{last}");
            Refusal { kind: RefusalKind::Conflict, message }
        })
    }
}

impl Transaction<'_> {
    fn put_changed(&mut self, mut workload: Workload) {
        workload.last_change = self.cause.clone();
        let target = workload.target.clone();
        self.put(Object::Workload(workload));
        self.touch(&target);
    }

    /// DirtySet a workload: nothing automatic moves it until it is resumed. Gives how things stand.
    pub fn hold(&mut self, target: &Target, because: &str) -> Result<String, Refusal> {
        let mut workload = self.workload(target)?.clone();
        workload.held = Some(self.mark_held(target, workload.held.as_ref(), because)?);
        self.put_changed(workload);
        let open = self.state.open_rollout(target);
        Ok(open.map_or_else(
            || "it stays at its release".to_owned(),
            |open| format!("the rollout to {} is paused, {}", open.to, open.state),
        ))
    }

    /// A control begins to decide: while nobody did, no rollout could go on, so that time does not count against it.
    pub fn begin_to_decide(&mut self) {
        let now = self.now;
        self.act_by_itself();
        let open = self.state.rollouts.values().filter(|rollout| {
            rollout.state.is_open()
                && !matches!(rollout.state, RolloutState::Awaiting | RolloutState::GoingBack)
        });
        for mut rollout in open.cloned().collect::<Vec<_>>() {
            rollout.step_began = Some(now);
            self.put(Object::Rollout(rollout));
        }
    }

    /// Takes the mark away; a rollout goes on, with its deadline counted again. Gives what goes on.
    pub fn resume(&mut self, target: &Target) -> Result<String, Refusal> {
        let now = self.now;
        let name = target.name.clone();
        let of = [Touched::Release(name.clone()), Touched::Replicas(name.clone()), Touched::Workload(name)];
        let lifted = |transaction: &mut Transaction<'_>| {
            transaction.follow_again(&target.environment, |what| of.contains(what)).join("; ")
        };
        // What a person removed is followed again too: then there is no workload.
        let left_alone = self.state.sources.values().any(|source| {
            source.target.environment == target.environment
                && source.yields.iter().any(|it| of.contains(&it.what))
        });
        if left_alone && !self.state.workloads.contains_key(target) {
            return Ok(lifted(self));
        }
        let mut workload = self.workload(target)?.clone();
        let Some(held) = workload.held.take() else {
            if left_alone {
                return Ok(lifted(self));
            }
            return Refusal::new(RefusalKind::Conflict, format!("{target} is not held"));
        };
        self.act("resumed");
        self.put_changed(workload);
        let lifted = lifted(self);
        self.act("resumed");
        if let Some(words) = self.catch_up_on_secrets(target, held.origin.at) {
            return Ok(if lifted.is_empty() { words } else { format!("{words}; {lifted}") });
        }
        let Some(mut open) = self.state.open_rollout(target).cloned() else {
            return Ok(if lifted.is_empty() { "nothing was waiting".to_owned() } else { lifted });
        };
        open.step_began = Some(now);
        open.watched_since = open.watched_since.map(|_| now);
        let mut words = format!("the rollout to {} goes on", open.to);
        if !lifted.is_empty() {
            words = format!("{words}; {lifted}");
        }
        self.put(Object::Rollout(open));
        Ok(words)
    }

    /// A person says that the rollout go on: to its next step, or despite what was found. Gives what it does now.
    pub fn advance(&mut self, target: &Target) -> Result<String, Refusal> {
        let now = self.now;
        let mut open = self.open(target, "advance")?;
        if open.state == RolloutState::GoingBack {
            let message =
                format!("the rollout to {} is on its way back; deploy it again to try it again", open.to);
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let rule = &self.workload(target)?.rule;
        let code = open.reason.as_ref().map(|reason| reason.code);
        let waits = open.state == RolloutState::Awaiting;
        let steps = rule.steps.clone();
        self.act("advanced");
        let before = open.first.as_mut().filter(|first| waits && first.holds_back());
        let words = if let Some(first) = before {
            // What it answers is judged as ever.
            let how = if first.state == FirstState::Unknown { "may have run" } else { "failed" };
            (first.state, first.waived) = (FirstState::Waived, Some(self.cause.clone()));
            open.step_began = Some(now);
            (open.state, open.reason, open.ended, open.verdict) = (RolloutState::Starting, None, None, None);
            format!("the rollout to {} goes on although its run_first {how}", open.to)
        } else if waits && code != Some(ReasonCode::AsksFirst) {
            open.waived = Some(self.cause.clone());
            open.step_began = Some(now);
            (open.state, open.reason, open.ended) = (RolloutState::Shifting, None, None);
            format!("the rollout to {} goes on despite what was found", open.to)
        } else if waits || ((open.step as usize) < steps.len() && open.purpose == Purpose::Change) {
            // The steps may have been taken out of the rule since it was asked: then all requests are next.
            if waits {
                (open.state, open.reason) = (RolloutState::Shifting, None);
            }
            next_step(&mut open, now);
            let next = steps.get(open.step as usize).map_or("all requests".to_owned(), ToString::to_string);
            format!("the rollout to {} goes to {next}", open.to)
        } else {
            let message =
                format!("the rollout to {} does not wait for a person; it is {}", open.to, open.state);
            return Refusal::new(RefusalKind::Conflict, message);
        };
        self.put(Object::Rollout(open));
        let workload = self.workload(target)?.clone();
        self.put_changed(workload);
        Ok(words)
    }

    /// A person says that the rollout go back. Gives the release that goes and the one it goes back to.
    pub fn cancel(&mut self, target: &Target) -> Result<(ReleaseNumber, ReleaseNumber), Refusal> {
        let by = self.by.clone();
        let now = self.now;
        let mut open = self.open(target, "cancel")?;
        let Some(from) = open.from else {
            let message = format!(
                "release {} is the first of {target}: there is nothing to go back to; remove it instead",
                open.to
            );
            return Refusal::new(RefusalKind::Conflict, message);
        };
        if open.state == RolloutState::GoingBack {
            let message = format!("the rollout to {} is on its way back already", open.to);
            return Refusal::new(RefusalKind::Conflict, message);
        }
        self.act("cancelled");
        open.state = RolloutState::GoingBack;
        open.step_began = Some(now);
        (open.cancelled, open.ended) = (Some(self.cause.clone()), None);
        let reason = Reason::new(ReasonCode::Cancelled, format!("cancelled by {by}"));
        open.reason =
            Some(open.reason.take().filter(|it| it.code != ReasonCode::AsksFirst).unwrap_or(reason));
        let to = open.to;
        self.put(Object::Rollout(open));
        let mut workload = self.workload(target)?.clone();
        workload.release = from;
        let application = workload.application.clone();
        self.put_changed(workload);
        self.yield_to_person(&target.environment, &application, [Touched::Release(target.name.clone())]);
        Ok((to, from))
    }

    /// Puts fresh replicas of the same in the place of those that are there: a release that equals the present one.
    pub fn restart(&mut self, target: &Target) -> Result<(ReleaseNumber, ReleaseNumber), Refusal> {
        let mut workload = self.not_held(target)?.clone();
        if let Some(open) = self.state.open_rollout(target) {
            let message =
                format!("the rollout to {} is still {}; it brings new replicas anyway", open.to, open.state);
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let Some(current) = self.state.releases.get(&(target.clone(), workload.release)).cloned() else {
            return Refusal::new(RefusalKind::Conflict, format!("{target} has no release yet"));
        };
        self.act("restarted");
        let same_as = current.same_as.unwrap_or(current.number);
        self.release(&mut workload, current.spec.clone(), Some(&current), Purpose::Restart);
        let number = workload.release;
        self.put_changed(workload);
        Ok((number, same_as))
    }

    /// Keeps a release however old it gets, or no longer. Gives whether that changed anything.
    pub fn keep_release(
        &mut self,
        target: &Target,
        number: ReleaseNumber,
        keep: bool,
    ) -> Result<bool, Refusal> {
        let mut workload = self.workload(target)?.clone();
        self.release_of(target, number)?;
        if workload.kept.contains_key(&number) == keep {
            return Ok(false);
        }
        self.act(if keep { "kept a release" } else { "keeps a release no longer" });
        if keep {
            workload.kept.insert(number, self.cause.clone());
        } else {
            workload.kept.remove(&number);
        }
        self.put_changed(workload);
        Ok(true)
    }
}
