//! Rules that hold after every write, whatever goes wrong.

use std::collections::BTreeMap;

use jiff::Timestamp;
use mainyard_core::model::{
    FirstState, Purpose, ReasonCode, Release, ReleaseNumber, Replica, ReplicaId, ReplicaState, Rollout,
    RolloutState, Signal, Style, Target, Workload,
};
use mainyard_core::record::{Change, Object, State};
use mainyard_core::routing::{replicas_of, service_entry};
use mainyard_core::views::NeedKind;
use mainyard_core::views::board::board;

use crate::world::World;

/// The rule that these changes break, where they do. `well` tells whether a replica has
/// been listening for long enough that nothing else can be on its way about it.
pub(crate) fn broken_rule(
    before: &State,
    changes: &[Change],
    well: impl Fn(&ReplicaId) -> bool,
    now: Timestamp,
) -> Option<String> {
    let mut after = before.clone();
    for change in changes {
        match &change.object {
            Some(object) => after.put(object.clone()),
            None => after.remove(change.kind, &change.key),
        }
    }
    changes.iter().find_map(|change| match &change.object {
        Some(Object::Release(release)) => release_changed(before, release),
        Some(Object::Rollout(rollout)) => ended_otherwise(before, &after, rollout, now),
        Some(Object::Replica(replica)) => {
            serves_too_early(&after, replica).or_else(|| too_few_left(before, &after, replica, &well))
        }
        Some(Object::Workload(workload)) => faulted_early(workload),
        Some(Object::Service(service)) => silenced(before, &after, &service.target),
        _ => None,
    })
}

/// A change of a service, of whatever kind, takes nobody's place at its ports before others answer there.
fn silenced(before: &State, after: &State, target: &Target) -> Option<String> {
    let entry = |state: &State| {
        let service = state.services.get(target)?;
        Some(service_entry(state, service, state.environments.get(&target.environment)?.index))
    };
    let (was, is) = (entry(before)?, entry(after)?);
    // Where the service is led elsewhere, those of a workload that the very change removes would have answered on.
    let led_elsewhere = before.services.get(target)?.spec != after.services.get(target)?.spec;
    let still = |id: &ReplicaId| match after.replicas.get(id).map(|it| it.state) {
        Some(ReplicaState::Ready) => true,
        Some(ReplicaState::Draining) => led_elsewhere && !after.workloads.contains_key(&id.workload),
        _ => false,
    };
    let lost = is.ports.iter().find(|(port, list)| {
        let answered = was.ports.get(port).is_some_and(|list| list.iter().any(|it| still(&it.replica)));
        list.is_empty() && answered
    });
    lost.map(|(port, _)| {
        let answered: Vec<String> = was.ports[port].iter().map(|it| it.replica.to_string()).collect();
        let led = |state: &State| state.services[target].spec.select.clone();
        format!(
            "{target} changed, and nobody answers at {port} although somebody is there: {answered:?}, {:?} to {:?}; {}",
            led(before),
            led(after),
            described(after, target)
        )
    })
}

/// A release never changes, but for how services led to it, and the digest of an image that was not there yet.
fn release_changed(before: &State, release: &Release) -> Option<String> {
    let known = before.releases.get(&(release.workload.clone(), release.number))?;
    // What services led to it is noted when they change.
    let known = &Release { bound: release.bound.clone(), ..known.clone() };
    let filled = Release { digest: release.digest.clone(), ..known.clone() };
    let same = *known == *release || (known.digest.is_none() && filled == *release);
    (!same).then(|| format!("{}@{} changed", release.workload, release.number))
}

fn staying<'a>(state: &'a State, workload: &Target) -> impl Iterator<Item = &'a Replica> {
    replicas_of(&state.replicas, workload).filter(|replica| replica.state.is_staying())
}

fn ready(state: &State, workload: &Target) -> usize {
    staying(state, workload).filter(|replica| replica.state == ReplicaState::Ready).count()
}

/// One that is done leaves the new release alone, but for a set that is kept beside it; one that went back leaves
/// exactly the old one, unless its deadline came first.
fn ended_otherwise(before: &State, after: &State, rollout: &Rollout, now: Timestamp) -> Option<String> {
    let known = before.rollouts.get(&(rollout.workload.clone(), rollout.to))?;
    if known.state == rollout.state {
        return None;
    }
    let workload = after.workloads.get(&rollout.workload)?;
    let others = |release| staying(after, &rollout.workload).filter(|it| it.release != release).count();
    let wanted = workload.wanted as usize;
    match (known.state, rollout.state) {
        (_, RolloutState::Done) => {
            let left = others(rollout.to);
            let wrong = (left > 0 && rollout.warm_until.is_none()) || workload.release != rollout.to;
            wrong.then(|| format!("{}@{} is done, and {left} others stay", rollout.workload, rollout.to))
        }
        // Superseded on its way back: the newer one takes it from there.
        (RolloutState::GoingBack, RolloutState::WentBack | RolloutState::Cancelled)
            if Some(workload.release) == rollout.from =>
        {
            let deadline = known.step_began.unwrap_or(known.started) + workload.rule.deadline.signed();
            let (left, ready) = (others(workload.release), ready(after, &rollout.workload));
            let whole = left == 0 && ready >= wanted;
            (!whole && now < deadline).then(|| {
                format!("{}@{} went back, {left} others stay, {ready} ready", rollout.workload, rollout.to)
            })
        }
        _ => None,
    }
}

/// No replica of a release is handed to a node before what the release runs first has ended well, or a person said that
/// it does not matter.
fn serves_too_early(after: &State, replica: &Replica) -> Option<String> {
    if replica.once.is_some() || !replica.state.is_staying() {
        return None;
    }
    let rollout = after.rollouts.get(&(replica.id.workload.clone(), replica.release))?;
    let waits = rollout.first.as_ref().filter(|first| first.holds_back())?;
    Some(format!("{} is there while run_first of {} is {:?}", replica.id, rollout.to, waits.state))
}

/// A drain never goes below the minimum number of ready replicas, as long as the workload is wanted.
fn too_few_left(
    before: &State,
    after: &State,
    replica: &Replica,
    well: &impl Fn(&ReplicaId) -> bool,
) -> Option<String> {
    let was_ready = |id: &ReplicaId| {
        before.replicas.get(id).is_some_and(|known| known.state == ReplicaState::Ready) && well(id)
    };
    if !was_ready(&replica.id) || replica.state != ReplicaState::Draining {
        return None;
    }
    let target = &replica.id.workload;
    let workload = after.workloads.get(target)?;
    let least = workload.wanted.saturating_sub(workload.rule.may_lack) as usize;
    let left = ready(after, target);
    // A report in the same write may have told of others that they are not what they were.
    let fallen = replicas_of(&before.replicas, target)
        .filter(|it| it.state == ReplicaState::Ready && !was_ready(&it.id))
        .count();
    (left + fallen < least)
        .then(|| format!("{} is drained, and {left} of at least {least} are left", replica.id))
}

/// The release that served before a rollout, where nobody of it is there although nobody answers.
fn proven_is_missing(state: &State, target: &Target) -> Option<ReleaseNumber> {
    let (workload, rollout) = (state.workloads.get(target)?, state.open_rollout(target)?);
    let settled = workload.settled.filter(|settled| rollout.from == Some(*settled))?;
    let needed = workload.wanted > workload.rule.may_lack && workload.held.is_none();
    let moves = rollout.purpose == Purpose::Change
        && rollout.state != RolloutState::Awaiting
        && workload.rule.style == Style::Rolling;
    let there = staying(state, target).any(|replica| replica.release == settled);
    (needed && moves && !there).then_some(settled)
}

/// How a workload is, for the report.
fn described(state: &State, target: &Target) -> String {
    let rollout = state.newest_rollout(target);
    let rollout = rollout.map(|it| format!("{}@{} {:?} from {:?}", it.to, it.step, it.state, it.from));
    let there = replicas_of(&state.replicas, target);
    let there = there.map(|it| format!("{}@{} {} {:?}", it.id.short, it.release, it.state, it.node));
    let wanted = state.workloads.get(target).map(|it| (it.wanted, &it.rule));
    format!("{rollout:?}, {:?}, {wanted:?}", there.collect::<Vec<_>>())
}

/// Only time that was declared makes a slow start a fault: nothing here declares any.
fn faulted_early(workload: &Workload) -> Option<String> {
    let silent = workload.reason.as_ref().filter(|reason| reason.code == ReasonCode::PortSilent)?;
    Some(format!("{} is said to fail before its deadline: {}", workload.target, silent.sentence))
}

/// A replica that stopped answering is on the board within this time, in milliseconds.
const TOLD_WITHIN: u64 = 2000;

impl World {
    /// The number of a replica never returns, in any life of its workload.
    pub(crate) fn check_numbers(&mut self, changes: &[Change]) {
        let born = changes.iter().filter_map(|change| match &change.object {
            Some(Object::Replica(replica)) if replica.state == ReplicaState::Waiting => Some(&replica.id),
            _ => None,
        });
        for id in born {
            let replica = &self.record.state.replicas.get(id).map(|it| it.created);
            let Some(created) = *replica else { continue };
            if *self.born.entry(id.clone()).or_insert(created) != created {
                self.violated(format!("{id} is there a second time"));
            }
        }
    }

    /// The number of a secret's version never means another value.
    pub(crate) fn check_versions(&mut self, changes: &[Change]) {
        for change in changes {
            let Some(Object::Secret(secret)) = &change.object else { continue };
            for (number, version) in &secret.versions {
                let key = (secret.target.clone(), *number);
                let known = self.versions.entry(key).or_insert_with(|| version.sealed.clone());
                if *known != version.sealed {
                    let rule = format!("version {number} of {} has two values", secret.target);
                    return self.violated(rule);
                }
            }
        }
    }

    /// A workload that answered and no longer does is on the board, unless nobody wants it to answer.
    pub(crate) fn check_told(&mut self, control: usize) {
        let now = self.now;
        let Some((cluster, epoch)) = &self.controls[control].leader else { return };
        let state = &cluster.state();
        let Some(index) = state.environments.values().next().map(|it| it.index) else { return };
        // A service that was removed and comes again starts over.
        self.answered.retain(|name| state.services.contains_key(name));
        let mut dark = Vec::new();
        for service in state.services.values() {
            let answers = service_entry(state, service, index).ports.values().any(|list| !list.is_empty());
            let name = service.target.clone();
            if answers {
                self.answered.insert(name.clone());
            }
            // One whose first release has not settled yet is on its way for the first time.
            let wanted = state.workloads.get(&name);
            let wanted = wanted.is_some_and(|it| it.wanted > 0 && !it.leaves && it.settled.is_some());
            if !answers && wanted && self.answered.contains(&name) {
                dark.push(name);
            }
        }
        let known = std::mem::take(&mut self.dark);
        let since = |name: &Target| known.get(name).filter(|(_, of)| of == epoch).map_or(now, |(at, _)| *at);
        self.dark = dark.iter().map(|name| (name.clone(), (since(name), *epoch))).collect();
        let late =
            self.dark.iter().filter(|(_, (at, _))| now > at + TOLD_WITHIN).map(|(name, _)| name.clone());
        let late: Vec<Target> = late.collect();
        for name in late {
            if let Some(settled) = proven_is_missing(state, &name) {
                let how = described(state, &name);
                return self.violated(format!(
                    "{name} does not answer, and nobody of release {settled} is started; {how}"
                ));
            }
            let shown = board(state, &name.environment, &BTreeMap::new(), self.clock());
            let row = shown.workloads.iter().find(|row| row.name == name.name);
            let told = row.is_some_and(|row| matches!(row.signal, Signal::Caution | Signal::Fault))
                || shown.needs.iter().any(|it| it.kind == NeedKind::Workload && it.name == name.name);
            if !told {
                let row = row.map(|row| (row.state, row.reason.clone()));
                let how = described(state, &name);
                return self.violated(format!("{name} does not answer, and the board says {row:?}; {how}"));
            }
        }
    }

    /// Counts rollouts that end with these changes.
    pub(crate) fn count_ends(&mut self, changes: &[Change]) {
        for change in changes {
            let Some(Object::Rollout(rollout)) = &change.object else { continue };
            let known = self.record.state.rollouts.get(&(rollout.workload.clone(), rollout.to));
            let unknown =
                |it: &Rollout| it.first.as_ref().is_some_and(|first| first.state == FirstState::Unknown);
            self.outcome.first_unknown += u64::from(unknown(rollout) && !known.is_some_and(unknown));
            if rollout.state.is_open() || known.is_some_and(|known| known.state == rollout.state) {
                continue;
            }
            self.outcome.rollouts += 1;
            self.outcome.went_back += u64::from(rollout.state == RolloutState::WentBack);
        }
    }
}
