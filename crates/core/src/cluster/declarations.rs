//! Declaring: what differs is worked out first, and then all of it is done.

use std::collections::BTreeSet;

use super::{Cluster, Refusal, RefusalKind, Transaction};
use crate::address;
use crate::declare::{Conflict, Plan, PlanStep, plan};
use crate::git_plan::touched_by;
use crate::manifest::{Declared, DeclaredWorkload};
use crate::model::{
    Name, OutgoingMode, Purpose, ReleaseNumber, ReleaseSpec, Route, RouteSpec, Service, ServiceSpec, Target,
    Touched, Workload, WorkloadState,
};
use crate::record::{Kind, Object};
use crate::routing::answers;

impl Cluster {
    /// Works out what a declaration changes, without changing anything.
    pub fn plan(&self, declared: &Declared, environment: &Name, exact: bool) -> Result<Plan, Refusal> {
        let outgoing = self.environment(environment)?.outgoing;
        let mut plan = plan(declared, &self.present(environment), exact).map_err(refused)?;
        if outgoing == OutgoingMode::None {
            let listing =
                declared.workloads.iter().filter(|(_, workload)| !workload.spec.outgoing.is_empty());
            plan.notes.extend(listing.map(|(name, _)| {
                format!(
                    "workload {name}: what it lists in `outgoing` is not reached: {environment} has outgoing = none. To allow \
                     it: mainyard environment outgoing {environment} listed"
                )
            }));
        }
        Ok(plan)
    }
}

impl Transaction<'_> {
    /// Makes what is declared so; gives what changed, in words. The steps of the plan are done.
    pub fn declare(&mut self, declared: &Declared, environment: &Name, exact: bool) -> Result<Plan, Refusal> {
        let mut plan = self.plan(declared, environment, exact)?;
        self.check_declared(declared, environment)?;
        for step in &plan.steps {
            if let PlanStep::Workload { name, declared, new, release: true, .. } = step {
                let target = Target::new(environment, name);
                if !new {
                    self.not_held(&target)?;
                }
                self.check_declared_image(&target, &declared.spec)?;
            }
        }
        self.act("declared");
        let touched: Vec<Touched> = plan.steps.iter().flat_map(touched_by).collect();
        for step in std::mem::take(&mut plan.steps) {
            self.apply(step, &declared.application, environment);
        }
        self.table.touch();
        self.yield_to_person(environment, &declared.application, touched);
        Ok(plan)
    }

    /// The image that a declared workload would run may run there.
    fn check_declared_image(&self, target: &Target, spec: &ReleaseSpec) -> Result<(), Refusal> {
        let known = self.state.images.get(&spec.image.to_string()).map(|image| image.digest.as_str());
        let present = self.state.workloads.get(target);
        let present = present.and_then(|it| self.state.releases.get(&(target.clone(), it.release)));
        let present = present.and_then(|release| release.digest.as_deref());
        self.check_signed(&target.environment, &spec.image, spec.digest.as_deref().or(known), present)
    }

    /// Does one step, for the present cause.
    pub(super) fn apply(&mut self, step: PlanStep, application: &Name, environment: &Name) {
        match step {
            PlanStep::Workload { name, declared, new, replicas, growth, release } => {
                let target = Target::new(environment, &name);
                self.declare_workload(&target, application, *declared, new, replicas, growth, release);
            }
            PlanStep::Secret(name, secret, own) => {
                self.declare_secret(&Target::new(environment, &name), application, &secret, &own);
            }
            PlanStep::Service(name, service) => {
                self.declare_service(&Target::new(environment, &name), application, service);
            }
            PlanStep::Route(name, route) => {
                self.declare_route(Target::new(environment, &name), application, *route);
            }
            PlanStep::RemoveWorkload(name) => self.let_workload_leave(&Target::new(environment, &name)),
            PlanStep::RemoveService(name) => self.let_service_leave(&Target::new(environment, &name)),
            PlanStep::RemoveRoute(name) => {
                self.remove(Kind::Route, Target::new(environment, &name).to_string())
            }
            PlanStep::RemoveSecret(name) => self.forget_secret(&Target::new(environment, &name)),
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
        growth: bool,
        release: bool,
    ) {
        let now = self.now;
        if new {
            let workload = Workload {
                target: target.clone(),
                application: application.clone(),
                wanted: replicas.unwrap_or(1),
                wanted_origin: self.cause.clone(),
                rule: declared.rule.clone(),
                after: BTreeSet::new(),
                follow_tag: None,
                growing: None,
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
                serves_unready: false,
                leaves: false,
                kept: std::collections::BTreeMap::new(),
            };
            self.put(Object::Workload(workload));
        }
        let Some(mut workload) = self.state.workloads.get(target).cloned() else { return };
        workload.leaves = false;
        workload.rule = declared.rule;
        workload.after = declared.after;
        workload.follow_tag = declared.follow_tag;
        if growth {
            self.declare_growth(&mut workload, declared.growth);
        }
        workload.last_change = self.cause.clone();
        if let Some(count) = replicas {
            workload.wanted = count;
            workload.wanted_origin = self.cause.clone();
            self.try_untried(&workload);
        }
        if release {
            self.release(&mut workload, declared.spec, None, Purpose::Change);
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
        self.stale_hosts.insert(target.environment.clone());
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
