//! Traffic for anyone who asks over HTTP.

use std::collections::BTreeSet;

use actix_web::web::{Data, Json, Query};
use mainyard_core::suggestions::did_you_mean;
use serde::Deserialize;
use utoipa::IntoParams;

use super::{Facet, TrafficRow};
use crate::Control;
use crate::callers::Member;
use crate::operations::Operations;
use crate::problem::Problem;

pub fn operations(to: &mut Operations) {
    to.get("/traffic", list_traffic);
}

/// What is asked of traffic.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct Asked {
    /// `route`, `service`, `release`, `replica`, or several of them with commas between.
    #[serde(default)]
    by: Option<String>,
    /// An environment, or a service or workload as `environment/name`; of all without it.
    #[serde(default)]
    of: Option<String>,
}

fn facets(by: &str) -> Result<BTreeSet<Facet>, Problem> {
    let facet = |word: &str| match word.trim() {
        "route" => Ok(Facet::Route),
        "service" => Ok(Facet::Service),
        "release" => Ok(Facet::Release),
        "replica" => Ok(Facet::Replica),
        other => Err(Problem::invalid(format!(
            "{other:?} is nothing that traffic is told apart by: expected route, service, release or replica{}",
            did_you_mean(other, ["route", "service", "release", "replica"])
        ))),
    };
    by.split(',').map(facet).collect()
}

/// The last ten seconds and quarter of an hour, told apart by what is asked.
#[utoipa::path(get, path = "/api/v1/traffic", params(Asked), responses((status = 200, body = Vec<TrafficRow>), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn list_traffic(
    _: Member,
    control: Data<Control>,
    asked: Query<Asked>,
) -> Result<Json<Vec<TrafficRow>>, Problem> {
    let facets = facets(asked.by.as_deref().unwrap_or("service"))?;
    let of = asked.of.as_deref();
    if let Some(of) = of {
        let published = control.leader.published.read().await;
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
    Ok(Json(control.traffic.told_by(&facets, of)))
}
