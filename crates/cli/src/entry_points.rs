//! How things are reached: which routes lead to a service, who is behind it, and what was answered.

use std::collections::BTreeMap;

use mainyard_core::model::{Name, Replica, ReplicaState, Route, Service, Target, Workload};
use mainyard_core::record::State;
use mainyard_core::routing::{leads_to, replicas_of, selects};
use serde::Serialize;

use crate::client::Snapshot;

/// A route as it leads to something, for programs.
#[derive(Debug, Serialize)]
pub(crate) struct RouteTo {
    route: Target,
    pub reached_at: String,
}

/// How a workload is reached and what it answered in the last ten seconds, for programs.
#[derive(Debug, Serialize)]
pub(crate) struct EntryPoints<'a> {
    pub routes: Vec<RouteTo>,
    pub services: Vec<ServiceAt>,
    pub traffic: Vec<&'a mainyard_api::WayFigures>,
}

/// A service and its address inside.
#[derive(Debug, Serialize)]
pub(crate) struct ServiceAt {
    service: Target,
    address: std::net::Ipv4Addr,
}

impl EntryPoints<'_> {
    pub(crate) fn of<'a>(snapshot: &'a Snapshot, target: &Target) -> EntryPoints<'a> {
        let state = &snapshot.state;
        let services: Vec<&Service> =
            state.workloads.get(target).map(|it| services_of(state, it).collect()).unwrap_or_default();
        let own = target.to_string();
        let at = |service: &&Service| ServiceAt {
            service: service.target.clone(),
            address: state.inside_address(service),
        };
        EntryPoints {
            routes: services.iter().flat_map(|service| routes_to(snapshot, service)).collect(),
            services: services.iter().map(at).collect(),
            traffic: snapshot.figures.ways.iter().filter(|figure| figure.workload == own).collect(),
        }
    }
}

/// Routes that lead to a service.
pub(crate) fn routes_to(snapshot: &Snapshot, service: &Service) -> Vec<RouteTo> {
    let routes = snapshot.state.routes.values().filter(|route| {
        route.target.environment == service.target.environment
            && route.spec.to.iter().any(|leg| leg.service == service.target.name)
    });
    routes.map(|route| RouteTo { route: route.target.clone(), reached_at: snapshot.url_of(route) }).collect()
}

/// How many replicas are ready behind each service that a route leads to; `None` where the service is not there.
pub(crate) fn ready_behind(state: &State, route: &Route) -> BTreeMap<Name, Option<usize>> {
    let ready = |service: &Service| {
        let all = replicas_behind(state, service).into_iter();
        all.filter(|replica| replica.state == ReplicaState::Ready).count()
    };
    let legs = route.spec.to.iter().map(|leg| {
        let service = state.services.get(&Target::new(&route.target.environment, &leg.service));
        (leg.service.clone(), service.map(ready))
    });
    legs.collect()
}

/// Replicas whose release a service leads to.
pub(crate) fn replicas_behind<'a>(state: &'a State, service: &Service) -> Vec<&'a Replica> {
    let here = state.workloads.values().filter(|it| it.target.environment == service.target.environment);
    let all = here.flat_map(|workload| replicas_of(&state.replicas, &workload.target));
    let behind = all.filter(|replica| {
        let release = state.releases.get(&(replica.id.workload.clone(), replica.release));
        release.is_some_and(|release| leads_to(service, release))
    });
    behind.collect()
}

/// Services that select the workload.
pub(crate) fn services_of<'a>(state: &'a State, workload: &'a Workload) -> impl Iterator<Item = &'a Service> {
    let release = state.releases.get(&(workload.target.clone(), workload.release));
    let labels = release.map(|release| release.spec.labels.clone()).unwrap_or_default();
    state.services.values().filter(move |service| {
        service.target.environment == workload.target.environment
            && selects(&service.spec.select, &workload.target.name, &labels)
    })
}
