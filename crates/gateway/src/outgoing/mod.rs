//! The way out: connections of replicas to what is outside the platform, and the names of what is there.
//!
//! Every address outside is the node's own in the node's network, so a replica's connection to one arrives here, with the
//! address that it dialled. Who called is known by its own address, what it may reach by the table. What is allowed is
//! dialled from the machine's network, and bytes go both ways until one side ends or the rule goes.

mod callers;
mod counts;
mod dialler;
mod forward;
mod lookups;
mod remembered;

use std::sync::{Arc, OnceLock};

use mainyard_core::routing::OutgoingEntry;

pub(crate) use callers::{Callers, OutgoingCaller};
pub(crate) use counts::OutgoingCounts;
pub(crate) use dialler::{Dialler, start};
pub(crate) use lookups::{Lookup, question_outside};
use remembered::Remembered;

/// State that all workers share.
#[derive(Debug, Default)]
pub(crate) struct WayOut {
    /// Who may reach what.
    pub(crate) callers: Callers,
    /// What was reached.
    pub(crate) counts: OutgoingCounts,
    /// Names that addresses were given for.
    pub(crate) remembered: Remembered,
    dialler: OnceLock<Arc<Dialler>>,
}

impl WayOut {
    /// Takes what changed of what one workload may reach.
    pub(crate) fn change(&self, before: Option<&OutgoingEntry>, after: Option<&OutgoingEntry>) {
        self.callers.change(before, after);
        if let (Some(before), None) = (before, after) {
            self.remembered.forget(&before.workload);
        }
    }

    /// Takes the one that dials, in the machine's network.
    pub(crate) fn dial_by(&self, dialler: Dialler) {
        let _ = self.dialler.set(Arc::new(dialler));
    }

    /// Dials, in the machine's network; none where replicas have no network of their own.
    pub(crate) fn dialler(&self) -> Option<&Dialler> {
        self.dialler.get().map(Arc::as_ref)
    }
}
