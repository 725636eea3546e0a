//! Links between parts and control: what breaks, and reports that are lost, late or doubled.

use crate::parts::Part;
use crate::world::{Happening, Report, World};

impl World {
    pub(crate) fn is_alive(&self, part: Part, incarnation: u64) -> bool {
        match part {
            Part::Node(node) => {
                self.nodes[node].agent.is_some() && self.nodes[node].incarnation == incarnation
            }
            Part::Gateway(gateway) => {
                self.gateways[gateway].alive && self.gateways[gateway].incarnation == incarnation
            }
        }
    }

    pub(super) fn incarnation_of(&self, part: Part) -> u64 {
        match part {
            Part::Node(node) => self.nodes[node].incarnation,
            Part::Gateway(gateway) => self.gateways[gateway].incarnation,
        }
    }

    pub(crate) fn link_of(&self, part: Part) -> Option<(usize, u64)> {
        match part {
            Part::Node(node) => self.nodes[node].link,
            Part::Gateway(gateway) => self.gateways[gateway].link,
        }
    }

    pub(crate) fn set_link(&mut self, part: Part, link: Option<(usize, u64)>) {
        match part {
            Part::Node(node) => self.nodes[node].link = link,
            Part::Gateway(gateway) => self.gateways[gateway].link = link,
        }
    }

    /// Messages under way on it are lost; the part notices and calls again.
    pub(crate) fn break_link(&mut self, part: Part, link: u64) {
        if self.link_of(part).is_some_and(|(_, known)| known == link) {
            self.set_link(part, None);
            let (wait, incarnation) = (self.chance.between(1, 600), self.incarnation_of(part));
            self.later(wait, Happening::Call { part, incarnation });
        }
    }

    /// A report as a request of its own.
    pub(crate) fn send_report(&mut self, control: usize, part: Part, incarnation: u64, report: Report) {
        let fault = if self.quiet() { 100 } else { self.chance.between(0, 100) };
        let (number, report) = (report.number(), Box::new(report));
        let wait = match fault {
            0..3 => {
                let wait = self.chance.between(10, 2000);
                return self.later(wait, Happening::Reported { part, incarnation, number, taken: false });
            }
            3..8 => self.chance.between(50, 3000),
            _ => self.chance.between(1, 15),
        };
        if (8..11).contains(&fault) {
            let late = self.chance.between(20, 6000);
            self.later(
                late,
                Happening::Report { control, part, incarnation, report: report.clone(), echo: true },
            );
        }
        self.later(wait, Happening::Report { control, part, incarnation, report, echo: false });
    }
}
