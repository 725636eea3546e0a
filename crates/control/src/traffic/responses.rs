//! Traffic for anyone who asks over HTTP.

use std::collections::BTreeSet;

use mainyard_api::{Facet, ListTraffic, Problem, TrafficRow};
use mainyard_core::suggestions::did_you_mean;

use crate::operations::{Call, Operations};

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list_traffic);
}

fn facets(by: &str) -> Result<BTreeSet<Facet>, Problem> {
    let facet = |word: &str| match word.trim() {
        "route" => Ok(Facet::Route),
        "service" => Ok(Facet::Service),
        "release" => Ok(Facet::Release),
        "replica" => Ok(Facet::Replica),
        other => Err(Problem::invalid(format!(
            "{other:?} is not a way to group traffic: expected route, service, release or replica{}",
            did_you_mean(other, ["route", "service", "release", "replica"])
        ))),
    };
    by.split(',').map(facet).collect()
}

/// The last ten seconds and quarter of an hour, distinguished by what is asked.
async fn list_traffic(call: Call<ListTraffic>) -> Result<Vec<TrafficRow>, Problem> {
    let facets = facets(call.query.by.as_deref().unwrap_or("service"))?;
    let of = call.query.of.as_deref();
    if let Some(of) = of {
        let published = call.control.leader.published.read().await;
        let state = &published.0;
        let names = state.environments.keys().map(ToString::to_string);
        let targets = state.workloads.keys().chain(state.services.keys()).map(ToString::to_string);
        let known: BTreeSet<String> = names.chain(targets).collect();
        if !known.contains(of) {
            let hint = did_you_mean(of, known.iter().map(String::as_str));
            return Err(Problem::not_found(format!(
                "there is no environment, service or workload {of}{hint}"
            )));
        }
    }
    Ok(call.control.traffic.grouped_by(&facets, of))
}
