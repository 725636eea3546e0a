//! The list of things that need a person: workloads that are not well, decisions that wait, ports that are taken, sources that stand
//! still, certificates that end.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{
    HoldMark, Name, ReasonCode, Rollout, RolloutState, Route, Signal, Source, Target, Workload,
};
use crate::record::State;
use crate::routing::all_of;

/// Something that needs a person.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Need {
    /// The kind of object.
    pub kind: NeedKind,
    /// Its name.
    pub name: Name,
    /// How it is, such as `failing`, `held`, `asks` or `refused`.
    pub state: String,
    /// How that is shown.
    pub signal: Signal,
    /// That in a few words, such as `is killed for memory`.
    pub headline: String,
    /// Why, in a sentence.
    pub sentence: String,
    /// The command that goes on from here, where there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
}

/// The kind of what needs a person.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum NeedKind {
    /// A workload.
    Workload,
    /// A route.
    Route,
    /// A source.
    Source,
    /// A certificate.
    Certificate,
}

impl std::fmt::Display for Need {
    /// As a person calls it: a workload by its name, everything else with its kind.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.kind {
            NeedKind::Workload => write!(f, "{}", self.name),
            NeedKind::Route => write!(f, "route {}", self.name),
            NeedKind::Source => write!(f, "source {}", self.name),
            NeedKind::Certificate => write!(f, "certificate {}", self.name),
        }
    }
}

/// The things that need a person in an environment, the worst first.
pub fn needs(state: &State, environment: &Name, now: Timestamp) -> Vec<Need> {
    let here = |target: &Target| target.environment == *environment;
    let workloads = state.workloads.values().filter(|it| here(&it.target));
    let mut needs: Vec<Need> = workloads.filter_map(|workload| of_workload(state, workload)).collect();
    needs.extend(closed_ports(state, environment));
    needs.extend(state.routes.values().filter(|it| here(&it.target)).filter_map(drilled));
    needs.extend(state.sources.values().filter(|it| here(&it.target)).filter_map(of_source));
    needs.extend(ending_certificates(state, environment, now));
    needs.extend(not_obtained(state, environment, now));
    // The order within a signal stays: workloads first, by name.
    needs.sort_by_key(|need| need.signal != Signal::Fault);
    needs
}

fn of_workload(state: &State, workload: &Workload) -> Option<Need> {
    let target = &workload.target;
    let signal = workload.state.signal();
    let need = |state: &str, signal, headline: &str, sentence: String, command: Option<String>| {
        Some(Need {
            kind: NeedKind::Workload,
            name: target.name.clone(),
            state: state.to_owned(),
            signal,
            headline: headline.to_owned(),
            sentence,
            command,
        })
    };
    let held = workload.held.as_ref();
    let resume = || format!("mainyard resume {target}");
    // A fault comes before a hold and a question: visitors notice it.
    if signal == Signal::Fault || (signal == Signal::Caution && held.is_none()) {
        let code = workload.reason.as_ref().map(|reason| reason.code);
        let reason = workload.reason.as_ref().map(|reason| reason.sentence.clone());
        let sentence = reason.unwrap_or_else(|| "fewer replicas are ready than wanted".to_owned());
        let sentence = held.map_or_else(|| sentence.clone(), |held| format!("{sentence}; {}", words(held)));
        return need(workload.state.word(), signal, headline(code), sentence, held.map(|_| resume()));
    }
    if let Some(held) = held {
        return need("held", Signal::Caution, "is held", words(held), Some(resume()));
    }
    if let Some(question) = state.open_rollout(target).and_then(question) {
        let command = format!("mainyard advance {target}, or cancel");
        return need("asks", Signal::Caution, "waits for a person", question, Some(command));
    }
    let sentence = changed_live(state, target)?;
    let command = format!("mainyard restart {target}, or a release");
    need("changed-live", Signal::Caution, "is not what its release says", sentence, Some(command))
}

/// What a rollout asks a person.
fn question(open: &Rollout) -> Option<String> {
    let reason = open.reason.as_ref().filter(|reason| reason.code == ReasonCode::AsksFirst);
    match (reason, &open.verdict) {
        (Some(reason), _) => Some(reason.sentence.clone()),
        (None, Some(verdict)) if open.state == RolloutState::Awaiting && open.from.is_some() => {
            Some(verdict.clone())
        }
        _ => None,
    }
}

/// Which replicas of a workload have files that were changed while they run.
pub(crate) fn changed_live(state: &State, target: &Target) -> Option<String> {
    let changed = all_of(&state.replicas, target).filter_map(|it| Some((&it.id.short, it.changed.as_ref()?)));
    let changed: Vec<_> = changed.collect();
    let (first, change) = changed.first()?;
    let others = match changed.len() {
        1 => String::new(),
        count => format!(" (and {} more replicas)", count - 1),
    };
    Some(format!("{first}{others}: {}", change.words()))
}

/// Routes whose port the gateway can't listen on.
fn closed_ports(state: &State, environment: &Name) -> Vec<Need> {
    let routes = state.routes.values().filter(|route| route.target.environment == *environment);
    let closed = routes.filter_map(|route| {
        let port = route.spec.port?;
        Some(Need {
            kind: NeedKind::Route,
            name: route.target.name.clone(),
            state: "closed".to_owned(),
            signal: Signal::Fault,
            headline: "is closed".to_owned(),
            sentence: format!("the gateway cannot listen on port {port}: {}", state.closed_port(port)?),
            command: None,
        })
    });
    closed.collect()
}

/// A route that fails requests on purpose: who sees the failures should find out here.
fn drilled(route: &Route) -> Option<Need> {
    let drill = route.spec.drill.as_ref()?;
    Some(Need {
        kind: NeedKind::Route,
        name: route.target.name.clone(),
        state: "in a drill".to_owned(),
        signal: Signal::Caution,
        headline: "is in a drill".to_owned(),
        sentence: drill.to_string(),
        command: None,
    })
}

fn of_source(source: &Source) -> Option<Need> {
    let need = |state: String, signal, headline: &str, sentence: String, act: &str| Need {
        kind: NeedKind::Source,
        name: source.target.name.clone(),
        state,
        signal,
        headline: headline.to_owned(),
        sentence,
        command: Some(format!("mainyard source {act} {}", source.target)),
    };
    if let Some(held) = &source.held {
        return Some(need("held".to_owned(), Signal::Caution, "is held", words(held), "resume"));
    }
    let signal = source.state.signal();
    if !matches!(signal, Signal::Caution | Signal::Fault) {
        return None;
    }
    let why = source.reason.as_ref().map_or("see what differs", |reason| &reason.sentence);
    Some(need(source.state.to_string(), signal, "is not in step with Git", why.to_owned(), "show"))
}

/// Certificates that end soon, or are not valid.
/// Certificates that an authority outside does not sign.
fn not_obtained(state: &State, environment: &Name, now: Timestamp) -> Vec<Need> {
    let orders = state.authorities.values().flat_map(|authority| &authority.orders);
    let here = orders.filter(|(_, order)| order.certificate.environment == *environment);
    let failed = here.filter_map(|(host, order)| {
        let problem = order.problem.as_ref()?;
        let served =
            state.certificates.get(&order.certificate).is_some_and(|it| it.until > now && it.covers(host));
        Some(Need {
            kind: NeedKind::Certificate,
            name: order.certificate.name.clone(),
            state: "not obtained".to_owned(),
            signal: if served { Signal::Caution } else { Signal::Fault },
            headline: "is not obtained".to_owned(),
            sentence: format!("for {host}: {}", problem.sentence),
            command: Some("mainyard authority list".to_owned()),
        })
    });
    failed.collect()
}

fn ending_certificates(state: &State, environment: &Name, now: Timestamp) -> Vec<Need> {
    let here = state.certificates.values().filter(|it| it.target.environment == *environment);
    let ending = here.filter(|it| it.sealed.is_some() && it.signal(now) != Signal::Good);
    let need = |certificate: &crate::model::Certificate| Need {
        kind: NeedKind::Certificate,
        name: certificate.target.name.clone(),
        state: if certificate.signal(now) == Signal::Fault { "not valid" } else { "ends soon" }.to_owned(),
        signal: certificate.signal(now),
        headline: if certificate.signal(now) == Signal::Fault { "is not valid" } else { "ends soon" }
            .to_owned(),
        sentence: format!("for {}: {}", certificate.names.join(", "), certificate.lasts(now)),
        command: Some(format!("mainyard certificate add {} --chain FILE --key FILE", certificate.target)),
    };
    ending.map(need).collect()
}

/// The member who holds something, and the reason.
fn words(held: &HoldMark) -> String {
    format!("{}, held by {} since {:.0}", held.because, held.origin.by, held.origin.at)
}

/// A reason in a few words that follow the workload's name.
fn headline(code: Option<ReasonCode>) -> &'static str {
    match code {
        Some(ReasonCode::OutOfMemory) => "is killed for memory",
        Some(ReasonCode::KeepsEnding) => "keeps ending",
        Some(ReasonCode::PortSilent) => "does not listen where it should",
        Some(ReasonCode::ImageNotFound) => "has no image to run",
        Some(ReasonCode::ImageUnusable) => "has an image that cannot be used",
        Some(ReasonCode::NoRoom) => "finds no room on any node",
        Some(ReasonCode::CannotStart) => "cannot be started",
        Some(ReasonCode::CheckFails) => "fails its check",
        Some(ReasonCode::CheckSlow) => "answers its check too late",
        Some(ReasonCode::CheckRefused) => "refuses its check",
        Some(ReasonCode::TooFewReady) => "has too few replicas that pass their check",
        Some(ReasonCode::KeeperLost) => "lost its keeper",
        _ => "is not as it should be",
    }
}
