//! An environment: who needs a person, and every workload, service and route with what belongs to it.

use std::collections::BTreeMap;
use std::net::Ipv4Addr;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::GatewayPorts;
use super::index::Index;
use super::needs::{Need, needs};
use super::source::SourceView;
use super::workload::{WorkloadView, left_alone};
use crate::model::{CertificateView, Name, Replica, ReplicaState, Route, Service};
use crate::record::State;
use crate::routing::{candidates, leads_to};

/// The view of an environment, beside the objects themselves.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct EnvironmentView {
    /// The list of things that need a person, the worst first.
    pub needs: Vec<Need>,
    /// Of each workload.
    pub workloads: BTreeMap<Name, WorkloadView>,
    /// Of each service.
    pub services: BTreeMap<Name, ServiceView>,
    /// Of each route.
    pub routes: BTreeMap<Name, RouteView>,
    /// Of each source.
    pub sources: BTreeMap<Name, SourceView>,
    /// Of each certificate.
    pub certificates: BTreeMap<Name, CertificateView>,
}

/// The view of a service, beside its own fields.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ServiceView {
    /// Its address for replicas.
    pub inside_address: Ipv4Addr,
    /// The workloads that it leads to.
    pub workloads: Vec<Name>,
    /// The replicas behind it, as ids.
    pub replicas: Vec<String>,
    /// How many of them are ready.
    pub ready: u32,
}

/// The view of a route, beside its own fields.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RouteView {
    /// The requests it matches, as a person writes them: a host, with its path unless it takes all paths, or a port.
    pub at: String,
    /// How a person gets there; `null` where it takes a port.
    pub url: Option<String>,
    /// Whether anything answers there.
    pub answers: bool,
    /// The services that it leads to.
    pub legs: Vec<LegView>,
}

/// A service that a route leads to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct LegView {
    /// Which service.
    pub service: Name,
    /// Its part of the route's requests, in percent.
    pub percent: f64,
    /// Whether requests go there: it has a part, and a replica that is ready.
    pub answers: bool,
}

impl EnvironmentView {
    /// Computes the view of an environment. Each object is looked at once, however many workloads there are.
    pub fn of(state: &State, name: &Name, gateway: GatewayPorts, now: Timestamp) -> EnvironmentView {
        let index = Index::of(state, name);
        let left = left_alone(state, name);
        let workloads = state.workloads.values().filter(|it| it.target.environment == *name);
        let services = state.services.values().filter(|it| it.target.environment == *name);
        let services: BTreeMap<Name, ServiceView> = services
            .map(|service| (service.target.name.clone(), service_view(state, &index, service)))
            .collect();
        let routes = state.routes.values().filter(|it| it.target.environment == *name);
        let sources = state.sources.values().filter(|it| it.target.environment == *name);
        let certificates = state.certificates.values().filter(|it| it.target.environment == *name);
        EnvironmentView {
            needs: needs(state, name, now),
            workloads: workloads
                .map(|it| (it.target.name.clone(), WorkloadView::of(it, &index, &left)))
                .collect(),
            routes: routes
                .map(|route| (route.target.name.clone(), route_view(state, &services, route, gateway)))
                .collect(),
            services,
            sources: sources.map(|it| (it.target.name.clone(), SourceView::of(state, it))).collect(),
            certificates: certificates.map(|it| (it.target.name.clone(), it.view(now))).collect(),
        }
    }
}

fn service_view(state: &State, index: &Index<'_>, service: &Service) -> ServiceView {
    let behind = |replica: &&&Replica| {
        let release = state.releases.get(&(replica.id.workload.clone(), replica.release));
        release.is_some_and(|release| leads_to(service, release))
    };
    let mut view = ServiceView {
        inside_address: state.inside_address(service),
        workloads: Vec::new(),
        replicas: Vec::new(),
        ready: 0,
    };
    for workload in candidates(&state.workloads, service) {
        let name = &workload.target.name;
        let release = state.releases.get(&(workload.target.clone(), workload.release));
        let replicas: Vec<&&Replica> = index.replicas(name).iter().filter(behind).collect();
        if !replicas.is_empty() || release.is_some_and(|release| leads_to(service, release)) {
            view.workloads.push(name.clone());
        }
        view.ready += replicas.iter().filter(|replica| replica.state == ReplicaState::Ready).count() as u32;
        view.replicas.extend(replicas.iter().map(|replica| replica.id.to_string()));
    }
    view
}

fn route_view(
    state: &State,
    services: &BTreeMap<Name, ServiceView>,
    route: &Route,
    gateway: GatewayPorts,
) -> RouteView {
    let all: u32 = route.spec.to.iter().map(|leg| leg.share).sum();
    let legs = route.spec.to.iter().map(|leg| LegView {
        service: leg.service.clone(),
        percent: (f64::from(leg.share) * 1000.0 / f64::from(all.max(1))).round() / 10.0,
        answers: leg.share > 0 && services.get(&leg.service).is_some_and(|service| service.ready > 0),
    });
    let legs: Vec<LegView> = legs.collect();
    RouteView {
        at: route.spec.at(),
        url: route.spec.port.is_none().then(|| state.url_of(route, gateway.http, gateway.https)),
        answers: route.spec.redirect.is_some() || legs.iter().any(|leg| leg.answers),
        legs,
    }
}
