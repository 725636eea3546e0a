//! How things are reached, by the views that control computes: which routes lead to a service, which replicas are behind it,
//! and what was answered.

use std::collections::BTreeMap;

use mainyard_core::model::{Name, Replica, Route, Service, Target};
use mainyard_core::views::ServiceView;
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
        let services = services_of(snapshot, target);
        let own = target.to_string();
        let at = |service: &&Service| ServiceAt {
            service: service.target.clone(),
            address: snapshot.state.inside_address(service),
        };
        EntryPoints {
            routes: services.iter().flat_map(|service| routes_to(snapshot, service)).collect(),
            services: services.iter().map(at).collect(),
            traffic: snapshot.figures.ways.iter().filter(|figure| figure.workload == own).collect(),
        }
    }
}

fn service_view<'a>(snapshot: &'a Snapshot, service: &Target) -> Option<&'a ServiceView> {
    snapshot.views.environments.get(&service.environment)?.services.get(&service.name)
}

/// Routes that lead to a service.
pub(crate) fn routes_to(snapshot: &Snapshot, service: &Service) -> Vec<RouteTo> {
    let environment = &service.target.environment;
    let routes = snapshot.views.environments.get(environment).into_iter().flat_map(|view| &view.routes);
    let leading = routes.filter(|(_, view)| view.legs.iter().any(|leg| leg.service == service.target.name));
    let routes = leading.filter_map(|(name, _)| snapshot.state.routes.get(&Target::new(environment, name)));
    routes.map(|route| RouteTo { route: route.target.clone(), reached_at: snapshot.url_of(route) }).collect()
}

/// How many replicas are ready behind each service that a route leads to; `None` where the service is not there.
pub(crate) fn ready_behind(snapshot: &Snapshot, route: &Route) -> BTreeMap<Name, Option<u32>> {
    let legs = route.spec.to.iter().map(|leg| {
        let service = Target::new(&route.target.environment, &leg.service);
        (leg.service.clone(), service_view(snapshot, &service).map(|view| view.ready))
    });
    legs.collect()
}

/// Replicas whose release a service leads to.
pub(crate) fn replicas_behind<'a>(snapshot: &'a Snapshot, service: &Service) -> Vec<&'a Replica> {
    let ids = service_view(snapshot, &service.target).into_iter().flat_map(|view| &view.replicas);
    let replicas = ids.filter_map(|id| snapshot.state.replicas.get(&id.parse().ok()?));
    replicas.collect()
}

/// Services that select the workload.
pub(crate) fn services_of<'a>(snapshot: &'a Snapshot, workload: &Target) -> Vec<&'a Service> {
    let environment = snapshot.views.environments.get(&workload.environment);
    let view = environment.and_then(|view| view.workloads.get(&workload.name));
    let names = view.into_iter().flat_map(|view| &view.services);
    names.filter_map(|name| snapshot.state.services.get(&Target::new(&workload.environment, name))).collect()
}
