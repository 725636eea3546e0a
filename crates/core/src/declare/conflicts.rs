//! Conflicts between a declaration and what exists.

use std::collections::BTreeMap;

use super::{Conflict, Present, ports};
use crate::manifest::Declared;
use crate::model::{Leg, Name, Release, Route, RouteSpec, Touched, Workload};
use crate::suggestions::did_you_mean;
use crate::unanswered::{ComingWorkload, why_unanswered};

pub(super) fn conflicts(
    declared: &Declared,
    routes: &BTreeMap<Name, RouteSpec>,
    present: &Present,
    exact: bool,
) -> Vec<Conflict> {
    let mut list = Vec::new();
    // One change is judged by its end: what it removes takes nothing any more.
    let goes = |route: &Route| {
        exact
            && route.application == declared.application
            && !present.leaves(Touched::Route(route.target.name.clone()))
    };
    let mut owned = |kind: &str, name: &Name, application: Option<&Name>| {
        if let Some(other) = application.filter(|other| **other != declared.application) {
            let message =
                format!("it belongs to the application {other}; declare it there, or remove it first");
            list.push(Conflict { object: format!("{kind} {name}"), message });
        }
    };
    for name in declared.workloads.keys() {
        owned("workload", name, present.workloads.get(name).map(|(workload, ..)| &workload.application));
    }
    for name in declared.secrets.keys() {
        owned("secret", name, present.declared_secrets.get(name).map(|secret| &secret.application));
    }
    for name in declared.services.keys() {
        owned("service", name, present.services.get(name).map(|service| &service.application));
    }
    for name in declared.routes.keys() {
        owned("route", name, present.routes.get(name).map(|route| &route.application));
    }
    for (name, service) in &declared.services {
        for open in service.open_to.iter().filter(|open| !present.environments.contains(*open)) {
            let hint = did_you_mean(open.as_str(), present.environments.iter().map(Name::as_str));
            let message = format!("it is open to {open}, and there is no such environment{hint}");
            list.push(Conflict { object: format!("service {name}"), message });
        }
    }
    list.extend(unanswered(declared, present, exact));
    for (name, route) in routes {
        let object = || format!("route {name}");
        if let Some(host) = route.host.as_ref().filter(|_| route.is_of_the_platform(&present.reserved_hosts))
        {
            let message = format!(
                "{host} is a host of the platform itself: a browser sends the console's session there, whatever the \
                 port. Choose a name of the application's own, such as {name}.{}",
                present.domain
            );
            list.push(Conflict { object: object(), message });
        }
        if let Some((port, taker)) = route.port.and_then(|port| present.reserved_ports.get_key_value(&port)) {
            let message = format!("port {port} is taken by {taker}; choose another");
            list.push(Conflict { object: object(), message });
        }
        let stays = |other: &&Route| !routes.contains_key(&other.target.name) && !goes(other);
        let here = present.routes.values().filter(stays).chain(&present.foreign_routes);
        if let Some(holder) = here.into_iter().find(|other| other.spec.clashes(route)) {
            let message = format!("{} is taken by route {}", route.at(), holder.target);
            list.push(Conflict { object: object(), message });
        }
        let twin = routes.iter().find(|(other, spec)| *other < name && spec.clashes(route));
        if let Some((other, _)) = twin {
            let message = format!("{} is taken by route {other} of the same declaration", route.at());
            list.push(Conflict { object: object(), message });
        }
        if let Some(secret) = route.enter.secret().filter(|secret| {
            !present.secrets.contains_key(*secret) && !declared.secrets.contains_key(*secret)
        }) {
            let hint = did_you_mean(secret.as_str(), present.secrets.keys().map(Name::as_str));
            let message = format!(
                "secret-missing: it checks passwords against the secret {secret}, which is not there{hint}"
            );
            list.push(Conflict { object: object(), message });
        }
        list.extend(uncovered(route, present).map(|message| Conflict { object: object(), message }));
        for leg in &route.to {
            list.extend(
                missing(declared, present, leg).map(|message| Conflict { object: object(), message }),
            );
        }
    }
    list
}

/// Services that answer now and would not after the declaration, although nobody said that they go.
fn unanswered(declared: &Declared, present: &Present, exact: bool) -> Vec<Conflict> {
    let goes = |name: &Name, application: &Name, touched: Touched| {
        exact
            && *application == declared.application
            && !declared.workloads.contains_key(name)
            && !present.leaves(touched)
    };
    let stays = present.workloads.iter().filter(|(name, (workload, ..))| {
        !goes(name, &workload.application, Touched::Workload((*name).clone()))
    });
    let now: Vec<(&Workload, &Release)> =
        stays.map(|(_, (workload, release, _))| (workload, release)).collect();
    let mut then: Vec<ComingWorkload<'_>> = Vec::new();
    for (workload, release) in &now {
        let name = &workload.target.name;
        let of_git = !present.leaves(Touched::Workload(name.clone()))
            && !present.leaves(Touched::Release(name.clone()));
        let new = declared.workloads.get(name).map(|declared| &declared.spec).filter(|_| of_git);
        let new = new.filter(|spec| **spec != release.spec);
        then.push(match new {
            Some(spec) => ComingWorkload { name, spec, stays: None },
            None => ComingWorkload { name, spec: &release.spec, stays: Some(release) },
        });
    }
    let fresh = declared.workloads.iter().filter(|(name, _)| !present.workloads.contains_key(*name));
    then.extend(fresh.map(|(name, declared)| ComingWorkload { name, spec: &declared.spec, stays: None }));
    let mut list = Vec::new();
    for (name, service) in &present.services {
        let removed = exact
            && service.application == declared.application
            && !declared.services.contains_key(name)
            && !present.leaves(Touched::Service(name.clone()));
        if removed {
            continue;
        }
        let new = declared.services.get(name).filter(|_| !present.leaves(Touched::Service(name.clone())));
        let after = new.unwrap_or(&service.spec);
        if let Some(message) = why_unanswered(service, after, &now, &then) {
            list.push(Conflict { object: format!("service {name}"), message });
        }
    }
    list
}

/// Why a route cannot be served with the certificate that it names.
fn uncovered(route: &RouteSpec, present: &Present) -> Option<String> {
    let tls = route.tls.as_ref()?;
    let missing = tls.names().find(|name| !present.certificates.contains_key(*name));
    if let Some(name) = missing {
        let hint = did_you_mean(name.as_str(), present.certificates.keys().map(Name::as_str));
        return Some(format!("there is no certificate {name}{hint}; add it with: mainyard certificate add"));
    }
    let (name, host) = (tls.certificate.as_ref()?, route.host.as_deref()?);
    let names = present.certificates.get(name)?;
    let fits = crate::model::covers(names, host);
    (!fits).then(|| {
        format!("certificate-mismatch: the certificate {name} is for {}, not {host}", names.join(", "))
    })
}

/// Why a route cannot lead there.
fn missing(declared: &Declared, present: &Present, leg: &Leg) -> Option<String> {
    let there = present.services.get(&leg.service).map(|service| &service.spec);
    let Some(service) = declared.services.get(&leg.service).or(there) else {
        let known = present.services.keys().chain(declared.services.keys()).map(Name::as_str);
        return Some(format!(
            "there is no service {}{}",
            leg.service,
            did_you_mean(leg.service.as_str(), known)
        ));
    };
    let port = leg.port.filter(|port| !service.ports.contains_key(port))?;
    Some(format!("the service {} has no port {port}; it has {}", leg.service, ports(service)))
}
