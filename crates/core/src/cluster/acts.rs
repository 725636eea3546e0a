//! What people ask for: each act either changes the cluster or is refused whole.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Cluster, Kind, Object};
use crate::address;
use crate::declare::{ChangeLine, Plan, Present, Step, differences, plan};
use crate::manifest::{Declared, DeclaredRoute, DeclaredService, DeclaredWorkload};
use crate::model::{
    Environment, EnvironmentIndex, Evidence, ImageRecord, ImageRef, Name, Origin, Release, ReleaseNumber,
    ReleaseSpec, ReplicaState, Rollout, RolloutState, Route, Service, Target, Workload, WorkloadState,
};
use crate::near::{did_you_mean, near};

/// Why an act was not done; nothing was changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{message}")]
pub struct Refusal {
    /// What kind of refusal.
    pub kind: RefusalKind,
    /// What and why, and what would help.
    pub message: String,
}

/// Kinds of refusals.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RefusalKind {
    /// It names something that is not there.
    NotFound,
    /// It cannot be done as things are.
    Conflict,
    /// It is not valid.
    Invalid,
}

impl Refusal {
    fn new<T>(kind: RefusalKind, message: impl Into<String>) -> Result<T, Refusal> {
        Err(Refusal { kind, message: message.into() })
    }
}

/// What to change about a workload's release.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct DeployRequest {
    /// Another image.
    #[serde(default)]
    pub image: Option<ImageRef>,
    /// Settings to set.
    #[serde(default)]
    pub settings: std::collections::BTreeMap<String, String>,
}

impl Cluster {
    /// Makes an environment.
    pub fn add_environment(&mut self, name: &Name, by: &str, now: Timestamp) -> Result<(), Refusal> {
        if self.state.environments.contains_key(name) {
            return Refusal::new(RefusalKind::Conflict, format!("the environment {name} exists already"));
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
        self.cause = Origin { by: by.to_owned(), act: "added".to_owned(), at: now };
        self.put(Object::Environment(Environment { name: name.clone(), index, origin: self.cause.clone() }));
        self.hosts_stale.insert(name.clone());
        Ok(())
    }

    /// Records an image that is now in the store; a tag may move to another digest.
    pub fn add_image(&mut self, record: ImageRecord) {
        self.cause = record.origin.clone();
        let waiting: Vec<Release> = self
            .state
            .releases
            .values()
            .filter(|release| release.digest.is_none() && release.spec.image == record.image)
            .map(|release| Release { digest: Some(record.digest.clone()), ..release.clone() })
            .collect();
        self.put(Object::Image(record));
        for release in waiting {
            self.touch(&release.workload.clone());
            self.put(Object::Release(release));
        }
    }

    /// Works out what a declaration changes, without changing anything.
    pub fn plan(&self, declared: &Declared, environment: &Name, exact: bool) -> Result<Plan, Refusal> {
        self.environment(environment)?;
        plan(declared, &self.present(environment), exact).map_err(|conflicts| {
            let lines: Vec<String> =
                conflicts.iter().map(|c| format!("{}: {}", c.object, c.message)).collect();
            Refusal { kind: RefusalKind::Conflict, message: lines.join("\n") }
        })
    }

    /// Makes what is declared so; gives what changed, in words.
    pub fn declare(
        &mut self,
        declared: &Declared,
        environment: &Name,
        exact: bool,
        by: &str,
        now: Timestamp,
    ) -> Result<Vec<ChangeLine>, Refusal> {
        let plan = self.plan(declared, environment, exact)?;
        self.cause = Origin { by: by.to_owned(), act: "declared".to_owned(), at: now };
        let new_services = plan.steps.iter().filter(|step| matches!(step, Step::Service(..))).count();
        let most = 4000usize.saturating_sub(self.state.services.len());
        if new_services > most {
            return Refusal::new(
                RefusalKind::Conflict,
                format!("{most} more services fit the address range, not {new_services}"),
            );
        }
        for step in plan.steps {
            match step {
                Step::Workload { name, declared: workload, new, replicas, release } => {
                    let target = Target::new(environment, &name);
                    self.declare_workload(
                        &target,
                        &declared.application,
                        *workload,
                        new,
                        replicas,
                        release,
                        now,
                    );
                }
                Step::Service(name, service) => {
                    self.declare_service(&Target::new(environment, &name), &declared.application, service);
                }
                Step::Route(name, route) => {
                    self.declare_route(Target::new(environment, &name), &declared.application, route);
                }
                Step::RemoveWorkload(name) => self.remove_workload(&Target::new(environment, &name)),
                Step::RemoveService(name) => {
                    self.remove(Kind::Service, Target::new(environment, &name).to_string());
                    self.hosts_stale.insert(environment.clone());
                }
                Step::RemoveRoute(name) => {
                    self.remove(Kind::Route, Target::new(environment, &name).to_string())
                }
            }
        }
        self.table_stale = true;
        Ok(plan.lines)
    }

    fn present(&self, environment: &Name) -> Present {
        let here = |target: &Target| target.environment == *environment;
        let workloads =
            self.state.workloads.values().filter(|workload| here(&workload.target)).filter_map(|workload| {
                let release = self.state.releases.get(&(workload.target.clone(), workload.release))?;
                Some((workload.target.name.clone(), (workload.clone(), release.clone())))
            });
        let services = self.state.services.values().filter(|service| here(&service.target));
        let (routes, foreign): (Vec<&Route>, Vec<&Route>) =
            self.state.routes.values().partition(|route| here(&route.target));
        Present {
            workloads: workloads.collect(),
            services: services.map(|service| (service.target.name.clone(), service.clone())).collect(),
            routes: routes.into_iter().map(|route| (route.target.name.clone(), route.clone())).collect(),
            foreign_hosts: foreign
                .into_iter()
                .map(|route| (route.host.clone(), route.target.clone()))
                .collect(),
        }
    }

    #[allow(clippy::too_many_arguments, reason = "the parts of one step")]
    fn declare_workload(
        &mut self,
        target: &Target,
        application: &Name,
        declared: DeclaredWorkload,
        new: bool,
        replicas: Option<u32>,
        release: bool,
        now: Timestamp,
    ) {
        if new {
            let workload = Workload {
                target: target.clone(),
                application: application.clone(),
                wanted: replicas.unwrap_or(1),
                wanted_origin: self.cause.clone(),
                rule: declared.rule,
                release: ReleaseNumber(0),
                settled: None,
                next_replica: 0,
                origin: self.cause.clone(),
                last_change: self.cause.clone(),
                state: WorkloadState::Moving,
                reason: None,
                since: now,
            };
            self.state.put(Object::Workload(workload));
        }
        let Some(mut workload) = self.state.workloads.get(target).cloned() else { return };
        workload.rule = declared.rule;
        workload.last_change = self.cause.clone();
        if let Some(count) = replicas {
            workload.wanted = count;
            workload.wanted_origin = self.cause.clone();
        }
        if release {
            self.release(&mut workload, declared.spec, None, now);
        }
        self.put(Object::Workload(workload));
        self.touch(target);
    }

    fn declare_service(&mut self, target: &Target, application: &Name, declared: DeclaredService) {
        let address = match self.state.services.get(target) {
            Some(service) => Some(service.address),
            None => {
                let taken = self.state.services.values().map(|service| service.address);
                address::lowest_free(taken, 4000, address::service)
            }
        };
        let Some(address) = address else { return };
        self.put(Object::Service(Service {
            target: target.clone(),
            application: application.clone(),
            select: declared.select,
            ports: declared.ports,
            address,
            origin: self.cause.clone(),
        }));
        self.hosts_stale.insert(target.environment.clone());
    }

    fn declare_route(&mut self, target: Target, application: &Name, declared: DeclaredRoute) {
        self.put(Object::Route(Route {
            target,
            application: application.clone(),
            host: declared.host,
            to: declared.to,
            origin: self.cause.clone(),
        }));
    }

    /// Makes the next release of a workload the wanted one and begins its rollout.
    fn release(
        &mut self,
        workload: &mut Workload,
        spec: ReleaseSpec,
        same_as: Option<ReleaseNumber>,
        now: Timestamp,
    ) {
        let target = workload.target.clone();
        let last = self.releases_of(&target).map(|release| release.number).max().unwrap_or(ReleaseNumber(0));
        let number = ReleaseNumber(last.0 + 1);
        let kept = same_as.and_then(|same| self.state.releases.get(&(target.clone(), same))?.digest.clone());
        let digest =
            kept.or_else(|| self.state.images.get(&spec.image.to_string()).map(|image| image.digest.clone()));
        let origin = self.cause.clone();
        self.put(Object::Release(Release {
            workload: target.clone(),
            number,
            spec,
            digest,
            same_as,
            origin,
        }));
        if let Some(open) =
            self.state.rollouts.get(&(target.clone(), workload.release)).filter(|r| r.state.is_open())
        {
            let state = if same_as.is_some() { RolloutState::WentBack } else { RolloutState::Superseded };
            let mut ended = Rollout { state, ended: Some(now), ..open.clone() };
            let how = if same_as.is_some() { "taken back" } else { "superseded" };
            ended.verdict = Some(format!("release {} was {how}: {}", ended.to, self.cause));
            self.put(Object::Rollout(ended));
        }
        let from = workload.settled.or(Some(workload.release).filter(|number| number.0 > 0));
        self.put(Object::Rollout(Rollout {
            workload: target,
            from,
            to: number,
            state: RolloutState::Starting,
            started: now,
            ended: None,
            reason: None,
            verdict: None,
            evidence: Evidence::default(),
        }));
        workload.release = number;
        workload.last_change = self.cause.clone();
    }

    fn releases_of(&self, target: &Target) -> impl DoubleEndedIterator<Item = &Release> {
        let first = (target.clone(), ReleaseNumber(0));
        let last = (target.clone(), ReleaseNumber(u32::MAX));
        self.state.releases.range(first..=last).map(|(_, release)| release)
    }

    /// Sets how many replicas are wanted; gives how many were.
    pub fn scale(&mut self, target: &Target, wanted: u32, by: &str, now: Timestamp) -> Result<u32, Refusal> {
        let mut workload = self.workload(target)?.clone();
        if wanted > 10_000 {
            return Refusal::new(RefusalKind::Invalid, format!("{wanted} replicas: at most 10000 are taken"));
        }
        let before = workload.wanted;
        if before != wanted {
            self.cause = Origin { by: by.to_owned(), act: "scaled".to_owned(), at: now };
            workload.wanted = wanted;
            workload.wanted_origin = self.cause.clone();
            workload.last_change = self.cause.clone();
            self.put(Object::Workload(workload));
            self.touch(target);
        }
        Ok(before)
    }

    /// Makes a release with another image or other settings. Gives its number and what differs; `None` when
    /// nothing would differ.
    pub fn deploy(
        &mut self,
        target: &Target,
        request: &DeployRequest,
        by: &str,
        now: Timestamp,
    ) -> Result<Option<(ReleaseNumber, Vec<String>)>, Refusal> {
        let mut workload = self.workload(target)?.clone();
        let Some(current) = self.state.releases.get(&(target.clone(), workload.release)).cloned() else {
            return Refusal::new(RefusalKind::Conflict, format!("{target} has no release yet"));
        };
        let mut spec = current.spec.clone();
        if let Some(image) = &request.image {
            self.known_image(image)?;
            spec.image = image.clone();
        }
        spec.settings.extend(request.settings.clone());
        let words = differences(&current.spec, &spec);
        let digest = self.state.images.get(&spec.image.to_string()).map(|image| image.digest.clone());
        let moved_tag = request.image.is_some() && digest != current.digest;
        if words.is_empty() && !moved_tag {
            return Ok(None);
        }
        self.cause = Origin { by: by.to_owned(), act: "deployed".to_owned(), at: now };
        self.release(&mut workload, spec, None, now);
        let number = workload.release;
        self.put(Object::Workload(workload));
        self.touch(target);
        Ok(Some((number, words)))
    }

    fn known_image(&self, image: &ImageRef) -> Result<(), Refusal> {
        if self.state.images.contains_key(&image.to_string()) {
            return Ok(());
        }
        let near = near(&image.to_string(), self.state.images.keys().map(String::as_str)).join(", ");
        let near = if near.is_empty() { String::new() } else { format!("; there are: {near}") };
        Refusal::new(RefusalKind::NotFound, format!("image-not-found: the store has no {image}{near}"))
    }

    /// Makes a release that equals an earlier one: the one given, or the last that was done before this one.
    /// Gives its number and the number it equals.
    pub fn rollback(
        &mut self,
        target: &Target,
        to: Option<ReleaseNumber>,
        by: &str,
        now: Timestamp,
    ) -> Result<(ReleaseNumber, ReleaseNumber), Refusal> {
        let mut workload = self.workload(target)?.clone();
        let goal = match to {
            Some(number) => number,
            None => self.before(&workload).ok_or_else(|| Refusal {
                kind: RefusalKind::Conflict,
                message: format!(
                    "{target} has no earlier release that was done; name one with --to {target}@N"
                ),
            })?,
        };
        let Some(release) = self.state.releases.get(&(target.clone(), goal)).cloned() else {
            let known: Vec<String> =
                self.releases_of(target).map(|release| release.number.to_string()).collect();
            let message = format!("{target} has no release {goal}; it has {}", known.join(", "));
            return Refusal::new(RefusalKind::NotFound, message);
        };
        if goal == workload.release {
            return Refusal::new(RefusalKind::Conflict, format!("{target} is at release {goal} already"));
        }
        self.cause = Origin { by: by.to_owned(), act: "rolled back".to_owned(), at: now };
        let same_as = release.same_as.unwrap_or(goal);
        self.release(&mut workload, release.spec, Some(same_as), now);
        let number = workload.release;
        self.put(Object::Workload(workload));
        self.touch(target);
        Ok((number, same_as))
    }

    /// The release that a rollback goes to: the newest done one that is not the same as the present.
    fn before(&self, workload: &Workload) -> Option<ReleaseNumber> {
        let current = self.state.releases.get(&(workload.target.clone(), workload.release))?;
        let is = |release: &Release| release.same_as.unwrap_or(release.number);
        let done = self.releases_of(&workload.target).rev().filter(|release| {
            let rollout = self.state.rollouts.get(&(workload.target.clone(), release.number));
            rollout.is_some_and(|rollout| rollout.state == RolloutState::Done)
        });
        done.filter(|release| is(release) != is(current)).map(|release| release.number).next()
    }

    /// Removes a workload with its own service and the routes that lead only there. Gives what went, in words.
    pub fn remove_target(
        &mut self,
        target: &Target,
        by: &str,
        now: Timestamp,
    ) -> Result<Vec<String>, Refusal> {
        let workload = self.workload(target)?.clone();
        self.cause = Origin { by: by.to_owned(), act: "removed".to_owned(), at: now };
        let mut gone = vec![format!("workload {target}: {} replicas end", workload.wanted)];
        let own = |service: &Service| {
            service.select.get("workload").map(String::as_str) == Some(target.name.as_str())
                && service.target.environment == target.environment
        };
        let services: Vec<Target> =
            self.state.services.values().filter(|s| own(s)).map(|s| s.target.clone()).collect();
        let routes: Vec<Route> = self.state.routes.values().cloned().collect();
        for route in routes.into_iter().filter(|route| route.target.environment == target.environment) {
            let leads_here = |name: &Name| services.iter().any(|service| service.name == *name);
            if route.to.iter().all(|(name, _)| leads_here(name)) {
                gone.push(format!("route {}: {} no longer leads anywhere", route.target, route.host));
                self.remove(Kind::Route, route.target.to_string());
            }
        }
        for service in services {
            gone.push(format!("service {service}: its name no longer answers"));
            self.remove(Kind::Service, service.to_string());
        }
        self.hosts_stale.insert(target.environment.clone());
        self.remove_workload(target);
        Ok(gone)
    }

    /// Takes the workload and its releases away; its replicas drain and end.
    fn remove_workload(&mut self, target: &Target) {
        let replicas: Vec<_> = crate::routing::replicas_of(&self.state.replicas, target).cloned().collect();
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
        for number in numbers {
            self.remove(Kind::Rollout, format!("{target}@{number}"));
        }
        self.remove(Kind::Workload, target.to_string());
        self.dirty.remove(target);
        self.table_stale = true;
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
