//! Making the next release of a workload, for any command that needs one.

use std::collections::BTreeSet;

use super::{Cluster, Transaction};
use crate::model::{
    FirstRun, Purpose, Release, ReleaseNumber, ReleaseSpec, Replica, Rollout, RolloutState, Target, Workload,
};
use crate::record::{Kind, Object};
use crate::retention::superfluous;
use crate::routing::{all_of, replicas_of};

impl Transaction<'_> {
    /// Makes the next release of a workload the wanted one and begins its rollout. One that is like an earlier one has
    /// its image and its secrets, whatever their names stand for meanwhile.
    pub(super) fn release(
        &mut self,
        workload: &mut Workload,
        spec: ReleaseSpec,
        like: Option<&Release>,
        purpose: Purpose,
    ) {
        let now = self.now;
        self.wake_for_release(workload);
        let target = workload.target.clone();
        let number = self.next_release(&target);
        let same_as = like.map(|like| like.same_as.unwrap_or(like.number));
        let digest = like.and_then(|like| like.digest.clone()).or_else(|| spec.digest.clone());
        let digest = digest
            .or_else(|| self.state.images.get(&spec.image.to_string()).map(|image| image.digest.clone()));
        let secrets = match like {
            Some(like) => like.secrets.clone(),
            None => self.secret_uses().newest_secrets(&target.environment, &spec),
        };
        let origin = self.cause.clone();
        // What has the same labels and ports is led to as its model is.
        let current = self.state.releases.get(&(target.clone(), workload.release));
        let alike =
            |release: &&Release| (&release.spec.labels, &release.spec.ports) == (&spec.labels, &spec.ports);
        let bound = like.or(current.filter(alike)).map(|model| model.bound.clone()).unwrap_or_default();
        let release =
            Release { workload: target.clone(), number, spec, digest, secrets, same_as, bound, origin };
        if purpose == Purpose::Back {
            self.adopt(&release);
        }
        let first = release.spec.run_first.is_some() && !like.is_some_and(|like| self.has_run(like));
        let first = first.then(FirstRun::due);
        self.put(Object::Release(release));
        // What a move that ends here came from serves still, and what it went to was never proven.
        let served = self.state.open_rollout(&target).and_then(|open| open.from);
        self.end_open(&target, purpose);
        // Nothing goes back to what never served.
        let may_have_served = |number: &ReleaseNumber| {
            let rollout = self.state.rollouts.get(&(target.clone(), *number));
            number.0 > 0 && !rollout.and_then(|it| it.first.as_ref()).is_some_and(FirstRun::holds_back)
        };
        let from = workload.settled.or(served).or(Some(workload.release)).filter(may_have_served);
        self.put(Object::Rollout(Rollout { first, ..Rollout::new(target, from, number, purpose, now) }));
        workload.release = number;
        workload.last_change = self.cause.clone();
        self.forget_old_releases(workload);
    }

    /// A move that still goes on ends where another begins.
    pub(super) fn end_open(&mut self, target: &Target, purpose: Purpose) {
        let now = self.now;
        let Some(open) = self.state.open_rollout(target).cloned() else { return };
        let (state, how) = match (purpose, open.state) {
            (Purpose::Back, _) => (RolloutState::WentBack, "was taken back"),
            (_, RolloutState::GoingBack) => {
                (RolloutState::WentBack, "was rolling back when the next release came")
            }
            _ => (RolloutState::Superseded, "was replaced by the next release"),
        };
        let why = open.reason.as_ref().map_or(String::new(), |reason| format!("; {}", reason.sentence));
        let verdict = Some(format!("release {} {how}: {}{why}", open.to, self.cause));
        self.put(Object::Rollout(Rollout { state, verdict, ended: Some(now), ..open }));
    }

    /// Replicas of an equal release are already what the new one asks for: they are its replicas from now on.
    pub(super) fn adopt(&mut self, release: &Release) {
        let equal = |number: ReleaseNumber| {
            let other = self.state.releases.get(&(release.workload.clone(), number));
            other.is_some_and(|other| other.runs_the_same_as(release))
        };
        let staying = replicas_of(&self.state.replicas, &release.workload)
            .filter(|replica| replica.state.is_staying() && equal(replica.release));
        let adopted: Vec<Replica> =
            staying.map(|replica| Replica { release: release.number, ..replica.clone() }).collect();
        for replica in adopted {
            self.put(Object::Replica(replica));
        }
    }

    /// Releases in use: running, on their way in or out, and the last good one.
    pub(super) fn forget_old_releases(&mut self, workload: &Workload) {
        let now = self.now;
        let target = &workload.target;
        let mut needed: BTreeSet<ReleaseNumber> = [workload.release].into();
        needed.extend(workload.settled);
        needed.extend(workload.kept.keys());
        needed.extend(all_of(&self.state.replicas, target).map(|replica| replica.release));
        let rollouts = self
            .releases_of(target)
            .filter_map(|release| self.state.rollouts.get(&(target.clone(), release.number)));
        needed.extend(
            rollouts.filter(|rollout| rollout.state == RolloutState::Done).map(|rollout| rollout.to).max(),
        );
        let all = self.releases_of(target).map(|release| (release.number, release.origin.at));
        for number in superfluous(all, &needed, now) {
            for kind in [Kind::Release, Kind::Rollout] {
                self.remove(kind, format!("{target}@{number}"));
            }
        }
    }

    /// A release is tried out, also where nobody asks just now.
    fn wake_for_release(&mut self, workload: &mut Workload) {
        if workload.is_asleep() && workload.held.is_none() {
            (workload.wanted, workload.wanted_origin) = (1, self.cause.clone());
        }
    }

    /// A release that no replica ran so far is rolled out once some are wanted: it is watched like any new release, and goes back.
    pub(super) fn try_untried(&mut self, workload: &Workload) {
        let now = self.now;
        let newest = self.state.newest_rollout(&workload.target);
        let Some(untried) = newest.filter(|it| workload.wanted > 0 && it.state == RolloutState::Untried)
        else {
            return;
        };
        let begun = Rollout {
            state: RolloutState::Starting,
            started: now,
            step_began: Some(now),
            ended: None,
            verdict: None,
            // With no replica there was nothing to watch.
            watched_since: None,
            share: None,
            step: 0,
            ..untried.clone()
        };
        self.put(Object::Rollout(begun));
    }
}

impl Cluster {
    /// Whether the command of a release that comes before it serves has run well, or need not run. What is older than the
    /// record of it has served.
    pub(super) fn has_run(&self, release: &Release) -> bool {
        let of = |number: ReleaseNumber| self.state.rollouts.get(&(release.workload.clone(), number));
        let known = of(release.number).and_then(|rollout| rollout.first.as_ref());
        let known = known.or_else(|| of(release.same_as?)?.first.as_ref());
        known.is_none_or(|first| !first.holds_back())
    }

    /// The number that the next release of a workload gets.
    pub(super) fn next_release(&self, target: &Target) -> ReleaseNumber {
        let spent = self.spent(target).and_then(|(spent, name)| spent.releases.get(name).copied());
        let last = self.releases_of(target).next_back().map(|release| release.number.0);
        ReleaseNumber(last.max(spent).unwrap_or(0) + 1)
    }
}
