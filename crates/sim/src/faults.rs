//! Injected faults: deaths, frozen controls, broken links, lost and late and repeated reports.

use crate::parts::Part;
use crate::world::{CONTROLS, GATEWAYS, Happening, NODES, World};

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
                let incarnation = self.controls[control].incarnation;
                self.later(SILENCE, Happening::Silence { control, incarnation });
            }
            2 => {
                let (control, until) =
                    (self.chance.index(CONTROLS), self.now + self.chance.between(100, 5000));
                self.note(|| format!("control {control} does not reach the record until {until}"));
                self.controls[control].cut_until = until;
            }
            3 => {
                let (node, back) = (self.chance.index(NODES), self.chance.between(50, 4000));
                if self.nodes[node].agent.take().is_some() {
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
            if self.nodes[node].agent.take().is_some() {
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
}
