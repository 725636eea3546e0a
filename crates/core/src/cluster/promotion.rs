//! Promoting: what was tested in one environment runs in another, the very image by its digest.

use std::collections::BTreeMap;

use super::{Cluster, Refusal, RefusalKind, Transaction};
use crate::difference::differences;
use crate::model::{Name, Purpose, Release, ReleaseNumber, ReleaseSpec, RolloutState, Target};
use crate::unanswered::{ComingWorkload, why_unanswered};

/// The result of a promotion.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Promoted {
    /// The release that was tested.
    pub tested: ReleaseNumber,
    /// The release that it became; `None` where that runs already.
    pub release: Option<ReleaseNumber>,
    /// The differences to what was there, in words.
    pub words: Vec<String>,
}

impl Cluster {
    /// The release to promote, and its target workload.
    ///
    /// # Errors
    /// As of [`Transaction::promote`].
    pub fn promotes(&self, from: &Target, environment: &Name) -> Result<(Release, Target), Refusal> {
        let tested = self.tested(from)?.clone();
        self.environment(environment)?;
        let to = Target::new(environment, &from.name);
        if to == *from {
            let message = format!("{from} is in {environment} already: name another environment with --to");
            return Refusal::new(RefusalKind::Invalid, message);
        }
        if !self.state.workloads.contains_key(&to) {
            let message = format!(
                "there is no workload {to} yet; declare it there first, with its limits and its ways in"
            );
            return Refusal::new(RefusalKind::NotFound, message);
        }
        Ok((tested, to))
    }

    /// That no service which answers through a workload loses it with another specification.
    ///
    /// # Errors
    /// The first that would.
    fn check_answers(&self, target: &Target, spec: &ReleaseSpec) -> Result<(), Refusal> {
        let here = self.state.workloads.values().filter(|it| it.target.environment == target.environment);
        let now: Vec<_> = here
            .filter_map(|workload| {
                let release = self.state.releases.get(&(workload.target.clone(), workload.release))?;
                Some((workload, release))
            })
            .collect();
        let then: Vec<ComingWorkload<'_>> = now
            .iter()
            .map(|(workload, release)| match workload.target == *target {
                true => ComingWorkload { name: &workload.target.name, spec, stays: None },
                false => {
                    ComingWorkload { name: &workload.target.name, spec: &release.spec, stays: Some(release) }
                }
            })
            .collect();
        let services = self.state.services.values().filter(|it| it.target.environment == target.environment);
        for service in services {
            if let Some(why) = why_unanswered(service, &service.spec, &now, &then) {
                let message = format!("service {}: {why}", service.target);
                return Refusal::new(RefusalKind::Conflict, message);
            }
        }
        Ok(())
    }

    fn tested(&self, from: &Target) -> Result<&Release, Refusal> {
        let workload = self.workload(from)?;
        let rollout = self.state.rollouts.get(&(from.clone(), workload.release));
        if let Some(open) = rollout.filter(|it| it.state != RolloutState::Done) {
            let message = format!(
                "release {} of {from} is {}; only a release that is done can be promoted: see mainyard releases {from}",
                open.to, open.state
            );
            return Refusal::new(RefusalKind::Conflict, message);
        }
        self.release_of(from, workload.release)
    }
}

impl Transaction<'_> {
    /// Carries the last release of a workload that was done to the workload of the same name in another environment: image
    /// by digest, program, settings, files, ports and checks. Limits, room and the manner of stopping stay as they are there,
    /// and so does the number of replicas.
    ///
    /// # Errors
    /// When nothing was done yet, when there is no such workload there, or when a secret is missing there.
    pub fn promote(&mut self, from: &Target, environment: &Name) -> Result<Promoted, Refusal> {
        let (tested, to) = self.promotes(from, environment)?;
        let mut workload = self.not_held(&to)?.clone();
        let Some(present) = self.state.releases.get(&(to.clone(), workload.release)).cloned() else {
            return Refusal::new(RefusalKind::Conflict, format!("{to} has no release yet"));
        };
        let spec = promoted(&tested, &present.spec);
        self.secret_uses().check_secrets(&to, &spec, &BTreeMap::new())?;
        self.check_answers(&to, &spec)?;
        let digests = (tested.digest.as_deref(), present.digest.as_deref());
        self.check_signed(environment, &spec.image, digests.0, digests.1)?;
        let mut words: Vec<String> = differences(&present.spec, &spec)
            .iter()
            .filter(|difference| difference.field != "digest")
            .map(ToString::to_string)
            .collect();
        if words.is_empty() && present.digest == tested.digest {
            return Ok(Promoted { tested: tested.number, release: None, words });
        }
        if present.digest != tested.digest {
            let short = |digest: &Option<String>| {
                digest.as_deref().map_or("none", |digest| digest.get(..19).unwrap_or(digest)).to_owned()
            };
            words.push(format!("digest {} → {}", short(&present.digest), short(&tested.digest)));
        }
        self.act(format!("promoted {from}@{}", tested.number));
        self.release(&mut workload, spec, None, Purpose::Change);
        let number = workload.release;
        self.put_by_hand(workload);
        Ok(Promoted { tested: tested.number, release: Some(number), words })
    }
}

/// The release that was tested, with the settings of the place where it goes. A tag may stand for another image by now: the digest counts.
pub fn promoted(tested: &Release, there: &ReleaseSpec) -> ReleaseSpec {
    let ReleaseSpec { limits, reserve, stop, labels, .. } = there.clone();
    ReleaseSpec { limits, reserve, stop, labels, digest: tested.digest.clone(), ..tested.spec.clone() }
}
