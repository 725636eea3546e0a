//! Forecasts held against what happens: at some moment of a seed an act is rehearsed on a copy of the record, and then
//! happens in the simulated platform, undisturbed.
//!
//! Until that moment everything may go wrong, as in every run. Then people and faults rest, every part comes back, and
//! one act is done. Rollouts, drains and starts that are under way go on beside it.

use std::collections::BTreeSet;

use jiff::Timestamp;
use mainyard_core::cluster::{Cluster, DeployRequest, Goal, Refusal};
use mainyard_core::forecast::Rehearsed;
use mainyard_core::model::{ReasonCode, Replica, ReplicaState, RolloutState, Target};
use mainyard_core::record::State;
use mainyard_core::routing::replicas_of;
use mainyard_core::views::{Act as Offer, EnvironmentView, GatewayPorts};

use crate::operators::ALWAYS_STARTS;
use crate::rehearsal::{copy, is_at_rest, rehearse};
use crate::world::{FAULTS_UNTIL, World};

/// Faults that last end by themselves within this time.
const PARTS_BACK_WITHIN: u64 = 45_000;
/// Events at a node are in the record within this time.
const NEWS_WITHIN: u64 = 3_000;
/// An act that has not settled by then is reported so.
const AT_REST_WITHIN: u64 = 120_000;
/// A deadline this close to the foretold end may pass before or after it.
const CLOSE_TO_DEADLINE: u64 = 1_500;

/// An act that is rehearsed, then done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Act {
    /// Another image, one that starts.
    Deploy(String),
    /// Another number of replicas.
    Scale(u32),
    /// Fresh replicas of the same release.
    Restart,
    /// The last good release that differs.
    Rollback,
}

/// A forecast beside the actual events.
#[derive(Debug, Clone)]
pub struct Compared {
    /// The act.
    pub act: Act,
    /// The forecast.
    pub foretold: Rehearsed,
    /// The actual events, in the same terms.
    pub happened: Rehearsed,
    /// How many the declared rule lets be ready at least. A replica that takes longer than foretold may use that up.
    pub least_by_rule: u32,
    /// In how many milliseconds the deadline of a rollout passes that is open already.
    pub deadline_in: Option<u64>,
}

impl Compared {
    /// Where the forecast misled anyone who relied on it; empty if it held.
    pub fn broken_promises(&self) -> Vec<String> {
        let (foretold, happened) = (&self.foretold, &self.happened);
        let mut broken = Vec::new();
        if foretold.reason.is_some() != happened.reason.is_some() && !self.is_close_to_deadline() {
            broken.push(format!("foretold {:?}, happened {:?}", foretold.reason, happened.reason));
        }
        if happened.lowest_ready < foretold.lowest_ready.min(self.least_by_rule) {
            broken.push(format!(
                "{} were ready at least, not {}",
                happened.lowest_ready, foretold.lowest_ready
            ));
        }
        if happened.most > foretold.most {
            broken.push(format!("{} were there at most, not {}", happened.most, foretold.most));
        }
        if foretold.took_millis.is_some() != happened.took_millis.is_some() {
            broken.push(format!("took {:?}, not {:?} ms", happened.took_millis, foretold.took_millis));
        }
        broken
    }
}

impl Compared {
    fn is_close_to_deadline(&self) -> bool {
        let end = self.foretold.took_millis.unwrap_or_default();
        self.deadline_in.is_some_and(|deadline| end.abs_diff(deadline) < CLOSE_TO_DEADLINE)
    }
}

/// Runs a seed to a moment that the seed chooses, rehearses an act, does it, and compares. `None` where the moment has no
/// workload whose images start.
///
/// # Errors
/// The rule of the platform that was broken meanwhile.
pub fn compare(seed: u64) -> Result<Option<Compared>, String> {
    let mut world = World::switched_on(seed);
    let moment = world.chance.between(5_000, FAULTS_UNTIL);
    world.calm_from = moment;
    world.run_until(moment, |_| false);
    world.run_until(moment + PARTS_BACK_WITHIN, World::all_parts_there);
    // The news of the last fault arrives meanwhile.
    let news_is_in = world.now + NEWS_WITHIN;
    world.run_until(news_is_in, |_| false);
    let compared = if world.all_parts_there() { world.rehearse_and_do() } else { None };
    world.finish().map(|_| compared)
}

impl World {
    /// Whether a control decides that is linked to every node and gateway.
    fn all_parts_there(&self) -> bool {
        let now = self.now;
        let mut deciding = self
            .controls
            .iter()
            .filter(|it| it.alive && it.leader.is_some() && it.frozen_until <= now && it.cut_until <= now);
        let linked = |it: &crate::parts::Control| it.links.len() == self.nodes.len() + self.gateways.len();
        let (Some(control), None) = (deciding.next(), deciding.next()) else { return false };
        let agents = self.nodes.iter().all(|node| node.agent.is_some() && node.link.is_some());
        let gateways = self.gateways.iter().all(|gateway| gateway.alive && gateway.link.is_some());
        linked(control) && agents && gateways && self.record_is_true()
    }

    /// Whether the news of every fault has arrived: nobody is taken for lost, and all that is said to be ready is.
    fn record_is_true(&self) -> bool {
        let now = self.now;
        let answers = |replica: &Replica| {
            let mut processes = self.nodes.iter().filter_map(|node| node.processes.get(&replica.id));
            processes.any(|process| process.listens_at.is_some_and(|at| at <= now))
        };
        self.record.state.replicas.values().all(|replica| match replica.state {
            ReplicaState::Lost => false,
            ReplicaState::Ready => replica.once.is_some() || answers(replica),
            _ => true,
        })
    }

    fn rehearse_and_do(&mut self) -> Option<Compared> {
        let epoch = self.record.epoch;
        let control =
            self.controls.iter().position(|it| it.leader.as_ref().is_some_and(|(_, of)| *of == epoch))?;
        self.offers_are_accepted();
        let (target, act) = self.choose()?;
        let (before, now) = (self.record.state.clone(), self.clock());
        let mut rehearsed = copy(before, now);
        let table = rehearsed.table();
        let could = perform(&mut rehearsed, &target, &act, now);
        let (cluster, _) = self.controls[control].leader.as_mut()?;
        let did = perform(cluster, &target, &act, now);
        if could.is_ok() != did.is_ok() {
            self.violated(format!("{act:?} of {target} came to {could:?} in the rehearsal and to {did:?}"));
        }
        did.ok()?;
        let workload = &rehearsed.state().workloads[&target];
        let least_by_rule = workload.wanted.saturating_sub(workload.rule.may_lack);
        let deadline_in = before_deadline(&self.record.state, &target, now);
        let watched = BTreeSet::from([target.clone()]);
        let forecast = rehearse(&rehearsed, &table, &watched, None, now);
        let foretold = forecast.workloads.into_iter().next()?;
        self.note(|| format!("{act:?} of {target}; foretold: {}", foretold.words));
        let happened = self.watch(control, &target, foretold.clone());
        Some(Compared { act, foretold, happened, least_by_rule, deadline_in })
    }

    /// Every act that the views offer for a workload is accepted, on a copy.
    fn offers_are_accepted(&mut self) {
        let (state, now) = (self.record.state.clone(), self.clock());
        let ports = GatewayPorts { http: 80, https: 443 };
        let views =
            state.environments.keys().map(|name| (name, EnvironmentView::of(&state, name, ports, now)));
        let offers = views.flat_map(|(environment, view)| {
            view.workloads.into_iter().flat_map(move |(name, workload)| {
                let target = Target::new(environment, &name);
                workload.acts.into_iter().map(move |offered| (target.clone(), offered))
            })
        });
        let refused = offers.into_iter().find_map(|(target, offered)| {
            let refusal = accept(&mut copy(state.clone(), now), &target, offered, now).err()?;
            Some(format!("{offered:?} is offered for {target}, and {}", refusal.message))
        });
        if let Some(broken) = refused {
            self.violated(broken);
        }
    }

    /// A workload that nobody holds, whose releases all start, and something to do to it.
    fn choose(&mut self) -> Option<(Target, Act)> {
        let dice = self.chance.next();
        let state = &self.record.state;
        // Whether what fails goes on failing, nobody knows either.
        let fails = |target: &Target| {
            replicas_of(&state.replicas, target).any(|replica| replica.state == ReplicaState::Failed)
        };
        let starts = |target: &Target| {
            let releases = state.releases.values().filter(|release| release.workload == *target);
            let here: BTreeSet<_> = replicas_of(&state.replicas, target).map(|it| it.release).collect();
            let wanted = state.workloads.get(target).map(|it| it.release);
            let matters = |number| here.contains(&number) || Some(number) == wanted;
            releases
                .filter(|release| matters(release.number))
                .all(|release| ALWAYS_STARTS.contains(&release.spec.image.tag.as_str()))
        };
        // How a command ends that runs before a release serves, nobody knows.
        let runs_first = |target: &Target| {
            state.releases.values().any(|it| it.workload == *target && it.spec.run_first.is_some())
        };
        let free = state.workloads.values().filter(|it| it.held.is_none() && !it.leaves && it.wanted > 0);
        let free = free.filter(|it| !runs_first(&it.target) && !fails(&it.target));
        let free: Vec<&Target> = free.map(|it| &it.target).filter(|target| starts(target)).collect();
        let target = (*free.get(dice as usize % free.len().max(1))?).clone();
        let act = match (dice >> 8) % 4 {
            0 => Act::Scale((dice >> 16) as u32 % 8 + 1),
            1 => Act::Restart,
            2 => Act::Rollback,
            _ => Act::Deploy(ALWAYS_STARTS[(dice >> 16) as usize % ALWAYS_STARTS.len()].to_owned()),
        };
        Some((target, act))
    }

    /// Lets it happen, and tells it as a rehearsal would. Where a person is asked, somebody says to go on.
    fn watch(&mut self, control: usize, target: &Target, foretold: Rehearsed) -> Rehearsed {
        let began = self.now;
        let mut happened =
            Rehearsed { lowest_ready: u32::MAX, most: 0, asks: 0, took_millis: None, ..foretold };
        happened.reason = None;
        // What the act itself changed is in the record once it has been decided.
        self.decide(control);
        loop {
            let (there, ready) = count(&self.record.state, target);
            happened.lowest_ready = happened.lowest_ready.min(ready);
            happened.most = happened.most.max(there);
            if self.asks_first(target) {
                happened.asks += 1;
                let clock = self.clock();
                let leader = self.controls.iter().position(|it| it.leader.is_some());
                if let Some(leader) = leader
                    && let Some((cluster, _)) = &mut self.controls[leader].leader
                    && cluster.transaction("a person", clock).advance(target).is_ok()
                {
                    self.decide(leader);
                    continue;
                }
            }
            if is_at_rest(&self.record.state, target) && !self.becomes_ready(target) {
                happened.took_millis = Some(self.now - began);
                break;
            }
            let number = self.record.number;
            let end = began + AT_REST_WITHIN;
            if self.now > end || !self.step(|world| world.record.number != number || world.now > end) {
                break;
            }
        }
        let state = &self.record.state;
        let newest = state.newest_rollout(target).filter(|it| it.state == RolloutState::WentBack);
        let newest = newest.filter(|it| it.started.as_millisecond() >= 1_000_000_000_000 + began as i64);
        let reason = state.workloads.get(target).and_then(|it| it.reason.clone());
        happened.reason = reason.or_else(|| newest.and_then(|rollout| rollout.reason.clone()));
        happened
    }

    /// Whether a replica of it is on its way to be ready, as far as anybody knows.
    fn becomes_ready(&self, target: &Target) -> bool {
        use ReplicaState::*;
        let on_its_way = |state| matches!(state, Waiting | Fetching | Starting | Unready | Failed);
        replicas_of(&self.record.state.replicas, target).any(|replica| on_its_way(replica.state))
    }

    fn asks_first(&self, target: &Target) -> bool {
        let open = self.record.state.open_rollout(target);
        let reason = open.and_then(|open| open.reason.as_ref());
        reason.is_some_and(|reason| reason.code == ReasonCode::AsksFirst)
    }
}

/// The time until the deadline of a workload's open rollout, in milliseconds.
fn before_deadline(state: &State, target: &Target, now: Timestamp) -> Option<u64> {
    let open = state.open_rollout(target)?;
    let deadline = open.step_began.unwrap_or(open.started) + state.workloads[target].rule.deadline.signed();
    u64::try_from(deadline.duration_since(now).as_millis()).ok()
}

/// Replicas that stay, and those of them that are ready.
fn count(state: &State, target: &Target) -> (u32, u32) {
    let staying: Vec<_> = replicas_of(&state.replicas, target).filter(|it| it.state.is_staying()).collect();
    let ready = staying.iter().filter(|it| it.state == ReplicaState::Ready).count();
    (staying.len() as u32, ready as u32)
}

fn accept(cluster: &mut Cluster, target: &Target, act: Offer, now: Timestamp) -> Result<(), Refusal> {
    let mut transaction = cluster.transaction("mira", now);
    match act {
        Offer::Hold => transaction.hold(target, "stocktaking").map(|_| ()),
        Offer::Resume => transaction.resume(target).map(|_| ()),
        Offer::Advance => transaction.advance(target).map(|_| ()),
        Offer::Cancel => transaction.cancel(target).map(|_| ()),
        Offer::Restart => transaction.restart(target).map(|_| ()),
        Offer::Rollback => transaction.rollback(target, Goal::Before).map(|_| ()),
    }
}

fn perform(cluster: &mut Cluster, target: &Target, act: &Act, now: Timestamp) -> Result<(), Refusal> {
    match act {
        Act::Deploy(tag) => {
            let image = format!("lockers/locker-api:{tag}").parse().ok();
            let request = DeployRequest { image, ..DeployRequest::default() };
            cluster.transaction("mira", now).deploy(target, &request).map(|_| ())
        }
        Act::Scale(size) => cluster.transaction("mira", now).scale(target, *size).map(|_| ()),
        Act::Restart => cluster.transaction("mira", now).restart(target).map(|_| ()),
        Act::Rollback => cluster.transaction("mira", now).rollback(target, Goal::Before).map(|_| ()),
    }
}
