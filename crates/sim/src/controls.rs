//! Controls: one decides, as the leader of the real one does it.

use mainyard_core::address::Range;
use mainyard_core::cluster::{Cluster, Settled};
use mainyard_core::link::NodeHello;
use mainyard_core::model::{Bytes, Cpu, ReplicaId};
use mainyard_core::node_state::Orders;
use mainyard_core::record::{Change, Object, State};

use crate::faults::LONGEST_FREEZE;
use crate::invariants::broken_rule;
use crate::parts::{Control, Part, Process, gateway_name, node_name};
use crate::world::{CONTROLS, Happening, Report, World};

/// The longest delivery time of a message, in milliseconds.
const LATEST: u64 = 7000;

fn newly_stopping(change: &Change, before: &State) -> Option<ReplicaId> {
    let Some(Object::Replica(replica)) = &change.object else { return None };
    let known = before.replicas.get(&replica.id).is_some_and(|known| known.stopping);
    (replica.stopping && !known).then(|| replica.id.clone())
}

impl World {
    pub(crate) fn control_starts(&mut self, control: usize) {
        let incarnation = self.new_number();
        self.controls[control] = Control { alive: true, incarnation, ..Control::default() };
        self.note(|| format!("control {control} starts"));
        self.try_lease(control, incarnation);
    }

    /// True when the control is this life's and awake; what comes to a frozen one waits.
    fn awake(&mut self, control: usize, incarnation: u64, again: impl FnOnce() -> Happening) -> bool {
        let it = &self.controls[control];
        if !it.alive || it.incarnation != incarnation {
            return false;
        }
        let wait = it.frozen_until.saturating_sub(self.now);
        if wait > 0 {
            self.later(wait + 1, again());
        }
        wait == 0
    }

    pub(crate) fn try_lease(&mut self, control: usize, incarnation: u64) {
        if !self.awake(control, incarnation, || Happening::Lease { control, incarnation }) {
            return;
        }
        self.later(1000, Happening::Lease { control, incarnation });
        if self.controls[control].cut_until > self.now {
            return;
        }
        if let Some((_, epoch)) = &self.controls[control].leader {
            if !self.record.renew(*epoch, self.now) {
                self.step_down(control);
            }
            return;
        }
        if let Some(epoch) = self.record.take_lease(control, self.now) {
            self.note(|| format!("control {control} decides, epoch {epoch}"));
            self.outcome.epochs += 1;
            let mut cluster = Cluster::new(self.record.state.clone(), epoch, self.clock());
            cluster.at(self.clock()).begin_to_decide();
            let it = &mut self.controls[control];
            (it.leader, it.settle_at) = (Some((cluster, epoch)), None);
            it.links.clear();
            self.decide(control);
        }
    }

    fn step_down(&mut self, control: usize) {
        self.note(|| format!("control {control} decides no more"));
        let it = &mut self.controls[control];
        it.leader = None;
        self.hang_up(control);
    }

    /// Ends its links; the parts notice after a while and call again.
    pub(crate) fn hang_up(&mut self, control: usize) {
        let links = std::mem::take(&mut self.controls[control].links);
        for (part, (link, _)) in links {
            self.break_link(part, link);
        }
    }

    /// A control that says nothing for ten seconds is given up by the parts it is linked to.
    pub(crate) fn silence(&mut self, control: usize, incarnation: u64) {
        let it = &self.controls[control];
        if it.incarnation == incarnation && it.frozen_until > self.now {
            let links: Vec<_> = it.links.iter().map(|(part, (link, _))| (*part, *link)).collect();
            links.into_iter().for_each(|(part, link)| self.break_link(part, link));
        }
    }

    /// A part calls the control that it takes for the holder first, then the other.
    pub(crate) fn call(&mut self, part: Part, incarnation: u64) {
        if !self.is_alive(part, incarnation) || self.link_of(part).is_some() {
            return;
        }
        let control = (0..CONTROLS).map(|n| (n + self.chance.index(CONTROLS)) % CONTROLS).find(|control| {
            let it = &self.controls[*control];
            it.alive && it.leader.is_some()
        });
        match control {
            Some(control) => {
                let link = self.new_number();
                self.set_link(part, Some((control, link)));
                let wait = self.chance.between(1, 15);
                self.later(wait, Happening::Hello { control, part, incarnation, link });
            }
            None => {
                let wait = self.chance.between(20, 1000);
                self.later(wait, Happening::Call { part, incarnation });
            }
        }
    }

    pub(crate) fn hello(&mut self, control: usize, part: Part, incarnation: u64, link: u64) {
        let of = self.controls[control].incarnation;
        if !self.awake(control, of, || Happening::Hello { control, part, incarnation, link }) {
            return self.break_link(part, link);
        }
        let (now, clock) = (self.now, self.clock());
        let Some((_, epoch)) = &self.controls[control].leader else {
            return self.break_link(part, link);
        };
        let epoch = *epoch;
        // A part has one link: the one before, which may be a newer one if this call comes late, is ended.
        let before = self.controls[control].links.insert(part, (link, now));
        if let Some((before, _)) = before {
            self.break_link(part, before);
        }
        let Some((cluster, _)) = &mut self.controls[control].leader else { return };
        match part {
            Part::Node(node) => {
                let hello = NodeHello {
                    node: node_name(node),
                    incarnation,
                    cpu: Cpu::from_milli(8000),
                    memory: Bytes::mib(1024),
                    range: Range::PRIVATE,
                };
                cluster.at(clock).node_called(hello);
                let name = node_name(node);
                let orders = Orders {
                    epoch,
                    whole: true,
                    run: cluster.whole_orders(&name),
                    stop: cluster.stopping_on(&name),
                };
                self.send_node(control, node, orders);
                self.decide(control);
            }
            Part::Gateway(gateway) => {
                cluster.at(clock).gateway_called(&gateway_name(gateway), incarnation);
                // Its table goes out after the record knows of it.
                if self.decide(control)
                    && let Some((cluster, _)) = &self.controls[control].leader
                {
                    let table = cluster.served().clone();
                    self.send_gateway(control, gateway, table);
                }
            }
        }
    }

    pub(crate) fn report(
        &mut self,
        control: usize,
        part: Part,
        incarnation: u64,
        report: Report,
        echo: bool,
    ) {
        let of = self.controls[control].incarnation;
        let (again, number) = (report.clone(), report.number());
        let awake = self.awake(control, of, || Happening::Report {
            control,
            part,
            incarnation,
            report: Box::new(again),
            echo,
        });
        let clock = self.clock();
        let taken = match (&mut self.controls[control].leader, awake) {
            (Some((cluster, epoch)), true) => {
                match (part, report) {
                    (Part::Node(node), Report::Node(report)) => {
                        cluster.at(clock).node_reported(&node_name(node), report)
                    }
                    (Part::Gateway(gateway), Report::Gateway { incarnation, view, figures }) => {
                        cluster.at(clock).figures_reported(&figures);
                        cluster.at(clock).gateway_confirmed(&gateway_name(gateway), incarnation, view);
                        if self.gateways[gateway].incarnation == incarnation && !echo {
                            self.gateways[gateway].heard = (*epoch, self.now);
                        }
                    }
                    _ => {}
                }
                true
            }
            _ => false,
        };
        let wait = self.chance.between(1, 10);
        if !echo {
            self.later(wait, Happening::Reported { part, incarnation, number, taken });
        }
        if taken {
            self.decide(control);
        }
    }

    pub(crate) fn settle_by_clock(&mut self, control: usize, incarnation: u64) {
        if self.awake(control, incarnation, || Happening::Settle { control, incarnation }) {
            self.controls[control].settle_at = None;
            self.decide(control);
        }
    }

    /// Settles, writes, and only then orders and serves. False when it could not write.
    pub(crate) fn decide(&mut self, control: usize) -> bool {
        let (now, clock) = (self.now, self.clock());
        let it = &mut self.controls[control];
        let Some((cluster, epoch)) = &mut it.leader else { return false };
        let Settled { changes, orders, table, wake, unsettled, .. } = cluster.at(clock).settle();
        let table = table.map(|_| (cluster.served().clone(), cluster.table()));
        let epoch = *epoch;
        let reached = it.cut_until <= now;
        if !unsettled.is_empty() {
            self.violated(format!("the decisions about {unsettled:?} do not settle"));
            return false;
        }
        if !changes.is_empty() {
            let stopped: Vec<ReplicaId> =
                changes.iter().filter_map(|change| newly_stopping(change, &self.record.state)).collect();
            // What came while it was frozen is heard when it goes on.
            let thawed = now.saturating_sub(it.frozen_until) <= LATEST;
            let latest = if thawed { LATEST + LONGEST_FREEZE } else { LATEST };
            let long = |process: &Process| process.listens_at.is_some_and(|at| at + latest < now);
            let well = |id: &ReplicaId| self.nodes.iter().filter_map(|it| it.processes.get(id)).any(long);
            let broken = broken_rule(&self.record.state, &changes, well, clock);
            self.count_ends(&changes);
            let before = self.record.number;
            if !reached || !self.record.write(epoch, &changes, now) {
                self.step_down(control);
                return false;
            }
            // What a control that no longer decides would have written does not count.
            if let Some(broken) = broken {
                self.violated(broken);
            }
            if self.record.number != before + changes.len() as u64 {
                self.violated("the record's changes have a gap".into());
            }
            stopped.iter().for_each(|id| self.is_stopped(id));
            self.check_numbers(&changes);
            self.check_versions(&changes);
        }
        self.check_told(control);
        for (name, orders) in orders {
            let node = (0..self.nodes.len()).find(|node| node_name(*node) == name);
            if let Some(node) = node {
                self.send_node(
                    control,
                    node,
                    Orders { epoch, whole: false, run: orders.run, stop: orders.stop },
                );
            }
        }
        if let Some((table, whole)) = table {
            if table != whole {
                self.violated("what was not made again of the table differs from the record".into());
            }
            for gateway in 0..self.gateways.len() {
                self.send_gateway(control, gateway, table.clone());
            }
        }
        if let Some(wake) = wake {
            let at = now + (wake.duration_since(clock).as_millis().clamp(1, 5000) as u64);
            let it = &mut self.controls[control];
            if it.settle_at.is_none_or(|known| at < known) {
                it.settle_at = Some(at);
                let incarnation = it.incarnation;
                self.later(at - now, Happening::Settle { control, incarnation });
            }
        }
        true
    }

    /// In their order along the link, each after a while.
    fn along(&mut self, control: usize, part: Part) -> Option<(u64, u64)> {
        let wait = self.chance.between(1, 20);
        let now = self.now;
        let (link, last) = self.controls[control].links.get_mut(&part)?;
        *last = (now + wait).max(*last + 1);
        Some((*link, *last - now))
    }

    fn send_node(&mut self, control: usize, node: usize, orders: Orders) {
        if let Some((link, wait)) = self.along(control, Part::Node(node)) {
            self.later(wait, Happening::OrderNode { node, link, orders });
        }
    }

    fn send_gateway(&mut self, control: usize, gateway: usize, table: mainyard_core::routing::Table) {
        if let Some((link, wait)) = self.along(control, Part::Gateway(gateway)) {
            self.later(wait, Happening::OrderGateway { gateway, link, table: Box::new(table) });
        }
    }
}
