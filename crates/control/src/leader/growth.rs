//! Looking at the load of workloads whose number of replicas follows it, once a second.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use mainyard_core::growth::{Grower, Load, Look, Resize, Share};
use mainyard_core::model::{ReplicaState, Target, Workload, WorkloadState};
use mainyard_core::record::State;
use mainyard_core::routing::{candidates, replicas_of};
use mainyard_core::sizing::UsedNow;

use crate::traffic::{Demand, Traffic};

/// How often the load is looked at.
pub(super) const LOOK_EVERY: Duration = Duration::from_secs(1);

/// The workloads that are looked at. Nothing of it is recorded: a control that takes over looks on from there, and takes no
/// replica away before it has looked for long enough itself.
pub(super) struct LoadWatch {
    growers: BTreeMap<Target, Grower>,
    begun: Instant,
    looked: Option<Instant>,
}

impl LoadWatch {
    pub(super) fn new() -> LoadWatch {
        LoadWatch { growers: BTreeMap::new(), begun: Instant::now(), looked: None }
    }

    /// How long until the next look, where any workload follows its load.
    pub(super) fn next_look(&self, state: &State) -> Option<Duration> {
        let follows = state.workloads.values().any(|workload| workload.grows_by().is_some());
        let since = self.looked.map_or(LOOK_EVERY, |looked| looked.elapsed());
        follows.then(|| LOOK_EVERY.saturating_sub(since))
    }

    /// Looks, where it is time; gives what follows.
    pub(super) fn look(&mut self, state: &State, traffic: &Traffic, now: Timestamp) -> Vec<(Target, Resize)> {
        if self.next_look(state).is_none_or(|left| !left.is_zero()) {
            return Vec::new();
        }
        self.looked = Some(Instant::now());
        let demand = traffic.demand();
        self.growers.retain(|target, _| {
            state.workloads.get(target).is_some_and(|workload| workload.grows_by().is_some())
        });
        let at = self.begun.elapsed().as_millis() as u64;
        let all = state.workloads.values().filter_map(|workload| {
            let growth = workload.grows_by().filter(|_| workload.held.is_none())?;
            let look = Look { at, least: growth.least(now), ..look_at(state, workload, &demand) };
            let grower = self.growers.entry(workload.target.clone()).or_default();
            Some((workload.target.clone(), grower.look(growth, look)?))
        });
        all.collect()
    }
}

fn look_at(state: &State, workload: &Workload, demand: &Demand) -> Look {
    let replicas = replicas_of(&state.replicas, &workload.target);
    let ready = replicas.filter(|replica| replica.state == ReplicaState::Ready).count() as u32;
    let is_at_rest = matches!(workload.state, WorkloadState::Steady | WorkloadState::Asleep);
    let is_moving = !is_at_rest || state.open_rollout(&workload.target).is_some();
    let load = demand.is_told.then(|| {
        let (cpu, memory) = used_by(state, workload, demand).unzip();
        Load { cpu, memory, ..load_of(state, workload, demand) }
    });
    Look { at: 0, least: 0, wanted: workload.wanted, ready, load, is_moving }
}

/// Processors and memory of the replicas that are ready, where their nodes tell; those that are not told of count as the others.
fn used_by(state: &State, workload: &Workload, demand: &Demand) -> Option<(Share, Share)> {
    let limits = state.releases.get(&(workload.target.clone(), workload.release))?.spec.limits;
    let ready = replicas_of(&state.replicas, &workload.target).filter(|it| it.state == ReplicaState::Ready);
    let (ready, known): (Vec<_>, Vec<_>) = ready.map(|it| (it, demand.replicas.get(&it.id))).unzip();
    let known: Vec<UsedNow> = known.into_iter().flatten().copied().collect();
    let all = |of: fn(&UsedNow) -> u64| {
        known.iter().map(of).sum::<u64>() as f64 / known.len() as f64 * ready.len() as f64
    };
    (!known.is_empty()).then(|| {
        let cpu = Share { used: all(|used| used.cpu), limit: limits.cpu.milli() as f64 };
        (cpu, Share { used: all(|used| used.memory), limit: limits.memory.bytes() as f64 })
    })
}

fn load_of(state: &State, workload: &Workload, demand: &Demand) -> Load {
    let (open, answered) = demand.workloads.get(&workload.target.to_string()).copied().unwrap_or_default();
    let mut load = Load { open, answered, ..Load::default() };
    let here = state.services.values().filter(|it| it.target.environment == workload.target.environment);
    for service in here {
        let Some((waiting, refused)) = demand.services.get(&service.target.to_string()) else { continue };
        let behind: Vec<&Workload> = candidates(&state.workloads, service).collect();
        if behind.iter().any(|it| it.target == workload.target) {
            // Nobody knows which of them would have got it.
            load.waiting += waiting / behind.len() as f64;
            load.refused += refused / behind.len() as f64;
        }
    }
    load
}
