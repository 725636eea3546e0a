//! Which ports of a release a service leads to.
//!
//! A service says which labels it selects and which of a workload's ports it leads to, and both may change while replicas
//! serve that were made before. So each release remembers how a service led to it until the service changed
//! ([`Release::bound`]): its replicas take requests as before, until others have their place, and again when the rollout
//! goes back.

use std::collections::{BTreeMap, BTreeSet};

use crate::model::{Name, Release, Service, Target, Workload};
use crate::record::State;
use crate::routing::selects;

/// By the service's port: the number of the port that it leads to in replicas of this release.
pub fn bound_ports(service: &Service, release: &Release) -> BTreeMap<u16, u16> {
    let names = bound_names(service, release);
    names.iter().filter_map(|(port, name)| Some((*port, *release.spec.ports.get(name)?))).collect()
}

/// The same by name.
pub fn bound_names(service: &Service, release: &Release) -> BTreeMap<u16, Name> {
    let selected = selects(&service.spec.select, &release.workload.name, &release.spec.labels);
    let before = release.bound.get(&service.target.name);
    let name = |port: &u16, now: &Name| {
        let now = Some(now).filter(|name| selected && release.spec.ports.contains_key(*name));
        now.or_else(|| before?.get(port)).cloned()
    };
    let ports = service.spec.ports.iter();
    ports.filter_map(|(port, to)| Some((*port, name(port, &to.port)?))).collect()
}

/// Whether a service leads to a release, now or as it was before it changed.
pub fn leads_to(service: &Service, release: &Release) -> bool {
    release.bound.contains_key(&service.target.name)
        || selects(&service.spec.select, &release.workload.name, &release.spec.labels)
}

/// Whether a service, as it is declared now, is meant for this workload: the release that it should run, or the one that it
/// moves to, has the labels. Otherwise what it led to before only stands in until somebody else answers.
pub fn is_meant_for(state: &State, service: &Service, workload: &Workload) -> bool {
    let of = |number| state.releases.get(&(workload.target.clone(), number));
    let newest = state.newest_rollout(&workload.target).and_then(|rollout| of(rollout.to));
    let has_labels =
        |release: &Release| selects(&service.spec.select, &workload.target.name, &release.spec.labels);
    of(workload.release).into_iter().chain(newest).any(has_labels)
}

/// Workloads that may answer for a service: those of its environment, or the few that it names.
pub fn candidates<'a>(
    workloads: &'a BTreeMap<Target, Workload>,
    service: &Service,
) -> Box<dyn Iterator<Item = &'a Workload> + 'a> {
    let environment = service.target.environment.clone();
    let Some(named) = service.spec.select.get("workload") else {
        return Box::new(
            workloads.values().filter(move |workload| workload.target.environment == environment),
        );
    };
    // Most services select one workload by its name: it is looked up, so that the table grows with the services only.
    let names: BTreeSet<Name> = named.parse().into_iter().chain(service.bound.iter().cloned()).collect();
    Box::new(names.into_iter().filter_map(move |name| workloads.get(&Target::new(&environment, &name))))
}
