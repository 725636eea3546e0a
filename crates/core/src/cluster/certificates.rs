//! Certificates come, are changed and go; routes that use them are held against them.

use super::{Cluster, Refusal, RefusalKind, Transaction};
use crate::model::{Certificate, Name, Route, RouteTls, Target};
use crate::record::{Kind, Object, State};
use crate::suggestions::did_you_mean;

impl State {
    /// The certificate that a host of an environment is served with: the one that its route names, or the one that covers
    /// it and lasts longest, one that names it exactly before one with a star. `None` where the local authority signs one.
    pub fn certificate_of(
        &self,
        environment: &Name,
        host: &str,
        named: Option<&Name>,
    ) -> Option<&Certificate> {
        if let Some(named) = named {
            return self.certificates.get(&Target::new(environment, named));
        }
        let here = self.certificates.values().filter(|it| it.target.environment == *environment);
        here.filter(|it| it.covers(host)).max_by_key(|it| (it.names_exactly(host), it.until, &it.target))
    }

    /// Whether a certificate was given that covers a route's host.
    pub fn is_certified(&self, route: &Route) -> bool {
        let host = route.spec.host.as_deref();
        host.is_some_and(|host| self.certificate_of(&route.target.environment, host, None).is_some())
    }

    /// How a person gets to a route, with the gateway's ports for http and https.
    pub fn url_of(&self, route: &Route, http: u16, https: u16) -> String {
        route.spec.url(self.is_certified(route), http, https)
    }
}

impl Cluster {
    /// Routes that name a certificate.
    fn users_of<'a>(&'a self, target: &'a Target) -> impl Iterator<Item = &'a Route> {
        self.state.routes.values().filter(move |route| {
            let mut names = route.spec.tls.iter().flat_map(RouteTls::names);
            route.target.environment == target.environment && names.any(|name| *name == target.name)
        })
    }
}

impl Transaction<'_> {
    /// Adds a certificate, or puts one in the place of its predecessor. Gives what it covers, in words.
    ///
    /// # Errors
    /// When a route that names it would be left uncovered.
    pub fn add_certificate(&mut self, mut certificate: Certificate) -> Result<Vec<String>, Refusal> {
        self.environment(&certificate.target.environment)?;
        let users: Vec<&Route> = self.users_of(&certificate.target).collect();
        for route in users {
            let host = route.spec.host.as_deref().unwrap_or_default();
            let served = route.spec.tls.as_ref().and_then(|tls| tls.certificate.as_ref());
            let serves = served == Some(&certificate.target.name);
            if serves && !certificate.covers(host) {
                let message = format!(
                    "certificate-mismatch: the route {} is served with {} at {host}, and this one is for {}",
                    route.target,
                    certificate.target,
                    names(&certificate)
                );
                return Refusal::new(RefusalKind::Conflict, message);
            }
        }
        let act = if self.state.certificates.contains_key(&certificate.target) { "changed" } else { "added" };
        self.act(act);
        certificate.origin = self.cause.clone();
        let covered = self.state.routes.values().filter(|route| {
            let host = route.spec.host.as_deref().unwrap_or_default();
            route.target.environment == certificate.target.environment && certificate.covers(host)
        });
        let words = covered.map(|route| {
            // What is new for visitors is said.
            let sent =
                !route.spec.sends_to_https(self.state.is_certified(route)) && route.spec.sends_to_https(true);
            let sent = if sent { "; requests over http are sent to https from now on" } else { "" };
            format!("{} of route {}{sent}", route.spec.at(), route.target)
        });
        let words = words.collect();
        self.put(Object::Certificate(certificate));
        Ok(words)
    }

    /// Removes a certificate that no route names. Gives what went, in words.
    ///
    /// # Errors
    /// When there is none, or a route names it.
    pub fn remove_certificate(&mut self, target: &Target) -> Result<Vec<String>, Refusal> {
        self.environment(&target.environment)?;
        let Some(certificate) = self.state.certificates.get(target) else {
            let here = self.state.certificates.keys().filter(|known| known.environment == target.environment);
            let hint = did_you_mean(target.name.as_str(), here.map(|known| known.name.as_str()));
            return Refusal::new(RefusalKind::NotFound, format!("there is no certificate {target}{hint}"));
        };
        let users: Vec<String> =
            self.users_of(target).map(|route| format!("the route {}", route.target)).collect();
        if !users.is_empty() {
            let message = format!("{target} is used by {}; take it out there first", users.join(", "));
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let gone = vec![format!("certificate {target}: {}", names(certificate))];
        self.act("removed");
        self.remove(Kind::Certificate, target.to_string());
        Ok(gone)
    }
}

fn names(certificate: &Certificate) -> String {
    if certificate.names.is_empty() { "no host".to_owned() } else { certificate.names.join(", ") }
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;

    use super::*;
    use crate::model::Origin;

    fn given(name: &str, names: &[&str], days: i64) -> Certificate {
        Certificate {
            target: format!("staging/{name}").parse().expect("a target"),
            names: names.iter().map(|name| (*name).to_owned()).collect(),
            from: Timestamp::UNIX_EPOCH,
            until: Timestamp::from_second(days * 86_400).expect("a moment"),
            issuer: "an authority".into(),
            fingerprint: name.into(),
            chain: String::new(),
            sealed: Some(name.into()),
            obtained_from: None,
            origin: Origin::new("mira", "added", Timestamp::UNIX_EPOCH),
        }
    }

    #[test]
    fn a_host_gets_the_certificate_that_covers_it_and_lasts_longest() {
        let mut state = State::default();
        for certificate in [
            given("z-short", &["a.test"], 10),
            given("long", &["a.test", "b.test"], 20),
            given("star", &["*.test"], 90),
            Certificate { sealed: None, ..given("authority", &["a.test"], 900) },
        ] {
            state.put(Object::Certificate(certificate));
        }
        let (staging, other): (Name, Name) =
            ("staging".parse().expect("a name"), "other".parse().expect("a name"));
        let shown = |environment: &Name, host: &str, named: Option<&str>| {
            let named = named.map(|named| named.parse().expect("a name"));
            let found = state.certificate_of(environment, host, named.as_ref());
            found.map(|it| it.target.name.to_string())
        };
        assert_eq!(shown(&staging, "a.test", None).as_deref(), Some("long"));
        assert_eq!(shown(&staging, "c.test", None).as_deref(), Some("star"));
        assert_eq!(shown(&staging, "a.test", Some("z-short")).as_deref(), Some("z-short"));
        assert_eq!(shown(&staging, "a.c.test", None), None);
        assert_eq!(shown(&other, "a.test", None), None);
    }
}
