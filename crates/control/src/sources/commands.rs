//! What people ask of sources.

use actix_web::web::{Data, Json, Path, Query};
use jiff::Timestamp;
use mainyard_core::cluster::{Cluster, NewSource};
use mainyard_core::declare::ChangeLine;
use mainyard_core::git_plan::comparison;
use mainyard_core::model::{FollowRule, Target};
use serde::Deserialize;
use serde_json::{Map, Value, json};
use utoipa::ToSchema;

use super::lookup::{source, source_here, source_of};
use super::polling::{declared_at, look_at};
use crate::Control;
use crate::callers::Member;
use crate::forecast::{self, Ask};
use crate::history::{AsOf, view};
use crate::problem::Problem;
use crate::responses::{Answer, target};

/// All sources.
#[utoipa::path(get, path = "/api/v1/sources", params(AsOf), responses((status = 200)))]
pub async fn list(_: Member, control: Data<Control>, moment: Query<AsOf>) -> Answer {
    let view = view(&control, moment.into_inner()).await?;
    Ok(Json(json!(view.state().sources.values().collect::<Vec<_>>())))
}

/// One source.
#[utoipa::path(get, path = "/api/v1/environments/{environment}/sources/{name}", params(AsOf), responses((status = 200), (status = 404, body = Problem)))]
pub async fn show(
    _: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    moment: Query<AsOf>,
) -> Answer {
    let view = view(&control, moment.into_inner()).await?;
    Ok(Json(json!(source_of(view.state(), &target(path)?)?)))
}

/// Follows a folder of a repository from now on, and looks at it at once.
#[utoipa::path(put, path = "/api/v1/environments/{environment}/sources/{name}", params(Ask), request_body = Value, responses((status = 200), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<NewSource>,
) -> Answer {
    let (target, new) = (target(path)?, body.into_inner());
    control
        .follower
        .fence
        .may_follow(&new.url)
        .await
        .map_err(|error| Problem::forbidden(error.to_string()))?;
    let (forecast, key) = (ask.forecast, target.clone());
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        cluster.add_source(&key, new.clone(), by, now)?;
        Ok(json!({"source": key.to_string()}))
    };
    let mut done = forecast::plain(&control, member, ask, act).await?;
    if !forecast {
        done["looked"] = looked(&control, &target).await;
    }
    Ok(done)
}

/// What came of a look, now.
async fn looked(control: &Data<Control>, target: &Target) -> Value {
    match look_at(control, target).await {
        Ok(commit) => json!({"commit": commit}),
        Err(sentence) => json!({"failed": sentence}),
    }
}

/// Changes how a source is followed: the keys that are given.
#[utoipa::path(patch, path = "/api/v1/environments/{environment}/sources/{name}", params(Ask), request_body = Value, responses((status = 200), (status = 422, body = Problem)))]
pub async fn change(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<Map<String, Value>>,
) -> Answer {
    let target = target(path)?;
    let mut rule = json!(source(&control, &target).await?.rule);
    for (key, value) in body.into_inner() {
        rule[key] = value;
    }
    let rule: FollowRule =
        serde_json::from_value(rule).map_err(|error| Problem::invalid(error.to_string()))?;
    let key = target.clone();
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        cluster.change_source(&key, rule.clone(), by, now)?;
        Ok(json!({"rule": rule}))
    };
    let forecast = ask.forecast;
    let done = forecast::plain(&control, member, ask, act).await?;
    if !forecast {
        // The time of the next look was reckoned by the rule before.
        control.follower.look_soon(&target);
    }
    Ok(done)
}

/// Follows it no longer; what it declared stays.
#[utoipa::path(delete, path = "/api/v1/environments/{environment}/sources/{name}", params(Ask), responses((status = 200), (status = 404, body = Problem)))]
pub async fn remove(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    let target = target(path)?;
    let (key, forecast) = (target.clone(), ask.forecast);
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        Ok(json!({"stays": cluster.remove_source(&key, by, now)?}))
    };
    let done = forecast::plain(&control, member, ask, act).await?;
    if !forecast {
        control.follower.forget(&target).await;
    }
    Ok(done)
}

/// Looks at the repository now.
#[utoipa::path(post, path = "/api/v1/environments/{environment}/sources/{name}/look", responses((status = 200), (status = 404, body = Problem)))]
pub async fn look(_: Member, control: Data<Control>, path: Path<(String, String)>) -> Answer {
    let target = target(path)?;
    source_here(&control, &target).await?;
    Ok(Json(looked(&control, &target).await))
}

/// What Git says, what is declared here, and what runs, where they differ.
#[utoipa::path(get, path = "/api/v1/environments/{environment}/sources/{name}/compare", responses((status = 200), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn compare(_: Member, control: Data<Control>, path: Path<(String, String)>) -> Answer {
    let target = target(path)?;
    let source = source_here(&control, &target).await?;
    let Some(seen) = source.seen.clone() else {
        return Err(Problem::conflict(format!("no commit of {target} was read yet")));
    };
    let declared = declared_at(&control, &source, &seen.id).await.map_err(Problem::conflict)?;
    let declared = declared.map_err(Problem::files)?;
    let published = control.leader.published.read().await;
    let rows = comparison::compare(&declared, &target.environment, &published.0);
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
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<CatchUp>,
) -> Answer {
    let (target, CatchUp { to, remove }) = (target(path)?, body.into_inner());
    let source = source_here(&control, &target).await?;
    let commit = match &to {
        None => source
            .seen
            .clone()
            .ok_or_else(|| Problem::conflict(format!("no commit of {target} was read yet")))?,
        Some(to) => source.commit(to).map_err(Problem::not_found)?.clone(),
    };
    let declared = declared_at(&control, &source, &commit.id).await.map_err(Problem::conflict)?;
    let declared = declared.map_err(Problem::files)?;
    let watched = forecast::changed(target.environment.clone());
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        let given = Some((commit.clone(), declared.clone()));
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
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Json<HoldSource>,
) -> Answer {
    let (target, HoldSource { because }) = (target(path)?, body.into_inner());
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        Ok(json!({"words": cluster.hold_source(&target, &because, by, now)?}))
    };
    forecast::plain(&control, member, ask, act).await
}

/// Takes marks away: what was left alone follows Git again.
#[utoipa::path(post, path = "/api/v1/environments/{environment}/sources/{name}/resume", params(Ask), responses((status = 200), (status = 409, body = Problem)))]
pub async fn resume(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    let target = target(path)?;
    let act = move |cluster: &mut Cluster, by: &str, now: Timestamp| {
        Ok(json!({"words": cluster.resume_source(&target, by, now)?}))
    };
    forecast::plain(&control, member, ask, act).await
}
