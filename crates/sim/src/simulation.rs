//! Running a seed: each thing that happens goes to the part that it happens to.

use crate::parts::Part;
use crate::world::{CONTROLS, END, GATEWAYS, Happening, NODES, Outcome, World};

/// Runs one seed to its end.
///
/// # Errors
/// The rule that was broken, with the last things that happened before.
pub fn run(seed: u64) -> Result<Outcome, String> {
    let mut world = World::switched_on(seed);
    world.run_until(END, |_| false);
    if world.broken.is_none() {
        world.at_rest();
    }
    world.finish()
}

impl World {
    /// The platform of a seed, as it is switched on.
    pub(crate) fn switched_on(seed: u64) -> World {
        let mut world = World::new(seed);
        world.begin();
        world
    }

    /// Lets things happen until this time, until `enough`, or until a rule is broken.
    pub(crate) fn run_until(&mut self, end: u64, enough: impl Fn(&World) -> bool) {
        while self.broken.is_none() && !enough(self) {
            if self.next_at().is_none_or(|at| at > end) || !self.step(|_| true) {
                return;
            }
        }
    }

    /// Lets things happen until `enough`, at least one. False when nothing is left, or a rule was broken.
    pub(crate) fn step(&mut self, enough: impl Fn(&World) -> bool) -> bool {
        while self.broken.is_none() {
            let Some(happening) = self.take_next() else { return false };
            self.happen(happening);
            if enough(self) {
                return true;
            }
        }
        false
    }

    fn begin(&mut self) {
        for control in 0..CONTROLS {
            self.later(control as u64 * 5, Happening::ControlStarts(control));
        }
        for node in 0..NODES {
            self.later(10, Happening::PartStarts(Part::Node(node)));
        }
        for gateway in 0..GATEWAYS {
            self.later(10, Happening::PartStarts(Part::Gateway(gateway)));
            self.later(50, Happening::Visit(gateway));
        }
        self.later(300, Happening::Person);
        self.later(3000, Happening::Fault);
    }

    fn happen(&mut self, happening: Happening) {
        match happening {
            Happening::ControlStarts(control) => self.control_starts(control),
            Happening::Lease { control, incarnation } => self.try_lease(control, incarnation),
            Happening::Settle { control, incarnation } => self.settle_by_clock(control, incarnation),
            Happening::Silence { control, incarnation } => self.silence(control, incarnation),
            Happening::PartStarts(part) => self.part_starts(part),
            Happening::Call { part, incarnation } => self.call(part, incarnation),
            Happening::Hello { control, part, incarnation, link } => {
                self.hello(control, part, incarnation, link)
            }
            Happening::OrderNode { node, link, orders } => self.order_node(node, link, orders),
            Happening::OrderGateway { gateway, link, table } => self.order_gateway(gateway, link, *table),
            Happening::Report { control, part, incarnation, report, echo } => {
                self.report(control, part, incarnation, *report, echo)
            }
            Happening::Reported { part, incarnation, number, taken } => {
                self.reported(part, incarnation, number, taken)
            }
            Happening::Beat { gateway, incarnation } => self.beat(gateway, incarnation),
            Happening::NodeState { node, incarnation, id, number, event } => {
                self.agent(node, incarnation, &id, number, event)
            }
            Happening::Probe { node, incarnation, id, number, run } => {
                self.probe(node, incarnation, &id, number, run)
            }
            Happening::ProcessEnds { node, id, process, signal } => {
                self.process_ends(node, &id, process, signal)
            }
            Happening::Visit(gateway) => self.visit(gateway),
            Happening::AnswerEnds { gateway, incarnation, request } => {
                self.answer_ends(gateway, incarnation, request)
            }
            Happening::Person => self.person(),
            Happening::Fault => self.fault(),
        }
    }

    pub(crate) fn part_starts(&mut self, part: Part) {
        match part {
            Part::Node(node) => self.node_starts(node),
            Part::Gateway(gateway) => self.gateway_starts(gateway),
        }
    }

    pub(crate) fn reported(&mut self, part: Part, incarnation: u64, number: u64, taken: bool) {
        if !self.is_alive(part, incarnation) {
            return;
        }
        match part {
            Part::Node(node) => {
                if let Some(agent) = &mut self.nodes[node].agent {
                    agent.reported(number, taken);
                }
                if !taken && let Some((_, link)) = self.nodes[node].link {
                    // As the agent does it: a link whose reports are not taken is made again.
                    self.break_link(part, link);
                }
                self.tell(node);
            }
            Part::Gateway(gateway) => self.view_reported(gateway, taken),
        }
    }
}
