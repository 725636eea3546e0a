//! The objects of an environment, in the form that a declaration is compared with.

use std::collections::BTreeSet;

use super::{Cluster, Refusal, RefusalKind};
use crate::declare::{Present, PresentSecret};
use crate::manifest::Declared;
use crate::model::{Environment, Name, Route, Secret, Target};

impl Cluster {
    /// Whether everything that a declaration needs is there.
    pub(super) fn check_declared(&self, declared: &Declared, environment: &Name) -> Result<(), Refusal> {
        for (name, workload) in &declared.workloads {
            self.secret_uses().check_secrets(
                &Target::new(environment, name),
                &workload.spec,
                &declared.secrets,
            )?;
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
            let releases = self
                .state
                .releases
                .values()
                .filter(|release| self.secret_uses().uses(release, &secret.target));
            let releases = releases.map(|release| format!("{}@{}", release.workload.name, release.number));
            let present = PresentSecret {
                application: secret.application.clone()?,
                users: self.secret_uses().users(&secret.target).into_iter().map(|user| user.name).collect(),
                releases: releases.collect(),
            };
            Some((secret.target.name.clone(), present))
        };
        let services = self.state.services.values().filter(|service| here(&service.target));
        let (routes, foreign): (Vec<&Route>, Vec<&Route>) =
            self.state.routes.values().partition(|route| here(&route.target));
        Present {
            reserved_hosts: self.reserved.hosts.clone(),
            reserved_ports: self.reserved.ports.clone(),
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
}
