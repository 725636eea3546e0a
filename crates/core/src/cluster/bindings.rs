//! How releases remember what services led to them, and when that is over.

use std::collections::BTreeSet;

use super::held::Cluster;
use super::objects::Object;
use crate::model::{Name, Release, Service, Target};
use crate::routing::{bound_names, candidates, is_meant_for, service_entry};

impl Cluster {
    /// A service is about to change: every release that it leads to remembers how. Gives the workloads that have such.
    pub(super) fn bind_releases(&mut self, service: &Service) -> BTreeSet<Name> {
        let mut names = BTreeSet::new();
        let workloads: Vec<Target> =
            candidates(&self.state.workloads, service).map(|workload| workload.target.clone()).collect();
        for workload in workloads {
            let releases: Vec<Release> = self.releases_of(&workload).cloned().collect();
            for mut release in releases {
                let bound = bound_names(service, &release);
                if bound.is_empty() {
                    continue;
                }
                names.insert(workload.name.clone());
                if release.bound.get(&service.target.name) != Some(&bound) {
                    release.bound.insert(service.target.name.clone(), bound);
                    self.put(Object::Release(release));
                }
            }
        }
        names
    }

    /// A service goes: no release remembers it.
    pub(super) fn unbind_all(&mut self, target: &Target) {
        let bound = self.state.services.get(target).map(|service| service.bound.clone()).unwrap_or_default();
        for workload in bound {
            self.unbind(target, &Target::new(&target.environment, &workload));
        }
    }

    fn unbind(&mut self, service: &Target, workload: &Target) {
        let releases: Vec<Release> = self.releases_of(workload).cloned().collect();
        for mut release in releases {
            if release.bound.remove(&service.name).is_some() {
                self.put(Object::Release(release));
            }
        }
    }

    /// Workloads that stand in for others, which a service is meant for by now, are let off once those answer at every
    /// port; from then on nothing leads to them.
    pub(super) fn release_stand_ins(&mut self) {
        let changed = self.state.services.values().filter(|service| !service.bound.is_empty());
        for service in changed.cloned().collect::<Vec<_>>() {
            let off = self.let_off(&service);
            if off.is_empty() {
                continue;
            }
            for workload in &off {
                self.unbind(&service.target, &Target::new(&service.target.environment, workload));
            }
            let bound = service.bound.difference(&off).cloned().collect();
            self.table_stale = true;
            self.put(Object::Service(Service { bound, ..service }));
        }
    }

    /// Which workloads that a service led to are not needed any more.
    fn let_off(&self, service: &Service) -> BTreeSet<Name> {
        let environment = &service.target.environment;
        let here = |name: &Name| self.state.workloads.get(&Target::new(environment, name));
        let stands_in =
            |name: &&Name| here(name).is_some_and(|workload| !is_meant_for(&self.state, service, workload));
        let mut off: BTreeSet<Name> =
            service.bound.iter().filter(|name| here(name).is_none()).cloned().collect();
        if service.bound.iter().any(|name| stands_in(&name)) && self.answers_without(service) {
            off.extend(service.bound.iter().filter(stands_in).cloned());
        }
        off
    }

    /// Whether those that a service is meant for answer at each of its ports.
    fn answers_without(&self, service: &Service) -> bool {
        let Some(index) = self.state.environments.get(&service.target.environment).map(|it| it.index) else {
            return false;
        };
        let meant = |name: &crate::model::ReplicaId| {
            let workload = self.state.workloads.get(&name.workload);
            workload.is_some_and(|workload| is_meant_for(&self.state, service, workload))
        };
        let entry = service_entry(&self.state, service, index);
        entry.ports.values().all(|list| list.iter().any(|backend| meant(&backend.replica)))
    }
}
