//! The inner half of the way: service, selector, workload, release, replicas.

use std::collections::{BTreeMap, BTreeSet};

use super::{Cause, Facts, Found, OutputOf, Part, WhyPath};
use crate::declare::selector;
use crate::model::{
    Name, Reason, ReasonCode, Release, ReleaseId, Replica, ReplicaId, ReplicaState, RolloutState, Service,
    Signal, Target, Workload,
};
use crate::reasons;
use crate::record::State;
use crate::routing::{Lane, replicas_of, selects, service_entry};
use crate::suggestions::near;
use crate::views::changed_live;

/// For each label that a service asks for and that no workload carries with all the others: what comes near it, in words.
pub fn near_misses(state: &State, service: &Service) -> Vec<String> {
    let here: Vec<(&Name, BTreeMap<String, String>)> = state
        .workloads
        .values()
        .filter(|workload| workload.target.environment == service.target.environment)
        .map(|workload| (&workload.target.name, labels(state, workload)))
        .collect();
    let mut list = Vec::new();
    for (key, value) in &service.spec.select {
        if here.iter().any(|(_, labels)| labels.get(key) == Some(value)) {
            continue;
        }
        let values: BTreeSet<&str> =
            here.iter().filter_map(|(_, labels)| labels.get(key).map(String::as_str)).collect();
        let close = near(value, values.iter().copied());
        let named = close.first().copied().or_else(|| values.first().copied().filter(|_| values.len() == 1));
        if let Some(named) = named {
            let carrying: Vec<String> = here
                .iter()
                .filter(|(_, labels)| labels.get(key).map(String::as_str) == Some(named))
                .map(|(name, _)| name.to_string())
                .collect();
            list.push(format!("{key} = {named} is carried by {}", carrying.join(", ")));
            continue;
        }
        let keys: BTreeSet<&str> =
            here.iter().flat_map(|(_, labels)| labels.keys().map(String::as_str)).collect();
        if let Some(other) = near(key, keys.iter().copied()).first().filter(|other| *other != key) {
            list.push(format!("a label {other} is there, {key} is not"));
        }
    }
    list
}

fn labels(state: &State, workload: &Workload) -> BTreeMap<String, String> {
    let release = state.releases.get(&(workload.target.clone(), workload.release));
    let mut labels = release.map(|release| release.spec.labels.clone()).unwrap_or_default();
    labels.insert("workload".to_owned(), workload.target.name.to_string());
    labels
}

impl Facts<'_> {
    pub(super) fn service(&self, walk: &mut WhyPath, service: &Service, port: u16) -> Found {
        let state = self.state;
        let target = &service.target;
        let Some(index) = state.environments.get(&target.environment).map(|it| it.index) else {
            return Ok(());
        };
        let entry = service_entry(state, service, index);
        let inside = state.inside_address(service);
        let leads = service.spec.ports.get(&port).map(|to| to.port.to_string()).unwrap_or_default();
        walk.step(
            Part::Service,
            target,
            Signal::Good,
            format!("at {inside}, port {port} leads to `{leads}`"),
        );
        let selected: Vec<&Workload> = state
            .workloads
            .values()
            .filter(|workload| {
                let labels = labels(state, workload);
                workload.target.environment == target.environment
                    && selects(&service.spec.select, &workload.target.name, &labels)
            })
            .collect();
        if selected.is_empty() {
            return Err(self.selects_nothing(walk, service));
        }
        let names: Vec<String> = selected.iter().map(|workload| workload.target.name.to_string()).collect();
        let says = format!("{} selects {}", selector(&service.spec.select), names.join(", "));
        walk.step(Part::Selector, target, Signal::Good, says);
        let has_port = |workload: &&Workload| {
            let release = state.releases.get(&(workload.target.clone(), workload.release));
            release.is_some_and(|release| release.spec.ports.keys().any(|name| name.as_str() == leads))
        };
        if !selected.iter().any(has_port) {
            let ports: BTreeSet<String> = selected
                .iter()
                .filter_map(|workload| state.releases.get(&(workload.target.clone(), workload.release)))
                .flat_map(|release| release.spec.ports.keys().map(Name::to_string))
                .collect();
            let there = if ports.is_empty() {
                "it declares no port".to_owned()
            } else {
                format!("there are: {}", ports.into_iter().collect::<Vec<_>>().join(", "))
            };
            let sentence =
                format!("port {port} leads to `{leads}`, which {} does not have; {there}", names.join(", "));
            let fix = "correct the name in the service's `ports`, or declare the port on the workload";
            return Err(walk.cut(Part::Selector, target, ReasonCode::PortMissing, sentence, fix));
        }
        let lanes = entry.lanes(port);
        if lanes.is_empty() {
            let first = selected.first().map(|workload| workload.target.clone());
            return first.map_or(Ok(()), |first| self.workload(walk, &first, Some(target)));
        }
        walk.step(Part::Replica, target, Signal::Good, lane_words(&lanes));
        Ok(())
    }

    fn selects_nothing(&self, walk: &mut WhyPath, service: &Service) -> Cause {
        let target = &service.target;
        let asks = selector(&service.spec.select);
        let near = near_misses(self.state, service);
        let here = self.state.workloads.keys().any(|workload| workload.environment == target.environment);
        let more = match (here, near.is_empty()) {
            (false, _) => format!("; {} has no workload at all", target.environment),
            (true, true) => String::new(),
            (true, false) => format!("; {}", near.join("; ")),
        };
        let sentence =
            format!("it selects {asks}, which no workload in {} carries{more}", target.environment);
        let fix = if here {
            "correct `select` of the service, or the labels of the workload".to_owned()
        } else {
            format!("add a workload: mainyard add workload {} --image IMAGE", target)
        };
        walk.cut(Part::Selector, target, ReasonCode::SelectorEmpty, sentence, fix)
    }

    /// A workload, as itself or on the way of a service.
    pub(super) fn workload(&self, walk: &mut WhyPath, target: &Target, via: Option<&Target>) -> Found {
        let state = self.state;
        let Some(workload) = state.workloads.get(target) else { return Ok(()) };
        let replicas: Vec<&Replica> = replicas_of(&state.replicas, target).collect();
        let ready = replicas.iter().filter(|replica| replica.state == ReplicaState::Ready).count();
        let says =
            format!("{}: {ready} of {} ready, release {}", workload.state, workload.wanted, workload.release);
        walk.step(Part::Workload, target, workload.state.signal(), says);
        if let Some(held) = &workload.held {
            walk.also.push(format!("{target} is held by {}: {}", held.origin.by, held.because));
        }
        if workload.serves_unready {
            let also = "too few pass their check, so those that fail it are sent requests as well";
            walk.also.push(format!("{also} (too-few-ready)"));
        }
        if let Some(growing) = &workload.growing {
            walk.also.push(growing.to_string());
        }
        walk.also.extend(changed_live(state, target));
        if workload.is_asleep() {
            // That is as it should be: who asks is answered.
            let sentence = "no replica runs while nobody asks; the next request wakes it";
            walk.step(Part::Workload, target, Signal::Rest, sentence.to_owned());
            return Ok(());
        }
        if workload.wanted == 0 {
            let who = &workload.wanted_origin;
            let sentence = format!("it is scaled to 0 ({who})");
            let fix = format!("mainyard scale {target} 1");
            return Err(walk.cut(Part::Workload, target, ReasonCode::ScaledToZero, sentence, fix));
        }
        let number = state.open_rollout(target).map_or(workload.release, |rollout| rollout.to);
        let release = state.releases.get(&(target.clone(), number));
        if let Some(release) = release {
            walk.step(Part::Release, format!("{target}@{number}"), Signal::Good, release_words(release));
        }
        let short = ready < workload.wanted as usize;
        // A workload that keeps crashing may be ready at this moment.
        let ails = short || workload.reason.is_some();
        if ready == 0 || (via.is_none() && ails) {
            return Err(self.not_ready(walk, workload, &replicas, ready));
        }
        if via.is_some() {
            // It has ready replicas, and none of them is behind the service's port: a release without the labels.
            let sentence = format!(
                "the ready replicas of {} are of releases that the service does not select",
                target.name
            );
            let fix = "wait for the rollout, or correct the labels";
            return Err(walk.cut(Part::Release, target, ReasonCode::SelectorEmpty, sentence, fix));
        }
        let nodes: BTreeSet<String> =
            replicas.iter().filter_map(|it| it.node.as_ref()).map(Name::to_string).collect();
        let nodes = nodes.into_iter().collect::<Vec<_>>().join(", ");
        walk.step(
            Part::Replica,
            target,
            Signal::Good,
            format!("{ready} of {} ready on {nodes}", workload.wanted),
        );
        Ok(())
    }

    /// Why fewer are ready than wanted: the workload's own reason, or that of a replica, or how far it is.
    fn not_ready(
        &self,
        walk: &mut WhyPath,
        workload: &Workload,
        replicas: &[&Replica],
        ready: usize,
    ) -> Cause {
        let target = &workload.target;
        let state = self.state;
        let mut reasons: BTreeMap<ReasonCode, (&Reason, Vec<&str>)> = BTreeMap::new();
        for replica in replicas {
            if let Some(reason) = &replica.reason {
                reasons.entry(reason.code).or_insert((reason, Vec::new())).1.push(&replica.id.short);
            }
        }
        // What waiting does not fix comes first, then what most of them say.
        let found =
            reasons.into_values().max_by_key(|(reason, who)| (crate::rollouts::is_fault(reason), who.len()));
        if let Some((reason, who)) = found {
            let some: Vec<&str> = who.iter().take(3).copied().collect();
            let more = who.len().saturating_sub(some.len());
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let name = format!("{target}/{}{more}", some.join(", "));
            walk.output_of = who
                .first()
                .map(|short| OutputOf::Replica(ReplicaId::new(target.clone(), (*short).to_owned())));
            return walk.cut(Part::Replica, name, reason.code, &reason.sentence, fix(reason.code, target));
        }
        let newest = state.newest_rollout(target).filter(|rollout| rollout.state == RolloutState::WentBack);
        if let Some((rollout, reason)) = newest.and_then(|rollout| Some((rollout, rollout.reason.as_ref()?)))
        {
            walk.also.push(format!("release {} went back: {}", rollout.to, reason.sentence));
            let release = ReleaseId { workload: target.clone(), number: rollout.to };
            walk.output_of = Some(OutputOf::Release(release));
        }
        if let Some(reason) = &workload.reason {
            return walk.cut(Part::Workload, target, reason.code, &reason.sentence, fix(reason.code, target));
        }
        if let Some(held) = &workload.held {
            let sentence = format!("it is held by {}: {}", held.origin.by, held.because);
            return walk.cut(
                Part::Workload,
                target,
                ReasonCode::Held,
                sentence,
                fix(ReasonCode::Held, target),
            );
        }
        let mut states: BTreeMap<&str, usize> = BTreeMap::new();
        replicas.iter().for_each(|replica| *states.entry(replica.state.word()).or_default() += 1);
        let states: Vec<String> =
            states.into_iter().map(|(state, count)| format!("{count} {state}")).collect();
        let states = if states.is_empty() { "none made yet".to_owned() } else { states.join(", ") };
        let sentence = format!("{ready} of {} are ready so far: {states}", workload.wanted);
        walk.cut(
            Part::Replica,
            target,
            ReasonCode::StillStarting,
            sentence,
            fix(ReasonCode::StillStarting, target),
        )
    }

    /// The ways in that lead to a workload.
    pub(super) fn entry_points_of(&self, walk: &mut WhyPath, target: &Target) {
        let Some(workload) = self.state.workloads.get(target) else { return };
        let labels = labels(self.state, workload);
        let services: Vec<&Service> = self
            .services_in(&target.environment)
            .filter(|service| selects(&service.spec.select, &target.name, &labels))
            .collect();
        if services.is_empty() {
            walk.also.push("no service selects it, so it gets no requests".to_owned());
        }
        for service in services {
            walk.also.push(format!("inside it is called {}", service.target.name));
            let routes = self.state.routes.values().filter(|route| {
                route.target.environment == target.environment
                    && route.spec.to.iter().any(|leg| leg.service == service.target.name && leg.share > 0)
            });
            walk.also.extend(
                routes.map(|route| {
                    format!("from outside: {}", self.state.url_of(route, self.http, self.https))
                }),
            );
        }
    }
}

/// How to fix it, with the workload's name filled in.
fn fix(code: ReasonCode, target: &Target) -> String {
    reasons::about(code)
        .fix
        .replace("mainyard logs", &format!("mainyard logs {target}"))
        .replace(" T 1", &format!(" {target} 1"))
        .replace("resume T", &format!("resume {target}"))
}

fn release_words(release: &Release) -> String {
    let digest =
        release.digest.as_deref().map_or("not in the store", |digest| &digest[..digest.len().min(19)]);
    format!("{} ({digest}), {}", release.spec.image, release.origin)
}

/// The replicas that take requests, and how they are chosen.
fn lane_words(lanes: &[Lane<'_>]) -> String {
    let words = lanes.iter().map(|lane| {
        let names: Vec<&str> =
            lane.backends.iter().take(3).map(|backend| backend.replica.short.as_str()).collect();
        let more = lane.backends.len().saturating_sub(names.len());
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let release = lane.backends.first().map_or(0, |backend| backend.release.0);
        let share = if lanes.len() > 1 {
            format!("{:.1} % of requests: ", f64::from(lane.share) / 10.0)
        } else {
            String::new()
        };
        format!("{share}{}{more} of release {release}", names.join(", "))
    });
    let words: Vec<String> = words.collect();
    format!("{} take turns", words.join("; "))
}
