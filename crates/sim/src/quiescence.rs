//! When the faults have ended: everything has settled and agrees.

use mainyard_core::model::{ReplicaState, RolloutState, WorkloadState};

use crate::parts::node_name;
use crate::world::World;

impl World {
    pub(crate) fn at_rest(&mut self) {
        if let Err(rule) = self.check_rest() {
            self.violated(rule);
        }
    }

    fn check_rest(&self) -> Result<(), String> {
        let state = &self.record.state;
        let deciding: Vec<_> = self.controls.iter().filter_map(|control| control.leader.as_ref()).collect();
        let [(cluster, _)] = deciding[..] else { return Err(format!("{} controls decide", deciding.len())) };
        if cluster.state() != state {
            return Err("the one that decides has not the record's state".into());
        }
        for (target, wanted) in &self.wanted {
            let found = state.workloads.get(target).map(|workload| workload.wanted);
            if found != Some(*wanted) {
                return Err(format!(
                    "{target} was scaled to {wanted}, acknowledged; the record says {found:?}"
                ));
            }
        }
        for (target, number, image) in &self.released {
            let found =
                state.releases.get(&(target.clone(), *number)).map(|release| release.spec.image.to_string());
            if found.as_ref() != Some(image) {
                return Err(format!(
                    "{target}@{number} was {image}, acknowledged; the record says {found:?}"
                ));
            }
        }
        for (target, workload) in &state.workloads {
            let open = state.open_rollout(target).map(|rollout| rollout.state);
            // A person is waited for, or has said that nothing may move.
            if workload.held.is_some() || open == Some(RolloutState::Awaiting) {
                continue;
            }
            if workload.state == WorkloadState::Moving || open.is_some() {
                let replicas = mainyard_core::routing::all_of(&state.replicas, target);
                let replicas: Vec<String> = replicas
                    .map(|it| format!("{}@{} {} {:?}", it.id.short, it.release, it.state, it.reason))
                    .collect();
                return Err(format!(
                    "{target} still moves: {} {open:?}, release {} of {} wanted: {replicas:?}",
                    workload.state, workload.release, workload.wanted
                ));
            }
        }
        for (id, replica) in &state.replicas {
            if replica.stopping || replica.state == ReplicaState::Draining {
                return Err(format!("the drain of {id} has not ended"));
            }
        }
        self.check_nodes()?;
        for (number, gateway) in self.gateways.iter().enumerate() {
            let wanted = cluster.table();
            if gateway.table != wanted {
                let (has, newest) = (gateway.table.version, wanted.version);
                return Err(format!("gateway {number} serves by {has:?}, the newest is {newest:?}"));
            }
        }
        Ok(())
    }

    fn check_nodes(&self) -> Result<(), String> {
        let state = &self.record.state;
        for (number, node) in self.nodes.iter().enumerate() {
            let name = node_name(number);
            let wanted: Vec<_> = state
                .replicas
                .values()
                .filter(|it| it.node.as_ref() == Some(&name))
                .map(|it| &it.id)
                .collect();
            let agent = node.agent.as_ref().ok_or_else(|| format!("agent {number} is not there"))?;
            let known: Vec<_> = agent.replicas().map(|(id, _)| id).collect();
            if known != wanted {
                return Err(format!("agent {number} has {known:?}, the record {wanted:?}"));
            }
            if let Some(stray) = node.processes.keys().find(|id| !known.contains(id)) {
                return Err(format!("the process of {stray} is nobody's"));
            }
            for (id, run) in agent.replicas() {
                let (told, recorded) = (run.report(), &state.replicas[id]);
                if told.state != recorded.state || told.reason != recorded.reason {
                    let record = (recorded.state, &recorded.reason);
                    return Err(format!(
                        "{id} is {} {:?}, the record says {record:?}",
                        told.state, told.reason
                    ));
                }
            }
        }
        Ok(())
    }
}
