//! Environments: made, found by name, removed; and the numbers that each has given.

use super::removal::counted;
use super::{Refusal, RefusalKind, Transaction};
use crate::model::{Environment, EnvironmentIndex, Name, OutgoingMode, SpentNumbers, Target, is_host};
use crate::record::{Kind, Object};

impl Transaction<'_> {
    /// Makes an environment.
    pub fn add_environment(&mut self, name: &Name, domain: Option<String>) -> Result<(), Refusal> {
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
                "there are 15 environments already; one platform has at most 15",
            );
        };
        self.act("added");
        self.put(Object::Environment(Environment {
            name: name.clone(),
            index,
            domain,
            outgoing: OutgoingMode::default(),
            image_rule: None,
            live_changes: false,
            spent: SpentNumbers::default(),
            origin: self.cause.clone(),
        }));
        self.stale_hosts.insert(name.clone());
        Ok(())
    }

    /// Says what the replicas of an environment may reach outside; gives what it was.
    pub fn set_outgoing(&mut self, name: &Name, outgoing: OutgoingMode) -> Result<OutgoingMode, Refusal> {
        let environment = self.environment(name)?.clone();
        let before = environment.outgoing;
        if before != outgoing {
            self.act("changed");
            self.put(Object::Environment(Environment { outgoing, ..environment }));
            self.table.touch();
        }
        Ok(before)
    }

    /// Workloads of an environment whose wanted release lists destinations outside, with how many.
    pub fn outgoing_lists(&self, name: &Name) -> Vec<(Name, u32)> {
        let state = &self.state;
        let here = state.workloads.values().filter(|it| it.target.environment == *name);
        let listed = here.filter_map(|workload| {
            let release = state.releases.get(&(workload.target.clone(), workload.release))?;
            let count = release.spec.outgoing.len() as u32;
            (count > 0).then(|| (workload.target.name.clone(), count))
        });
        listed.collect()
    }

    /// Removes an environment that holds nothing any more.
    ///
    /// # Errors
    /// While it holds something: what a person loses goes by acts that name it.
    pub fn remove_environment(&mut self, name: &Name) -> Result<(), Refusal> {
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
        self.act("removed");
        self.remove(Kind::Environment, name.to_string());
        self.table.touch();
        Ok(())
    }
}
