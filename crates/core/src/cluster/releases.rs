//! Releases: made by a declaration, by a deploy, or by going back.

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Cluster, History, LimitChange, Refusal, RefusalKind, Transaction};
use crate::difference::{differences, secret_differences};
use crate::model::{
    ImageRef, Purpose, Release, ReleaseNumber, Rollout, RolloutState, Setting, Target, Touched, Workload,
};
use crate::record::Object;

/// A release that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct MadeRelease {
    /// Of which workload.
    pub workload: Target,
    /// Its number.
    pub release: ReleaseNumber,
}

/// Changes to a workload's release.
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

/// The target of a rollback.
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

/// The result of a rollback.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WentTo {
    /// The new release.
    pub number: ReleaseNumber,
    /// The earlier one that it equals.
    pub same_as: ReleaseNumber,
    /// Releases that were done and were passed over, with the reason.
    pub passed_over: Vec<String>,
}

impl Cluster {
    fn known_image(&self, image: &ImageRef) -> Result<(), Refusal> {
        // One of a registry outside is pulled, one of code that is followed is built.
        if self.state.images.contains_key(&image.to_string())
            || self.state.registry_of(image).is_some()
            || self.state.code_of(image).is_some()
        {
            return Ok(());
        }
        let words = self.state.no_image_words(image);
        Refusal::new(RefusalKind::NotFound, format!("image-not-found: {words}"))
    }

    /// The release that ran at this moment.
    fn running_at(&self, target: &Target, at: Timestamp) -> Result<ReleaseNumber, Refusal> {
        let done = self.state.rollouts.values().filter(|rollout| {
            rollout.workload == *target && rollout.state == RolloutState::Done && rollout.ended <= Some(at)
        });
        let last = done.max_by_key(|rollout| rollout.ended).map(|rollout| rollout.to);
        last.ok_or_else(|| {
            let first = self.state.rollouts.values().filter(|rollout| rollout.workload == *target);
            let first = first.filter_map(|rollout| rollout.ended).min();
            let since = first.map_or(String::new(), |first| {
                format!("; the oldest kept release is from {}", format_args!("{first:.0}"))
            });
            let message = format!("no release of {target} was done by {}{since}", format_args!("{at:.0}"));
            Refusal { kind: RefusalKind::NotFound, message }
        })
    }

    /// The release that a rollback goes to by itself, and those that it passes over.
    fn rollback_target(&self, workload: &Workload) -> (Option<ReleaseNumber>, Vec<String>) {
        let target = &workload.target;
        let releases: Vec<&Release> = self.releases_of(target).collect();
        let rollouts: Vec<&Rollout> = self.state.rollouts_of(target).collect();
        History { releases: &releases, rollouts: &rollouts }.rollback_target(workload.release)
    }
}

impl Transaction<'_> {
    /// Makes a release with another image or other settings. Gives its number and what differs; `None` when
    /// nothing would differ.
    pub fn deploy(
        &mut self,
        target: &Target,
        request: &DeployRequest,
    ) -> Result<Option<(ReleaseNumber, Vec<String>)>, Refusal> {
        let mut workload = self.not_held(target)?.clone();
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
        self.secret_uses().check_secrets(target, &spec, &Default::default())?;
        let mut differing = differences(&current.spec, &spec);
        let newest = self.secret_uses().newest_secrets(&target.environment, &spec);
        differing.extend(secret_differences(&current.secrets, &newest));
        let words: Vec<String> = differing.iter().map(ToString::to_string).collect();
        let stands_for = || self.state.images.get(&spec.image.to_string()).map(|image| image.digest.clone());
        let digest = spec.digest.clone().or_else(stands_for);
        let moved_tag = request.image.is_some() && digest != current.digest;
        if words.is_empty() && !moved_tag {
            return Ok(None);
        }
        self.check_signed(&target.environment, &spec.image, digest.as_deref(), current.digest.as_deref())?;
        self.act("deployed");
        self.release(&mut workload, spec, None, Purpose::Change);
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

    /// Makes a release that equals an earlier one: the one given, or the last that was done before this one.
    pub fn rollback(&mut self, target: &Target, to: Goal) -> Result<WentTo, Refusal> {
        let mut workload = self.not_held(target)?.clone();
        let (goal, passed_over) = match to {
            Goal::Release(number) => (number, Vec::new()),
            Goal::At(at) => (self.running_at(target, at)?, Vec::new()),
            Goal::Before => match self.rollback_target(&workload) {
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
        self.secret_uses().check_versions(&release)?;
        self.act("rolled back");
        let same_as = release.same_as.unwrap_or(goal);
        self.release(&mut workload, release.spec.clone(), Some(&release), Purpose::Back);
        let number = workload.release;
        self.put_by_hand(workload);
        Ok(WentTo { number, same_as, passed_over })
    }
}
