//! A workload with all that belongs to it.

use std::collections::{BTreeMap, BTreeSet};

use jiff::SignedDuration;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::index::Index;
use super::rollout::{EvidenceRow, evidence};
use crate::cluster::{History, SecretUses};
use crate::model::{
    Name, Origin, ReleaseNumber, Replica, ReplicaState, Rollout, RolloutState, Shadowing, Signal, Touched,
    Workload,
};
use crate::record::State;

/// How many releases are shown; the newest ones.
const RELEASES_SHOWN: usize = 10;

/// The view of a workload, beside its own fields.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct WorkloadView {
    /// How its state is shown.
    pub signal: Signal,
    /// Its replicas, as ids: by release, then the oldest first.
    pub replicas: Vec<String>,
    /// How many are ready.
    pub ready: u32,
    /// How many are ready in the wanted release.
    pub ready_in_release: u32,
    /// How many finish their requests before they stop.
    pub draining: u32,
    /// How many take requests: they are ready, and their release has a share.
    pub taking: u32,
    /// The services that select it.
    pub services: Vec<Name>,
    /// The routes that lead to those.
    pub routes: Vec<Name>,
    /// Its newest rollout, by the release that it moves to.
    pub rollout: Option<ReleaseNumber>,
    /// Whether that rollout still moves or waits.
    pub open: bool,
    /// The two releases of an open rollout, in the order of its present direction.
    pub moves: Option<[ReleaseNumber; 2]>,
    /// How long the last rollout before that took that came to its end, in milliseconds.
    pub last_took_ms: Option<u64>,
    /// The answers of both releases of the newest rollout.
    pub evidence: Vec<EvidenceRow>,
    /// Its releases that have replicas, the newest first.
    pub lanes: Vec<Lane>,
    /// Its newest releases, the newest first.
    pub releases: Vec<ReleaseRow>,
    /// How many releases the record has of it.
    pub releases_in_all: u32,
    /// The acts that are possible now.
    pub acts: BTreeSet<Act>,
    /// How the number of replicas follows the load, and the last change that it asked for; in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub growth: Option<String>,
    /// The objects that sources leave alone, because a person changed them here.
    pub left_alone: Vec<LeftAlone>,
}

/// A release that has replicas.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Lane {
    /// Which release.
    pub release: ReleaseNumber,
    /// The tag of its image.
    pub tag: String,
    /// Its replicas, as ids.
    pub replicas: Vec<String>,
    /// How many of them are ready.
    pub ready: u32,
    /// Of 1,000 requests, how many an open rollout gives to it; `null` where that follows from the replicas.
    pub share: Option<u32>,
    /// Whether it answers copies of requests only, and no visitor.
    pub copies_only: bool,
}

/// A release, and what became of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ReleaseRow {
    /// Which release.
    pub release: ReleaseNumber,
    /// The state of its rollout.
    pub state: RolloutState,
    /// How that is shown.
    pub signal: Signal,
    /// Whether it is the wanted one.
    pub wanted: bool,
    /// Whether going back to it would change something, and it once was good.
    pub can_go_back: bool,
}

/// Something that may be done to a workload.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Act {
    /// Hold it.
    Hold,
    /// Lift the hold, or let sources follow Git again.
    Resume,
    /// Let the rollout go on.
    Advance,
    /// Send the rollout back.
    Cancel,
    /// Put fresh replicas in the place of those that run.
    Restart,
    /// Go back to the last good release that differs.
    Rollback,
}

/// An object that a source leaves alone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct LeftAlone {
    /// Which source.
    pub source: Name,
    /// What, in words: `the release of locker-api`.
    pub what: String,
    /// The member who changed it here.
    pub origin: Origin,
}

impl WorkloadView {
    pub(super) fn of(
        workload: &Workload,
        index: &Index<'_>,
        left: &[(&Name, &Touched, &Origin)],
    ) -> WorkloadView {
        let name = &workload.target.name;
        let releases = index.releases(name);
        let release = releases.iter().find(|release| release.number == workload.release).copied();
        let replicas = index.replicas(name);
        let rollout = index.rollouts(name).last().copied();
        let open = rollout.filter(|rollout| rollout.state.is_open());
        let services = index.services(name, release);
        let routes = index.routes(&services);
        let lanes = lanes(index, name, open);
        let unvisited = |replica: &Replica| {
            lanes.iter().any(|lane| lane.release == replica.release && lane.share == Some(0))
        };
        let count = |counts: &dyn Fn(&Replica) -> bool| {
            replicas.iter().filter(|replica| counts(replica)).count() as u32
        };
        let ready = |replica: &Replica| replica.state == ReplicaState::Ready;
        let is_of = |what: &Touched| what.workload() == Some(name);
        WorkloadView {
            signal: workload.state.signal(),
            replicas: replicas.iter().map(|replica| replica.id.to_string()).collect(),
            ready: count(&ready),
            ready_in_release: count(&|replica| ready(replica) && replica.release == workload.release),
            draining: count(&|replica| replica.state == ReplicaState::Draining),
            taking: count(&|replica| ready(replica) && !unvisited(replica)),
            services: services.iter().map(|service| service.target.name.clone()).collect(),
            routes: routes.iter().map(|route| route.target.name.clone()).collect(),
            rollout: rollout.map(|rollout| rollout.to),
            open: open.is_some(),
            moves: open.and_then(direction),
            last_took_ms: rollout.and_then(|rollout| took_before(index.rollouts(name), rollout)),
            evidence: rollout.map(evidence).unwrap_or_default(),
            lanes,
            releases: release_rows(workload, index),
            releases_in_all: releases.len() as u32,
            acts: acts(workload, index, open, left.iter().any(|(_, what, _)| is_of(what))),
            growth: workload.growing.as_ref().map(ToString::to_string),
            left_alone: left
                .iter()
                .filter(|(_, what, _)| is_of(what))
                .map(|(source, what, origin)| LeftAlone {
                    source: (*source).clone(),
                    what: what.to_string(),
                    origin: (*origin).clone(),
                })
                .collect(),
        }
    }
}

/// From which release to which it moves now: going back, the other way round.
fn direction(open: &Rollout) -> Option<[ReleaseNumber; 2]> {
    let from = open.from?;
    Some(if open.state == RolloutState::GoingBack { [open.to, from] } else { [from, open.to] })
}

/// How long the last rollout before this one took that is done.
fn took_before(rollouts: &[&Rollout], this: &Rollout) -> Option<u64> {
    let done = |rollout: &&&Rollout| rollout.to < this.to && rollout.state == RolloutState::Done;
    let before = rollouts.iter().rev().find(done)?;
    let took = before.ended?.duration_since(before.started).max(SignedDuration::ZERO);
    Some(took.as_millis() as u64)
}

fn lanes(index: &Index<'_>, name: &Name, open: Option<&Rollout>) -> Vec<Lane> {
    let mut lanes: BTreeMap<ReleaseNumber, Lane> = BTreeMap::new();
    for replica in index.replicas(name) {
        let lane = lanes.entry(replica.release).or_insert_with(|| {
            let release = index.releases(name).iter().find(|release| release.number == replica.release);
            Lane {
                release: replica.release,
                tag: release.map(|release| release.spec.image.tag.clone()).unwrap_or_default(),
                replicas: Vec::new(),
                ready: 0,
                share: open.and_then(|rollout| share(rollout, replica.release)),
                copies_only: open.is_some_and(|rollout| {
                    rollout.shadow == Shadowing::Copying && rollout.to == replica.release
                }),
            }
        });
        lane.ready += u32::from(replica.state == ReplicaState::Ready);
        lane.replicas.push(replica.id.to_string());
    }
    lanes.into_values().rev().collect()
}

/// Of 1,000 requests, how many the rollout gives to a release.
fn share(rollout: &Rollout, release: ReleaseNumber) -> Option<u32> {
    let share = rollout.share?;
    if release == rollout.to {
        Some(share)
    } else {
        (Some(release) == rollout.from).then(|| 1000u32.saturating_sub(share))
    }
}

fn release_rows(workload: &Workload, index: &Index<'_>) -> Vec<ReleaseRow> {
    let name = &workload.target.name;
    let states: BTreeMap<ReleaseNumber, RolloutState> =
        index.rollouts(name).iter().map(|rollout| (rollout.to, rollout.state)).collect();
    let releases = index.releases(name);
    // Two releases are the same where they equal the same earlier one.
    let original = |number: ReleaseNumber| {
        let release = releases.iter().find(|release| release.number == number);
        release.and_then(|release| release.same_as).unwrap_or(number)
    };
    let wanted = original(workload.release);
    let row = |number: ReleaseNumber| {
        let state = states.get(&number).copied().unwrap_or(RolloutState::Superseded);
        ReleaseRow {
            release: number,
            state,
            signal: state.signal(),
            wanted: number == workload.release,
            can_go_back: state == RolloutState::Done && original(number) != wanted,
        }
    };
    releases.iter().rev().take(RELEASES_SHOWN).map(|release| row(release.number)).collect()
}

/// The acts that are possible now. A held workload only waits to be resumed; while a rollout is open nothing else is begun.
fn acts(workload: &Workload, index: &Index<'_>, open: Option<&Rollout>, left_alone: bool) -> BTreeSet<Act> {
    let mut acts = BTreeSet::new();
    if left_alone {
        acts.insert(Act::Resume);
    }
    if workload.held.is_some() {
        acts.insert(Act::Resume);
        return acts;
    }
    acts.insert(Act::Hold);
    match open {
        Some(rollout) => {
            if rollout.state == RolloutState::Awaiting {
                acts.insert(Act::Advance);
            }
            if rollout.from.is_some() && rollout.state != RolloutState::GoingBack {
                acts.insert(Act::Cancel);
            }
        }
        None => {
            acts.insert(Act::Restart);
            if can_roll_back(workload, index) {
                acts.insert(Act::Rollback);
            }
        }
    }
    acts
}

/// Whether there is a release to go back to whose secrets are all still there.
fn can_roll_back(workload: &Workload, index: &Index<'_>) -> bool {
    let name = &workload.target.name;
    let history = History { releases: index.releases(name), rollouts: index.rollouts(name) };
    let (Some(goal), _) = history.rollback_target(workload.release) else { return false };
    let release = index.releases(name).iter().find(|release| release.number == goal);
    release.is_some_and(|release| SecretUses::of(index.state).check_versions(release).is_ok())
}

/// The objects that the sources of an environment leave alone, with the source and who changed them.
pub(super) fn left_alone<'a>(
    state: &'a State,
    environment: &Name,
) -> Vec<(&'a Name, &'a Touched, &'a Origin)> {
    let here = state.sources.values().filter(|source| source.target.environment == *environment);
    here.flat_map(|source| source.yields.iter().map(|it| (&source.target.name, &it.what, &it.origin)))
        .collect()
}
