//! Reports of nodes about commands that run once before a release serves.

use super::Transaction;
use crate::link::ReplicaReport;
use crate::model::{FirstOutcome, FirstState, Replica, ReplicaId, ReplicaState};
use crate::record::Object;

impl Transaction<'_> {
    /// A node tells of a run. Its end goes into the rollout; only when that is written is the node told to forget it.
    pub(super) fn run_reported(&mut self, known: Replica, report: &ReplicaReport) {
        let now = self.now;
        let mut run = known.clone();
        let key = (run.id.workload.clone(), run.release);
        if let Some(mut rollout) = self.state.rollouts.get(&key).cloned()
            && let Some(first) = rollout.first.as_mut().filter(|first| first.state == FirstState::Running)
        {
            let before = first.clone();
            first.node = run.node.clone();
            if report.state == ReplicaState::Ready || report.outcome.is_some() {
                first.began.get_or_insert(now);
            }
            if let Some(outcome) = &report.outcome {
                first.end(outcome.clone(), now);
                // From here on its replicas have the time of the deadline.
                rollout.step_began = Some(now);
            }
            if rollout.first.as_ref() != Some(&before) {
                self.put(Object::Rollout(rollout));
                self.work.add(&key.0);
            }
        }
        if report.outcome.is_some() {
            run.stopping = true;
            if let Some(node) = &run.node {
                self.orders.stop(node, run.id.clone());
            }
        }
        run.state = if run.stopping || run.state == ReplicaState::Draining {
            ReplicaState::Draining
        } else {
            report.state
        };
        run.reason = report.reason.clone();
        if run != known {
            if run.state != known.state {
                run.since = now;
            }
            self.put(Object::Replica(run));
            self.work.add(&key.0);
        }
    }

    /// A run is gone. Where its end was not told, nobody knows it.
    pub(super) fn run_lost(&mut self, id: &ReplicaId, why: &str) {
        let now = self.now;
        let Some(run) = self.state.replicas.get(id).filter(|run| run.once.is_some()) else { return };
        let key = (id.workload.clone(), run.release);
        let Some(mut rollout) = self.state.rollouts.get(&key).cloned() else { return };
        let Some(first) = rollout.first.as_mut().filter(|first| first.state == FirstState::Running) else {
            return;
        };
        let outcome = FirstOutcome { state: FirstState::Unknown, how: why.to_owned() };
        first.end(outcome, now);
        self.put(Object::Rollout(rollout));
    }
}
