//! Usage of a workload's replicas in the last days, by release, and whether its memory limit would fit.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Fit, Usage, tells};
use crate::model::{Bytes, ReleaseNumber, Target};
use crate::record::State;

/// Usage of a workload in the last days.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct WorkloadUsage {
    /// Which workload.
    pub workload: Target,
    /// By release, the newest first.
    pub releases: Vec<ReleaseUsage>,
    /// The memory limit held against what was measured.
    pub fit: Fit,
    /// The same in words, with the line to write.
    pub words: String,
    /// Whether the kernel counts what its replicas use: it does not where they are not isolated.
    pub measured: bool,
}

/// Usage of the replicas of one release.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ReleaseUsage {
    /// Its number.
    pub release: u32,
    /// How many replicas were measured.
    pub replicas: u32,
    /// The most memory that one needed, in bytes.
    pub needed: u64,
    /// The most memory that was charged to one, cached files included, in bytes.
    pub peak: u64,
    /// The memory limit, in bytes.
    pub limit: u64,
    /// How often the kernel killed for memory.
    pub kills: u64,
    /// Of the time, how much they were held back for their processor time: 0 to 1.
    pub held_back: f64,
    /// The most processes and threads of one.
    pub processes: u64,
    /// The most that one had written to its root file system, in bytes.
    pub disk: u64,
    /// The disk limit, in bytes; 0 where the release is not known any more.
    pub disk_limit: u64,
    /// Whether the advice rests on it: on releases that failed it does not.
    pub counts: bool,
}

fn counts(state: &State, workload: &Target, release: u32) -> bool {
    state.rollouts.get(&(workload.clone(), ReleaseNumber(release))).is_some_and(tells)
}

/// Measurements of a workload, against a memory limit or its own.
pub fn usage_of(
    state: &State,
    workload: &Target,
    usage: &[Usage],
    against: Option<Bytes>,
) -> Option<WorkloadUsage> {
    let wanted = state.workloads.get(workload)?;
    let own = state.releases.get(&(workload.clone(), wanted.release))?.spec.limits.memory;
    let mut by_release: BTreeMap<u32, Vec<&Usage>> = BTreeMap::new();
    for it in usage.iter().filter(|it| it.replica.workload == *workload) {
        by_release.entry(it.release.0).or_default().push(it);
    }
    let of = |(release, all): (&u32, &Vec<&Usage>)| {
        let most = |of: fn(&Usage) -> u64| all.iter().map(|it| of(it)).max().unwrap_or(0);
        let sum = |of: fn(&Usage) -> u64| all.iter().map(|it| of(it)).sum::<u64>();
        ReleaseUsage {
            release: *release,
            replicas: u32::try_from(all.len()).unwrap_or(u32::MAX),
            needed: most(|it| it.needed),
            peak: most(|it| it.peak),
            limit: most(|it| it.limit),
            kills: sum(|it| it.kills),
            held_back: sum(|it| it.held_back) as f64 / sum(|it| it.watched).max(1) as f64,
            processes: most(|it| it.processes),
            disk: most(|it| it.disk),
            disk_limit: state
                .releases
                .get(&(workload.clone(), ReleaseNumber(*release)))
                .map_or(0, |release| release.spec.limits.disk.bytes()),
            counts: counts(state, workload, *release),
        }
    };
    let releases: Vec<ReleaseUsage> = by_release.iter().rev().map(of).collect();
    let counting = by_release.iter().filter(|(release, _)| counts(state, workload, **release));
    let counting: Vec<Usage> = counting.flat_map(|(_, all)| all.iter().map(|it| (*it).clone())).collect();
    let fit = super::fit(against.unwrap_or(own), &counting);
    let isolates = crate::routing::all_of(&state.replicas, workload).all(|it| state.isolates(it));
    Some(WorkloadUsage { workload: workload.clone(), releases, words: fit.words(), fit, measured: isolates })
}
