//! What goes wrong: deaths, frozen controls, broken links, lost and late and repeated reports.

use crate::parts::Part;
use crate::simulation::{CONTROLS, GATEWAYS, Happening, NODES, Report, World};

/// A link on which nothing is heard for so long is given up.
const SILENCE: u64 = 10_000;
/// A control is frozen for at most so long.
pub(crate) const LONGEST_FREEZE: u64 = 14_000;

impl World {
    pub(crate) fn fault(&mut self) {
        if self.quiet() {
            return;
        }
        let wait = self.chance.between(100, 4000);
        self.later(wait, Happening::Fault);
        match self.chance.between(0, 9) {
            0 => {
                let (control, back) = (self.chance.index(CONTROLS), self.chance.between(50, 14_000));
                if std::mem::replace(&mut self.controls[control].alive, false) {
                    self.note(|| format!("control {control} dies"));
                    self.hang_up(control);
                    self.later(back, Happening::ControlStarts(control));
                }
            }
            1 => {
                let (control, until) =
                    (self.chance.index(CONTROLS), self.now + self.chance.between(100, LONGEST_FREEZE));
                self.note(|| format!("control {control} freezes until {until}"));
                self.controls[control].frozen_until = until;
                let life = self.controls[control].life;
                self.later(SILENCE, Happening::Silence { control, life });
            }
            2 => {
                let (control, until) =
                    (self.chance.index(CONTROLS), self.now + self.chance.between(100, 5000));
                self.note(|| format!("control {control} does not reach the record until {until}"));
                self.controls[control].cut_until = until;
            }
            3 => {
                let (node, back) = (self.chance.index(NODES), self.chance.between(50, 4000));
                if self.nodes[node].desk.take().is_some() {
                    self.note(|| format!("agent {node} dies"));
                    self.nodes[node].link = None;
                    if self.chance.percent(10) {
                        self.machine_is_replaced(node);
                    }
                    self.later(back, Happening::PartStarts(Part::Node(node)));
                }
            }
            4 => {
                let (gateway, back) = (self.chance.index(GATEWAYS), self.chance.between(50, 14_000));
                if self.gateways[gateway].alive {
                    self.gateway_dies(gateway);
                    self.later(back, Happening::PartStarts(Part::Gateway(gateway)));
                }
            }
            5 => {
                let part = if self.chance.percent(50) {
                    Part::Node(self.chance.index(NODES))
                } else {
                    Part::Gateway(self.chance.index(GATEWAYS))
                };
                if let Some((_, link)) = self.link_of(part) {
                    self.break_link(part, link);
                }
            }
            6 if self.chance.percent(20) => self.power_fails(),
            _ => {
                let node = self.chance.index(NODES);
                let at = self.chance.next() as usize % self.nodes[node].processes.len().max(1);
                let victim =
                    self.nodes[node].processes.iter().nth(at).map(|(id, it)| (id.clone(), it.number));
                if let Some((id, process)) = victim {
                    self.process_ends(node, &id, process, 9);
                }
            }
        }
    }

    /// Every machine loses what ran on it, and comes back at once.
    fn power_fails(&mut self) {
        self.note(|| "the power fails".to_owned());
        for node in 0..NODES {
            if self.nodes[node].desk.take().is_some() {
                self.nodes[node].link = None;
                let back = self.chance.between(50, 500);
                self.later(back, Happening::PartStarts(Part::Node(node)));
            }
            self.machine_is_replaced(node);
        }
    }

    /// Another machine takes the node's place: nothing of what ran or was kept there is left.
    fn machine_is_replaced(&mut self, node: usize) {
        self.note(|| format!("the machine of node {node} is replaced"));
        let running: Vec<_> =
            self.nodes[node].processes.iter().map(|(id, process)| (id.clone(), process.number)).collect();
        for (id, process) in running {
            self.process_ends(node, &id, process, 9);
        }
        let it = &mut self.nodes[node];
        it.kept.clear();
        it.endings.clear();
        it.begun_runs.clear();
    }

    pub(crate) fn part_starts(&mut self, part: Part) {
        match part {
            Part::Node(node) => self.node_starts(node),
            Part::Gateway(gateway) => self.gateway_starts(gateway),
        }
    }

    pub(crate) fn part_lives(&self, part: Part, life: u64) -> bool {
        match part {
            Part::Node(node) => self.nodes[node].desk.is_some() && self.nodes[node].life == life,
            Part::Gateway(gateway) => self.gateways[gateway].alive && self.gateways[gateway].life == life,
        }
    }

    fn life_of(&self, part: Part) -> u64 {
        match part {
            Part::Node(node) => self.nodes[node].life,
            Part::Gateway(gateway) => self.gateways[gateway].life,
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

    /// What is under way on it is lost; the part notices and calls again.
    pub(crate) fn break_link(&mut self, part: Part, link: u64) {
        if self.link_of(part).is_some_and(|(_, known)| known == link) {
            self.set_link(part, None);
            let (wait, life) = (self.chance.between(1, 600), self.life_of(part));
            self.later(wait, Happening::Call { part, life });
        }
    }

    /// A report as a request of its own.
    pub(crate) fn send_report(&mut self, control: usize, part: Part, life: u64, report: Report) {
        let fault = if self.quiet() { 100 } else { self.chance.between(0, 100) };
        let (number, report) = (report.number(), Box::new(report));
        let wait = match fault {
            0..3 => {
                let wait = self.chance.between(10, 2000);
                return self.later(wait, Happening::Reported { part, life, number, taken: false });
            }
            3..8 => self.chance.between(50, 3000),
            _ => self.chance.between(1, 15),
        };
        if (8..11).contains(&fault) {
            let late = self.chance.between(20, 6000);
            self.later(late, Happening::Report { control, part, life, report: report.clone(), echo: true });
        }
        self.later(wait, Happening::Report { control, part, life, report, echo: false });
    }

    pub(crate) fn reported(&mut self, part: Part, life: u64, number: u64, taken: bool) {
        if !self.part_lives(part, life) {
            return;
        }
        match part {
            Part::Node(node) => {
                if let Some(desk) = &mut self.nodes[node].desk {
                    desk.reported(number, taken);
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
