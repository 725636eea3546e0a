//! Deciding all that follows from what was changed and heard.

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;

use jiff::{SignedDuration, Timestamp};

use super::{Cluster, platform};
use crate::address;
use crate::drain::{Leaving, may_stop};
use crate::link::RunOrder;
use crate::model::{
    Name, Once, Reason, ReasonCode, ReleaseId, ReleaseNumber, Replica, ReplicaId, ReplicaState, RolloutState,
    Target, replica_short_name,
};
use crate::placement::{Occupied, place};
use crate::record::{Change, Kind, Object, indexed};
use crate::rollouts::{Act, Decision, View, decide};
use crate::routing::{TableChange, hosts_file, replicas_of, runs_of};
use crate::suggestions::near;

/// Workloads that did not come to rest are decided about again after this time, so that they do not keep the leader busy.
const UNSETTLED_AGAIN: SignedDuration = SignedDuration::from_secs(1);

/// What one node is told.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct NodeOrders {
    /// Replicas to run.
    pub run: Vec<RunOrder>,
    /// Replicas to stop.
    pub stop: Vec<ReplicaId>,
}

/// What came out: to be written first, then ordered and served.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Settled {
    /// For the record, in one transaction.
    pub changes: Vec<Change>,
    /// For the nodes.
    pub orders: BTreeMap<Name, NodeOrders>,
    /// For every gateway: from the table before to [`Cluster::served`].
    pub table: Option<TableChange>,
    /// Hosts files that changed, by environment.
    pub hosts: BTreeMap<Name, String>,
    /// Workloads about which the last round still decided something. The rules that decide about them call for each other
    /// without end: that is a mistake of ours. They are decided about again at [`Settled::wake`].
    pub unsettled: BTreeSet<Target>,
    /// When to settle again although nothing comes in.
    pub wake: Option<Timestamp>,
}

impl Settled {
    /// Releases that these changes take from the record.
    pub fn forgotten_releases(&self) -> BTreeSet<ReleaseId> {
        let gone =
            self.changes.iter().filter(|change| change.kind == Kind::Release && change.object.is_none());
        let keys = gone.filter_map(|change| indexed::<(Target, ReleaseNumber)>(&change.key));
        keys.map(|(workload, number)| ReleaseId { workload, number }).collect()
    }
}

impl Cluster {
    /// Decides until nothing follows any more.
    pub fn settle(&mut self, now: Timestamp) -> Settled {
        self.cause = platform(now);
        let due: Vec<Target> =
            self.wake.iter().filter(|(_, at)| **at <= now).map(|(target, _)| target.clone()).collect();
        self.dirty.extend(due);
        self.end_asides(now);
        // A decision may call for another, and each round gets closer. The bounds guard against rules that call for each
        // other without end; what is left then is told as `unsettled`.
        for _ in 0..4 {
            for _ in 0..8 {
                let dirty = std::mem::take(&mut self.dirty);
                if dirty.is_empty() {
                    break;
                }
                for target in dirty {
                    self.decide_one(&target, now);
                }
            }
            self.place_waiting(now);
            self.follow(now);
            if self.dirty.is_empty() {
                break;
            }
        }
        let unsettled = self.dirty.clone();
        self.release_stand_ins();
        let table = self.make_table();
        self.begin_leaving(now);
        self.stop_idle(now);
        let orders = self.take_orders();
        let hosts = std::mem::take(&mut self.hosts_stale)
            .into_iter()
            .filter_map(|name| {
                Some((name.clone(), hosts_file(self.state.environments.get(&name)?, &self.state.services)))
            })
            .collect();
        let changes = std::mem::take(&mut self.pending).into_values().collect();
        let again = (!unsettled.is_empty()).then(|| now + UNSETTLED_AGAIN);
        let wake = self.next_wake(now).into_iter().chain(again).min();
        Settled { changes, orders, table, hosts, unsettled, wake }
    }

    fn decide_one(&mut self, target: &Target, now: Timestamp) {
        self.wake.remove(target);
        let Some(workload) = self.state.workloads.get(target) else { return };
        let replicas: Vec<Replica> = replicas_of(&self.state.replicas, target).cloned().collect();
        let runs: Vec<Replica> = runs_of(&self.state.replicas, target).cloned().collect();
        let rollout = self.state.newest_rollout(target);
        let Decision { acts, state, reason, unanswered_since, rollout: moved, look_again } =
            decide(View { workload, replicas: &replicas, runs: &runs, rollout }, now);
        let mut workload = workload.clone();
        let acted = !acts.is_empty();
        for act in acts {
            match act {
                Act::Start(release, count) => {
                    for _ in 0..count {
                        let short = replica_short_name(workload.next_replica);
                        workload.next_replica += 1;
                        self.put(Object::Replica(new_replica(
                            ReplicaId::new(target.clone(), short),
                            release,
                            now,
                        )));
                    }
                }
                Act::RunFirst(release) => {
                    let id = ReplicaId::new(target.clone(), format!("first{release}"));
                    let run = Replica { once: Some(Once::default()), ..new_replica(id, release, now) };
                    self.put(Object::Replica(run));
                }
                Act::LetGo(id) => self.let_go(&id, now),
            }
        }
        if let Some(moved) = moved {
            match (moved.state, moved.from) {
                (RolloutState::Done, _) => workload.settled = Some(moved.to),
                // The release before is the wanted one again.
                (RolloutState::GoingBack, Some(from)) => workload.release = from,
                _ => {}
            }
            self.table_stale = true;
            self.put(Object::Rollout(moved));
            self.dirty.insert(target.clone());
        }
        workload.unanswered_since = unanswered_since;
        if workload.state != state || workload.reason != reason {
            if workload.state != state {
                workload.since = now;
            }
            workload.state = state;
            workload.reason = reason;
            self.table_stale = true;
        }
        if self.state.workloads.get(target) != Some(&workload) {
            self.put(Object::Workload(workload));
        }
        if acted {
            self.dirty.insert(target.clone());
            self.table_stale = true;
        }
        if let Some(at) = look_again {
            self.wake.insert(target.clone(), at);
        }
    }

    pub(super) fn let_go(&mut self, id: &ReplicaId, now: Timestamp) {
        let Some(mut replica) = self.state.replicas.get(id).cloned() else { return };
        if replica.node.is_none() {
            self.remove(Kind::Replica, id.to_string());
            return;
        }
        replica.state = ReplicaState::Draining;
        replica.since = now;
        self.put(Object::Replica(replica));
    }

    /// Gives waiting replicas a node and an address, where the image is there and a node has room.
    fn place_waiting(&mut self, now: Timestamp) {
        let waiting: Vec<Replica> =
            self.state.replicas.values().filter(|r| r.node.is_none()).cloned().collect();
        if waiting.is_empty() {
            return;
        }
        let mut rooms = self.rooms();
        let mut taken: BTreeSet<(Name, Ipv4Addr)> =
            self.state.replicas.values().filter_map(|r| Some((r.node.clone()?, r.address?))).collect();
        // Addresses go round, so that one that was given up is not another's for a long time.
        let mut from = self.next_address;
        for mut replica in waiting {
            let target = replica.id.workload.clone();
            let Some(release) = self.state.releases.get(&(target.clone(), replica.release)) else { continue };
            let Some(index) = self.state.environments.get(&target.environment).map(|e| e.index) else {
                continue;
            };
            let placed = if release.digest.is_none() {
                Err(self.image_missing(&release.spec.image.to_string()))
            } else {
                place(release.spec.reserve, &mut rooms)
            };
            let reason = match placed {
                Ok(node) => {
                    // Only an agent whose life is known can be asked later whether it began.
                    let life = self.lives.get(&format!("node {node}")).map(|(life, _)| *life);
                    match &mut replica.once {
                        Some(_) if life.is_none() => continue,
                        Some(once) => once.life = life,
                        None => {}
                    }
                    let range = self.state.nodes.get(&node).map(|node| node.range).unwrap_or_default();
                    let all = (from..address::REPLICAS_PER_NODE).chain(0..from);
                    let free = all.filter_map(|n| Some((n, range.place(address::replica(index, n)?))));
                    let mut free = free.filter(|(_, address)| !taken.contains(&(node.clone(), *address)));
                    match free.next() {
                        Some((number, address)) => {
                            from = (number + 1) % address::REPLICAS_PER_NODE;
                            taken.insert((node.clone(), address));
                            (replica.node, replica.address, replica.reason) =
                                (Some(node), Some(address), None);
                            self.to_run.insert(replica.id.clone());
                            self.put(Object::Replica(replica));
                            self.dirty.insert(target);
                            continue;
                        }
                        None => Reason::new(
                            ReasonCode::NoRoom,
                            format!("{node} has no address left for {}", target.environment),
                        ),
                    }
                }
                Err(reason) => reason,
            };
            if replica.reason.as_ref() != Some(&reason) {
                replica.reason = Some(reason);
                self.put(Object::Replica(replica));
                self.dirty.insert(target);
            }
        }
        self.next_address = from;
        // Faults found here are judged in this same settling.
        let dirty = std::mem::take(&mut self.dirty);
        dirty.iter().for_each(|target| self.decide_one(target, now));
    }

    fn image_missing(&self, image: &str) -> Reason {
        let near = near(image, self.state.images.keys().map(String::as_str)).join(", ");
        let near = if near.is_empty() { String::new() } else { format!("; there are: {near}") };
        Reason::new(ReasonCode::ImageNotFound, format!("the store has no {image}{near}"))
    }

    fn rooms(&self) -> Vec<Occupied> {
        let rooms = self.state.nodes.values().map(|node| {
            let here =
                self.state.replicas.values().filter(|replica| replica.node.as_ref() == Some(&node.name));
            let kept = here.filter_map(|replica| {
                Some(self.state.releases.get(&(replica.id.workload.clone(), replica.release))?.spec.reserve)
            });
            Occupied::of(node, kept)
        });
        rooms.collect()
    }

    /// Everything that drains is out of the table just made, and of every later one.
    fn begin_leaving(&mut self, now: Timestamp) {
        let draining = self
            .state
            .replicas
            .values()
            .filter(|replica| replica.state == ReplicaState::Draining && !replica.stopping);
        for replica in draining {
            let limit = self.state.releases.get(&(replica.id.workload.clone(), replica.release));
            let limit = limit.map_or(crate::model::Stop::default().drain, |release| release.spec.stop.drain);
            let leaving = Leaving { left_at: self.version, since: now, limit };
            self.leaving.entry(replica.id.clone()).or_insert(leaving);
        }
    }

    fn stop_idle(&mut self, now: Timestamp) {
        let gateways = || self.gateways.values().map(|(view, heard)| (view, *heard));
        let idle: Vec<ReplicaId> = self
            .leaving
            .iter()
            .filter(|(id, leaving)| may_stop(id, leaving, gateways(), now))
            .map(|(id, _)| id.clone())
            .collect();
        for id in idle {
            self.leaving.remove(&id);
            self.note_outlived(&id);
            let Some(mut replica) = self.state.replicas.get(&id).cloned() else { continue };
            let Some(node) = replica.node.clone() else { continue };
            replica.stopping = true;
            self.to_stop.insert((node, id.clone()));
            self.put(Object::Replica(replica));
        }
    }

    /// Requests that are still open when the replica is stopped, by its drain limit, are told in the evidence.
    fn note_outlived(&mut self, id: &ReplicaId) {
        let open: u32 = self.gateways.values().filter_map(|(view, _)| view.open.get(id)).sum();
        let Some(rollout) = self.state.newest_rollout(&id.workload).filter(|_| open > 0) else { return };
        let mut rollout = rollout.clone();
        rollout.evidence.outlived.insert(id.short.clone(), open);
        self.put(Object::Rollout(rollout));
    }

    fn take_orders(&mut self) -> BTreeMap<Name, NodeOrders> {
        let mut orders: BTreeMap<Name, NodeOrders> = BTreeMap::new();
        for id in std::mem::take(&mut self.to_run) {
            if let Some((node, order)) = self.run_order(&id) {
                orders.entry(node).or_default().run.push(order);
            }
        }
        for (node, id) in std::mem::take(&mut self.to_stop) {
            orders.entry(node).or_default().stop.push(id);
        }
        orders
    }

    fn run_order(&self, id: &ReplicaId) -> Option<(Name, RunOrder)> {
        let replica = self.state.replicas.get(id).filter(|replica| !replica.stopping)?;
        let release = self.state.releases.get(&(id.workload.clone(), replica.release))?;
        let order = RunOrder {
            id: id.clone(),
            release: replica.release,
            environment: self.state.environments.get(&id.workload.environment)?.index,
            spec: release.spec.clone(),
            digest: release.digest.clone()?,
            address: replica.address?,
            once: replica.once,
            secrets: release.secrets.clone(),
            values: Vec::new(),
        };
        Some((replica.node.clone()?, order))
    }

    /// Everything a node should run, for one that has just called.
    pub fn whole_orders(&self, node: &Name) -> Vec<RunOrder> {
        let here = self.state.replicas.values().filter(|replica| replica.node.as_ref() == Some(node));
        here.filter_map(|replica| self.run_order(&replica.id)).map(|(_, order)| order).collect()
    }

    /// Everything a node was asked to stop and has not told the end of.
    pub fn stopping_on(&self, node: &Name) -> Vec<ReplicaId> {
        let here = self.state.replicas.values().filter(|replica| replica.node.as_ref() == Some(node));
        here.filter(|replica| replica.stopping).map(|replica| replica.id.clone()).collect()
    }

    /// Those of these replicas whose log outlives them: what runs once, and replicas of releases that did not come through.
    pub fn whose_logs_stay(&self, stopped: &[ReplicaId]) -> Vec<ReplicaId> {
        let stays = |id: &&ReplicaId| {
            let Some(replica) = self.state.replicas.get(id) else { return false };
            let rollout = self.state.rollouts.get(&(id.workload.clone(), replica.release));
            let failed = rollout.is_some_and(|rollout| {
                matches!(
                    rollout.state,
                    RolloutState::GoingBack
                        | RolloutState::WentBack
                        | RolloutState::Cancelled
                        | RolloutState::Superseded
                )
            });
            replica.once.is_some() || failed
        };
        stopped.iter().filter(stays).cloned().collect()
    }

    /// Every release in the record.
    pub fn recorded_releases(&self) -> BTreeSet<ReleaseId> {
        let keys = self.state.releases.keys().cloned();
        keys.map(|(workload, number)| ReleaseId { workload, number }).collect()
    }

    /// The hosts files of all environments.
    pub fn all_hosts(&self) -> BTreeMap<Name, String> {
        let files = self.state.environments.values();
        files
            .map(|environment| (environment.name.clone(), hosts_file(environment, &self.state.services)))
            .collect()
    }

    fn next_wake(&self, now: Timestamp) -> Option<Timestamp> {
        let drain = self.leaving.values().flat_map(|leaving| {
            [leaving.since + leaving.limit.signed(), now + jiff::SignedDuration::from_secs(1)]
        });
        let asides = self.asides().filter_map(|replica| replica.aside.as_ref()).map(|aside| aside.until);
        self.wake.values().copied().chain(drain).chain(asides).filter(|at| *at > now).min()
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
        first_ready: None,
        ready_after: None,
        restarts: 0,
        started: None,
        once: None,
        aside: None,
        stopping: false,
    }
}
