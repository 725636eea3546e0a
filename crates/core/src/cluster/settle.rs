//! Deciding all that follows from what was changed and reported.

use std::collections::{BTreeMap, BTreeSet};

use jiff::{SignedDuration, Timestamp};

use super::node_orders::{NodeOrders, run_order};
use super::{Cluster, Transaction};
use crate::link::RunOrder;
use crate::model::{Name, ReleaseId, ReleaseNumber, Replica, ReplicaId, RolloutState, Target};
use crate::record::{Change, Kind, Object, indexed};
use crate::routing::{TableChange, hosts_file};

/// Workloads that did not settle are decided about again after this time, so that they do not keep the leader busy.
const UNSETTLED_AGAIN: SignedDuration = SignedDuration::from_secs(1);

/// Everything that follows: to be written first, then ordered and served.
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
        let asides = self.asides().filter_map(|replica| replica.aside.as_ref()).map(|aside| aside.until);
        let times = self.work.times().chain(self.draining.times(now)).chain(asides);
        times.filter(|at| *at > now).min()
    }

    /// Everything a node should run, for one that has just called.
    pub fn whole_orders(&self, node: &Name) -> Vec<RunOrder> {
        let orders = self.replicas_on(node).filter_map(|replica| run_order(&self.state, &replica.id));
        orders.map(|(_, order)| order).collect()
    }

    /// Everything a node was asked to stop and has not reported the end of.
    pub fn stopping_on(&self, node: &Name) -> Vec<ReplicaId> {
        let stopping = self.replicas_on(node).filter(|replica| replica.stopping);
        stopping.map(|replica| replica.id.clone()).collect()
    }

    /// The replicas of these whose log outlives them: what runs once, and replicas of releases that failed.
    pub fn whose_logs_stay(&self, stopped: &[ReplicaId]) -> Vec<ReplicaId> {
        use RolloutState::{Cancelled, GoingBack, Superseded, WentBack};
        let stays = |id: &&ReplicaId| {
            let Some(replica) = self.state.replicas.get(id) else { return false };
            let rollout = self.state.rollouts.get(&(id.workload.clone(), replica.release));
            let failed =
                rollout.is_some_and(|it| matches!(it.state, GoingBack | WentBack | Cancelled | Superseded));
            replica.once.is_some() || failed
        };
        stopped.iter().filter(stays).cloned().collect()
    }

    pub(super) fn replicas_on<'a>(&'a self, node: &'a Name) -> impl Iterator<Item = &'a Replica> {
        self.state.replicas.values().filter(move |replica| replica.node.as_ref() == Some(node))
    }
}

impl Transaction<'_> {
    /// Decides until nothing follows any more.
    pub fn settle(&mut self) -> Settled {
        let now = self.now;
        self.act_by_itself();
        self.work.add_due(now);
        self.end_asides();
        // A decision may call for another, and each round gets closer. The bounds guard against rules that call for each
        // other without end; the workloads that are left then are `unsettled`.
        for _ in 0..4 {
            self.decide_all();
            self.place_waiting();
            self.follow();
            if self.work.due().is_empty() {
                break;
            }
        }
        let unsettled = self.work.due().clone();
        self.release_stand_ins();
        // Replicas that drain are out of this table, so it has to be made before any of them can be waited for.
        let Cluster { state, table, draining, .. } = &mut **self;
        let change = table.advance(state);
        draining.begin(state, table.version(), now);
        self.stop_idle();
        let Cluster { state, orders, .. } = &mut **self;
        let orders = orders.take(state);
        let stale = std::mem::take(&mut self.stale_hosts);
        let environments = stale.iter().filter_map(|name| self.state.environments.get(name));
        let hosts = environments.map(|it| (it.name.clone(), hosts_file(it, &self.state.services))).collect();
        let changes = self.changes.take();
        let again = (!unsettled.is_empty()).then(|| now + UNSETTLED_AGAIN);
        let wake = self.next_wake(now).into_iter().chain(again).min();
        Settled { changes, orders, table: change, hosts, unsettled, wake }
    }

    fn decide_all(&mut self) {
        for _ in 0..8 {
            let due = self.work.take();
            if due.is_empty() {
                return;
            }
            due.iter().for_each(|target| self.decide(target));
        }
    }

    /// Gives waiting replicas a node and an address, where the image is there and a node has room.
    fn place_waiting(&mut self) {
        let Cluster { state, placement, incarnations, .. } = &mut **self;
        for replica in placement.place_waiting(state, incarnations) {
            self.work.add(&replica.id.workload);
            if replica.node.is_some() {
                self.orders.run(replica.id.clone());
            }
            self.put(Object::Replica(replica));
        }
        // A reason that was found here is part of this same settling.
        let due = self.work.take();
        due.iter().for_each(|target| self.decide(target));
    }

    /// Orders the stop of replicas to which no gateway sends any more.
    fn stop_idle(&mut self) {
        let now = self.now;
        for id in self.draining.take_idle(now) {
            self.note_outlived(&id);
            let Some(mut replica) = self.state.replicas.get(&id).cloned() else { continue };
            let Some(node) = replica.node.clone() else { continue };
            replica.stopping = true;
            self.orders.stop(&node, id);
            self.put(Object::Replica(replica));
        }
    }

    /// Requests that are still open when the replica is stopped, by its drain limit, are counted in the evidence.
    fn note_outlived(&mut self, id: &ReplicaId) {
        let open = self.draining.open_requests(id);
        let Some(rollout) = self.state.newest_rollout(&id.workload).filter(|_| open > 0) else { return };
        let mut rollout = rollout.clone();
        rollout.evidence.outlived.insert(id.short.clone(), open);
        self.put(Object::Rollout(rollout));
    }
}
