//! The outer half of the way: gateway, host, route, door, share.

use super::{Cause, Facts, Found, Part, Question, WhyPath};
use crate::acme::wanted;
use crate::declare::leads_to;
use crate::model::{Certificate, Enter, Leg, ReasonCode, Route, Signal, Target, Visitors};
use crate::routing::{Finder, MatchInput, NoRoute, first_port, plain_path};
use crate::suggestions::near;

impl Facts<'_> {
    pub(super) fn outside_in(&self, walk: &mut WhyPath, question: &Question) -> Found {
        self.gateway(walk, question)?;
        let route = self.find(walk, question)?;
        self.route(walk, route, Some(question))
    }

    fn gateway(&self, walk: &mut WhyPath, question: &Question) -> Found {
        let Facts { http, https, .. } = *self;
        let takes = format!("takes http at port {http} and https at port {https}");
        let by_port = self
            .state
            .routes
            .values()
            .find(|route| question.port.is_some() && route.spec.port == question.port);
        if by_port.is_none()
            && let Some(port) = question.port.filter(|port| ![http, https].contains(port))
        {
            let sentence = format!("the gateway does not listen on {port}; it {takes}");
            let fix = format!("ask at port {http}, or {https} for https");
            return Err(walk.cut(Part::Gateway, "gateway", ReasonCode::PortNotTaken, sentence, fix));
        }
        match (question.secure, question.port) {
            (Some(true), Some(port)) if port == http && by_port.is_none() => {
                let sentence = format!("TLS is spoken at port {http}, where plain HTTP is expected");
                let fix = format!("use http at port {http}, or https at port {https}");
                return Err(walk.cut(Part::Gateway, "gateway", ReasonCode::TlsWherePlain, sentence, fix));
            }
            (Some(false), Some(port)) if port == https && by_port.is_none() => {
                let sentence = format!("plain HTTP is spoken at port {https}, where TLS is expected");
                let fix = format!("use https at port {https}, or http at port {http}");
                return Err(walk.cut(Part::Gateway, "gateway", ReasonCode::PlainWhereTls, sentence, fix));
            }
            _ => {}
        }
        if self.gateways == 0 {
            let sentence = "no gateway is linked to control";
            let fix = "see that it runs: mainyard start; a gateway that lives serves by its last table";
            return Err(walk.cut(Part::Gateway, "gateway", ReasonCode::GatewaySilent, sentence, fix));
        }
        if question.port.is_none() {
            walk.also.push(format!("the URL names no port; the gateway {takes}"));
        }
        walk.step(Part::Gateway, "gateway", Signal::Good, takes);
        Ok(())
    }

    fn find(&self, walk: &mut WhyPath, question: &Question) -> Result<&Route, Cause> {
        let Question { host, path, method, .. } = question;
        let finder = Finder::new(self.state.routes.values().map(|route| (&route.spec, route)));
        let plain = plain_path(path).map_err(|why| {
            let fix = "ask for the path that is meant";
            walk.cut(Part::Route, path, ReasonCode::BadRequest, why, fix)
        })?;
        let header = |name: &str| question.header(name).map(str::as_bytes);
        let asked = MatchInput { host, path: &plain.compared, method, header };
        match finder.find(&asked) {
            Ok(route) => {
                walk.step(Part::Host, host, Signal::Good, format!("belongs to {}", route.target.environment));
                Ok(route)
            }
            Err(NoRoute::Host) => {
                let hosts: Vec<&str> = finder.hosts().collect();
                let near = near(host, hosts.iter().copied());
                let sentence = if hosts.is_empty() {
                    format!("no route has the host {host}: there is no route at all")
                } else if near.is_empty() {
                    format!("no route has the host {host}")
                } else {
                    format!("no route has the host {host}; there are: {}", near.join(", "))
                };
                let fix = match near.first() {
                    Some(first) => format!("ask for {first}, or add a route: {}", add_route(host)),
                    None => format!("add a route: {}", add_route(host)),
                };
                Err(walk.cut(Part::Host, host, ReasonCode::NoSuchHost, sentence, fix))
            }
            Err(none) => {
                walk.step(Part::Host, host, Signal::Good, "has routes");
                let (code, sentence, fix) = missed(question, none);
                Err(walk.cut(Part::Route, path, code, sentence, fix))
            }
        }
    }

    pub(super) fn route(&self, walk: &mut WhyPath, route: &Route, question: Option<&Question>) -> Found {
        let spec = &route.spec;
        walk.step(
            Part::Route,
            &route.target,
            Signal::Good,
            format!("takes {}, leads to {}", spec.at(), leads_to(spec)),
        );
        if let Some((port, why)) = spec.port.and_then(|port| Some((port, self.state.closed_port(port)?))) {
            let fix = "stop the program that has it, or declare the route with another port";
            return Err(walk.cut(
                Part::Gateway,
                "gateway",
                ReasonCode::PortTaken,
                port_taken(port, why),
                fix,
            ));
        }
        if let Some((authority, host)) = wanted(route)
            && let Some(order) = self.state.authorities.get(authority).and_then(|it| it.orders.get(host))
        {
            let problem =
                order.problem.as_ref().map_or("it is on its way", |problem| problem.sentence.as_str());
            walk.also.push(format!("a certificate is ordered of {authority}: {problem}"));
        }
        if let Some(redirect) = &spec.redirect {
            walk.step(
                Part::Route,
                &route.target,
                Signal::Good,
                format!("sends visitors to {} ({})", redirect.to, redirect.status),
            );
            return Ok(());
        }
        if let Some(question) = question
            && question.secure == Some(false)
            && spec.sends_to_https(self.certificate_of(route, question).is_some())
        {
            walk.also.push(format!("a request over http is sent to https at port {}", self.https));
        }
        if let Some(question) = question {
            self.certificate(walk, route, question)?;
            self.door(walk, route, question)?;
        }
        self.share(walk, route)
    }

    /// The certificate that was given for what is asked.
    fn certificate_of(&self, route: &Route, question: &Question) -> Option<&Certificate> {
        let named = route.spec.tls.as_ref().and_then(|tls| tls.certificate.as_ref());
        self.state.certificate_of(&route.target.environment, &question.host, named)
    }

    /// The certificate that a visitor gets.
    fn certificate(&self, walk: &mut WhyPath, route: &Route, question: &Question) -> Found {
        if question.secure != Some(true) || route.spec.is_untouched() {
            return Ok(());
        }
        let Some(found) = self.certificate_of(route, question) else {
            walk.step(
                Part::Certificate,
                &question.host,
                Signal::Good,
                "the platform's local authority signs one",
            );
            walk.also.push("to see the authority to trust: mainyard certificate show-authority".to_owned());
            return Ok(());
        };
        let fix = format!("mainyard certificate add {} --chain FILE --key FILE", found.target);
        if !found.covers(&question.host) {
            let names = found.names.join(", ");
            let sentence = format!("the certificate {} is for {names}, not {}", found.target, question.host);
            return Err(walk.cut(
                Part::Certificate,
                &found.target,
                ReasonCode::CertificateMismatch,
                sentence,
                fix,
            ));
        }
        let (signal, lasts) = (found.signal(self.now), found.lasts(self.now));
        if signal == Signal::Fault {
            let sentence = format!(
                "the certificate {} {}",
                found.target,
                lasts.replacen("valid from", "is valid from", 1)
            );
            return Err(walk.cut(
                Part::Certificate,
                &found.target,
                ReasonCode::CertificateOutOfDate,
                sentence,
                fix,
            ));
        }
        walk.step(Part::Certificate, &found.target, signal, format!("covers {}, {lasts}", question.host));
        Ok(())
    }

    fn door(&self, walk: &mut WhyPath, route: &Route, question: &Question) -> Found {
        let spec = &route.spec;
        if let Some(rate) = &spec.rate {
            walk.also.push(format!("one visitor may make {} requests in {}", rate.requests, rate.every));
        }
        if spec.visitors != Visitors::default() {
            walk.also.push(
                "it takes visitors by their addresses (`visitors`), which are not looked at here".to_owned(),
            );
        }
        if let Some(drill) = &spec.drill {
            walk.also.push(format!("a drill goes on: {drill}"));
        }
        if let Some(secret) = spec.enter.secret() {
            let key = Target::new(&route.target.environment, secret);
            if !self.state.secrets.contains_key(&key) {
                let sentence = format!("it checks passwords against the secret {key}, which is not there");
                let fix = format!("mainyard secret add {key} < FILE");
                return Err(walk.cut(Part::Door, &route.target, ReasonCode::SecretMissing, sentence, fix));
            }
        }
        let shows = question.header("authorization").is_some();
        let asks = match &spec.enter {
            Enter::Open => return Ok(()),
            Enter::Ask(ask) => {
                walk.step(
                    Part::Door,
                    &route.target,
                    Signal::Good,
                    format!("{} is asked about each request", ask.ask_url),
                );
                return Ok(());
            }
            Enter::Token(secret) => format!("a bearer token, the value of the secret {secret}"),
            Enter::Basic(secret) => format!("a name and password of the secret {secret}"),
        };
        if shows {
            walk.step(
                Part::Door,
                &route.target,
                Signal::Good,
                format!("asks for {asks}; this request's password was not checked"),
            );
            return Ok(());
        }
        let sentence = format!("the route asks for {asks}, and this request shows nothing");
        let fix = "send an Authorization header; here: --header 'Authorization: …'";
        Err(walk.cut(Part::Door, &route.target, ReasonCode::NotAllowed, sentence, fix))
    }

    fn share(&self, walk: &mut WhyPath, route: &Route) -> Found {
        let legs = &route.spec.to;
        let sum: u64 = legs.iter().map(|leg| u64::from(leg.share)).sum();
        if sum == 0 {
            let names: Vec<String> = legs.iter().map(|leg| leg.service.to_string()).collect();
            let sentence = format!("every share is 0: {}", leads_to(&route.spec));
            let fix =
                format!("give {} a share, such as share = 100, and declare it again", names.join(" or "));
            return Err(walk.cut(Part::Share, &route.target, ReasonCode::AllSharesZero, sentence, fix));
        }
        let taking = || legs.iter().filter(|leg| leg.share > 0);
        if legs.len() > 1 {
            let part =
                |leg: &Leg| format!("{} {:.1} %", leg.service, f64::from(leg.share) * 100.0 / sum as f64);
            walk.step(
                Part::Share,
                &route.target,
                Signal::Good,
                taking().map(part).collect::<Vec<_>>().join(", "),
            );
        }
        for leg in taking() {
            let key = Target::new(&route.target.environment, &leg.service);
            let Some(service) = self.state.services.get(&key) else {
                let here: Vec<String> = self
                    .services_in(&key.environment)
                    .map(|service| service.target.name.to_string())
                    .collect();
                let near = near(key.name.as_str(), here.iter().map(String::as_str)).join(", ");
                let near = if near.is_empty() { String::new() } else { format!("; there are: {near}") };
                let sentence = format!("there is no service {key}{near}");
                let fix = "declare the service, or lead the route to another";
                return Err(walk.cut(Part::Service, &key, ReasonCode::ServiceMissing, sentence, fix));
            };
            let Some(port) = leg.port.or_else(|| first_port(&service.spec.ports)) else { continue };
            if let Err(cause) = self.service(walk, service, port) {
                if legs.len() > 1 {
                    let part = f64::from(leg.share) * 100.0 / sum as f64;
                    walk.also.push(format!("{part:.1} % of the requests lead there"));
                }
                return Err(cause);
            }
        }
        Ok(())
    }
}

/// That the gateway cannot listen on a route's port.
fn port_taken(port: u16, why: &str) -> String {
    format!("the gateway cannot listen on port {port}: {why}")
}

fn add_route(host: &str) -> String {
    format!("mainyard add route NAME --host {host} --to SERVICE")
}

/// The answer if the host has routes and none takes the request.
fn missed(question: &Question, none: NoRoute) -> (ReasonCode, String, String) {
    let Question { host, path, method, .. } = question;
    match none {
        NoRoute::Host | NoRoute::Path(_) => {
            let paths = if let NoRoute::Path(paths) = none { paths } else { Vec::new() };
            let some: Vec<&str> = paths.iter().take(5).map(String::as_str).collect();
            let sentence =
                format!("no route of {host} takes the path {path}; there are: {}", some.join(", "));
            let first = some.first().copied().unwrap_or("/");
            (
                ReasonCode::PathNotMatched,
                sentence,
                format!("ask below {first}, or add a route with path = \"{path}\""),
            )
        }
        NoRoute::Method(methods) => {
            let methods: Vec<String> = methods.into_iter().collect();
            let methods = methods.join(", ");
            let sentence = format!("{host}{path} takes {methods}, not {method}");
            (
                ReasonCode::MethodNotTaken,
                sentence,
                format!("use {methods}, or take {method} into the route's `methods`"),
            )
        }
        NoRoute::Headers(headers) => {
            let headers: Vec<String> = headers.into_iter().collect();
            let sentence =
                format!("every route of {host}{path} asks for a header: {}", headers.join(", or "));
            (ReasonCode::HeaderNotMatched, sentence, "send it, or add a route without `headers`".to_owned())
        }
    }
}
