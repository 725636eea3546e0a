//! Secrets: values come in and are never given out again.

use std::collections::BTreeSet;

use actix_web::http::Method;
use actix_web::web::{Bytes, Data, Json, Path, Query};
use jiff::Timestamp;
use mainyard_core::cluster::{Cluster, MadeRelease, SealedValue};
use mainyard_core::model::{Name, SECRET_LIMIT, Secret, SecretValue, Target};
use mainyard_core::record::State;
use serde::Serialize;
use serde_json::{Value, json};
use utoipa::ToSchema;

use crate::Control;
use crate::callers::Member;
use crate::forecast::{self, Ask};
use crate::operations::{Limits, Operations};
use crate::problem::Problem;
use crate::responses::{Answer, target};
use crate::secret_store::SecretStoreError;

pub fn operations(to: &mut Operations) {
    const ONE: &str = "/environments/{environment}/secrets/{name}";
    to.get("/secrets", list)
        .post("/secrets/rotate-key", rotate_key)
        .get("/environments/{environment}/public-key", public_key)
        .add(Method::PUT, ONE, Limits::bytes(2 * SECRET_LIMIT as u64), add)
        .delete(ONE, remove);
}

impl From<SecretStoreError> for Problem {
    fn from(error: SecretStoreError) -> Problem {
        match error {
            SecretStoreError::Store(error) => error.into(),
            SecretStoreError::Keys(message) => Problem::conflict(message),
        }
    }
}

/// A secret, without its values.
#[derive(Serialize, ToSchema)]
pub struct Listed {
    /// Which one, as `environment/name`.
    secret: String,
    /// Its versions by number, and who added each.
    #[schema(value_type = Object)]
    versions: Value,
    /// The workloads that use it.
    used_by: Vec<String>,
}

fn listed(cluster: &Cluster, secret: &Secret) -> Listed {
    let versions = secret.versions.iter().map(|(number, version)| {
        (number.to_string(), json!({"text": version.text, "origin": version.origin}))
    });
    Listed {
        secret: secret.target.to_string(),
        versions: versions.collect::<serde_json::Map<_, _>>().into(),
        used_by: cluster.users(&secret.target).iter().map(Target::to_string).collect(),
    }
}

/// All secrets, without their values.
#[utoipa::path(get, path = "/api/v1/secrets", responses((status = 200, body = Vec<Listed>)))]
pub async fn list(_: Member, control: Data<Control>) -> Answer {
    let state: State = control.leader.published.read().await.0.clone();
    let cluster = Cluster::new(state, 0, Timestamp::now());
    let list: Vec<Listed> = cluster.state.secrets.values().map(|secret| listed(&cluster, secret)).collect();
    Ok(Json(json!(list)))
}

/// Adds a secret or a version of one. The body is the value, as it is; no answer ever holds it.
#[utoipa::path(put, path = "/api/v1/environments/{environment}/secrets/{name}", params(Ask), request_body(content = String, content_type = "application/octet-stream"), responses((status = 200), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    body: Bytes,
) -> Answer {
    let target = target(path)?;
    if body.is_empty() {
        return Err(Problem::invalid(format!("the value of {target} is empty")));
    }
    if body.len() > SECRET_LIMIT {
        let message =
            format!("the value of {target} has {} bytes; at most {SECRET_LIMIT} are taken", body.len());
        return Err(Problem::too_large(message));
    }
    let value = SecretValue(body.to_vec());
    let sealed = if ask.forecast {
        SealedValue { name: String::new(), text: value.text().is_some() }
    } else {
        control.vault.keep(&target, &value).await?
    };
    let watched = |answer: &Value| {
        let made = serde_json::from_value::<Vec<MadeRelease>>(answer["releases"].clone()).unwrap_or_default();
        made.into_iter().map(|made| made.workload).collect::<BTreeSet<Target>>()
    };
    let act = move |cluster: &mut Cluster, by: &str, now| {
        Ok(json!(cluster.add_secret(&target, sealed.clone(), by, now)?))
    };
    Ok(Json(forecast::act(&control, member, ask.into_inner(), watched, act).await?))
}

/// Removes a secret that nothing uses.
#[utoipa::path(delete, path = "/api/v1/environments/{environment}/secrets/{name}", params(Ask), responses((status = 200), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn remove(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    let target = target(path)?;
    let act = move |cluster: &mut Cluster, by: &str, now| {
        Ok(json!({"gone": cluster.remove_secret(&target, by, now)?}))
    };
    forecast::plain(&control, member, ask, act).await
}

/// The key to which values for an environment can be encrypted into files, in the age format.
#[utoipa::path(get, path = "/api/v1/environments/{environment}/public-key", responses((status = 200), (status = 404, body = Problem)))]
pub async fn public_key(_: Member, control: Data<Control>, environment: Path<String>) -> Answer {
    let name = {
        let published = control.leader.published.read().await;
        let known = || published.0.environments.keys();
        known().find(|name| name.as_str() == environment.as_str()).cloned().ok_or_else(|| {
            let hint = mainyard_core::suggestions::did_you_mean(&environment, known().map(Name::as_str));
            Problem::not_found(format!("there is no environment {environment}{hint}"))
        })?
    };
    Ok(Json(json!({"environment": name, "public_key": control.vault.pair(&name).await?.public()})))
}

/// Makes a new platform key and seals all values again under it.
#[utoipa::path(post, path = "/api/v1/secrets/rotate-key", params(Ask), responses((status = 200), (status = 409, body = Problem)))]
pub async fn rotate_key(member: Member, control: Data<Control>, ask: Query<Ask>) -> Answer {
    if ask.forecast {
        return Ok(Json(json!({"sealed_anew": control.store.count_sealed().await?})));
    }
    if let Some(holder) = control.leader.elsewhere() {
        return Err(Problem::elsewhere(holder));
    }
    let (key, count) = control.vault.change_key().await?;
    tracing::info!(by = member.name, key, count, "the platform's key was changed");
    Ok(Json(json!({"key": key, "sealed_anew": count})))
}
