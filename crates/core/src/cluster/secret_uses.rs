//! Which versions of secrets releases use, and whether these exist.
//!
//! [`SecretUses`] only reads: the record goes in, answers and refusals come out.

use std::collections::{BTreeMap, BTreeSet};

use super::{Refusal, RefusalKind};
use crate::manifest::DeclaredSecret;
use crate::model::{Name, Release, ReleaseSpec, SecretUse, Target};
use crate::record::State;
use crate::suggestions::did_you_mean;

/// The uses of secrets in a record.
#[derive(Debug, Clone, Copy)]
pub struct SecretUses<'r> {
    state: &'r State,
}

impl<'r> SecretUses<'r> {
    /// The uses of secrets in this record.
    pub fn of(state: &'r State) -> SecretUses<'r> {
        SecretUses { state }
    }

    /// Checks that nothing uses a secret, except objects of the application `but`.
    ///
    /// # Errors
    /// A conflict that names the users.
    pub(super) fn check_unused(self, target: &Target, but: Option<&Name>) -> Result<(), Refusal> {
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

    /// Workloads whose wanted release, or any replica, uses the secret.
    pub fn users(self, target: &Target) -> BTreeSet<Target> {
        let here = self.state.releases.values().filter(|release| self.uses(release, target));
        let live = here.filter(|release| {
            self.wanted_release(&release.workload).is_some_and(|wanted| wanted.number == release.number)
                || crate::routing::replicas_of(&self.state.replicas, &release.workload)
                    .any(|replica| replica.release == release.number)
        });
        live.map(|release| release.workload.clone()).collect()
    }

    pub(super) fn uses(self, release: &Release, secret: &Target) -> bool {
        release.workload.environment == secret.environment
            && release.spec.secret_uses().any(|used| used.secret == secret.name)
    }

    /// Versions that a release uses that is still kept.
    pub(super) fn versions_in_use(self, target: &Target) -> BTreeSet<u32> {
        let here = self.state.releases.values().filter(|release| self.uses(release, target));
        let keys = here.flat_map(Release::secret_keys).filter(|key| key.secret == target.name);
        keys.map(|key| key.version).collect()
    }

    /// Workloads whose wanted release uses the newest version, whichever that is.
    pub(super) fn followers(self, target: &Target) -> Vec<Target> {
        let here = self.state.workloads.keys().filter(|workload| workload.environment == target.environment);
        let follows = |workload: &&Target| {
            let Some(release) = self.wanted_release(workload) else { return false };
            release.spec.secret_uses().any(|used| used.secret == target.name && used.version.is_none())
        };
        here.filter(follows).cloned().collect()
    }

    pub(super) fn wanted_release(self, target: &Target) -> Option<&'r Release> {
        let workload = self.state.workloads.get(target)?;
        self.state.releases.get(&(target.clone(), workload.release))
    }

    /// The versions that the secrets of a specification stand for now.
    pub(super) fn newest_secrets(self, environment: &Name, spec: &ReleaseSpec) -> BTreeMap<Name, u32> {
        let open = spec.secret_uses().filter(|used| used.version.is_none());
        let newest = open.filter_map(|used| {
            let secret = self.state.secrets.get(&Target::new(environment, &used.secret))?;
            Some((used.secret.clone(), secret.newest()))
        });
        newest.collect()
    }

    /// Checks a specification against the secrets there are, and those that come with it.
    ///
    /// # Errors
    /// The first secret that is missing, or cannot be used so.
    pub(super) fn check_secrets(
        self,
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
    pub(crate) fn check_versions(self, release: &Release) -> Result<(), Refusal> {
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

    pub(super) fn secret_fault(self, target: &Target, used: &SecretUse, as_setting: bool) -> Option<String> {
        let Some(secret) = self.state.secrets.get(target) else {
            let hint = self.hint(target);
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
    /// The name that was probably meant, of the secrets in the same environment.
    pub(super) fn hint(self, target: &Target) -> String {
        let here = self.state.secrets.keys().filter(|known| known.environment == target.environment);
        did_you_mean(target.name.as_str(), here.map(|known| known.name.as_str()))
    }
}
