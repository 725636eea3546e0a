//! Which run of each node agent and gateway is the present one, and the last report that was taken from it.

use std::collections::BTreeMap;

use crate::model::Name;

/// A node agent or a gateway.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Part {
    Node(Name),
    Gateway(String),
}

/// One run of a part: chosen by the part when it starts, and the number of its last report.
#[derive(Debug, Clone, Copy)]
struct Incarnation {
    id: u64,
    last_report: u64,
}

/// The present incarnation of each node agent and gateway that called.
#[derive(Debug, Clone, Default)]
pub(super) struct Incarnations(BTreeMap<Part, Incarnation>);

impl Incarnations {
    /// A node agent called. In one incarnation reports count on over all its links.
    pub(super) fn node_called(&mut self, node: &Name, id: u64) {
        let known = self.0.entry(Part::Node(node.clone())).or_insert(Incarnation { id, last_report: 0 });
        if known.id != id {
            *known = Incarnation { id, last_report: 0 };
        }
    }

    /// Whether a report of a node is newer than those that were taken; then it is the last.
    pub(super) fn take_report(&mut self, node: &Name, id: u64, number: u64, whole: bool) -> bool {
        let Some(known) = self.0.get_mut(&Part::Node(node.clone())) else { return false };
        // The first that counts names all that runs: one of a link before may still be on its way.
        let newer = known.id == id && known.last_report < number && (known.last_report > 0 || whole);
        if newer {
            known.last_report = number;
        }
        newer
    }

    /// The incarnation of a node's agent; `None` until it called.
    pub(super) fn of_node(&self, node: &Name) -> Option<u64> {
        self.0.get(&Part::Node(node.clone())).map(|known| known.id)
    }

    /// A gateway called. Gives whether this is another incarnation than before.
    pub(super) fn gateway_called(&mut self, gateway: &str, id: u64) -> bool {
        let called = Incarnation { id, last_report: 0 };
        let before = self.0.insert(Part::Gateway(gateway.to_owned()), called);
        before.is_none_or(|before| before.id != id)
    }

    /// Whether this is the present incarnation of a gateway.
    pub(super) fn is_present(&self, gateway: &str, id: u64) -> bool {
        self.0.get(&Part::Gateway(gateway.to_owned())).is_some_and(|known| known.id == id)
    }

    /// A gateway is forgotten.
    pub(super) fn forget_gateway(&mut self, gateway: &str) {
        self.0.remove(&Part::Gateway(gateway.to_owned()));
    }
}
