//! Workloads: found by name, and removed with all that belongs to them alone.

use super::{Refusal, Transaction};
use crate::model::{Name, ReleaseNumber, ReplicaState, Route, Service, Target, Touched, Workload};
use crate::record::{Kind, Object};

/// Everything that ends with a workload. A hold is named, because the person who held it may not expect the end.
pub(crate) fn ends(workload: &Workload) -> String {
    let end = if workload.wanted == 1 { "ends" } else { "end" };
    let held = workload.held.as_ref();
    let held =
        held.map_or(String::new(), |held| format!("; it is {}, because {}", held.origin, held.because));
    format!("{} {end}{held}", counted(workload.wanted as usize, "replica"))
}

/// "1 replica", "3 replicas".
pub(super) fn counted(count: usize, thing: &str) -> String {
    if count == 1 { format!("1 {thing}") } else { format!("{count} {thing}s") }
}

impl Transaction<'_> {
    /// Removes a workload with its own service and the routes that lead only there. Gives what went, in words.
    pub fn remove_target(&mut self, target: &Target) -> Result<Vec<String>, Refusal> {
        let workload = self.workload(target)?.clone();
        self.act("removed");
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
        self.stale_hosts.insert(target.environment.clone());
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
        self.work.forget(target);
        self.table.touch();
    }
}
