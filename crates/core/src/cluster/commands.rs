//! What people ask for: each act either changes the cluster or is refused whole.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Cluster;
use crate::manifest::is_host;
use crate::model::{
    Bytes, Environment, EnvironmentIndex, ImageRecord, ImageRef, Name, Origin, Release, ReleaseNumber,
    ReplicaState, Rollout, RolloutState, Route, Service, Spent, Target, Touched, Workload,
};
use crate::record::{Kind, Object};
use crate::suggestions::did_you_mean;

/// Why an act was not done; nothing was changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error, JsonSchema)]
#[error("{message}")]
pub struct Refusal {
    /// What kind of refusal.
    pub kind: RefusalKind,
    /// What and why, and what would help.
    pub message: String,
}

/// Kinds of refusals.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RefusalKind {
    /// It names something that is not there.
    NotFound,
    /// It cannot be done as things are.
    Conflict,
    /// It is not valid.
    Invalid,
}

/// A release that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct MadeRelease {
    /// Of which workload.
    pub workload: Target,
    /// Its number.
    pub release: ReleaseNumber,
}

/// What became of an image that was added.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AddedImage {
    /// The digest that its name stood for before.
    pub before: Option<String>,
    /// The releases that were waiting for it, and go on.
    pub begin: Vec<MadeRelease>,
}

/// What ends with a workload. A hold is named, because the person who held it may not expect the end.
pub(crate) fn ends(workload: &Workload) -> String {
    let end = if workload.wanted == 1 { "ends" } else { "end" };
    let held = workload.held.as_ref();
    let held =
        held.map_or(String::new(), |held| format!("; it is {}, because {}", held.origin, held.because));
    format!("{} {end}{held}", counted(workload.wanted as usize, "replica"))
}

/// "1 replica", "3 replicas".
fn counted(count: usize, thing: &str) -> String {
    if count == 1 { format!("1 {thing}") } else { format!("{count} {thing}s") }
}

impl Refusal {
    pub(super) fn new<T>(kind: RefusalKind, message: impl Into<String>) -> Result<T, Refusal> {
        Err(Refusal { kind, message: message.into() })
    }
}

/// So many replicas may be wanted of one workload.
pub(super) fn check_count(replicas: u32) -> Result<(), Refusal> {
    match replicas {
        0..=10_000 => Ok(()),
        more => Refusal::new(RefusalKind::Invalid, format!("{more} replicas: at most 10000 are taken")),
    }
}

impl Cluster {
    /// Makes an environment.
    pub fn add_environment(
        &mut self,
        name: &Name,
        domain: Option<String>,
        by: &str,
        now: Timestamp,
    ) -> Result<(), Refusal> {
        if self.state.environments.contains_key(name) {
            return Refusal::new(RefusalKind::Conflict, format!("the environment {name} exists already"));
        }
        if let Some(domain) = domain.as_ref().filter(|domain| !is_host(domain)) {
            return Refusal::new(
                RefusalKind::Invalid,
                format!("{domain:?} is not a domain: lower case, such as staging.lockers.localhost"),
            );
        }
        let taken: Vec<EnvironmentIndex> =
            self.state.environments.values().map(|there| there.index).collect();
        let free = (1..).map_while(EnvironmentIndex::new).find(|index| !taken.contains(index));
        let Some(index) = free else {
            return Refusal::new(
                RefusalKind::Conflict,
                "15 environments exist, and no more fit one platform",
            );
        };
        self.cause = Origin::new(by, "added", now);
        self.put(Object::Environment(Environment {
            name: name.clone(),
            index,
            domain,
            spent: Spent::default(),
            origin: self.cause.clone(),
        }));
        self.hosts_stale.insert(name.clone());
        Ok(())
    }

    /// Removes an environment that holds nothing any more.
    ///
    /// # Errors
    /// While it holds something: what a person loses goes by acts that name it.
    pub fn remove_environment(&mut self, name: &Name, by: &str, now: Timestamp) -> Result<(), Refusal> {
        self.environment(name)?;
        let state = &self.state;
        let here = |target: &Target| target.environment == *name;
        let held = [
            (state.sources.keys().filter(|it| here(it)).count(), "source"),
            (state.workloads.keys().filter(|it| here(it)).count(), "workload"),
            (state.services.keys().filter(|it| here(it)).count(), "service"),
            (state.routes.keys().filter(|it| here(it)).count(), "route"),
            (state.secrets.keys().filter(|it| here(it)).count(), "secret"),
            (state.certificates.keys().filter(|it| here(it)).count(), "certificate"),
        ];
        let held = held.into_iter().filter(|(count, _)| *count > 0);
        let held: Vec<String> = held.map(|(count, what)| counted(count, what)).collect();
        if !held.is_empty() {
            let message = format!(
                "{name} holds {}; remove them first: mainyard source remove, application remove, secret remove, \
                 certificate remove",
                held.join(", ")
            );
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let ending = state.replicas.keys().filter(|id| id.workload.environment == *name).count();
        if ending > 0 {
            let message =
                format!("{} in {name} still end; try again in a moment", counted(ending, "replica"));
            return Refusal::new(RefusalKind::Conflict, message);
        }
        self.cause = Origin::new(by, "removed", now);
        self.remove(Kind::Environment, name.to_string());
        self.table_stale = true;
        Ok(())
    }

    /// Takes an image's name out of the store; releases that were made with it keep what it stood for. Gives what
    /// that means, in words.
    pub fn remove_image(
        &mut self,
        image: &ImageRef,
        by: &str,
        now: Timestamp,
    ) -> Result<Vec<String>, Refusal> {
        let key = image.to_string();
        let Some(record) = self.state.images.get(&key).cloned() else {
            let hint = did_you_mean(&key, self.state.images.keys().map(String::as_str));
            let message = format!("there is no image {key}{hint}");
            return Refusal::new(RefusalKind::NotFound, message);
        };
        let other = self.state.images.iter().find(|(name, it)| **name != key && it.digest == record.digest);
        let having = self.state.releases.values().filter(|it| it.digest.as_ref() == Some(&record.digest));
        let having: Vec<String> = having.map(|it| format!("{}@{}", it.workload, it.number)).collect();
        let rest = match (other, having.as_slice()) {
            (Some((name, _)), _) => format!("what it stood for stays, as {name}"),
            (None, []) => format!("its {} go from the disk within two hours", Bytes::new(record.size)),
            (None, releases) => format!("{} keep what it stood for", releases.join(", ")),
        };
        self.cause = Origin::new(by, "removed", now);
        self.remove(Kind::Image, key.clone());
        Ok(vec![format!("image {key}: {rest}")])
    }

    /// Records an image that is now in the store; a tag may move to another digest. Gives the digest that it stood for
    /// before, and the releases that were waiting for it.
    pub fn add_image(&mut self, record: ImageRecord) -> AddedImage {
        let before = self.state.images.get(&record.image.to_string()).map(|known| known.digest.clone());
        self.cause = record.origin.clone();
        let waiting: Vec<Release> = self
            .state
            .releases
            .values()
            .filter(|release| release.digest.is_none() && release.spec.image == record.image)
            .map(|release| Release { digest: Some(record.digest.clone()), ..release.clone() })
            .collect();
        self.put(Object::Image(record));
        let mut begin = Vec::new();
        for release in waiting {
            begin.push(MadeRelease { workload: release.workload.clone(), release: release.number });
            self.touch(&release.workload.clone());
            self.put(Object::Release(release));
        }
        AddedImage { before, begin }
    }

    /// Sets how many replicas are wanted; gives how many were.
    pub fn scale(&mut self, target: &Target, wanted: u32, by: &str, now: Timestamp) -> Result<u32, Refusal> {
        let mut workload = self.workload(target)?.clone();
        check_count(wanted)?;
        let before = workload.wanted;
        if before != wanted {
            self.cause = Origin::new(by, "scaled", now);
            workload.wanted = wanted;
            workload.wanted_origin = self.cause.clone();
            self.try_untried(&workload, now);
            workload.last_change = self.cause.clone();
            let application = workload.application.clone();
            self.put(Object::Workload(workload));
            self.touch(target);
            let touched = Touched::Replicas(target.name.clone());
            self.yield_to_person(&target.environment, &application, [touched]);
        }
        Ok(before)
    }

    /// What no replica ran so far is rolled out once some are wanted: it is watched like any new release, and goes back.
    pub(super) fn try_untried(&mut self, workload: &Workload, now: Timestamp) {
        let newest = self.state.newest_rollout(&workload.target);
        let Some(untried) = newest.filter(|it| workload.wanted > 0 && it.state == RolloutState::Untried)
        else {
            return;
        };
        let begun = Rollout {
            state: RolloutState::Starting,
            started: now,
            step_began: Some(now),
            ended: None,
            verdict: None,
            // With no replica there was nothing to watch.
            watched_since: None,
            share: None,
            step: 0,
            ..untried.clone()
        };
        self.put(Object::Rollout(begun));
    }

    /// Removes a workload with its own service and the routes that lead only there. Gives what went, in words.
    pub fn remove_target(
        &mut self,
        target: &Target,
        by: &str,
        now: Timestamp,
    ) -> Result<Vec<String>, Refusal> {
        let workload = self.workload(target)?.clone();
        self.cause = Origin::new(by, "removed", now);
        let mut touched = Vec::new();
        let mut gone = vec![format!("workload {target}: {}", ends(&workload))];
        let own = |service: &Service| {
            service.spec.select.get("workload").map(String::as_str) == Some(target.name.as_str())
                && service.target.environment == target.environment
        };
        let services: Vec<Target> =
            self.state.services.values().filter(|s| own(s)).map(|s| s.target.clone()).collect();
        let routes: Vec<Route> = self.state.routes.values().cloned().collect();
        for route in routes.into_iter().filter(|route| route.target.environment == target.environment) {
            let leads_here = |name: &Name| services.iter().any(|service| service.name == *name);
            if !route.spec.to.is_empty() && route.spec.to.iter().all(|leg| leads_here(&leg.service)) {
                gone.push(format!("route {}: {} no longer leads anywhere", route.target, route.spec.at()));
                self.remove(Kind::Route, route.target.to_string());
                touched.push(Touched::Route(route.target.name));
            }
        }
        for service in services {
            touched.push(Touched::Service(service.name.clone()));
            gone.push(format!("service {service}: its name no longer answers"));
            self.remove(Kind::Service, service.to_string());
        }
        self.hosts_stale.insert(target.environment.clone());
        self.remove_workload(target);
        let touched = [Touched::Workload(target.name.clone())].into_iter().chain(touched);
        self.yield_to_person(&target.environment, &workload.application, touched);
        Ok(gone)
    }

    /// Takes the workload and its releases away; its replicas drain and end.
    pub(super) fn remove_workload(&mut self, target: &Target) {
        let replicas: Vec<_> = crate::routing::all_of(&self.state.replicas, target).cloned().collect();
        for mut replica in replicas {
            if replica.node.is_none() {
                self.remove(Kind::Replica, replica.id.to_string());
            } else if replica.state != ReplicaState::Draining {
                replica.state = ReplicaState::Draining;
                replica.since = self.cause.at;
                self.put(Object::Replica(replica));
            }
        }
        let numbers: Vec<ReleaseNumber> = self.releases_of(target).map(|release| release.number).collect();
        for number in &numbers {
            self.remove(Kind::Rollout, format!("{target}@{number}"));
        }
        let next = self.state.workloads.get(target).map(|workload| workload.next_replica);
        let newest = numbers.last().map_or(0, |number| number.0);
        self.spend(target, |spent, name| {
            let last = spent.replicas.entry(name.clone()).or_default();
            *last = next.unwrap_or(0).max(*last);
            let last = spent.releases.entry(name).or_default();
            *last = newest.max(*last);
        });
        self.remove(Kind::Workload, target.to_string());
        self.dirty.remove(target);
        self.table_stale = true;
    }

    /// Numbers that were given to what was of this name.
    pub(super) fn spent<'t>(&self, target: &'t Target) -> Option<(&Spent, &'t Name)> {
        Some((&self.state.environments.get(&target.environment)?.spent, &target.name))
    }

    /// Notes numbers that were given to what goes.
    pub(super) fn spend(&mut self, target: &Target, note: impl FnOnce(&mut Spent, Name)) {
        let Some(mut environment) = self.state.environments.get(&target.environment).cloned() else { return };
        note(&mut environment.spent, target.name.clone());
        self.put(Object::Environment(environment));
    }

    /// The environment of this name.
    pub fn environment(&self, name: &Name) -> Result<&Environment, Refusal> {
        self.state.environments.get(name).ok_or_else(|| {
            let known = self.state.environments.keys().map(Name::as_str);
            let message = if self.state.environments.is_empty() {
                format!("there is no environment {name}; make it with: mainyard environment add {name}")
            } else {
                format!("there is no environment {name}{}", did_you_mean(name.as_str(), known))
            };
            Refusal { kind: RefusalKind::NotFound, message }
        })
    }

    /// The workload of this target.
    pub fn workload(&self, target: &Target) -> Result<&Workload, Refusal> {
        self.environment(&target.environment)?;
        self.state.workloads.get(target).ok_or_else(|| {
            let known: Vec<String> = self.state.workloads.keys().map(Target::to_string).collect();
            let text = target.to_string();
            let hint = did_you_mean(&text, known.iter().map(String::as_str));
            Refusal { kind: RefusalKind::NotFound, message: format!("there is no workload {target}{hint}") }
        })
    }
}
