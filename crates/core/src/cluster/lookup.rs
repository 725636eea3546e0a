//! Finding what a command names, or saying what there is instead.

use super::{Cluster, Refusal, RefusalKind, SecretUses};
use crate::model::{
    Environment, HoldMark, Name, Release, ReleaseNumber, Replica, ReplicaId, Secret, Source, Target, Workload,
};
use crate::routing::all_of;
use crate::suggestions::did_you_mean;

impl Cluster {
    /// The environment of this name.
    pub fn environment(&self, name: &Name) -> Result<&Environment, Refusal> {
        self.state.environments.get(name).ok_or_else(|| {
            let known = self.state.environments.keys().map(Name::as_str);
            let message = if self.state.environments.is_empty() {
                format!("there is no environment {name}; make it with: mainyard environment add {name}")
            } else {
                format!("there is no environment {name}{}", did_you_mean(name.as_str(), known))
            };
            Refusal { kind: RefusalKind::NotFound, message }
        })
    }

    /// The workload of this target.
    pub fn workload(&self, target: &Target) -> Result<&Workload, Refusal> {
        self.environment(&target.environment)?;
        self.state.workloads.get(target).ok_or_else(|| {
            let known: Vec<String> = self.state.workloads.keys().map(Target::to_string).collect();
            let text = target.to_string();
            let hint = did_you_mean(&text, known.iter().map(String::as_str));
            Refusal { kind: RefusalKind::NotFound, message: format!("there is no workload {target}{hint}") }
        })
    }

    /// A workload that is not held.
    pub(super) fn not_held(&self, target: &Target) -> Result<&Workload, Refusal> {
        let workload = self.workload(target)?;
        match &workload.held {
            None => Ok(workload),
            Some(held) => {
                let HoldMark { because, origin } = held;
                let message = format!(
                    "{target} is {origin}, because {because}; nothing moves until: mainyard resume {target}"
                );
                Refusal::new(RefusalKind::Conflict, message)
            }
        }
    }

    /// The releases of a workload, in the order of their numbers.
    pub fn releases_of(&self, target: &Target) -> impl DoubleEndedIterator<Item = &Release> {
        let first = (target.clone(), ReleaseNumber(0));
        let last = (target.clone(), ReleaseNumber(u32::MAX));
        self.state.releases.range(first..=last).map(|(_, release)| release)
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

    /// The secret of this target.
    pub fn secret(&self, target: &Target) -> Result<&Secret, Refusal> {
        self.environment(&target.environment)?;
        self.state.secrets.get(target).ok_or_else(|| {
            let hint = self.secret_uses().hint(target);
            Refusal { kind: RefusalKind::NotFound, message: format!("there is no secret {target}{hint}") }
        })
    }

    /// Who uses which secret.
    pub fn secret_uses(&self) -> SecretUses<'_> {
        SecretUses::of(&self.state)
    }

    /// The source of this name.
    pub fn source(&self, target: &Target) -> Result<&Source, Refusal> {
        self.environment(&target.environment)?;
        self.state.sources.get(target).ok_or_else(|| {
            let known: Vec<String> = self.state.sources.keys().map(Target::to_string).collect();
            let hint = did_you_mean(&target.to_string(), known.iter().map(String::as_str));
            let message = format!("there is no source {target}{hint}");
            Refusal { kind: RefusalKind::NotFound, message }
        })
    }

    pub(super) fn replica(&self, id: &ReplicaId) -> Result<&Replica, Refusal> {
        self.workload(&id.workload)?;
        self.state.replicas.get(id).ok_or_else(|| {
            let here: Vec<&str> =
                all_of(&self.state.replicas, &id.workload).map(|it| it.id.short.as_str()).collect();
            let hint = did_you_mean(&id.short, here.iter().copied());
            let there = if here.is_empty() {
                "it has none".to_owned()
            } else {
                format!("there are: {}", here.join(", "))
            };
            Refusal {
                kind: RefusalKind::NotFound,
                message: format!("there is no replica {id}{hint} ({there})"),
            }
        })
    }
}
