//! Lookups over one environment, so that a view of thousands of workloads looks at each object once.

use std::collections::BTreeMap;

use crate::model::{Leg, Name, Release, Replica, Rollout, Route, Service};
use crate::record::State;
use crate::routing::selects;

/// A group of connected objects in one environment.
pub(super) struct Index<'a> {
    /// The whole record.
    pub(super) state: &'a State,
    /// Services that name the workload that they select.
    services_by_workload: BTreeMap<&'a str, Vec<&'a Service>>,
    /// Services that select by labels only.
    services_by_labels: Vec<&'a Service>,
    /// Routes by the service that they lead to.
    routes: BTreeMap<&'a Name, Vec<&'a Route>>,
    /// Replicas by workload; without what runs once for a release.
    replicas: BTreeMap<&'a Name, Vec<&'a Replica>>,
    /// Releases by workload, oldest first.
    releases: BTreeMap<&'a Name, Vec<&'a Release>>,
    /// Rollouts by workload, oldest first.
    rollouts: BTreeMap<&'a Name, Vec<&'a Rollout>>,
}

impl<'a> Index<'a> {
    pub(super) fn of(state: &'a State, environment: &Name) -> Index<'a> {
        let mut index = Index {
            state,
            services_by_workload: BTreeMap::new(),
            services_by_labels: Vec::new(),
            routes: BTreeMap::new(),
            replicas: BTreeMap::new(),
            releases: BTreeMap::new(),
            rollouts: BTreeMap::new(),
        };
        for service in state.services.values().filter(|it| it.target.environment == *environment) {
            match service.spec.select.get("workload") {
                Some(workload) => index.services_by_workload.entry(workload).or_default().push(service),
                None => index.services_by_labels.push(service),
            }
        }
        for route in state.routes.values().filter(|it| it.target.environment == *environment) {
            for Leg { service, .. } in &route.spec.to {
                index.routes.entry(service).or_default().push(route);
            }
        }
        let here =
            |replica: &&Replica| replica.once.is_none() && replica.id.workload.environment == *environment;
        for replica in state.replicas.values().filter(here) {
            index.replicas.entry(&replica.id.workload.name).or_default().push(replica);
        }
        for release in state.releases.values().filter(|it| it.workload.environment == *environment) {
            index.releases.entry(&release.workload.name).or_default().push(release);
        }
        for rollout in state.rollouts.values().filter(|it| it.workload.environment == *environment) {
            index.rollouts.entry(&rollout.workload.name).or_default().push(rollout);
        }
        for replicas in index.replicas.values_mut() {
            replicas.sort_by_key(|replica| (replica.release, replica.created, &replica.id));
        }
        index
    }

    /// The services that select a workload's release.
    pub(super) fn services(&self, name: &Name, release: Option<&Release>) -> Vec<&'a Service> {
        let nothing = BTreeMap::new();
        let labels = release.map_or(&nothing, |release| &release.spec.labels);
        let named = self.services_by_workload.get(name.as_str()).into_iter().flatten();
        let candidates = named.chain(&self.services_by_labels).copied();
        candidates.filter(|service| selects(&service.spec.select, name, labels)).collect()
    }

    /// The routes that lead to one of these services, each once.
    pub(super) fn routes(&self, services: &[&'a Service]) -> Vec<&'a Route> {
        let mut routes: Vec<&Route> = Vec::new();
        let leading = services.iter().flat_map(|service| self.routes.get(&service.target.name));
        for route in leading.flatten() {
            if !routes.iter().any(|known| known.target == route.target) {
                routes.push(route);
            }
        }
        routes
    }

    /// A workload's replicas: by release, then the oldest first.
    pub(super) fn replicas(&self, name: &Name) -> &[&'a Replica] {
        self.replicas.get(name).map_or(&[], Vec::as_slice)
    }

    /// A workload's releases, oldest first.
    pub(super) fn releases(&self, name: &Name) -> &[&'a Release] {
        self.releases.get(name).map_or(&[], Vec::as_slice)
    }

    /// A workload's rollouts, oldest first.
    pub(super) fn rollouts(&self, name: &Name) -> &[&'a Rollout] {
        self.rollouts.get(name).map_or(&[], Vec::as_slice)
    }
}
