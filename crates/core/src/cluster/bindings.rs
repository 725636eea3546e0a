//! How releases remember what services led to them, and when that is over.

use std::collections::BTreeSet;

use super::{Cluster, Transaction};
use crate::model::{Name, Release, Route, Service, Target, Workload};
use crate::record::{Kind, Object};
use crate::routing::{answers, bound_names, candidates, is_full, is_meant_for, service_entry};

impl Cluster {
    /// Which workloads that a service led to are no longer needed.
    fn settled_bindings(&self, service: &Service) -> BTreeSet<Name> {
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

    /// Whether everything behind a route answers, with as many replicas as are wanted.
    fn all_there(&self, route: &Route) -> bool {
        answers(&self.state, route)
            && route.spec.to.iter().filter(|leg| leg.share > 0).all(|leg| {
                let key = Target::new(&route.target.environment, &leg.service);
                let service = self.state.services.get(&key);
                service.is_some_and(|service| {
                    candidates(&self.state.workloads, service)
                        .filter(|workload| is_meant_for(&self.state, service, workload))
                        .all(|workload| is_full(&self.state, workload))
                })
            })
    }

    fn stands_in_for_a_route(&self, service: &Target) -> bool {
        self.state.routes.values().any(|route| {
            route.target.environment == service.environment
                && route.stand_in.iter().any(|leg| leg.service == service.name)
        })
    }

    fn stands_in_for_a_service(&self, workload: &Workload) -> bool {
        self.state.services.values().any(|service| {
            let here = service.target.environment == workload.target.environment;
            let meant = || is_meant_for(&self.state, service, workload);
            here && (service.leaves && meant() || service.bound.contains(&workload.target.name) && !meant())
        })
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

impl Transaction<'_> {
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
    /// port with all their replicas; from then on nothing leads to them.
    pub(super) fn release_stand_ins(&mut self) {
        let changed = self.state.services.values().filter(|service| !service.bound.is_empty());
        for service in changed.cloned().collect::<Vec<_>>() {
            let off = self.settled_bindings(&service);
            if off.is_empty() {
                continue;
            }
            for workload in &off {
                self.unbind(&service.target, &Target::new(&service.target.environment, workload));
            }
            let bound = service.bound.difference(&off).cloned().collect();
            self.table.touch();
            self.put(Object::Service(Service { bound, ..service }));
        }
        self.release_routes();
        self.let_go_of_what_leaves();
    }

    /// Routes whose new way answers need none to stand in any more.
    fn release_routes(&mut self) {
        let changed = self.state.routes.values().filter(|route| !route.stand_in.is_empty());
        let done: Vec<Route> = changed.filter(|route| self.all_there(route)).cloned().collect();
        for route in done {
            self.table.touch();
            self.put(Object::Route(Route { stand_in: Vec::new(), ..route }));
        }
    }

    /// A service goes; at once, where no route has it to stand in.
    pub(super) fn let_service_leave(&mut self, target: &Target) {
        let Some(service) = self.state.services.get(target).cloned() else { return };
        if self.stands_in_for_a_route(target) {
            self.put(Object::Service(Service { leaves: true, ..service }));
            return;
        }
        self.unbind_all(target);
        self.remove(Kind::Service, target.to_string());
        self.stale_hosts.insert(target.environment.clone());
        self.table.touch();
    }

    /// A workload goes; at once, where no service has it to stand in.
    pub(super) fn let_workload_leave(&mut self, target: &Target) {
        let Some(workload) = self.state.workloads.get(target).cloned() else { return };
        if self.stands_in_for_a_service(&workload) {
            self.put(Object::Workload(Workload { leaves: true, ..workload }));
            return;
        }
        self.remove_workload(target);
    }

    /// A release that was only kept as a stand-in goes.
    fn let_go_of_what_leaves(&mut self) {
        let services = self.state.services.values().filter(|service| service.leaves);
        for target in services.map(|service| service.target.clone()).collect::<Vec<_>>() {
            self.let_service_leave(&target);
        }
        let workloads = self.state.workloads.values().filter(|workload| workload.leaves);
        for target in workloads.map(|workload| workload.target.clone()).collect::<Vec<_>>() {
            self.let_workload_leave(&target);
        }
    }
}
