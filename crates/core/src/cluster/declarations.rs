//! Declaring: what differs is worked out first, and then all of it is done.

use std::collections::BTreeSet;

use jiff::Timestamp;

use super::{Cluster, Refusal, RefusalKind};
use crate::address;
use crate::declare::{Conflict, Plan, Present, PresentSecret, Step, plan};
use crate::git_plan::touched_by;
use crate::manifest::{Declared, DeclaredWorkload};
use crate::model::{
    Environment, Name, Origin, Purpose, ReleaseNumber, Route, RouteSpec, Secret, Service, ServiceSpec,
    Target, Touched, Workload, WorkloadState,
};
use crate::record::{Kind, Object};
use crate::routing::answers;

impl Cluster {
    /// Works out what a declaration changes, without changing anything.
    pub fn plan(&self, declared: &Declared, environment: &Name, exact: bool) -> Result<Plan, Refusal> {
        self.environment(environment)?;
        plan(declared, &self.present(environment), exact).map_err(refused)
    }

    /// Makes what is declared so; gives what changed, in words. The steps of the plan are done.
    pub fn declare(
        &mut self,
        declared: &Declared,
        environment: &Name,
        exact: bool,
        by: &str,
        now: Timestamp,
    ) -> Result<Plan, Refusal> {
        let mut plan = self.plan(declared, environment, exact)?;
        self.check_declared(declared, environment)?;
        for step in &plan.steps {
            if let Step::Workload { name, new: false, release: true, .. } = step {
                self.free(&Target::new(environment, name))?;
            }
        }
        self.cause = Origin::new(by, "declared", now);
        let touched: Vec<Touched> = plan.steps.iter().flat_map(touched_by).collect();
        for step in std::mem::take(&mut plan.steps) {
            self.apply(step, &declared.application, environment, now);
        }
        self.table_stale = true;
        self.yield_to_person(environment, &declared.application, touched);
        Ok(plan)
    }

    /// Whether everything that a declaration needs is there.
    pub(super) fn check_declared(&self, declared: &Declared, environment: &Name) -> Result<(), Refusal> {
        for (name, workload) in &declared.workloads {
            self.check_secrets(&Target::new(environment, name), &workload.spec, &declared.secrets)?;
        }
        let known = |name: &&Name| self.state.services.contains_key(&Target::new(environment, name));
        let new_services = declared.services.keys().filter(|name| !known(name)).count();
        let most = 4000usize.saturating_sub(self.state.services.len());
        if new_services > most {
            return Refusal::new(
                RefusalKind::Conflict,
                format!("{most} more services fit the address range, not {new_services}"),
            );
        }
        Ok(())
    }

    /// Does one step, for the present cause.
    pub(super) fn apply(&mut self, step: Step, application: &Name, environment: &Name, now: Timestamp) {
        match step {
            Step::Workload { name, declared, new, replicas, release } => {
                let target = Target::new(environment, &name);
                self.declare_workload(&target, application, *declared, new, replicas, release, now);
            }
            Step::Secret(name, secret, own) => {
                self.declare_secret(&Target::new(environment, &name), application, &secret, &own, now);
            }
            Step::Service(name, service) => {
                self.declare_service(&Target::new(environment, &name), application, service);
            }
            Step::Route(name, route) => {
                self.declare_route(Target::new(environment, &name), application, *route);
            }
            Step::RemoveWorkload(name) => self.let_workload_leave(&Target::new(environment, &name)),
            Step::RemoveService(name) => self.let_service_leave(&Target::new(environment, &name)),
            Step::RemoveRoute(name) => self.remove(Kind::Route, Target::new(environment, &name).to_string()),
            Step::RemoveSecret(name) => self.forget_secret(&Target::new(environment, &name)),
        }
    }

    pub(super) fn present(&self, environment: &Name) -> Present {
        let here = |target: &Target| target.environment == *environment;
        let workloads =
            self.state.workloads.values().filter(|workload| here(&workload.target)).filter_map(|workload| {
                let release = self.state.releases.get(&(workload.target.clone(), workload.release))?;
                let next = self.next_release(&workload.target);
                Some((workload.target.name.clone(), (workload.clone(), release.clone(), next)))
            });
        let spent = self.state.environments.get(environment).map(|it| it.spent.versions.clone());
        let newest = |secret: &Secret| (secret.target.name.clone(), secret.newest());
        let sealed = |secret: &Secret| {
            Some((secret.target.name.clone(), secret.versions.values().next_back()?.sealed.clone()))
        };
        let declared = |secret: &Secret| {
            let releases = self.state.releases.values().filter(|release| self.uses(release, &secret.target));
            let releases = releases.map(|release| format!("{}@{}", release.workload.name, release.number));
            let present = PresentSecret {
                application: secret.application.clone()?,
                users: self.users(&secret.target).into_iter().map(|user| user.name).collect(),
                releases: releases.collect(),
            };
            Some((secret.target.name.clone(), present))
        };
        let services = self.state.services.values().filter(|service| here(&service.target));
        let (routes, foreign): (Vec<&Route>, Vec<&Route>) =
            self.state.routes.values().partition(|route| here(&route.target));
        Present {
            reserved_hosts: self.reserved_hosts.clone(),
            reserved_ports: self.reserved_ports.clone(),
            images: self
                .state
                .images
                .iter()
                .map(|(name, image)| (name.clone(), image.digest.clone()))
                .collect(),
            workloads: workloads.collect(),
            secrets: self.state.secrets.values().filter(|secret| here(&secret.target)).map(newest).collect(),
            sealed: self
                .state
                .secrets
                .values()
                .filter(|secret| here(&secret.target))
                .filter_map(sealed)
                .collect(),
            declared_secrets: self
                .state
                .secrets
                .values()
                .filter(|secret| here(&secret.target))
                .filter_map(declared)
                .collect(),
            spent_versions: spent.unwrap_or_default(),
            environment: Some(environment.clone()),
            services: services.map(|service| (service.target.name.clone(), service.clone())).collect(),
            routes: routes.into_iter().map(|route| (route.target.name.clone(), route.clone())).collect(),
            foreign_routes: foreign.into_iter().cloned().collect(),
            certificates: self
                .state
                .certificates
                .values()
                .filter(|it| here(&it.target))
                .map(|it| (it.target.name.clone(), it.names.clone()))
                .collect(),
            environments: self.state.environments.keys().cloned().collect(),
            domain: self.state.environments.get(environment).map(Environment::domain).unwrap_or_default(),
            left_alone: BTreeSet::new(),
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
                rule: declared.rule.clone(),
                after: BTreeSet::new(),
                release: ReleaseNumber(0),
                settled: None,
                next_replica: self
                    .spent(target)
                    .map_or(0, |(spent, name)| spent.replicas.get(name).copied().unwrap_or(0)),
                origin: self.cause.clone(),
                last_change: self.cause.clone(),
                state: WorkloadState::Moving,
                reason: None,
                since: now,
                held: None,
                unanswered_since: None,
                leaves: false,
                kept: std::collections::BTreeMap::new(),
            };
            self.state.put(Object::Workload(workload));
        }
        let Some(mut workload) = self.state.workloads.get(target).cloned() else { return };
        workload.leaves = false;
        workload.rule = declared.rule;
        workload.after = declared.after;
        workload.last_change = self.cause.clone();
        if let Some(count) = replicas {
            workload.wanted = count;
            workload.wanted_origin = self.cause.clone();
            self.try_untried(&workload, now);
        }
        if release {
            self.release(&mut workload, declared.spec, None, Purpose::Change, now);
        }
        self.put(Object::Workload(workload));
        self.touch(target);
    }

    fn declare_service(&mut self, target: &Target, application: &Name, declared: ServiceSpec) {
        let before = self.state.services.get(target).cloned();
        let address = match &before {
            Some(service) => Some(service.address),
            None => {
                let taken = self.state.services.values().map(|service| service.address);
                address::lowest_free(taken, 4000, address::service)
            }
        };
        let Some(address) = address else { return };
        let bound = before.as_ref().map(|service| self.bind_releases(service)).unwrap_or_default();
        self.put(Object::Service(Service {
            target: target.clone(),
            application: application.clone(),
            spec: declared,
            address,
            bound,
            leaves: false,
            origin: self.cause.clone(),
        }));
        self.hosts_stale.insert(target.environment.clone());
    }

    fn declare_route(&mut self, target: Target, application: &Name, declared: RouteSpec) {
        // One of another name for the same requests gives way to it.
        let before = self.state.routes.get(&target).or_else(|| {
            let mut here = self.state.routes.values();
            here.find(|route| route.target.environment == target.environment && route.spec.clashes(&declared))
        });
        let stand_in = match before {
            Some(before) if before.spec.to == declared.to || !answers(&self.state, before) => {
                before.stand_in.clone()
            }
            Some(before) => before.spec.to.clone(),
            None => Vec::new(),
        };
        self.put(Object::Route(Route {
            target,
            application: application.clone(),
            spec: declared,
            stand_in,
            origin: self.cause.clone(),
        }));
    }
}

/// Conflicts as one refusal.
pub(super) fn refused(conflicts: Vec<Conflict>) -> Refusal {
    let lines: Vec<String> = conflicts.iter().map(|c| format!("{}: {}", c.object, c.message)).collect();
    Refusal { kind: RefusalKind::Conflict, message: lines.join("\n") }
}
