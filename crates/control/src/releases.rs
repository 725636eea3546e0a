//! Releases and the moves to them: made, taken back, steered, kept and compared.

use std::collections::{BTreeMap, BTreeSet};

use actix_web::http::Method;
use actix_web::web::{Data, Json, Path, Query};
use jiff::Timestamp;
use mainyard_core::cluster::{Cluster, DeployRequest, Goal, LimitChange, Refusal, WentTo};
use mainyard_core::model::{
    Bytes, Cpu, ImageRef, NameError, ReleaseId, ReleaseNumber, ReplicaId, Setting, Span, Target,
};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::ToSchema;

use crate::Control;
use crate::callers::Member;
use crate::forecast::{self, Ask};
use crate::operations::{Limits, Operations};
use crate::problem::Problem;
use crate::responses::{Answer, target};

pub fn operations(to: &mut Operations) {
    let act = |act: &str| format!("/environments/{{environment}}/workloads/{{name}}/{act}");
    to.add(Method::POST, &act("deploy"), Limits::bytes(1 << 20), deploy)
        .post(&act("promote"), promote)
        .post(&act("rollback"), rollback)
        .post(&act("restart"), restart)
        .post(&act("set-aside"), set_aside)
        .post(&act("hold"), hold)
        .post(&act("resume"), resume)
        .post(&act("advance"), advance)
        .post(&act("cancel"), cancel)
        .post(&act("keep"), keep)
        .get("/compare", compare);
}

/// An act on one workload, or a look at it.
async fn act(
    control: &Control,
    member: Member,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    act: impl Fn(&mut Cluster, &Target, &str, Timestamp) -> Result<Value, Refusal> + Send + 'static,
) -> Answer {
    let target = target(path)?;
    let watched = BTreeSet::from([target.clone()]);
    let done = forecast::act(
        control,
        member,
        ask.into_inner(),
        move |_| watched.clone(),
        move |cluster, by, now| act(cluster, &target, by, now),
    );
    Ok(Json(done.await?))
}

/// The releases that a workload has.
fn numbers(cluster: &Cluster, target: &Target) -> BTreeSet<u32> {
    cluster.releases_of(target).map(|release| release.number.0).collect()
}

/// Those that it had and has no more.
fn freed(before: BTreeSet<u32>, cluster: &Cluster, target: &Target) -> Vec<u32> {
    let now = numbers(cluster, target);
    before.into_iter().filter(|number| !now.contains(number)).collect()
}

#[derive(Deserialize, ToSchema)]
pub struct Deploy {
    /// Another image, as `repository:tag`.
    #[schema(value_type = Option<String>)]
    image: Option<ImageRef>,
    /// Settings to set: text, or `{"secret": "NAME"}`.
    #[serde(default)]
    #[schema(value_type = Object)]
    settings: BTreeMap<String, Setting>,
    /// Another limit of memory, such as `256 MiB`.
    #[schema(value_type = Option<String>)]
    memory: Option<Bytes>,
    /// Another limit of processors, from 0.01 to 1024.
    #[schema(value_type = Option<f64>)]
    cpu: Option<Cpu>,
}

#[derive(Serialize, ToSchema)]
pub struct Deployed {
    /// The new release; absent when nothing would differ.
    release: Option<u32>,
    /// What differs, in words.
    differences: Vec<String>,
    /// The move that this one took the place of, in words.
    instead_of: Option<String>,
    /// Old releases that went, as nothing needs them any more.
    freed: Vec<u32>,
}

#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/deploy", params(Ask), request_body = Deploy, responses((status = 200, body = Deployed), (status = 404, body = Problem)))]
pub async fn deploy(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<Deploy>,
) -> Answer {
    let Deploy { image, settings, memory, cpu } = body.into_inner();
    let request = DeployRequest { image, settings, limits: LimitChange { memory, cpu } };
    act(&control, member, path, ask, move |cluster, target, by, now| {
        let (instead_of, before) = (cluster.under_way(target), numbers(cluster, target));
        let done = cluster.deploy(target, &request, by, now)?;
        let freed = freed(before, cluster, target);
        let (release, differences) =
            done.map_or((None, Vec::new()), |(number, words)| (Some(number.0), words));
        let instead_of = instead_of.filter(|_| release.is_some());
        Ok(json!(Deployed { release, differences, instead_of, freed }))
    })
    .await
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Promote {
    /// The environment.
    #[schema(value_type = String)]
    to: mainyard_core::model::Name,
}

#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/promote", params(Ask), request_body = Promote, responses((status = 200), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn promote(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<Promote>,
) -> Answer {
    let (from, Promote { to }) = (crate::responses::target(path)?, body.into_inner());
    let target = Target::new(&to, &from.name);
    let watched = std::collections::BTreeSet::from([target.clone()]);
    let act = move |cluster: &mut mainyard_core::cluster::Cluster, by: &str, now| {
        let done = cluster.promote(&from, &to, by, now)?;
        let (tested, release) = (done.tested.0, done.release.map(|release| release.0));
        Ok(
            json!({"target": target.to_string(), "tested": tested, "release": release, "differences": done.words}),
        )
    };
    let done = crate::forecast::act(&control, member, ask.into_inner(), move |_| watched.clone(), act);
    Ok(Json(done.await?))
}

#[derive(Deserialize, ToSchema)]
pub struct Rollback {
    /// The release to equal; the last one that was done where it is left out.
    to: Option<u32>,
    /// Or the one that ran at this moment.
    #[schema(value_type = Option<String>)]
    at: Option<Timestamp>,
}

#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/rollback", params(Ask), request_body = Rollback, responses((status = 200), (status = 409, body = Problem)))]
pub async fn rollback(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<Rollback>,
) -> Answer {
    let goal = match (body.to, body.at) {
        (Some(_), Some(_)) => return Err(Problem::invalid("say either `to` or `at`")),
        (Some(number), None) => Goal::Release(ReleaseNumber(number)),
        (None, Some(at)) => Goal::At(at),
        (None, None) => Goal::Before,
    };
    act(&control, member, path, ask, move |cluster, target, by, now| {
        let (instead_of, before) = (cluster.under_way(target), numbers(cluster, target));
        let WentTo { number, same_as, passed_over } = cluster.rollback(target, goal, by, now)?;
        let freed = freed(before, cluster, target);
        Ok(json!({
            "release": number, "same_as": same_as, "passed_over": passed_over, "instead_of": instead_of, "freed": freed,
        }))
    })
    .await
}

#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/restart", params(Ask), responses((status = 200), (status = 409, body = Problem)))]
pub async fn restart(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    act(&control, member, path, ask, |cluster, target, by, now| {
        let (release, same_as) = cluster.restart(target, by, now)?;
        Ok(json!({"release": release, "same_as": same_as}))
    })
    .await
}

#[derive(Deserialize, ToSchema)]
pub struct SetAside {
    /// Which replica, by its short name.
    replica: String,
    /// For how long, such as `1h`; `0s` ends it now.
    #[schema(value_type = String)]
    lasts: Span,
}

/// Takes a replica out of service for study; a fresh one takes its place.
#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/set-aside", params(Ask), request_body = SetAside, responses((status = 200), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn set_aside(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<SetAside>,
) -> Answer {
    let SetAside { replica, lasts } = body.into_inner();
    act(&control, member, path, ask, move |cluster, target, by, now| {
        let id = ReplicaId::new(target.clone(), replica.clone());
        if lasts.millis() == 0 {
            cluster.end_aside(&id, by, now)?;
            return Ok(json!({"replica": id, "ended": true}));
        }
        Ok(json!({"replica": id, "until": cluster.set_aside(&id, lasts, by, now)?}))
    })
    .await
}

#[derive(Deserialize, ToSchema)]
pub struct Hold {
    /// Why nothing may move.
    because: String,
}

#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/hold", params(Ask), request_body = Hold, responses((status = 200), (status = 409, body = Problem)))]
pub async fn hold(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<Hold>,
) -> Answer {
    let because = body.into_inner().because;
    act(&control, member, path, ask, move |cluster, target, by, now| {
        Ok(json!({"stands": cluster.hold(target, &because, by, now)?}))
    })
    .await
}

#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/resume", params(Ask), responses((status = 200), (status = 409, body = Problem)))]
pub async fn resume(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    act(&control, member, path, ask, |cluster, target, by, now| {
        let goes_on = cluster.resume(target, by, now)?;
        let release = cluster.state.open_rollout(target).map(|rollout| rollout.to);
        let application = cluster.state.workloads.get(target).map(|workload| &workload.application);
        let source = cluster.state.sources.values().find(|source| {
            source.catching_up.is_some()
                && source.target.environment == target.environment
                && source.application.as_ref() == application
        });
        let source = source.map(|source| source.target.to_string());
        Ok(json!({"goes_on": goes_on, "release": release, "source": source}))
    })
    .await
}

#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/advance", params(Ask), responses((status = 200), (status = 409, body = Problem)))]
pub async fn advance(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    act(&control, member, path, ask, |cluster, target, by, now| {
        let goes_on = cluster.advance(target, by, now)?;
        let release = cluster.state.open_rollout(target).map(|rollout| rollout.to);
        Ok(json!({"goes_on": goes_on, "release": release}))
    })
    .await
}

#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/cancel", params(Ask), responses((status = 200), (status = 409, body = Problem)))]
pub async fn cancel(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    act(&control, member, path, ask, |cluster, target, by, now| {
        let (release, back_to) = cluster.cancel(target, by, now)?;
        Ok(json!({"release": release, "back_to": back_to}))
    })
    .await
}

#[derive(Deserialize, ToSchema)]
pub struct Keep {
    /// Which release.
    release: u32,
    /// Whether to keep it, or to keep it no longer.
    #[serde(default = "yes")]
    keep: bool,
}

fn yes() -> bool {
    true
}

#[utoipa::path(post, path = "/api/v1/environments/{environment}/workloads/{name}/keep", params(Ask), request_body = Keep, responses((status = 200), (status = 404, body = Problem)))]
pub async fn keep(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<Keep>,
) -> Answer {
    let Keep { release, keep } = body.into_inner();
    act(&control, member, path, ask, move |cluster, target, by, now| {
        let changed = cluster.keep_release(target, ReleaseNumber(release), keep, by, now)?;
        Ok(json!({"release": release, "kept": keep, "changed": changed}))
    })
    .await
}

#[derive(Deserialize)]
pub struct Pair {
    /// A release, as `environment/name@number`.
    from: String,
    /// Another one.
    to: String,
}

#[utoipa::path(get, path = "/api/v1/compare", responses((status = 200), (status = 404, body = Problem)))]
pub async fn compare(_: Member, control: Data<Control>, pair: Query<Pair>) -> Answer {
    let published = control.leader.published.read().await;
    let find = |text: &str| {
        let id: ReleaseId = text.parse().map_err(|error: NameError| Problem::invalid(error.to_string()))?;
        let found = published.0.releases.get(&(id.workload.clone(), id.number));
        found.ok_or_else(|| {
            let all = published.0.releases.keys().filter(|(workload, _)| *workload == id.workload);
            let numbers: Vec<String> = all.map(|(_, number)| number.to_string()).collect();
            let kept = if numbers.is_empty() {
                "none is kept".to_owned()
            } else {
                format!("kept are {}", numbers.join(", "))
            };
            Problem::not_found(format!("there is no release {id}; {kept}"))
        })
    };
    let differences = mainyard_core::difference::between(find(&pair.from)?, find(&pair.to)?);
    Ok(Json(json!({"from": pair.from, "to": pair.to, "differences": differences})))
}
