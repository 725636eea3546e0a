//! Secrets: versions come and go, and who uses one gets a release of each new version.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Cluster, MadeRelease, Refusal, RefusalKind};
use crate::difference::secret_differences;
use crate::manifest::DeclaredSecret;
use crate::model::{
    Name, Origin, Purpose, Release, ReleaseNumber, ReleaseSpec, Secret, SecretUse, SecretVersion, Setting,
    Target, Touched, encrypted,
};
use crate::record::{Kind, Object};
use crate::suggestions::did_you_mean;

/// A value that was sealed and is kept, and what may be known of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SealedValue {
    /// Under which name it is kept.
    pub name: String,
    /// Whether it is text.
    pub text: bool,
}

/// What a new version of a secret led to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Versioned {
    /// The number of the new version.
    pub version: u32,
    /// The releases it made.
    pub releases: Vec<MadeRelease>,
    /// Workloads that are on hold and keep the version they have.
    pub held: Vec<Target>,
}

impl Cluster {
    /// Adds a secret, or a version to one that is there; makes a release of each workload that uses its newest.
    ///
    /// # Errors
    /// When a workload uses it as a setting and the value is not text.
    pub fn add_secret(
        &mut self,
        target: &Target,
        value: SealedValue,
        by: &str,
        now: Timestamp,
    ) -> Result<Versioned, Refusal> {
        self.environment(&target.environment)?;
        let followers = self.followers(target);
        let as_setting = followers.iter().find(|workload| {
            let Some(release) = self.wanted_release(workload) else { return false };
            release.spec.settings.values().filter_map(Setting::secret).any(|used| used.secret == target.name)
        });
        if let Some(workload) = as_setting.filter(|_| !value.text) {
            let message = format!("{workload} has {} as a setting, and the value is not text", target.name);
            return Refusal::new(RefusalKind::Invalid, message);
        }
        let known = self.state.secrets.get(target);
        let act = if known.is_some() { "changed" } else { "added" };
        let application = known.and_then(|secret| secret.application.clone());
        self.cause = Origin::new(by, format!("{act} secret {}", target.name), now);
        let version = self.add_version(target, None, value);
        if let Some(application) = application {
            let touched = [Touched::Secret(target.name.clone())];
            self.yield_to_person(&target.environment, &application, touched);
        }
        let mut outcome = Versioned { version, releases: Vec::new(), held: Vec::new() };
        for workload in followers {
            match self.release_again(&workload, now) {
                Some(release) => outcome.releases.push(MadeRelease { workload, release }),
                None => outcome.held.push(workload),
            }
        }
        Ok(outcome)
    }

    /// Removes a secret that nothing uses. Gives what went, in words.
    pub fn remove_secret(
        &mut self,
        target: &Target,
        by: &str,
        now: Timestamp,
    ) -> Result<Vec<String>, Refusal> {
        let secret = self.secret(target)?.clone();
        self.check_unused(target, None)?;
        self.cause = Origin::new(by, "removed", now);
        let count = secret.versions.len();
        let versions = if count == 1 { "1 version".to_owned() } else { format!("{count} versions") };
        let mut gone = vec![format!("secret {target}: {versions}")];
        let earlier = self.state.releases.values().filter(|release| self.uses(release, target));
        gone.extend(earlier.map(|release| {
            format!("release {}@{} can no longer be gone back to", release.workload, release.number)
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

    /// That nothing has a secret, but for what is of an application.
    pub(super) fn check_unused(&self, target: &Target, but: Option<&Name>) -> Result<(), Refusal> {
        let other = |of: Option<&Name>| of.is_none() || of != but;
        let workloads = self.users(target).into_iter();
        let workloads =
            workloads.filter(|user| other(self.state.workloads.get(user).map(|it| &it.application)));
        let routes = self.state.routes.values().filter(|route| {
            route.target.environment == target.environment
                && route.spec.enter.secret() == Some(&target.name)
                && other(Some(&route.application))
        });
        let routes = routes.map(|route| format!("the route {}", route.target));
        let users: Vec<String> = workloads.map(|user| user.to_string()).chain(routes).collect();
        if users.is_empty() {
            return Ok(());
        }
        let message = format!("{target} is used by {}; take it out there first", users.join(", "));
        Refusal::new(RefusalKind::Conflict, message)
    }

    /// The secret of this target.
    pub fn secret(&self, target: &Target) -> Result<&Secret, Refusal> {
        self.environment(&target.environment)?;
        self.state.secrets.get(target).ok_or_else(|| {
            let hint = self.secret_hint(target);
            Refusal { kind: RefusalKind::NotFound, message: format!("there is no secret {target}{hint}") }
        })
    }

    fn secret_hint(&self, target: &Target) -> String {
        let here = self.state.secrets.keys().filter(|known| known.environment == target.environment);
        did_you_mean(target.name.as_str(), here.map(|known| known.name.as_str()))
    }

    /// Workloads whose wanted release, or any replica, uses the secret.
    pub fn users(&self, target: &Target) -> BTreeSet<Target> {
        let here = self.state.releases.values().filter(|release| self.uses(release, target));
        let live = here.filter(|release| {
            self.wanted_release(&release.workload).is_some_and(|wanted| wanted.number == release.number)
                || crate::routing::replicas_of(&self.state.replicas, &release.workload)
                    .any(|replica| replica.release == release.number)
        });
        live.map(|release| release.workload.clone()).collect()
    }

    pub(super) fn uses(&self, release: &Release, secret: &Target) -> bool {
        release.workload.environment == secret.environment
            && release.spec.secret_uses().any(|used| used.secret == secret.name)
    }

    /// Versions that a release uses that is still kept.
    fn versions_in_use(&self, target: &Target) -> BTreeSet<u32> {
        let here = self.state.releases.values().filter(|release| self.uses(release, target));
        let keys = here.flat_map(Release::secret_keys).filter(|key| key.secret == target.name);
        keys.map(|key| key.version).collect()
    }

    /// Workloads whose wanted release uses the newest version, whichever that is.
    fn followers(&self, target: &Target) -> Vec<Target> {
        let here = self.state.workloads.keys().filter(|workload| workload.environment == target.environment);
        let follows = |workload: &&Target| {
            let Some(release) = self.wanted_release(workload) else { return false };
            release.spec.secret_uses().any(|used| used.secret == target.name && used.version.is_none())
        };
        here.filter(follows).cloned().collect()
    }

    fn wanted_release(&self, target: &Target) -> Option<&Release> {
        let workload = self.state.workloads.get(target)?;
        self.state.releases.get(&(target.clone(), workload.release))
    }

    /// Makes what a declaration says the newest version, and releases of the workloads that use it and are not the
    /// declaration's own.
    pub(super) fn declare_secret(
        &mut self,
        target: &Target,
        application: &Name,
        declared: &DeclaredSecret,
        own: &BTreeSet<Name>,
        now: Timestamp,
    ) {
        let followers = self.followers(target);
        let value = SealedValue { name: encrypted(&target.environment, &declared.age), text: declared.text };
        self.add_version(target, Some(application), value);
        for workload in followers.into_iter().filter(|workload| !own.contains(&workload.name)) {
            self.release_again(&workload, now);
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
        let used = self.versions_in_use(target);
        secret.versions.retain(|number, _| used.contains(number));
        secret.versions.insert(version, SecretVersion { sealed: value.name, text: value.text, origin });
        self.put(Object::Secret(secret));
        version
    }

    /// The same release with the newest secrets; `None` where the workload is on hold.
    fn release_again(&mut self, target: &Target, now: Timestamp) -> Option<ReleaseNumber> {
        let mut workload = self.free(target).ok()?.clone();
        let spec = self.wanted_release(target)?.spec.clone();
        self.release(&mut workload, spec, None, Purpose::Change, now);
        let number = workload.release;
        self.put(Object::Workload(workload));
        self.touch(target);
        Some(number)
    }

    /// Secrets that got another version while the workload was on hold make a release of it now. Says which.
    pub(super) fn catch_up_on_secrets(
        &mut self,
        target: &Target,
        held_since: Timestamp,
        now: Timestamp,
    ) -> Option<String> {
        let release = self.wanted_release(target)?;
        let mut newest = self.newest_secrets(&target.environment, &release.spec);
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
        let number = self.release_again(target, now)?;
        Some(format!("release {number} takes what changed while it was held: {}", words.join(", ")))
    }

    /// The versions that the secrets of a specification stand for now.
    pub(super) fn newest_secrets(&self, environment: &Name, spec: &ReleaseSpec) -> BTreeMap<Name, u32> {
        let open = spec.secret_uses().filter(|used| used.version.is_none());
        let newest = open.filter_map(|used| {
            let secret = self.state.secrets.get(&Target::new(environment, &used.secret))?;
            Some((used.secret.clone(), secret.newest()))
        });
        newest.collect()
    }

    /// Holds a specification against the secrets there are, and those that come with it.
    ///
    /// # Errors
    /// The first secret that is missing, or cannot be used so.
    pub(super) fn check_secrets(
        &self,
        workload: &Target,
        spec: &ReleaseSpec,
        coming: &BTreeMap<Name, DeclaredSecret>,
    ) -> Result<(), Refusal> {
        let settings = spec.settings.iter().filter_map(|(key, setting)| Some((key, setting.secret()?, true)));
        let files = spec.files.iter().map(|(path, used)| (path, used, false));
        for (place, used, as_setting) in settings.chain(files) {
            let target = Target::new(&workload.environment, &used.secret);
            let comes = coming.get(&used.secret).filter(|_| used.version.is_none());
            let fault = match comes {
                Some(comes) => (as_setting && !comes.text).then(|| {
                    format!("text, and the secret {target} is not, as it is declared; give it as a file")
                }),
                None => self.secret_fault(&target, used, as_setting),
            };
            if let Some(fault) = fault {
                let message = format!("secret-missing: `{place}` of {workload} needs {fault}");
                return Refusal::new(RefusalKind::Conflict, message);
            }
        }
        Ok(())
    }

    /// Whether every version that a release uses is still there.
    ///
    /// # Errors
    /// The first that is not.
    pub(super) fn check_versions(&self, release: &Release) -> Result<(), Refusal> {
        let environment = &release.workload.environment;
        let gone = release.secret_keys().into_iter().find(|key| {
            let secret = self.state.secrets.get(&Target::new(environment, &key.secret));
            secret.is_none_or(|secret| !secret.versions.contains_key(&key.version))
        });
        let Some(gone) = gone else { return Ok(()) };
        let message = format!(
            "secret-missing: release {} of {} uses {gone}, which is no longer there",
            release.number, release.workload
        );
        Refusal::new(RefusalKind::Conflict, message)
    }

    fn secret_fault(&self, target: &Target, used: &SecretUse, as_setting: bool) -> Option<String> {
        let Some(secret) = self.state.secrets.get(target) else {
            let hint = self.secret_hint(target);
            return Some(format!(
                "the secret {target}, which is not there{hint}; add it with: mainyard secret add {target} < FILE"
            ));
        };
        let number = used.version.unwrap_or(secret.newest());
        let Some(version) = secret.versions.get(&number) else {
            let known: Vec<String> = secret.versions.keys().map(u32::to_string).collect();
            return Some(format!("version {number} of the secret {target}; there are {}", known.join(", ")));
        };
        let unfit = as_setting && !version.text;
        unfit.then(|| format!("text, and version {number} of the secret {target} is not; give it as a file"))
    }
}
