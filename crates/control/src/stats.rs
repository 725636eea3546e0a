//! What workloads used, and which limits would do.

use std::collections::BTreeMap;

use actix_web::web::{Data, Json, Path, Query};
use mainyard_core::model::{Bytes, ReleaseNumber, Target};
use mainyard_core::record::State;
use mainyard_core::sizing::{Fit, Usage, fit, tells};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

use crate::Control;
use crate::callers::Member;
use crate::operations::Operations;
use crate::problem::Problem;
use crate::responses::{Answer, target};

pub fn operations(to: &mut Operations) {
    to.get("/stats", of_all).get("/environments/{environment}/workloads/{name}/stats", of_one);
}

/// What a workload used in the last days.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Stats {
    /// Which workload.
    #[schema(value_type = String)]
    pub workload: Target,
    /// By release, the newest first.
    pub releases: Vec<OfRelease>,
    /// The memory limit held against what was measured.
    #[schema(value_type = Object)]
    pub fit: Fit,
    /// The same in words, with the line to write.
    pub words: String,
    /// Whether the kernel counts what its replicas use: it does not where they are not isolated.
    pub measured: bool,
}

/// What the replicas of one release used.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct OfRelease {
    /// Its number.
    pub release: u32,
    /// How many replicas were measured.
    pub replicas: u32,
    /// The most memory that one needed, in bytes.
    pub needed: u64,
    /// The most memory that was charged to one, cached files included, in bytes.
    pub peak: u64,
    /// The memory limit, in bytes.
    pub limit: u64,
    /// How often the kernel killed for memory.
    pub kills: u64,
    /// Of the time, how much they were held back for their processor time: 0 to 1.
    pub held_back: f64,
    /// The most processes and threads of one.
    pub processes: u64,
    /// Whether the advice rests on it: on releases that failed it does not.
    pub counts: bool,
}

#[derive(Deserialize, utoipa::IntoParams)]
pub struct Against {
    /// The memory limit to hold it against, such as `64 MiB`; the present one where it is left out.
    #[param(value_type = Option<String>)]
    memory: Option<Bytes>,
}

fn counts(state: &State, workload: &Target, release: u32) -> bool {
    state.rollouts.get(&(workload.clone(), ReleaseNumber(release))).is_some_and(tells)
}

/// What was measured of a workload, against a memory limit or its own.
pub fn stats(state: &State, workload: &Target, usage: &[Usage], against: Option<Bytes>) -> Option<Stats> {
    let wanted = state.workloads.get(workload)?;
    let own = state.releases.get(&(workload.clone(), wanted.release))?.spec.limits.memory;
    let mut by_release: BTreeMap<u32, Vec<&Usage>> = BTreeMap::new();
    for it in usage.iter().filter(|it| it.replica.workload == *workload) {
        by_release.entry(it.release.0).or_default().push(it);
    }
    let of = |(release, all): (&u32, &Vec<&Usage>)| {
        let most = |of: fn(&Usage) -> u64| all.iter().map(|it| of(it)).max().unwrap_or(0);
        let sum = |of: fn(&Usage) -> u64| all.iter().map(|it| of(it)).sum::<u64>();
        OfRelease {
            release: *release,
            replicas: u32::try_from(all.len()).unwrap_or(u32::MAX),
            needed: most(|it| it.needed),
            peak: most(|it| it.peak),
            limit: most(|it| it.limit),
            kills: sum(|it| it.kills),
            held_back: sum(|it| it.held_back) as f64 / sum(|it| it.watched).max(1) as f64,
            processes: most(|it| it.processes),
            counts: counts(state, workload, *release),
        }
    };
    let releases: Vec<OfRelease> = by_release.iter().rev().map(of).collect();
    let counting = by_release.iter().filter(|(release, _)| counts(state, workload, **release));
    let counting: Vec<Usage> = counting.flat_map(|(_, all)| all.iter().map(|it| (*it).clone())).collect();
    let fit = fit(against.unwrap_or(own), &counting);
    let isolates = mainyard_core::routing::all_of(&state.replicas, workload).all(|it| state.isolates(it));
    Some(Stats { workload: workload.clone(), releases, words: fit.words(), fit, measured: isolates })
}

/// What one workload used in the last seven days.
#[utoipa::path(get, path = "/api/v1/environments/{environment}/workloads/{name}/stats", params(Against), responses((status = 200, body = Stats), (status = 404, body = Problem)))]
pub async fn of_one(
    _: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    against: Query<Against>,
) -> Answer {
    let target = target(path)?;
    let usage = control.store.usage(Some(&target)).await?;
    let published = control.leader.published.read().await;
    let found = stats(&published.0, &target, &usage, against.memory).ok_or_else(|| {
        let known: Vec<String> = published.0.workloads.keys().map(ToString::to_string).collect();
        let hint =
            mainyard_core::suggestions::did_you_mean(&target.to_string(), known.iter().map(String::as_str));
        Problem::not_found(format!("there is no workload {target}{hint}"))
    })?;
    Ok(Json(json!(found)))
}

/// What all workloads used in the last seven days.
#[utoipa::path(get, path = "/api/v1/stats", responses((status = 200, body = Vec<Stats>)))]
pub async fn of_all(_: Member, control: Data<Control>) -> Answer {
    let usage = control.store.usage(None).await?;
    let mut by_workload: BTreeMap<Target, Vec<Usage>> = BTreeMap::new();
    for it in usage {
        by_workload.entry(it.replica.workload.clone()).or_default().push(it);
    }
    let published = control.leader.published.read().await;
    let all = published.0.workloads.keys().filter_map(|workload| {
        let usage = by_workload.get(workload).map_or(&[][..], Vec::as_slice);
        stats(&published.0, workload, usage, None)
    });
    Ok(Json(json!(all.collect::<Vec<_>>())))
}
