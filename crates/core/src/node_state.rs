//! The state of a node agent: a machine without I/O around the machines of its replicas.
//!
//! It takes orders and refuses those of a control that was superseded, hands out what is to be done ([`Action`]), and
//! makes reports. What is gone is reported until control has taken it; a link that was made again begins with all.

use std::collections::{BTreeMap, BTreeSet};

use crate::link::{NodeReport, ReplicaReport, RunOrder};
use crate::model::ReplicaId;
use crate::replica_lifecycle::{Do, Ended, Event, ReplicaRun};

/// Something for the agent to carry out, in this order.
#[derive(Debug, Clone, PartialEq)]
pub enum Action {
    /// Keep the order on disk, so that a later agent knows of the replica.
    Keep(Box<RunOrder>),
    /// Do this for the replica. The number tells it from an earlier one of the same name: what comes of it is reported
    /// with the number, and is ignored when the replica has gone meanwhile.
    Do(ReplicaId, u64, Do),
    /// Remove everything that was kept of it.
    Forget(ReplicaId),
}

#[derive(Debug, Clone)]
struct Slot {
    number: u64,
    run: ReplicaRun,
    told: Option<ReplicaReport>,
}

/// Orders from control.
#[derive(Debug, Clone, PartialEq)]
pub struct Orders {
    /// Of the control that decided.
    pub epoch: u64,
    /// Whether `run` names all that should run.
    pub whole: bool,
    /// To run.
    pub run: Vec<RunOrder>,
    /// To stop and forget.
    pub stop: Vec<ReplicaId>,
}

/// A node agent's own.
#[derive(Debug, Clone)]
pub struct NodeState {
    slots: BTreeMap<ReplicaId, Slot>,
    /// The newest control that was heard.
    epoch: u64,
    incarnation: u64,
    reports: u64,
    next_number: u64,
    gone: BTreeSet<ReplicaId>,
    /// Told in the report that is on its way.
    telling: BTreeSet<ReplicaId>,
    touched: BTreeSet<ReplicaId>,
    linked: bool,
    whole: bool,
    in_flight: Option<u64>,
}

/// A replica as a new agent finds it.
#[derive(Debug, Clone)]
pub enum Leftover {
    /// Its process lives.
    Running,
    /// Its process ended while no agent looked.
    Ended(Ended),
    /// Nothing: it was never started, or went with the machine.
    Nothing,
    /// It was started, and nothing is left that tells of its end. Only of what is run once this differs from nothing.
    Begun,
}

impl NodeState {
    /// With nothing on it; `epoch` is the newest that an earlier agent heard, `life` tells this agent from those.
    pub fn new(epoch: u64, incarnation: u64) -> NodeState {
        NodeState {
            slots: BTreeMap::new(),
            epoch,
            incarnation,
            reports: 0,
            next_number: 0,
            gone: BTreeSet::new(),
            telling: BTreeSet::new(),
            touched: BTreeSet::new(),
            linked: false,
            whole: true,
            in_flight: None,
        }
    }

    /// The newest control that was heard.
    pub fn epoch(&self) -> u64 {
        self.epoch
    }

    /// The replicas that are here.
    pub fn replicas(&self) -> impl Iterator<Item = (&ReplicaId, &ReplicaRun)> {
        self.slots.iter().map(|(id, slot)| (id, &slot.run))
    }

    /// One of them.
    pub fn replica(&self, id: &ReplicaId) -> Option<&ReplicaRun> {
        self.slots.get(id).map(|slot| &slot.run)
    }

    /// The number of the replica of this name that is here now.
    pub fn number(&self, id: &ReplicaId) -> Option<u64> {
        self.slots.get(id).map(|slot| slot.number)
    }

    /// Whether this number is the one of the replica that is here now.
    pub fn is_current(&self, id: &ReplicaId, number: u64) -> bool {
        self.slots.get(id).is_some_and(|slot| slot.number == number)
    }

    /// Adds what an earlier agent ran: it goes on where its process lives, and begins again where not. An end that no
    /// agent was there to see counts like any other.
    pub fn find(&mut self, order: RunOrder, left: Leftover, now: u64) -> (u64, Vec<Action>) {
        let (id, number) = self.add(order);
        let event = match left {
            Leftover::Running => Event::Found,
            Leftover::Ended(ended) => Event::Ended(ended),
            Leftover::Begun if self.slots[&id].run.order.once.is_some() => Event::Ended(Ended::default()),
            Leftover::Nothing | Leftover::Begun => Event::Begin,
        };
        (number, self.handle(&id, event, now))
    }

    fn add(&mut self, order: RunOrder) -> (ReplicaId, u64) {
        self.next_number += 1;
        let id = order.id.clone();
        self.gone.remove(&id);
        self.telling.remove(&id);
        let slot = Slot { number: self.next_number, run: ReplicaRun::new(order), told: None };
        self.slots.insert(id.clone(), slot);
        (id, self.next_number)
    }

    /// It was handed to an agent before this one, which left nothing of it: whether it was begun is not known.
    fn add_lost(&mut self, order: RunOrder) {
        let (id, _) = self.add(order.clone());
        if let Some(slot) = self.slots.get_mut(&id) {
            slot.run = ReplicaRun::lost(order, "the agent that it was handed to left nothing of it");
        }
        self.touched.insert(id);
    }

    /// Takes orders; `None` when they are of a control that was superseded.
    pub fn take(&mut self, orders: Orders, now: u64) -> Option<Vec<Action>> {
        let Orders { epoch, whole, run, mut stop } = orders;
        if epoch < self.epoch {
            return None;
        }
        self.epoch = epoch;
        if whole {
            let wanted: BTreeSet<&ReplicaId> = run.iter().map(|order| &order.id).collect();
            stop.extend(self.slots.keys().filter(|id| !wanted.contains(id)).cloned());
        }
        let mut actions = Vec::new();
        for id in stop {
            if self.slots.contains_key(&id) {
                actions.extend(self.handle(&id, Event::Stop, now));
            } else {
                self.gone.insert(id);
            }
        }
        for order in run {
            if let Some(slot) = self.slots.get_mut(&order.id) {
                let (id, number) = (order.id.clone(), slot.number);
                let list = slot.run.complete(order);
                if !list.is_empty() {
                    self.touched.insert(id.clone());
                    actions.push(Action::Keep(Box::new(slot.run.order.clone())));
                    actions.extend(list.into_iter().map(|action| Action::Do(id.clone(), number, action)));
                }
                continue;
            }
            // It is not kept: an agent after this one would find an order without a trace of its begin, and begin it.
            if order.once.is_some_and(|once| once.incarnation != Some(self.incarnation)) {
                self.add_lost(order);
                continue;
            }
            actions.push(Action::Keep(Box::new(order.clone())));
            let (id, _) = self.add(order);
            actions.extend(self.handle(&id, Event::Begin, now));
        }
        Some(actions)
    }

    /// Something happened to a replica.
    pub fn handle(&mut self, id: &ReplicaId, event: Event, now: u64) -> Vec<Action> {
        let Some(slot) = self.slots.get_mut(id) else { return Vec::new() };
        self.touched.insert(id.clone());
        let number = slot.number;
        let list = slot.run.handle(event, now);
        let mut actions: Vec<Action> =
            list.into_iter().map(|action| Action::Do(id.clone(), number, action)).collect();
        if slot.run.is_gone() {
            self.slots.remove(id);
            self.gone.insert(id.clone());
            actions.push(Action::Forget(id.clone()));
        }
        actions
    }

    /// The link was made again: control knows nothing of what happened meanwhile.
    pub fn linked(&mut self) {
        (self.linked, self.whole) = (true, true);
        self.end_of_report(false);
    }

    /// The report of this number was taken, or not. Where not, the link is held to be lost. An answer to one that was
    /// given up when the link was made again comes too late to count.
    pub fn reported(&mut self, number: u64, taken: bool) {
        if self.in_flight != Some(number) {
            return;
        }
        self.linked &= taken;
        self.end_of_report(taken);
    }

    fn end_of_report(&mut self, taken: bool) {
        self.in_flight = None;
        let told = std::mem::take(&mut self.telling);
        if !taken {
            self.gone.extend(told);
        }
    }

    /// The next report for control; `None` if there is none, or no connection.
    pub fn report(&mut self) -> Option<NodeReport> {
        if !self.linked || self.in_flight.is_some() {
            return None;
        }
        let mut report = NodeReport {
            incarnation: self.incarnation,
            number: self.reports + 1,
            whole: self.whole,
            ..NodeReport::default()
        };
        let touched = std::mem::take(&mut self.touched);
        let all = self.whole.then(|| self.slots.keys().cloned().collect());
        for id in all.unwrap_or(touched) {
            let Some(slot) = self.slots.get_mut(&id) else { continue };
            if slot.run.is_unsure() {
                slot.told = None;
                self.touched.insert(id);
                continue;
            }
            let state = slot.run.report();
            if self.whole || slot.told.as_ref() != Some(&state) {
                slot.told = Some(state.clone());
                report.replicas.push(state);
            }
        }
        self.telling = std::mem::take(&mut self.gone);
        report.gone = self.telling.iter().cloned().collect();
        if !report.whole && report.replicas.is_empty() && report.gone.is_empty() {
            return None;
        }
        self.reports += 1;
        (self.whole, self.in_flight) = (false, Some(self.reports));
        Some(report)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{EnvironmentIndex, Once, ReleaseNumber};

    fn once(incarnation: u64) -> RunOrder {
        let spec = r#"{"image":"lockers/locker-api:1.4.0","run_first":["/app/migrate"]}"#;
        RunOrder {
            id: "staging/locker-api/first2".parse().expect("an id"),
            release: ReleaseNumber(2),
            environment: EnvironmentIndex::new(1).expect("in range"),
            spec: serde_json::from_str(spec).expect("a spec"),
            digest: "sha256:0".into(),
            address: [10, 118, 16, 2].into(),
            once: Some(Once { incarnation: Some(incarnation) }),
            secrets: Default::default(),
            values: Vec::new(),
        }
    }

    fn orders(run: RunOrder) -> Orders {
        Orders { epoch: 1, whole: true, run: vec![run], stop: Vec::new() }
    }

    #[test]
    fn what_runs_once_is_begun_by_the_agent_that_it_was_handed_to() {
        let mut node = NodeState::new(0, 7);
        let actions = node.take(orders(once(7)), 0).expect("of a control that counts");
        assert!(matches!(actions[..], [Action::Keep(_), Action::Do(_, _, Do::Fetch)]), "{actions:?}");
    }

    #[test]
    fn an_agent_on_another_machine_neither_begins_nor_keeps_what_runs_once() {
        let mut node = NodeState::new(0, 8);
        let actions = node.take(orders(once(7)), 0).expect("of a control that counts");
        // Kept, it would be begun by the agent after this one, which finds an order and no trace of a begin.
        assert_eq!(actions, []);
        let (_, run) = node.replicas().next().expect("it is told of");
        assert!(run.report().outcome.is_some());
    }

    #[test]
    fn orders_of_an_earlier_epoch_are_refused() {
        let mut node = NodeState::new(3, 7);
        assert_eq!(node.take(orders(once(7)), 0), None);
    }
}
