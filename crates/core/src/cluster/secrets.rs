//! Secrets: versions come and go, and who uses one gets a release of each new version.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{MadeRelease, Refusal, RefusalKind, Transaction};
use crate::difference::secret_differences;
use crate::manifest::DeclaredSecret;
use crate::model::{
    Name, Purpose, ReleaseNumber, Secret, SecretVersion, Setting, Target, Touched, encrypted,
};
use crate::record::{Kind, Object};

/// A value that was sealed and is kept, and what may be known of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SealedValue {
    /// Under which name it is kept.
    pub name: String,
    /// Whether it is text.
    pub text: bool,
}

/// The effects of a new version of a secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Versioned {
    /// The number of the new version.
    pub version: u32,
    /// The releases it made.
    pub releases: Vec<MadeRelease>,
    /// Workloads that are on hold and keep the version they have.
    pub held: Vec<Target>,
}

impl Transaction<'_> {
    /// Adds a secret, or a version to one that is there; makes a release of each workload that uses its newest.
    ///
    /// # Errors
    /// When a workload uses it as a setting and the value is not text.
    pub fn add_secret(&mut self, target: &Target, value: SealedValue) -> Result<Versioned, Refusal> {
        self.environment(&target.environment)?;
        let followers = self.secret_uses().followers(target);
        let as_setting = followers.iter().find(|workload| {
            let Some(release) = self.secret_uses().wanted_release(workload) else { return false };
            release.spec.settings.values().filter_map(Setting::secret).any(|used| used.secret == target.name)
        });
        if let Some(workload) = as_setting.filter(|_| !value.text) {
            let message = format!("{workload} has {} as a setting, and the value is not text", target.name);
            return Refusal::new(RefusalKind::Invalid, message);
        }
        let known = self.state.secrets.get(target);
        let act = if known.is_some() { "changed" } else { "added" };
        let application = known.and_then(|secret| secret.application.clone());
        self.act(format!("{act} secret {}", target.name));
        let version = self.add_version(target, None, value);
        if let Some(application) = application {
            let touched = [Touched::Secret(target.name.clone())];
            self.yield_to_person(&target.environment, &application, touched);
        }
        let mut outcome = Versioned { version, releases: Vec::new(), held: Vec::new() };
        for workload in followers {
            match self.release_again(&workload) {
                Some(release) => outcome.releases.push(MadeRelease { workload, release }),
                None => outcome.held.push(workload),
            }
        }
        Ok(outcome)
    }

    /// Removes a secret that nothing uses. Gives what went, in words.
    pub fn remove_secret(&mut self, target: &Target) -> Result<Vec<String>, Refusal> {
        let secret = self.secret(target)?.clone();
        self.secret_uses().check_unused(target, None)?;
        self.act("removed");
        let count = secret.versions.len();
        let versions = if count == 1 { "1 version".to_owned() } else { format!("{count} versions") };
        let mut gone = vec![format!("secret {target}: {versions}")];
        let earlier = self.state.releases.values().filter(|release| self.secret_uses().uses(release, target));
        gone.extend(earlier.map(|release| {
            format!("release {}@{} can no longer be a rollback's target", release.workload, release.number)
        }));
        self.forget_secret(target);
        if let Some(application) = secret.application {
            let touched = [Touched::Secret(target.name.clone())];
            self.yield_to_person(&target.environment, &application, touched);
        }
        Ok(gone)
    }

    /// Takes a secret out; the numbers of its versions never come again, so that no release means another value by one.
    pub(super) fn forget_secret(&mut self, target: &Target) {
        let newest = self.state.secrets.get(target).map(Secret::newest);
        self.remove(Kind::Secret, target.to_string());
        self.spend(target, |spent, name| {
            let last = spent.versions.entry(name).or_default();
            *last = newest.unwrap_or(0).max(*last);
        });
    }

    /// Makes what a declaration says the newest version, and releases of the workloads that use it and are not the
    /// declaration's own.
    pub(super) fn declare_secret(
        &mut self,
        target: &Target,
        application: &Name,
        declared: &DeclaredSecret,
        own: &BTreeSet<Name>,
    ) {
        let followers = self.secret_uses().followers(target);
        let value = SealedValue { name: encrypted(&target.environment, &declared.age), text: declared.text };
        self.add_version(target, Some(application), value);
        for workload in followers.into_iter().filter(|workload| !own.contains(&workload.name)) {
            self.release_again(&workload);
        }
    }

    /// Adds a version, for the present cause; gives its number.
    fn add_version(&mut self, target: &Target, application: Option<&Name>, value: SealedValue) -> u32 {
        let origin = self.cause.clone();
        let mut secret = self.state.secrets.get(target).cloned().unwrap_or(Secret {
            target: target.clone(),
            versions: BTreeMap::new(),
            application: None,
            origin: origin.clone(),
        });
        secret.application = application.cloned().or(secret.application);
        let spent = self.spent(target).and_then(|(spent, name)| spent.versions.get(name).copied());
        let version = secret.newest().max(spent.unwrap_or(0)) + 1;
        let used = self.secret_uses().versions_in_use(target);
        secret.versions.retain(|number, _| used.contains(number));
        secret.versions.insert(version, SecretVersion { sealed: value.name, text: value.text, origin });
        self.put(Object::Secret(secret));
        version
    }

    /// The same release with the newest secrets; `None` where the workload is on hold.
    fn release_again(&mut self, target: &Target) -> Option<ReleaseNumber> {
        let mut workload = self.not_held(target).ok()?.clone();
        let spec = self.secret_uses().wanted_release(target)?.spec.clone();
        self.release(&mut workload, spec, None, Purpose::Change);
        let number = workload.release;
        self.put(Object::Workload(workload));
        self.touch(target);
        Some(number)
    }

    /// Secrets that got another version while the workload was on hold make a release of it now. Says which.
    pub(super) fn catch_up_on_secrets(&mut self, target: &Target, held_since: Timestamp) -> Option<String> {
        let release = self.secret_uses().wanted_release(target)?;
        let mut newest = self.secret_uses().newest_secrets(&target.environment, &release.spec);
        // An older version may be what a person went back to.
        newest.retain(|name, version| {
            let secret = self.state.secrets.get(&Target::new(&target.environment, name));
            let added = secret.and_then(|secret| secret.versions.get(version)).map(|it| it.origin.at);
            added.is_some_and(|at| at >= held_since)
        });
        let differing = secret_differences(&release.secrets, &newest);
        if differing.is_empty() {
            return None;
        }
        let words: Vec<String> = differing.iter().map(ToString::to_string).collect();
        let number = self.release_again(target)?;
        Some(format!("release {number} takes what changed while it was held: {}", words.join(", ")))
    }
}
