//! Releases: made by a declaration, by a deploy, or by going back.

use std::collections::BTreeSet;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::acts::{Refusal, RefusalKind};
use super::held::Cluster;
use super::objects::{Kind, Object};
use crate::difference::differences;
use crate::model::{
    Evidence, ImageRef, Origin, Release, ReleaseNumber, ReleaseSpec, Rollout, RolloutState, Target, Workload,
};
use crate::near::near;
use crate::retention::superfluous;
use crate::routing::replicas_of;

/// What to change about a workload's release.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct DeployRequest {
    /// Another image.
    #[serde(default)]
    pub image: Option<ImageRef>,
    /// Settings to set.
    #[serde(default)]
    pub settings: std::collections::BTreeMap<String, String>,
}

impl Cluster {
    /// Makes the next release of a workload the wanted one and begins its rollout.
    pub(super) fn release(
        &mut self,
        workload: &mut Workload,
        spec: ReleaseSpec,
        same_as: Option<ReleaseNumber>,
        now: Timestamp,
    ) {
        let target = workload.target.clone();
        let last = self.releases_of(&target).map(|release| release.number).max().unwrap_or(ReleaseNumber(0));
        let number = ReleaseNumber(last.0 + 1);
        let kept = same_as.and_then(|same| self.state.releases.get(&(target.clone(), same))?.digest.clone());
        let digest =
            kept.or_else(|| self.state.images.get(&spec.image.to_string()).map(|image| image.digest.clone()));
        let origin = self.cause.clone();
        self.put(Object::Release(Release {
            workload: target.clone(),
            number,
            spec,
            digest,
            same_as,
            origin,
        }));
        if let Some(open) =
            self.state.rollouts.get(&(target.clone(), workload.release)).filter(|r| r.state.is_open())
        {
            let state = if same_as.is_some() { RolloutState::WentBack } else { RolloutState::Superseded };
            let mut ended = Rollout { state, ended: Some(now), ..open.clone() };
            let how = if same_as.is_some() { "taken back" } else { "superseded" };
            ended.verdict = Some(format!("release {} was {how}: {}", ended.to, self.cause));
            self.put(Object::Rollout(ended));
        }
        let from = workload.settled.or(Some(workload.release).filter(|number| number.0 > 0));
        self.put(Object::Rollout(Rollout {
            workload: target,
            from,
            to: number,
            state: RolloutState::Starting,
            started: now,
            ended: None,
            reason: None,
            verdict: None,
            evidence: Evidence::default(),
        }));
        workload.release = number;
        workload.last_change = self.cause.clone();
        self.forget_old_releases(workload);
    }

    /// What runs, what is on its way in or out, and the last good one are needed.
    fn forget_old_releases(&mut self, workload: &Workload) {
        let target = &workload.target;
        let mut needed: BTreeSet<ReleaseNumber> = [workload.release].into();
        needed.extend(workload.settled);
        needed.extend(replicas_of(&self.state.replicas, target).map(|replica| replica.release));
        let rollouts = self
            .releases_of(target)
            .filter_map(|release| self.state.rollouts.get(&(target.clone(), release.number)));
        needed.extend(
            rollouts.filter(|rollout| rollout.state == RolloutState::Done).map(|rollout| rollout.to).max(),
        );
        for number in superfluous(self.releases_of(target).map(|release| release.number), &needed) {
            for kind in [Kind::Release, Kind::Rollout] {
                self.remove(kind, format!("{target}@{number}"));
            }
        }
    }

    pub(super) fn releases_of(&self, target: &Target) -> impl DoubleEndedIterator<Item = &Release> {
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
        let mut workload = self.workload(target)?.clone();
        let Some(current) = self.state.releases.get(&(target.clone(), workload.release)).cloned() else {
            return Refusal::new(RefusalKind::Conflict, format!("{target} has no release yet"));
        };
        let mut spec = current.spec.clone();
        if let Some(image) = &request.image {
            self.known_image(image)?;
            spec.image = image.clone();
        }
        spec.settings.extend(request.settings.clone());
        let differing = differences(&current.spec, &spec);
        let words: Vec<String> = differing.iter().map(ToString::to_string).collect();
        let digest = self.state.images.get(&spec.image.to_string()).map(|image| image.digest.clone());
        let moved_tag = request.image.is_some() && digest != current.digest;
        if words.is_empty() && !moved_tag {
            return Ok(None);
        }
        self.cause = Origin { by: by.to_owned(), act: "deployed".to_owned(), at: now };
        self.release(&mut workload, spec, None, now);
        let number = workload.release;
        self.put(Object::Workload(workload));
        self.touch(target);
        Ok(Some((number, words)))
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
    /// Gives its number and the number it equals.
    pub fn rollback(
        &mut self,
        target: &Target,
        to: Option<ReleaseNumber>,
        by: &str,
        now: Timestamp,
    ) -> Result<(ReleaseNumber, ReleaseNumber), Refusal> {
        let mut workload = self.workload(target)?.clone();
        let goal = match to {
            Some(number) => number,
            None => self.before(&workload).ok_or_else(|| Refusal {
                kind: RefusalKind::Conflict,
                message: format!(
                    "{target} has no earlier release that was done; name one with --to {target}@N"
                ),
            })?,
        };
        let Some(release) = self.state.releases.get(&(target.clone(), goal)).cloned() else {
            let known: Vec<String> =
                self.releases_of(target).map(|release| release.number.to_string()).collect();
            let message = format!("{target} has no release {goal}; it has {}", known.join(", "));
            return Refusal::new(RefusalKind::NotFound, message);
        };
        if goal == workload.release {
            return Refusal::new(RefusalKind::Conflict, format!("{target} is at release {goal} already"));
        }
        self.cause = Origin { by: by.to_owned(), act: "rolled back".to_owned(), at: now };
        let same_as = release.same_as.unwrap_or(goal);
        self.release(&mut workload, release.spec, Some(same_as), now);
        let number = workload.release;
        self.put(Object::Workload(workload));
        self.touch(target);
        Ok((number, same_as))
    }

    /// The release that a rollback goes to: the newest done one that is not the same as the present.
    fn before(&self, workload: &Workload) -> Option<ReleaseNumber> {
        let current = self.state.releases.get(&(workload.target.clone(), workload.release))?;
        let is = |release: &Release| release.same_as.unwrap_or(release.number);
        let done = self.releases_of(&workload.target).rev().filter(|release| {
            let rollout = self.state.rollouts.get(&(workload.target.clone(), release.number));
            rollout.is_some_and(|rollout| rollout.state == RolloutState::Done)
        });
        done.filter(|release| is(release) != is(current)).map(|release| release.number).next()
    }
}
