//! Releases: made by a declaration, by a deploy, or by going back.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Cluster, LimitChange, Refusal, RefusalKind};
use crate::difference::{differences, secret_differences};
use crate::model::{
    FirstRun, ImageRef, Origin, Purpose, Release, ReleaseNumber, ReleaseSpec, Replica, Rollout, RolloutState,
    Setting, Target, Touched, Workload,
};
use crate::record::{Kind, Object};
use crate::retention::superfluous;
use crate::routing::{all_of, replicas_of};
use crate::suggestions::near;

/// A release that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct MadeRelease {
    /// Of which workload.
    pub workload: Target,
    /// Its number.
    pub release: ReleaseNumber,
}

/// What to change about a workload's release.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct DeployRequest {
    /// Another image.
    #[serde(default)]
    pub image: Option<ImageRef>,
    /// Settings to set.
    #[serde(default)]
    pub settings: BTreeMap<String, Setting>,
    /// Limits to set.
    #[serde(default)]
    pub limits: LimitChange,
}

/// What a rollback goes to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Goal {
    /// The last one that was done and is not the same as the present.
    Before,
    /// This one.
    Release(ReleaseNumber),
    /// The one that ran at this moment.
    At(Timestamp),
}

/// What a rollback made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WentTo {
    /// The new release.
    pub number: ReleaseNumber,
    /// The earlier one that it equals.
    pub same_as: ReleaseNumber,
    /// Releases that were done and were not gone back to, with the reason.
    pub passed_over: Vec<String>,
}

impl Cluster {
    /// Makes the next release of a workload the wanted one and begins its rollout. One that is like an earlier one has
    /// its image and its secrets, whatever their names stand for meanwhile.
    pub(super) fn release(
        &mut self,
        workload: &mut Workload,
        spec: ReleaseSpec,
        like: Option<&Release>,
        purpose: Purpose,
        now: Timestamp,
    ) {
        let target = workload.target.clone();
        let number = self.next_release(&target);
        let same_as = like.map(|like| like.same_as.unwrap_or(like.number));
        let digest = like.and_then(|like| like.digest.clone()).or_else(|| spec.digest.clone());
        let digest = digest
            .or_else(|| self.state.images.get(&spec.image.to_string()).map(|image| image.digest.clone()));
        let secrets = match like {
            Some(like) => like.secrets.clone(),
            None => self.newest_secrets(&target.environment, &spec),
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
        self.end_open(&target, purpose, now);
        // Nothing goes back to what never served.
        let may_have_served = |number: &ReleaseNumber| {
            let rollout = self.state.rollouts.get(&(target.clone(), *number));
            number.0 > 0 && !rollout.and_then(|it| it.first.as_ref()).is_some_and(FirstRun::holds_back)
        };
        let from = workload.settled.or(served).or(Some(workload.release)).filter(may_have_served);
        self.put(Object::Rollout(Rollout { first, ..Rollout::new(target, from, number, purpose, now) }));
        workload.release = number;
        workload.last_change = self.cause.clone();
        self.forget_old_releases(workload, now);
    }

    /// Whether the command of a release that comes before it serves has run well, or need not run. What is older than the
    /// record of it has served.
    fn has_run(&self, release: &Release) -> bool {
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

    /// A move that still goes on ends where another begins.
    fn end_open(&mut self, target: &Target, purpose: Purpose, now: Timestamp) {
        let Some(open) = self.state.open_rollout(target).cloned() else { return };
        let (state, how) = match (purpose, open.state) {
            (Purpose::Back, _) => (RolloutState::WentBack, "was taken back"),
            (_, RolloutState::GoingBack) => (RolloutState::WentBack, "was going back as the next came"),
            _ => (RolloutState::Superseded, "gave way to the next"),
        };
        let why = open.reason.as_ref().map_or(String::new(), |reason| format!("; {}", reason.sentence));
        let verdict = Some(format!("release {} {how}: {}{why}", open.to, self.cause));
        self.put(Object::Rollout(Rollout { state, verdict, ended: Some(now), ..open }));
    }

    /// Replicas of an equal release are already what the new one asks for: they are its replicas from now on.
    fn adopt(&mut self, release: &Release) {
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

    /// What runs, what is on its way in or out, and the last good one are needed.
    fn forget_old_releases(&mut self, workload: &Workload, now: Timestamp) {
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

    /// The releases of a workload, in the order of their numbers.
    pub fn releases_of(&self, target: &Target) -> impl DoubleEndedIterator<Item = &Release> {
        let first = (target.clone(), ReleaseNumber(0));
        let last = (target.clone(), ReleaseNumber(u32::MAX));
        self.state.releases.range(first..=last).map(|(_, release)| release)
    }

    /// Makes a release with another image or other settings. Gives its number and what differs; `None` when
    /// nothing would differ.
    pub fn deploy(
        &mut self,
        target: &Target,
        request: &DeployRequest,
        by: &str,
        now: Timestamp,
    ) -> Result<Option<(ReleaseNumber, Vec<String>)>, Refusal> {
        let mut workload = self.free(target)?.clone();
        let Some(current) = self.state.releases.get(&(target.clone(), workload.release)).cloned() else {
            return Refusal::new(RefusalKind::Conflict, format!("{target} has no release yet"));
        };
        let mut spec = current.spec.clone();
        if let Some(image) = &request.image {
            self.known_image(image)?;
            spec.image = image.clone();
            spec.digest = None;
        }
        spec.settings.extend(request.settings.clone());
        request.limits.apply(target, &mut spec)?;
        self.check_secrets(target, &spec, &Default::default())?;
        let mut differing = differences(&current.spec, &spec);
        let newest = self.newest_secrets(&target.environment, &spec);
        differing.extend(secret_differences(&current.secrets, &newest));
        let words: Vec<String> = differing.iter().map(ToString::to_string).collect();
        let stands_for = || self.state.images.get(&spec.image.to_string()).map(|image| image.digest.clone());
        let digest = spec.digest.clone().or_else(stands_for);
        let moved_tag = request.image.is_some() && digest != current.digest;
        if words.is_empty() && !moved_tag {
            return Ok(None);
        }
        self.cause = Origin::new(by, "deployed", now);
        self.release(&mut workload, spec, None, Purpose::Change, now);
        let number = workload.release;
        self.put_by_hand(workload);
        Ok(Some((number, words)))
    }

    /// A workload whose release a person changed.
    pub(super) fn put_by_hand(&mut self, workload: Workload) {
        let (target, application) = (workload.target.clone(), workload.application.clone());
        self.put(Object::Workload(workload));
        self.touch(&target);
        self.yield_to_person(&target.environment, &application, [Touched::Release(target.name.clone())]);
    }

    fn known_image(&self, image: &ImageRef) -> Result<(), Refusal> {
        if self.state.images.contains_key(&image.to_string()) {
            return Ok(());
        }
        let near = near(&image.to_string(), self.state.images.keys().map(String::as_str)).join(", ");
        let near = if near.is_empty() { String::new() } else { format!("; there are: {near}") };
        Refusal::new(RefusalKind::NotFound, format!("image-not-found: the store has no {image}{near}"))
    }

    /// Makes a release that equals an earlier one: the one given, or the last that was done before this one.
    pub fn rollback(
        &mut self,
        target: &Target,
        to: Goal,
        by: &str,
        now: Timestamp,
    ) -> Result<WentTo, Refusal> {
        let mut workload = self.free(target)?.clone();
        let (goal, passed_over) = match to {
            Goal::Release(number) => (number, Vec::new()),
            Goal::At(at) => (self.at(target, at)?, Vec::new()),
            Goal::Before => match self.before(&workload) {
                (Some(number), passed_over) => (number, passed_over),
                (None, passed_over) => {
                    let passed_over: String = passed_over.iter().map(|words| format!("; {words}")).collect();
                    let message = format!(
                        "{target} has no earlier release that was done{passed_over}; name one with --to {target}@N"
                    );
                    return Refusal::new(RefusalKind::Conflict, message);
                }
            },
        };
        let release = self.release_of(target, goal)?.clone();
        if goal == workload.release && self.state.open_rollout(target).is_none() {
            return Refusal::new(RefusalKind::Conflict, format!("{target} is at release {goal} already"));
        }
        self.check_versions(&release)?;
        self.cause = Origin::new(by, "rolled back", now);
        let same_as = release.same_as.unwrap_or(goal);
        self.release(&mut workload, release.spec.clone(), Some(&release), Purpose::Back, now);
        let number = workload.release;
        self.put_by_hand(workload);
        Ok(WentTo { number, same_as, passed_over })
    }

    /// One release of a workload.
    pub(super) fn release_of(&self, target: &Target, number: ReleaseNumber) -> Result<&Release, Refusal> {
        self.state.releases.get(&(target.clone(), number)).ok_or_else(|| {
            let known: Vec<String> =
                self.releases_of(target).map(|release| release.number.to_string()).collect();
            let message = format!("{target} has no release {number}; it has {}", known.join(", "));
            Refusal { kind: RefusalKind::NotFound, message }
        })
    }

    /// The release that ran at this moment.
    fn at(&self, target: &Target, at: Timestamp) -> Result<ReleaseNumber, Refusal> {
        let done = self.state.rollouts.values().filter(|rollout| {
            rollout.workload == *target && rollout.state == RolloutState::Done && rollout.ended <= Some(at)
        });
        let last = done.max_by_key(|rollout| rollout.ended).map(|rollout| rollout.to);
        last.ok_or_else(|| {
            let first = self.state.rollouts.values().filter(|rollout| rollout.workload == *target);
            let first = first.filter_map(|rollout| rollout.ended).min();
            let since = first.map_or(String::new(), |first| {
                format!("; what is kept begins at {}", format_args!("{first:.0}"))
            });
            let message = format!("no release of {target} was done by {}{since}", format_args!("{at:.0}"));
            Refusal { kind: RefusalKind::NotFound, message }
        })
    }

    /// The release that a rollback goes to: the newest done one that runs something else than the present one and was not
    /// left by going back. Beside it, what was passed over.
    fn before(&self, workload: &Workload) -> (Option<ReleaseNumber>, Vec<String>) {
        let Some(current) = self.state.releases.get(&(workload.target.clone(), workload.release)) else {
            return (None, Vec::new());
        };
        let left = self.left(&workload.target);
        let mut passed_over = Vec::new();
        let differing = self.releases_of(&workload.target).rev();
        for release in differing.filter(|release| !release.runs_the_same_as(current)) {
            let rollout = self.state.rollouts.get(&(workload.target.clone(), release.number));
            if rollout.is_none_or(|rollout| rollout.state != RolloutState::Done) {
                continue;
            }
            match left.get(&self.first_alike(release)) {
                Some(origin) => passed_over.push(format!("release {} was left: {origin}", release.number)),
                None => return (Some(release.number), passed_over),
            }
        }
        (None, passed_over)
    }

    /// The oldest release that is kept and runs the same: the same release may come again under other numbers.
    fn first_alike(&self, release: &Release) -> ReleaseNumber {
        let mut all = self.releases_of(&release.workload);
        all.find(|other| other.runs_the_same_as(release)).map_or(release.number, |first| first.number)
    }

    /// Releases that were left by going back and not returned to since, with who did it.
    fn left(&self, target: &Target) -> BTreeMap<ReleaseNumber, Origin> {
        let mut left = BTreeMap::new();
        let identity = |number: ReleaseNumber| {
            let release = self.state.releases.get(&(target.clone(), number));
            release.map_or(number, |release| self.first_alike(release))
        };
        for release in self.releases_of(target) {
            let Some(rollout) = self.state.rollouts.get(&(target.clone(), release.number)) else { continue };
            if let (Purpose::Back, Some(from)) = (rollout.purpose, rollout.from) {
                left.insert(identity(from), release.origin.clone());
            }
            left.remove(&identity(release.number));
        }
        left
    }
}
