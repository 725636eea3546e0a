//! Carrying out what was decided about one workload.

use jiff::Timestamp;

use super::Transaction;
use crate::model::{
    Once, ReleaseNumber, Replica, ReplicaId, ReplicaState, RolloutState, Target, Workload, replica_short_name,
};
use crate::record::{Kind, Object};
use crate::rollouts::{Act, Decision, View, decide};
use crate::routing::{replicas_of, runs_of};

impl Transaction<'_> {
    /// Decides about a workload, and does it.
    pub(super) fn decide(&mut self, target: &Target) {
        let now = self.now;
        self.work.forget_later(target);
        let Some(workload) = self.state.workloads.get(target) else { return };
        let replicas: Vec<Replica> = replicas_of(&self.state.replicas, target).cloned().collect();
        let runs: Vec<Replica> = runs_of(&self.state.replicas, target).cloned().collect();
        let rollout = self.state.newest_rollout(target);
        let release = self.state.releases.get(&(target.clone(), workload.release));
        let enough = release.map_or(0, |release| release.spec.checks.enough);
        let decision = decide(View { workload, replicas: &replicas, runs: &runs, rollout, enough }, now);
        let Decision { acts, state, reason, unanswered_since, serves_unready, rollout: moved, look_again } =
            decision;
        let mut workload = workload.clone();
        if !acts.is_empty() || moved.is_some() {
            // What was done may call for the next decision.
            self.touch(target);
        }
        for act in acts {
            self.carry_out_act(act, &mut workload);
        }
        if let Some(moved) = moved {
            match (moved.state, moved.from) {
                (RolloutState::Done, _) => workload.settled = Some(moved.to),
                // The release before is the wanted one again.
                (RolloutState::GoingBack, Some(from)) => workload.release = from,
                _ => {}
            }
            self.put(Object::Rollout(moved));
        }
        workload.unanswered_since = unanswered_since;
        if workload.serves_unready != serves_unready {
            workload.serves_unready = serves_unready;
            self.table.touch();
        }
        if workload.state != state || workload.reason != reason {
            if workload.state != state {
                workload.since = now;
            }
            (workload.state, workload.reason) = (state, reason);
            self.table.touch();
        }
        if self.state.workloads.get(target) != Some(&workload) {
            self.put(Object::Workload(workload));
        }
        if let Some(at) = look_again {
            self.work.add_at(target, at);
        }
    }

    fn carry_out_act(&mut self, act: Act, workload: &mut Workload) {
        let now = self.now;
        match act {
            Act::Start(release, count) => {
                for _ in 0..count {
                    let short = replica_short_name(workload.next_replica);
                    workload.next_replica += 1;
                    let id = ReplicaId::new(workload.target.clone(), short);
                    self.put(Object::Replica(new_replica(id, release, now)));
                }
            }
            Act::RunFirst(release) => {
                let id = ReplicaId::new(workload.target.clone(), format!("first{release}"));
                let run = Replica { once: Some(Once::default()), ..new_replica(id, release, now) };
                self.put(Object::Replica(run));
            }
            Act::LetGo(id) => self.let_go(&id),
        }
    }

    /// Takes a replica out of the table; it is stopped once no gateway sends to it any more.
    pub(super) fn let_go(&mut self, id: &ReplicaId) {
        let Some(mut replica) = self.state.replicas.get(id).cloned() else { return };
        if replica.node.is_none() {
            self.remove(Kind::Replica, id.to_string());
            return;
        }
        replica.state = ReplicaState::Draining;
        replica.since = self.now;
        self.put(Object::Replica(replica));
    }
}

fn new_replica(id: ReplicaId, release: ReleaseNumber, now: Timestamp) -> Replica {
    Replica {
        id,
        release,
        node: None,
        address: None,
        state: ReplicaState::Waiting,
        reason: None,
        since: now,
        created: now,
        ready_after: None,
        restarts: 0,
        changed: None,
        started: None,
        once: None,
        aside: None,
        takes_connections: false,
        stopping: false,
    }
}
