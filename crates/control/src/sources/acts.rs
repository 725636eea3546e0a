//! What people ask of sources.

use std::collections::BTreeSet;

use actix_web::web::{Data, Json, Path, Query};
use jiff::Timestamp;
use mainyard_core::cluster::{Cluster, NewSource};
use mainyard_core::declare::ChangeLine;
use mainyard_core::follow::sides;
use mainyard_core::model::{FollowRule, Name, Target};
use serde::Deserialize;
use serde_json::{Value, json};
use utoipa::ToSchema;

use super::found::source;
use super::looking::{declared_at, look_at};
use crate::Control;
use crate::access::Member;
use crate::answers::{Answer, target};
use crate::forecast::{self, Ask};
use crate::problem::Problem;

/// All sources.
#[utoipa::path(get, path = "/api/v1/sources", responses((status = 200)))]
pub async fn list(control: Data<Control>) -> Json<Value> {
    let published = control.steward.published.read().await;
    Json(json!(published.0.sources.values().collect::<Vec<_>>()))
}

/// One source.
#[utoipa::path(get, path = "/api/v1/environments/{environment}/sources/{name}", responses((status = 200), (status = 404, body = Problem)))]
pub async fn show(control: Data<Control>, path: Path<(String, String)>) -> Answer {
    Ok(Json(json!(source(&control, &target(path)?).await?)))
}

/// Follows a folder of a repository from now on, and looks at it at once.
#[utoipa::path(put, path = "/api/v1/environments/{environment}/sources/{name}", params(Ask), request_body = Value, responses((status = 200), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add(
    control: Data<Control>,
    member: Member,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<NewSource>,
) -> Answer {
    let (target, new, ask) = (target(path)?, body.into_inner(), ask.into_inner());
    control.follower.fence.may_follow(&new.url).map_err(|error| Problem::forbidden(error.to_string()))?;
    let (forecast, key) = (ask.forecast, target.clone());
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        cluster.add_source(&key, new.clone(), by, now)?;
        Ok(json!({"source": key.to_string()}))
    };
    let mut done = forecast::act(&control, member, ask, |_| BTreeSet::new(), act).await?;
    if !forecast {
        done["looked"] = looked(&control, &target).await;
    }
    Ok(Json(done))
}

/// What came of a look, now.
async fn looked(control: &Data<Control>, target: &Target) -> Value {
    let epoch = control.steward.holder.borrow().epoch;
    let found = source(control, target).await;
    match (found, epoch) {
        (Ok(source), Some(epoch)) => match look_at(control, epoch, source).await {
            Ok(commit) => json!({"commit": commit}),
            Err(sentence) => json!({"failed": sentence}),
        },
        _ => Value::Null,
    }
}

/// Changes how a source is followed: the keys that are given.
#[utoipa::path(patch, path = "/api/v1/environments/{environment}/sources/{name}", params(Ask), responses((status = 200), (status = 422, body = Problem)))]
pub async fn change(
    control: Data<Control>,
    member: Member,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<Value>,
) -> Answer {
    let target = target(path)?;
    let mut rule = json!(source(&control, &target).await?.rule);
    for (key, value) in body.as_object().into_iter().flatten() {
        rule[key] = value.clone();
    }
    let rule: FollowRule =
        serde_json::from_value(rule).map_err(|error| Problem::invalid(error.to_string()))?;
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        cluster.change_source(&target, rule.clone(), by, now)?;
        Ok(json!({"rule": rule}))
    };
    Ok(Json(forecast::act(&control, member, ask.into_inner(), |_| BTreeSet::new(), act).await?))
}

/// Follows it no longer; what it declared stays.
#[utoipa::path(delete, path = "/api/v1/environments/{environment}/sources/{name}", params(Ask), responses((status = 200), (status = 404, body = Problem)))]
pub async fn remove(
    control: Data<Control>,
    member: Member,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    let (target, ask) = (target(path)?, ask.into_inner());
    let (key, forecast) = (target.clone(), ask.forecast);
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        Ok(json!({"stays": cluster.remove_source(&key, by, now)?}))
    };
    let done = forecast::act(&control, member, ask, |_| BTreeSet::new(), act).await?;
    if !forecast {
        control.follower.forget(&target).await;
    }
    Ok(Json(done))
}

/// Looks at the repository now.
#[utoipa::path(post, path = "/api/v1/environments/{environment}/sources/{name}/look", responses((status = 200), (status = 404, body = Problem)))]
pub async fn look(control: Data<Control>, path: Path<(String, String)>) -> Answer {
    let target = target(path)?;
    if let Some(elsewhere) = control.steward.elsewhere() {
        return Err(Problem::elsewhere(elsewhere));
    }
    source(&control, &target).await?;
    Ok(Json(looked(&control, &target).await))
}

/// What Git says, what is declared here, and what runs, where they differ.
#[utoipa::path(get, path = "/api/v1/environments/{environment}/sources/{name}/compare", responses((status = 200), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn compare(control: Data<Control>, path: Path<(String, String)>) -> Answer {
    let target = target(path)?;
    let source = source(&control, &target).await?;
    let Some(seen) = source.seen.clone() else {
        return Err(Problem::conflict(format!("no commit of {target} was read yet")));
    };
    let declared = declared_at(&control, &source, &seen.id).await.map_err(Problem::conflict)?;
    let declared = declared.map_err(Problem::files)?;
    let published = control.steward.published.read().await;
    let rows = sides::compare(&declared, &target.environment, &published.0);
    Ok(Json(json!({"commit": seen, "rows": rows})))
}

/// To which commit, and how far.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CatchUp {
    /// A commit, as its id or the beginning of it; the newest by default.
    #[serde(default)]
    to: Option<String>,
    /// Also remove what Git declares no longer.
    #[serde(default)]
    remove: bool,
}

/// Makes the environment like a commit.
#[utoipa::path(post, path = "/api/v1/environments/{environment}/sources/{name}/catch-up", params(Ask), request_body = CatchUp, responses((status = 200), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn catch_up(
    control: Data<Control>,
    member: Member,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<CatchUp>,
) -> Answer {
    let (target, CatchUp { to, remove }) = (target(path)?, body.into_inner());
    let source = source(&control, &target).await?;
    let wanted = match &to {
        None => source.seen.clone(),
        Some(to) => {
            let known =
                source.commits.iter().find(|commit| to.len() >= 4 && commit.id.starts_with(to.as_str()));
            let unknown = || {
                Problem::not_found(format!(
                    "{target} knows no commit {to}; it knows the last {}",
                    source.commits.len()
                ))
            };
            Some(known.cloned().ok_or_else(unknown)?)
        }
    };
    let commit = wanted.ok_or_else(|| Problem::conflict(format!("no commit of {target} was read yet")))?;
    let declared = declared_at(&control, &source, &commit.id).await.map_err(Problem::conflict)?;
    let declared = declared.map_err(Problem::files)?;
    let environment = target.environment.clone();
    let watched = move |answer: &Value| {
        let changes = answer["changes"].as_array().into_iter().flatten();
        let names =
            changes.filter_map(|line| line["object"].as_str()?.strip_prefix("workload ")?.parse().ok());
        names.map(|name: Name| Target::new(&environment, &name)).collect()
    };
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        let given = Some((commit.clone(), declared));
        let changes: Vec<ChangeLine> = cluster.catch_up(&target, given, remove, by, now)?;
        Ok(json!({"commit": commit, "changes": changes}))
    };
    Ok(Json(forecast::act(&control, member, ask.into_inner(), watched, act).await?))
}

/// Why it is held.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct HoldSource {
    /// The reason.
    because: String,
}

/// Marks a source: it does nothing until it is resumed.
#[utoipa::path(post, path = "/api/v1/environments/{environment}/sources/{name}/hold", params(Ask), request_body = HoldSource, responses((status = 200), (status = 409, body = Problem)))]
pub async fn hold(
    control: Data<Control>,
    member: Member,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<HoldSource>,
) -> Answer {
    let (target, HoldSource { because }) = (target(path)?, body.into_inner());
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        Ok(json!({"words": cluster.hold_source(&target, &because, by, now)?}))
    };
    Ok(Json(forecast::act(&control, member, ask.into_inner(), |_| BTreeSet::new(), act).await?))
}

/// Takes marks away: what was left alone follows Git again.
#[utoipa::path(post, path = "/api/v1/environments/{environment}/sources/{name}/resume", params(Ask), responses((status = 200), (status = 409, body = Problem)))]
pub async fn resume(
    control: Data<Control>,
    member: Member,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    let target = target(path)?;
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        Ok(json!({"words": cluster.resume_source(&target, by, now)?}))
    };
    Ok(Json(forecast::act(&control, member, ask.into_inner(), |_| BTreeSet::new(), act).await?))
}
