//! Environments: made, found by name, removed; and the numbers that each has given.

use jiff::Timestamp;

use super::removal::counted;
use super::{Cluster, Refusal, RefusalKind};
use crate::manifest::is_host;
use crate::model::{Environment, EnvironmentIndex, Name, Origin, Spent, Target};
use crate::record::{Kind, Object};
use crate::suggestions::did_you_mean;

impl Cluster {
    /// Makes an environment.
    pub fn add_environment(
        &mut self,
        name: &Name,
        domain: Option<String>,
        by: &str,
        now: Timestamp,
    ) -> Result<(), Refusal> {
        if self.state.environments.contains_key(name) {
            return Refusal::new(RefusalKind::Conflict, format!("the environment {name} exists already"));
        }
        if let Some(domain) = domain.as_ref().filter(|domain| !is_host(domain)) {
            return Refusal::new(
                RefusalKind::Invalid,
                format!("{domain:?} is not a domain: lower case, such as staging.lockers.localhost"),
            );
        }
        let taken: Vec<EnvironmentIndex> =
            self.state.environments.values().map(|there| there.index).collect();
        let free = (1..).map_while(EnvironmentIndex::new).find(|index| !taken.contains(index));
        let Some(index) = free else {
            return Refusal::new(
                RefusalKind::Conflict,
                "15 environments exist, and no more fit one platform",
            );
        };
        self.cause = Origin::new(by, "added", now);
        self.put(Object::Environment(Environment {
            name: name.clone(),
            index,
            domain,
            spent: Spent::default(),
            origin: self.cause.clone(),
        }));
        self.hosts_stale.insert(name.clone());
        Ok(())
    }

    /// Removes an environment that holds nothing any more.
    ///
    /// # Errors
    /// While it holds something: what a person loses goes by acts that name it.
    pub fn remove_environment(&mut self, name: &Name, by: &str, now: Timestamp) -> Result<(), Refusal> {
        self.environment(name)?;
        let state = &self.state;
        let here = |target: &Target| target.environment == *name;
        let held = [
            (state.sources.keys().filter(|it| here(it)).count(), "source"),
            (state.workloads.keys().filter(|it| here(it)).count(), "workload"),
            (state.services.keys().filter(|it| here(it)).count(), "service"),
            (state.routes.keys().filter(|it| here(it)).count(), "route"),
            (state.secrets.keys().filter(|it| here(it)).count(), "secret"),
            (state.certificates.keys().filter(|it| here(it)).count(), "certificate"),
        ];
        let held = held.into_iter().filter(|(count, _)| *count > 0);
        let held: Vec<String> = held.map(|(count, what)| counted(count, what)).collect();
        if !held.is_empty() {
            let message = format!(
                "{name} holds {}; remove them first: mainyard source remove, application remove, secret remove, \
                 certificate remove",
                held.join(", ")
            );
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let ending = state.replicas.keys().filter(|id| id.workload.environment == *name).count();
        if ending > 0 {
            let message =
                format!("{} in {name} still end; try again in a moment", counted(ending, "replica"));
            return Refusal::new(RefusalKind::Conflict, message);
        }
        self.cause = Origin::new(by, "removed", now);
        self.remove(Kind::Environment, name.to_string());
        self.table_stale = true;
        Ok(())
    }

    /// Numbers that were given to what was of this name.
    pub(super) fn spent<'t>(&self, target: &'t Target) -> Option<(&Spent, &'t Name)> {
        Some((&self.state.environments.get(&target.environment)?.spent, &target.name))
    }

    /// Notes numbers that were given to what goes.
    pub(super) fn spend(&mut self, target: &Target, note: impl FnOnce(&mut Spent, Name)) {
        let Some(mut environment) = self.state.environments.get(&target.environment).cloned() else { return };
        note(&mut environment.spent, target.name.clone());
        self.put(Object::Environment(environment));
    }

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
}
