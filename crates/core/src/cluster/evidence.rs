//! The answers of releases during their rollouts, until they are written.

use std::collections::BTreeMap;

use crate::link::Figure;
use crate::model::{Evidence, ReleaseNumber, RolloutState, Target};
use crate::record::State;

/// Answers that are not yet in a rollout's evidence.
#[derive(Debug, Clone, Default)]
pub(super) struct EvidenceBuffer(BTreeMap<(Target, ReleaseNumber), Evidence>);

impl EvidenceBuffer {
    pub(super) fn add(&mut self, figures: &[Figure], state: &State) {
        for figure in figures {
            let (Some(replica), Some(release)) = (&figure.replica, figure.release) else { continue };
            let Some(open) = state.open_rollout(&replica.workload) else { continue };
            let added = self.0.entry((open.workload.clone(), open.to)).or_default();
            let of = match (figure.shadow, release == open.to) {
                (false, true) => &mut added.new,
                (false, false) => &mut added.old,
                (true, true) => &mut added.copies,
                (true, false) => &mut added.copied,
            };
            of.add(figure.requests, figure.failed, &figure.latencies);
            added.other_size += figure.other_size;
        }
    }

    /// Takes what is to be written now. A rollout that waits for a person may do so for days: its evidence is gathered, and
    /// taken when it has become much.
    pub(super) fn take(&mut self, state: &State) -> BTreeMap<(Target, ReleaseNumber), Evidence> {
        let mut taken = BTreeMap::new();
        for (key, added) in std::mem::take(&mut self.0) {
            let Some(known) = state.rollouts.get(&key).filter(|rollout| rollout.state.is_open()) else {
                continue;
            };
            let written = known.evidence.new.requests + known.evidence.old.requests;
            let little = (added.new.requests + added.old.requests) * 20 < written;
            let to = if known.state == RolloutState::Awaiting && little { &mut self.0 } else { &mut taken };
            to.insert(key, added);
        }
        taken
    }
}
