//! Which release a rollback goes to, unless a person names one.

use std::collections::BTreeMap;

use crate::model::{Origin, Purpose, Release, ReleaseNumber, Rollout, RolloutState};

/// The releases and rollouts of one workload that are kept, each the oldest first.
#[derive(Debug, Clone, Copy)]
pub(crate) struct History<'a> {
    pub(crate) releases: &'a [&'a Release],
    pub(crate) rollouts: &'a [&'a Rollout],
}

impl History<'_> {
    /// The newest release that was done, runs something else than the `current` one and was not left by going back.
    /// Beside it, the releases that were passed over, in words.
    pub(crate) fn rollback_target(self, current: ReleaseNumber) -> (Option<ReleaseNumber>, Vec<String>) {
        let Some(current) = self.release(current) else { return (None, Vec::new()) };
        let left = self.left();
        let mut passed_over = Vec::new();
        let differing = self.releases.iter().rev().filter(|release| !release.runs_the_same_as(current));
        for release in differing {
            if self.rollout(release.number).is_none_or(|rollout| rollout.state != RolloutState::Done) {
                continue;
            }
            match left.get(&self.first_alike(release)) {
                Some(origin) => passed_over.push(format!("release {} was left: {origin}", release.number)),
                None => return (Some(release.number), passed_over),
            }
        }
        (None, passed_over)
    }

    fn release(&self, number: ReleaseNumber) -> Option<&Release> {
        self.releases.iter().find(|release| release.number == number).copied()
    }

    fn rollout(&self, to: ReleaseNumber) -> Option<&Rollout> {
        self.rollouts.iter().find(|rollout| rollout.to == to).copied()
    }

    /// The oldest release that is kept and runs the same: the same release may come again under other numbers.
    fn first_alike(&self, release: &Release) -> ReleaseNumber {
        let first = self.releases.iter().find(|other| other.runs_the_same_as(release));
        first.map_or(release.number, |first| first.number)
    }

    /// Releases that were left by going back and not returned to since, with who did it.
    fn left(&self) -> BTreeMap<ReleaseNumber, Origin> {
        let mut left = BTreeMap::new();
        if self.rollouts.iter().all(|rollout| rollout.purpose != Purpose::Back) {
            return left;
        }
        let identity = |number| self.release(number).map_or(number, |release| self.first_alike(release));
        for release in self.releases {
            let Some(rollout) = self.rollout(release.number) else { continue };
            if let (Purpose::Back, Some(from)) = (rollout.purpose, rollout.from) {
                left.insert(identity(from), release.origin.clone());
            }
            left.remove(&identity(release.number));
        }
        left
    }
}
