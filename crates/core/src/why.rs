//! Why an address or a workload answers, or does not: from the host down to the process, and no further than the first
//! true cause. Everything said here is a fact of the record, of a report, or of the gateway.

mod inside;
mod outside;
mod past;
mod way_out;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Name, ReasonCode, ReleaseId, ReplicaId, Service, Signal, Target};
use crate::record::State;

pub use inside::near_misses;
pub use way_out::Destination;

/// Facts that are not in the record.
#[derive(Debug, Clone, Copy)]
pub struct Facts<'a> {
    /// The record.
    pub state: &'a State,
    /// The gateway's port without TLS.
    pub http: u16,
    /// The gateway's port with TLS.
    pub https: u16,
    /// How many gateways are linked to control.
    pub gateways: usize,
    /// When it is asked.
    pub now: Timestamp,
}

/// The kind of one part of the path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// The gateway's listeners.
    Gateway,
    /// The name that was asked for.
    Host,
    /// The certificate that visitors get.
    Certificate,
    /// The route that takes requests of the host.
    Route,
    /// The callers that are let in.
    Door,
    /// How requests are shared out.
    Share,
    /// A stable name in front of replicas.
    Service,
    /// The workloads that the service selects.
    Selector,
    /// The workload.
    Workload,
    /// Which snapshot of it.
    Release,
    /// One copy.
    Replica,
    /// The original question.
    Request,
    /// An environment, and what its replicas may reach outside.
    Environment,
    /// The list of what a workload may reach outside.
    Rule,
    /// The name of a host outside.
    Name,
    /// A host outside, with its port.
    Destination,
}

/// One part of the way, and what is found there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "WhyStep")]
pub struct WhyStep {
    /// The kind of part.
    pub part: Part,
    /// Its name.
    pub name: String,
    /// The finding, in words.
    pub says: String,
    /// How it is.
    pub signal: Signal,
}

/// The first true cause.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Cause {
    /// For programs.
    pub code: ReasonCode,
    /// The fact.
    pub sentence: String,
    /// How to fix it.
    pub fix: String,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Why {
    /// The question, in full.
    pub of: String,
    /// Whether it answers.
    pub answers: bool,
    /// The way, from the outside to the process, as far as it goes.
    pub steps: Vec<WhyStep>,
    /// The first true cause; where it answers, what that rests on.
    pub cause: Cause,
    /// Other useful facts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<String>,
    /// Whose output tells more: a replica, or a release whose replicas are gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub output_of: Option<OutputOf>,
    /// The last lines of it, with credentials masked. They are asked of the node, and are not in the record.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub output: Vec<String>,
}

/// Whose output tells more than the reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OutputOf {
    /// A replica that is there.
    Replica(ReplicaId),
    /// A release whose replicas are gone.
    Release(ReleaseId),
}

/// The subject of the question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// Whether TLS is spoken; `None` where the URL does not say.
    pub secure: Option<bool>,
    /// In lower case.
    pub host: String,
    /// The port, if the URL names one.
    pub port: Option<u16>,
    /// Without the query.
    pub path: String,
    /// Such as `GET`.
    pub method: String,
    /// Headers, by name in lower case.
    pub headers: Vec<(String, String)>,
}

impl Question {
    /// A URL as a person writes it: `api.lockers.localhost/v1` will do.
    ///
    /// # Errors
    /// The missing object.
    pub fn parse(url: &str) -> Result<Question, String> {
        let (secure, rest) = match url.split_once("://") {
            Some(("http", rest)) => (Some(false), rest),
            Some(("https", rest)) => (Some(true), rest),
            Some((other, _)) => {
                return Err(format!("{other}:// is not a scheme that is served; use http:// or https://"));
            }
            None => (None, url),
        };
        let (authority, path) = match rest.find(['/', '?']) {
            Some(at) if rest[at..].starts_with('/') => (&rest[..at], &rest[at..]),
            Some(at) => (&rest[..at], "/"),
            None => (rest, "/"),
        };
        let (host, port) = match authority.rsplit_once(':') {
            Some((host, port)) => (host, Some(port.parse().map_err(|_| format!("{port:?} is not a port"))?)),
            None => (authority, None),
        };
        let host = host.trim_end_matches('.').to_ascii_lowercase();
        if !crate::model::is_host(&host) {
            return Err(format!(
                "{host:?} is not a host; for example: mainyard why http://api.lockers.localhost/path"
            ));
        }
        let path = path.split(['?', '#']).next().unwrap_or("/").to_owned();
        Ok(Question { secure, host, port, path, method: "GET".to_owned(), headers: Vec::new() })
    }

    fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }
}

/// The way as far as it was followed.
#[derive(Debug, Default)]
struct WhyPath {
    steps: Vec<WhyStep>,
    also: Vec<String>,
    output_of: Option<OutputOf>,
}

/// There is no more to find out.
type Found = Result<(), Cause>;

impl WhyPath {
    fn step(&mut self, part: Part, name: impl ToString, signal: Signal, says: impl Into<String>) {
        self.steps.push(WhyStep { part, name: name.to_string(), says: says.into(), signal });
    }

    /// The way is cut here.
    fn cut(
        &mut self,
        part: Part,
        name: impl ToString,
        code: ReasonCode,
        sentence: impl Into<String>,
        fix: impl Into<String>,
    ) -> Cause {
        let sentence = sentence.into();
        self.step(part, name, Signal::Fault, sentence.clone());
        Cause { code, sentence, fix: fix.into() }
    }

    fn end(self, of: String, found: Found, well: impl Into<String>) -> Why {
        let answers = found.is_ok();
        let well = || Cause { code: ReasonCode::Answers, sentence: well.into(), fix: String::new() };
        Why {
            of,
            answers,
            steps: self.steps,
            cause: found.err().unwrap_or_else(well),
            also: self.also,
            output_of: self.output_of,
            output: Vec::new(),
        }
    }
}

impl Facts<'_> {
    /// Why an address answers, or does not.
    pub fn url(&self, question: &Question) -> Why {
        let mut walk = WhyPath::default();
        let found = self.outside_in(&mut walk, question);
        let of = format!("{} {}{}", question.method, question.host, question.path);
        let well = walk.steps.last().map(|step| step.says.clone()).unwrap_or_default();
        walk.end(of, found, well)
    }

    /// Why a workload, a service or a route answers, or does not; `kind` where the name alone would not tell.
    ///
    /// # Errors
    /// When there is nothing of this name.
    pub fn target(&self, target: &Target, kind: Option<&str>) -> Result<Why, String> {
        let state = self.state;
        let wants = |word: &str| kind.is_none_or(|kind| kind == word);
        if wants("workload") && state.workloads.contains_key(target) {
            let mut walk = WhyPath::default();
            let found = self.workload(&mut walk, target, None);
            let well = walk.steps.last().map(|step| step.says.clone()).unwrap_or_default();
            self.entry_points_of(&mut walk, target);
            return Ok(walk.end(format!("workload {target}"), found, well));
        }
        if wants("service")
            && let Some(service) = state.services.get(target)
        {
            let mut walk = WhyPath::default();
            let port = crate::routing::first_port(&service.spec.ports).unwrap_or(80);
            let found = self.service(&mut walk, service, port);
            let well = walk.steps.last().map(|step| step.says.clone()).unwrap_or_default();
            return Ok(walk.end(format!("service {target}"), found, well));
        }
        if wants("route")
            && let Some(route) = state.routes.get(target)
        {
            let mut walk = WhyPath::default();
            let found = self.route(&mut walk, route, None);
            let well = walk.steps.last().map(|step| step.says.clone()).unwrap_or_default();
            return Ok(walk.end(format!("route {target}"), found, well));
        }
        let all = [
            ("workload", state.workloads.keys().collect::<Vec<_>>()),
            ("service", state.services.keys().collect()),
            ("route", state.routes.keys().collect()),
        ];
        let here = all.iter().filter(|(word, _)| wants(word)).flat_map(|(_, keys)| keys);
        let here = here.filter(|key| key.environment == target.environment).map(|key| key.name.as_str());
        let hint = crate::suggestions::did_you_mean(target.name.as_str(), here);
        Err(format!("there is no {} {target}{hint}", kind.unwrap_or("workload, service or route")))
    }

    /// Services of an environment.
    fn services_in<'s>(&'s self, environment: &'s Name) -> impl Iterator<Item = &'s Service> {
        self.state.services.values().filter(move |service| service.target.environment == *environment)
    }
}

#[cfg(test)]
mod tests;
