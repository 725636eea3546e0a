//! Nodes: the agent's desk, and processes that outlive it.

use mainyard_core::link::RunOrder;
use mainyard_core::model::ReplicaId;
use mainyard_core::node_state::{Action, Leftover, NodeState, Orders};
use mainyard_core::replica_lifecycle::{Do, Ended, Event, ProbeFault};

use crate::operators::SLOW;
use crate::parts::{Part, Process};
use crate::world::{Happening, Report, World};

impl World {
    pub(crate) fn node_starts(&mut self, node: usize) {
        let incarnation = self.new_number();
        self.note(|| format!("agent {node} starts"));
        let now = self.now;
        let it = &mut self.nodes[node];
        (it.incarnation, it.begun, it.link) = (incarnation, now, None);
        it.agent = Some(NodeState::new(it.kept_epoch, incarnation));
        for order in it.kept.clone().into_values() {
            let there = &self.nodes[node];
            let left = if there.processes.contains_key(&order.id) {
                Leftover::Running
            } else if let Some(ended) = there.endings.get(&order.id) {
                Leftover::Ended(ended.clone())
            } else if there.begun_runs.contains(&order.id) {
                Leftover::Begun
            } else {
                Leftover::Nothing
            };
            if let Some(agent) = &mut self.nodes[node].agent {
                let (_, actions) = agent.find(order, left, 0);
                self.carry_out(node, actions);
            }
        }
        self.later(5, Happening::Call { part: Part::Node(node), incarnation });
    }

    pub(crate) fn order_node(&mut self, node: usize, link: u64, orders: Orders) {
        let now = self.now;
        let it = &mut self.nodes[node];
        if it.link.is_none_or(|(_, known)| known != link) {
            return;
        }
        let clock = now - it.begun;
        let Some(agent) = &mut it.agent else { return };
        let whole = orders.whole;
        let Some(actions) = agent.take(orders, clock) else {
            // Of a control that was superseded: such a link is of no use.
            return self.break_link(Part::Node(node), link);
        };
        it.kept_epoch = agent.epoch();
        if whole {
            agent.linked();
        }
        self.carry_out(node, actions);
        self.tell(node);
    }

    pub(crate) fn agent(&mut self, node: usize, incarnation: u64, id: &ReplicaId, number: u64, event: Event) {
        let now = self.now;
        let it = &mut self.nodes[node];
        let clock = now - it.begun;
        let Some(agent) =
            it.agent.as_mut().filter(|agent| it.incarnation == incarnation && agent.is_current(id, number))
        else {
            return;
        };
        let actions = agent.handle(id, event, clock);
        self.carry_out(node, actions);
        self.tell(node);
    }

    /// A report of its own, if there is something to tell. It may be lost, late, or come twice.
    pub(crate) fn tell(&mut self, node: usize) {
        let Some((control, _)) = self.nodes[node].link else { return };
        let incarnation = self.nodes[node].incarnation;
        let Some(report) = self.nodes[node].agent.as_mut().and_then(NodeState::report) else { return };
        self.send_report(control, Part::Node(node), incarnation, Report::Node(report));
    }

    fn carry_out(&mut self, node: usize, actions: Vec<Action>) {
        let incarnation = self.nodes[node].incarnation;
        for action in actions {
            match action {
                Action::Keep(order) => {
                    self.nodes[node].kept.insert(order.id.clone(), *order);
                }
                Action::Forget(id) => {
                    let it = &mut self.nodes[node];
                    it.kept.remove(&id);
                    it.endings.remove(&id);
                    it.begun_runs.remove(&id);
                }
                Action::Do(id, number, action) => self.act(node, incarnation, id, number, action),
            }
        }
    }

    fn act(&mut self, node: usize, incarnation: u64, id: ReplicaId, number: u64, action: Do) {
        let soon = |event| Happening::NodeState { node, incarnation, id: id.clone(), number, event };
        match action {
            Do::Fetch => {
                let wait = self.chance.between(2, 200);
                self.later(wait, soon(Event::Fetched));
            }
            Do::Start => {
                let order =
                    self.nodes[node].agent.as_ref().and_then(|agent| Some(agent.replica(&id)?.order.clone()));
                let Some(order) = order else { return };
                if order.once.is_some() {
                    return self.begin_once(node, incarnation, id, number, order);
                }
                self.nodes[node].endings.remove(&id);
                let tag = order.spec.image.tag.clone();
                let slow = if tag == SLOW { self.chance.between(0, 9000) } else { 0 };
                let listens = self.now + self.chance.between(5, 400) + slow;
                let process = Process {
                    number: self.new_number(),
                    address: order.address,
                    listens_at: (tag != "1.6.1").then_some(listens),
                    asked_to_stop: false,
                };
                // It grows past its limit, until the faults end.
                if tag == "1.7.0" && !self.quiet() {
                    let (number, wait) = (process.number, self.chance.between(300, 4000));
                    self.later(
                        wait,
                        Happening::ProcessEnds { node, id: id.clone(), process: number, signal: 9 },
                    );
                }
                if self.nodes[node].processes.insert(id.clone(), process).is_some() {
                    self.violated(format!("{id} has two processes"));
                }
                let wait = self.chance.between(2, 30);
                self.later(wait, soon(Event::Running));
            }
            Do::AskToStop => match self.nodes[node].processes.get_mut(&id) {
                Some(process) => {
                    process.asked_to_stop = true;
                    let (process, wait) = (process.number, self.chance.between(2, 300));
                    self.later(wait, Happening::ProcessEnds { node, id, process, signal: 15 });
                }
                None => self.later(1, soon(Event::Ended(Ended::default()))),
            },
            Do::Probe(run, after) => {
                let wait = after.millis() + self.chance.between(1, 5);
                self.later(wait, Happening::Probe { node, incarnation, id, number, run });
            }
            Do::ProbeAlive(run, after) => {
                self.later(after.millis() + 1, soon(Event::AliveProbed(run, Ok(()))))
            }
            Do::LookAtPorts => {
                let open = self.nodes[node]
                    .processes
                    .get(&id)
                    .map(|it| if it.listens_at.is_some() { 8080 } else { 9090 });
                self.later(1, soon(Event::Listening(open.into_iter().collect(), vec![])));
            }
            Do::WakeAfter(span) => self.later(span.millis().max(1), soon(Event::Wake)),
        }
    }

    /// A command that runs once in the whole seed: it ends by itself, well or not.
    fn begin_once(&mut self, node: usize, incarnation: u64, id: ReplicaId, number: u64, order: RunOrder) {
        if !self.begun_once.insert((id.workload.clone(), order.release)) {
            self.violated(format!("run_first of {}@{} is begun twice", id.workload, order.release));
        }
        self.outcome.first_runs += 1;
        self.note(|| format!("{id} is begun"));
        let process = Process {
            number: self.new_number(),
            address: order.address,
            listens_at: None,
            asked_to_stop: false,
        };
        let ends = Happening::ProcessEnds { node, id: id.clone(), process: process.number, signal: 0 };
        let it = &mut self.nodes[node];
        it.begun_runs.insert(id.clone());
        it.processes.insert(id.clone(), process);
        let (soon, wait) = (self.chance.between(2, 30), self.chance.between(50, 6000));
        self.later(soon, Happening::NodeState { node, incarnation, id, number, event: Event::Running });
        // Some never end by themselves.
        if !self.chance.percent(10) {
            self.later(wait, ends);
        }
    }

    pub(crate) fn probe(&mut self, node: usize, incarnation: u64, id: &ReplicaId, number: u64, run: u32) {
        let process = self.nodes[node].processes.get(id);
        let listens = process.and_then(|process| process.listens_at).is_some_and(|at| at <= self.now);
        let result = if listens { Ok(()) } else { Err(ProbeFault::Refused) };
        self.agent(node, incarnation, id, number, Event::Probed(run, result));
    }

    /// The process is gone, and with it the requests that were open to it.
    pub(crate) fn process_ends(&mut self, node: usize, id: &ReplicaId, process: u64, signal: i32) {
        if self.nodes[node].processes.get(id).is_none_or(|known| known.number != process) {
            return;
        }
        self.nodes[node].processes.remove(id);
        self.note(|| format!("process of {id} ends by signal {signal}"));
        self.break_requests(id);
        // By itself it ends well more often than not; its keeper may go with it and leave nothing.
        let code = (signal == 0).then(|| i32::from(self.chance.percent(20)));
        let signal = (signal != 0).then_some(signal);
        let told = signal != Some(9) || self.chance.percent(50);
        let ended = if told { Ended { code, signal, told, ..Ended::default() } } else { Ended::default() };
        if told {
            self.nodes[node].endings.insert(id.clone(), ended.clone());
        }
        let it = &self.nodes[node];
        let number = it.agent.as_ref().and_then(|agent| agent.number(id));
        if let Some(number) = number {
            let incarnation = it.incarnation;
            self.later(
                1,
                Happening::NodeState {
                    node,
                    incarnation,
                    id: id.clone(),
                    number,
                    event: Event::Ended(ended),
                },
            );
        }
    }
}
