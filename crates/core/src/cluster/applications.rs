//! Applications: what was declared together is seen and removed as one.

use std::collections::BTreeSet;

use super::removal::ends;
use super::{Refusal, RefusalKind, Transaction};
use crate::model::{Name, Target};
use crate::record::Kind;
use crate::suggestions::did_you_mean;

impl Transaction<'_> {
    /// Removes all that an application declared. Gives what went, in words.
    ///
    /// # Errors
    /// When there is no such application, or when a source follows it, which would bring it back.
    pub fn remove_application(&mut self, application: &Target) -> Result<Vec<String>, Refusal> {
        self.environment(&application.environment)?;
        let environment = &application.environment;
        let of =
            |target: &Target, owner: &Name| target.environment == *environment && *owner == application.name;
        let followed = self.state.sources.values().find(|source| {
            source.target.environment == *environment
                && source.application.as_ref() == Some(&application.name)
        });
        if let Some(source) = followed {
            let message = format!(
                "{application} is followed by the source {}, which would bring it back: mainyard source remove {} first",
                source.target, source.target
            );
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let routes = self.state.routes.values().filter(|it| of(&it.target, &it.application));
        let routes: Vec<(Target, String)> = routes.map(|it| (it.target.clone(), it.spec.at())).collect();
        let services = self.state.services.values().filter(|it| of(&it.target, &it.application));
        let services: Vec<Target> = services.map(|it| it.target.clone()).collect();
        let workloads = self.state.workloads.values().filter(|it| of(&it.target, &it.application));
        let workloads: Vec<(Target, String)> = workloads.map(|it| (it.target.clone(), ends(it))).collect();
        let secrets = self.state.secrets.values();
        let secrets = secrets.filter(|it| it.application.as_ref().is_some_and(|owner| of(&it.target, owner)));
        let secrets: Vec<Target> = secrets.map(|it| it.target.clone()).collect();
        for secret in &secrets {
            self.secret_uses().check_unused(secret, Some(&application.name))?;
        }
        if routes.is_empty() && services.is_empty() && workloads.is_empty() && secrets.is_empty() {
            let here = self.state.workloads.values().filter(|it| it.target.environment == *environment);
            let known: BTreeSet<&str> = here.map(|it| it.application.as_str()).collect();
            let hint = did_you_mean(application.name.as_str(), known);
            return Refusal::new(
                RefusalKind::NotFound,
                format!("there is no application {application}{hint}"),
            );
        }
        self.act("removed");
        let mut gone = Vec::new();
        for (target, at) in routes {
            gone.push(format!("route {target}: {at} no longer leads anywhere"));
            self.remove(Kind::Route, target.to_string());
        }
        for target in services {
            gone.push(format!("service {target}: its name no longer answers"));
            self.remove(Kind::Service, target.to_string());
        }
        for (target, ends) in workloads {
            gone.push(format!("workload {target}: {ends}"));
            self.remove_workload(&target);
        }
        for target in secrets {
            gone.push(format!("secret {target}: nothing uses it now"));
            self.forget_secret(&target);
        }
        self.stale_hosts.insert(environment.clone());
        self.table.touch();
        Ok(gone)
    }
}
