//! Whether a change would leave a service that answers without anybody behind one of its ports.

use std::collections::{BTreeMap, BTreeSet};

use crate::model::{Name, Release, ReleaseSpec, Service, ServiceSpec, Workload};
use crate::routing::{bound_names, selector, selects};

/// A workload as it will be.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ComingWorkload<'a> {
    /// Its name.
    pub name: &'a Name,
    /// The specification that it will run.
    pub spec: &'a ReleaseSpec,
    /// The release that it has now, where that stays.
    pub stays: Option<&'a Release>,
}

/// Why a service would no longer answer at a port where it answers now; `None` where it goes on at all of them. `now` are
/// the workloads that stay, as they are.
pub(crate) fn why_unanswered(
    before: &Service,
    after: &ServiceSpec,
    now: &[(&Workload, &Release)],
    then: &[ComingWorkload<'_>],
) -> Option<String> {
    let serves = |workload: &Workload| workload.settled.is_some() && workload.wanted > 0;
    let mut answering: BTreeMap<u16, BTreeSet<&Name>> = BTreeMap::new();
    for (workload, release) in now.iter().filter(|(workload, _)| serves(workload)) {
        for port in bound_names(before, release).into_keys().filter(|port| after.ports.contains_key(port)) {
            answering.entry(port).or_default().insert(&workload.target.name);
        }
    }
    let changed = before.spec != *after;
    let answers_then = |port: u16| {
        then.iter().any(|coming| {
            let kept = coming.stays.filter(|_| !changed);
            kept.is_some_and(|release| bound_names(before, release).contains_key(&port))
                || (is_selected(after, coming) && coming.spec.ports.contains_key(&after.ports[&port].port))
        })
    };
    let (port, through) = answering.into_iter().find(|(port, _)| !answers_then(*port))?;
    let through = through.iter().map(|name| name.as_str()).collect::<Vec<_>>().join(", ");
    let selected: Vec<&ComingWorkload<'_>> =
        then.iter().filter(|coming| is_selected(after, coming)).collect();
    if selected.is_empty() {
        return Some(format!(
            "selector-empty: it would select {}, which no workload carries then; now {through} answers for it. Change \
             the labels of the workload and `select` of the service in one declaration",
            selector(&after.select)
        ));
    }
    let name = &after.ports[&port].port;
    let there: BTreeSet<&str> =
        selected.iter().flat_map(|coming| coming.spec.ports.keys().map(Name::as_str)).collect();
    let there = if there.is_empty() {
        "no port".to_owned()
    } else {
        there.iter().map(|port| format!("`{port}`")).collect::<Vec<_>>().join(", ")
    };
    let names: Vec<&str> = selected.iter().map(|coming| coming.name.as_str()).collect();
    Some(format!(
        "port-missing: its port {port} leads to `{name}`, and {} would have {there}; now {through} answers there. Change \
         the name on the workload and in the service's `ports` in one declaration",
        names.join(", ")
    ))
}

fn is_selected(service: &ServiceSpec, coming: &ComingWorkload<'_>) -> bool {
    selects(&service.select, coming.name, &coming.spec.labels)
}
