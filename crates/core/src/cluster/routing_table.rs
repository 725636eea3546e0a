//! Keeping the gateways' table up with the record: only what may differ is made again.

use std::collections::{BTreeMap, BTreeSet};

use super::dirty_set::DirtySet;
use crate::model::Target;
use crate::record::{Kind, State};
use crate::routing::{Table, TableChange, TableVersion, build, outgoing_entry, route_entry, service_entry};

/// The table as the gateways have it, and what of it may differ from the record.
#[derive(Debug, Clone)]
pub(super) struct RoutingTable {
    version: TableVersion,
    served: Table,
    marks: DirtySet,
    /// Whether a next table is to be made.
    stale: bool,
}

impl RoutingTable {
    /// Of the control of this epoch, which has served none yet.
    pub(super) fn of_epoch(epoch: u64) -> RoutingTable {
        let version = TableVersion { epoch, counter: 0 };
        RoutingTable { version, served: Table::default(), marks: DirtySet::whole(), stale: true }
    }

    /// The number of the newest table.
    pub(super) fn version(&self) -> TableVersion {
        self.version
    }

    /// The table as it was last made.
    pub(super) fn served(&self) -> &Table {
        &self.served
    }

    /// An object was changed, or came or went.
    pub(super) fn mark(&mut self, kind: Kind, key: &str) {
        self.marks.mark(kind, key);
    }

    /// A next table is to be made.
    pub(super) fn touch(&mut self) {
        self.stale = true;
    }

    /// Everything of the table may differ.
    pub(super) fn touch_all(&mut self) {
        self.stale = true;
        self.marks = DirtySet::whole();
    }

    /// Makes the next table, where it may differ; tells what did.
    pub(super) fn advance(&mut self, state: &State) -> Option<TableChange> {
        if !std::mem::take(&mut self.stale) {
            return None;
        }
        self.version.counter += 1;
        let marks = std::mem::take(&mut self.marks);
        let change = if marks.whole {
            build(state, self.version).change_from(&self.served)
        } else {
            self.change_of_marked(marks, state)
        };
        self.served.apply(&change);
        Some(change)
    }

    fn change_of_marked(&self, marks: DirtySet, state: &State) -> TableChange {
        let DirtySet { workloads, mut services, mut routes, .. } = marks;
        let leads = |to: &BTreeSet<Target>, route: &crate::model::Route| {
            let environment = &route.target.environment;
            route.spec.to.iter().any(|leg| to.contains(&Target::new(environment, &leg.service)))
        };
        if !services.is_empty() {
            let led = state.routes.values().filter(|route| leads(&services, route));
            routes.extend(led.map(|route| route.target.clone()));
        }
        let environments: BTreeSet<_> = workloads.iter().map(|workload| &workload.environment).collect();
        let may_select = |service: &&crate::model::Service| {
            let environment = &service.target.environment;
            let named = service.spec.select.get("workload").map(|name| name.parse());
            environments.contains(environment)
                && named.is_none_or(|name| {
                    let mut names = name.into_iter().chain(service.bound.iter().cloned());
                    names.any(|name| workloads.contains(&Target::new(environment, &name)))
                })
        };
        if !workloads.is_empty() {
            let selecting = state.services.values().filter(may_select);
            services.extend(selecting.map(|service| service.target.clone()));
        }
        // What stands in for a route depends on more than what the route leads to.
        let standing_in = state.routes.values().filter(|route| !route.stand_in.is_empty());
        routes.extend(standing_in.map(|route| route.target.clone()));
        let entry_of_service = |target: &Target| {
            let service = state.services.get(target)?;
            let environment = state.environments.get(&target.environment)?.index;
            Some(service_entry(state, service, environment))
        };
        let entry_of_workload = |target: &Target| outgoing_entry(state, state.workloads.get(target)?);
        let entry_of_route = |target: &Target| Some(route_entry(state, state.routes.get(target)?));
        TableChange {
            base: self.served.version,
            version: self.version,
            services: differing(&services, &self.served.services, entry_of_service),
            routes: differing(&routes, &self.served.routes, entry_of_route),
            outgoing: differing(&workloads, &self.served.outgoing, entry_of_workload),
        }
    }
}

fn differing<T: PartialEq>(
    marked: &BTreeSet<Target>,
    before: &BTreeMap<String, T>,
    now: impl Fn(&Target) -> Option<T>,
) -> BTreeMap<String, Option<T>> {
    let entries = marked.iter().map(|target| (target.to_string(), now(target)));
    entries.filter(|(key, entry)| before.get(key) != entry.as_ref()).collect()
}
