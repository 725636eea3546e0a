//! Checks of services and routes, one by one and together.

use std::collections::BTreeMap;

use serde_json::Value as Json;

use super::{Declared, Reader};
use crate::manifest::check::is_token;
use crate::model::{Enter, Name, RouteSpec, ServiceSpec};
use crate::routing::plain_path;
use crate::suggestions::did_you_mean;

/// Headers that frame a message or belong to the gateway's own account of a visitor.
const NOT_TO_CHANGE: [&str; 12] = [
    "connection",
    "content-length",
    "forwarded",
    "host",
    "keep-alive",
    "te",
    "trailer",
    "transfer-encoding",
    "upgrade",
    "x-forwarded-for",
    "x-forwarded-host",
    "x-forwarded-proto",
];

impl Reader<'_> {
    pub(super) fn service(&mut self, name: &Name, value: Json) -> Option<ServiceSpec> {
        if self.lacks("service", name, &value, &["select", "ports"]) {
            return None;
        }
        let service = match serde_json::from_value::<ServiceSpec>(value) {
            Ok(service) => service,
            Err(error) => {
                self.say(&["service", name.as_str()], format!("service `{name}`: {error}"));
                return None;
            }
        };
        if service.select.is_empty() || service.ports.is_empty() {
            let message = format!("service `{name}` needs at least one label in `select` and one port");
            self.say(&["service", name.as_str()], message);
        }
        Some(service)
    }

    pub(super) fn route(&mut self, name: &Name, value: Json) -> Option<RouteSpec> {
        self.check_enter(name, &value);
        match serde_json::from_value::<RouteSpec>(value.clone()) {
            Ok(route) => {
                self.check_kind(name, &route, &value);
                self.check_headers(name, &route);
                self.check_paths(name, &route);
                self.check_rules(name, &route);
                self.check_cors(name, &route);
                self.check_tls(name, &route);
                if !route.to.is_empty() && route.to.iter().all(|leg| leg.share == 0) {
                    let place = self.place(&["route", name.as_str(), "to"]);
                    let message = format!("every share of route `{name}` is 0: every request is refused");
                    self.warnings.push(crate::manifest::Problem { place, message });
                }
                Some(route)
            }
            Err(error) => {
                self.say(&["route", name.as_str()], format!("route `{name}`: {error}"));
                None
            }
        }
    }

    fn check_enter(&mut self, name: &Name, value: &Json) {
        let Some(enter) = value.get("enter").and_then(Json::as_object) else { return };
        let ways = ["token", "basic", "ask_url"].iter().filter(|key| enter.contains_key(**key)).count();
        let path = ["route", name.as_str(), "enter"];
        if ways != 1 {
            let message = format!("`enter` of route `{name}` needs one of `token`, `basic` and `ask_url`");
            self.say(&path, message);
        } else if enter.contains_key("within") && !enter.contains_key("ask_url") {
            self.say(&path, format!("`within` in `enter` of route `{name}` belongs to `ask_url`"));
        }
    }

    /// A route leads to services or elsewhere; what passes connections on as they are cannot look into them.
    fn check_kind(&mut self, name: &Name, route: &RouteSpec, value: &Json) {
        let at = |key: &'static str| ["route", name.as_str(), key];
        match (route.to.is_empty(), &route.redirect) {
            (true, None) => {
                let message = format!("route `{name}` leads to no service: it needs `to`, or `redirect`");
                self.say(&["route", name.as_str()], message);
            }
            (false, Some(_)) => {
                self.say(
                    &at("redirect"),
                    format!("route `{name}` has `redirect` and `to`; one of them is enough"),
                );
            }
            _ => {}
        }
        let blind = match (route.port.is_some(), route.is_untouched()) {
            (true, _) => Some((["host", "tls"].as_slice(), "takes a port")),
            (false, true) => Some(([].as_slice(), "passes TLS through untouched")),
            (false, false) => None,
        };
        let Some((more, why)) = blind else { return };
        let needs_http = [
            "path", "exact", "methods", "headers", "redirect", "rewrite", "limits", "change", "repeat",
            "rate", "sticky", "compress", "enter", "cors", "drill", "cache",
        ];
        let keys = needs_http.iter().chain(more).filter(|key| value.get(**key).is_some());
        for key in keys {
            let message =
                format!("route `{name}` {why}, so `{key}` is not possible: the gateway does not look inside");
            self.say(&["route", name.as_str(), key], message);
        }
    }

    fn check_headers(&mut self, name: &Name, route: &RouteSpec) {
        let changes = [("request", &route.change.request), ("answer", &route.change.answer)];
        for (which, change) in changes {
            for header in change.add.keys().chain(change.set.keys()).chain(&change.remove) {
                let path = ["route", name.as_str(), "change", which];
                if !is_token(header) {
                    self.say(&path, format!("`{header}` in route `{name}` is not the name of a header"));
                } else if NOT_TO_CHANGE.contains(&header.to_ascii_lowercase().as_str()) {
                    let message =
                        format!("`{header}` cannot be changed by route `{name}`: the gateway sets it itself");
                    self.say(&path, message);
                }
            }
        }
        let values =
            changes.iter().flat_map(|(_, change)| change.add.iter().chain(&change.set)).chain(&route.headers);
        for (header, _) in
            values.filter(|(_, value)| !value.chars().all(|c| c == ' ' || c.is_ascii_graphic()))
        {
            let message =
                format!("the value of `{header}` in route `{name}` holds more than visible ASCII characters");
            self.say(&["route", name.as_str()], message);
        }
    }

    fn check_paths(&mut self, name: &Name, route: &RouteSpec) {
        for (key, path) in [("path", Some(&route.path)), ("rewrite", route.rewrite.as_ref())] {
            let Some(path) = path else { continue };
            let place = ["route", name.as_str(), key];
            match plain_path(path) {
                Err(why) => self.say(&place, format!("`{key}` of route `{name}`: {why}")),
                Ok(plain) if plain.compared != *path => {
                    let message =
                        format!("`{key}` of route `{name}` is the same as {}; write that", plain.compared);
                    self.say(&place, message);
                }
                Ok(_) if path.contains(['?', '#']) => {
                    self.say(
                        &place,
                        format!("`{key}` of route `{name}` ends before the query: no ? and no #"),
                    );
                }
                Ok(_) => {}
            }
        }
        if let Some(redirect) = &route.redirect {
            let place = ["route", name.as_str(), "redirect"];
            let starts = ["/", "http://", "https://"].iter().any(|start| redirect.to.starts_with(start));
            if !starts || !redirect.to.chars().all(|c| c.is_ascii_graphic()) {
                let message = format!(
                    "`redirect` of route `{name}` leads to {:?}; expected a URL such as \"https://lockers.localhost/\", or a path",
                    redirect.to
                );
                self.say(&place, message);
            }
            if ![301, 302, 307, 308].contains(&redirect.status) {
                let message = format!(
                    "`redirect` of route `{name}` has the status {}; there are 301, 302, 307 and 308",
                    redirect.status
                );
                self.say(&place, message);
            }
        }
        if let Enter::Ask(ask) = &route.enter
            && !asks_a_service(&ask.ask_url)
        {
            let message = format!(
                "`ask_url` of route `{name}` is {:?}; expected http:// and a service by its name, such as \"http://doorman/may\"",
                ask.ask_url
            );
            self.say(&["route", name.as_str(), "enter"], message);
        }
    }

    /// References between the objects of this declaration. What it does not declare may exist already, so only
    /// what it does declare is held against itself.
    pub(super) fn check_references(&mut self, declared: &Declared) {
        for (name, service) in &declared.services {
            let Some(workload) = service.select.get("workload") else { continue };
            let Some(found) = declared.workloads.iter().find(|(known, _)| known.as_str() == workload) else {
                if !declared.workloads.is_empty() {
                    let known: Vec<&str> = declared.workloads.keys().map(Name::as_str).collect();
                    let meant = did_you_mean(workload, known.iter().copied());
                    let message = format!(
                        "service `{name}` selects workload `{workload}`, which is not declared{meant}"
                    );
                    self.say(&["service", name.as_str(), "select"], message);
                }
                continue;
            };
            let lacking = service.ports.values().filter(|port| !found.1.spec.ports.contains_key(&port.port));
            for port in lacking {
                let known: Vec<&str> = found.1.spec.ports.keys().map(Name::as_str).collect();
                let meant = did_you_mean(port.port.as_str(), known.iter().copied());
                let message = format!(
                    "service `{name}` leads to port `{}`, which workload `{workload}` does not have{meant}",
                    port.port
                );
                self.say(&["service", name.as_str(), "ports"], message);
            }
        }
        self.check_routes(declared);
    }

    fn check_routes(&mut self, declared: &Declared) {
        let mut before: BTreeMap<String, (&Name, &RouteSpec)> = BTreeMap::new();
        for (name, route) in &declared.routes {
            for leg in &route.to {
                let Some(service) = declared.services.get(&leg.service) else {
                    // What is not declared here may be there already, and the record says; a mistake is reported at once.
                    let known: Vec<&str> = declared.services.keys().map(Name::as_str).collect();
                    let meant = did_you_mean(leg.service.as_str(), known.iter().copied());
                    let is_slip = !meant.is_empty();
                    let message = format!(
                        "route `{name}` leads to service `{}`, which is not declared{meant}",
                        leg.service
                    );
                    let said = is_slip.then_some(message);
                    said.into_iter().for_each(|message| self.say(&["route", name.as_str(), "to"], message));
                    continue;
                };
                if let Some(port) = leg.port.filter(|port| !service.ports.contains_key(port)) {
                    let known: Vec<String> = service.ports.keys().map(u16::to_string).collect();
                    let message = format!(
                        "route `{name}` leads to port {port} of service `{}`, which has {}",
                        leg.service,
                        known.join(", ")
                    );
                    self.say(&["route", name.as_str(), "to"], message);
                }
            }
            let same = before.values().find(|(_, other)| {
                other.host.is_some() && other.clashes(route)
                    || other.port.is_some() && other.port == route.port
            });
            if let Some((other, _)) = same {
                let message = format!("route `{name}` takes {}, as route `{other}` does", route.at());
                self.say(&["route", name.as_str()], message);
            }
            let clients =
                |route: &RouteSpec| Some(route.tls.as_ref()?.client_certificates.as_ref()?.authority.clone());
            let other = before.values().find(|(_, other)| {
                other.host == route.host
                    && clients(other).zip(clients(route)).is_some_and(|(one, two)| one != two)
            });
            if let Some((other, _)) = other {
                let message = format!(
                    "routes `{other}` and `{name}` have one host and ask for client certificates of two authorities: a connection shows one"
                );
                self.say(&["route", name.as_str(), "tls"], message);
            }
            before.insert(name.to_string(), (name, route));
        }
    }
}

/// Whether a URL names a service. An address could be any replica's, also of an environment that is not open to this one.
fn asks_a_service(url: &str) -> bool {
    let Some(rest) = url.strip_prefix("http://") else { return false };
    let authority = rest.split('/').next().unwrap_or_default();
    let host = authority.rsplit_once(':').map_or(authority, |(host, _)| host);
    !host.is_empty() && host.parse::<std::net::IpAddr>().is_err() && !host.starts_with('[')
}
