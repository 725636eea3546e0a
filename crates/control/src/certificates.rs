//! Certificates over the API: chains and keys in, facts out. No answer ever holds a key.

use std::collections::BTreeSet;

use actix_web::http::Method;
use actix_web::web::{Data, Json, Path, Query};
use jiff::Timestamp;
use mainyard_certificates::authority;
use mainyard_core::cluster::{Cluster, MadeRelease, SealedValue};
use mainyard_core::model::{Certificate, Name, Origin, SecretValue, Target};
use mainyard_core::suggestions::did_you_mean;
use serde::Deserialize;
use serde_json::{Value, json};
use utoipa::ToSchema;

use crate::Control;
use crate::callers::Member;
use crate::forecast::{self, Ask};
use crate::operations::{Limits, Operations};
use crate::problem::Problem;
use crate::responses::{Answer, target};

pub fn operations(to: &mut Operations) {
    const ONE: &str = "/environments/{environment}/certificates/{name}";
    to.get("/certificates", list)
        .get("/authority", authority)
        .post("/environments/{environment}/services/{name}/certificate", issue)
        .add(Method::PUT, ONE, Limits::bytes(4 * mainyard_certificates::LIMIT as u64), add)
        .delete(ONE, remove);
}

/// A chain, with its key where hosts are served with it.
#[derive(Deserialize, ToSchema)]
pub struct Given {
    /// Certificates as PEM, the host's own first.
    chain: String,
    /// The private key as PEM; left out, the certificate only says whom to trust.
    key: Option<String>,
}

/// A certificate as it is told: without its chain, and with how it is now.
pub fn told(certificate: &Certificate, now: Timestamp) -> Value {
    json!({
        "certificate": certificate.target.to_string(),
        "names": certificate.names,
        "from": certificate.from,
        "until": certificate.until,
        "days_left": certificate.days_left(now),
        "signal": certificate.signal(now),
        "lasts": certificate.lasts(now),
        "issuer": certificate.issuer,
        "fingerprint": certificate.fingerprint,
        "serves": certificate.sealed.is_some(),
        "origin": certificate.origin,
    })
}

/// All certificates, without their keys.
#[utoipa::path(get, path = "/api/v1/certificates", responses((status = 200)))]
pub async fn list(_: Member, control: Data<Control>) -> Json<Value> {
    let published = control.leader.published.read().await;
    let now = Timestamp::now();
    Json(json!(published.0.certificates.values().map(|it| told(it, now)).collect::<Vec<_>>()))
}

/// The local authority's own certificate, as PEM: what to trust where no other was given.
#[utoipa::path(get, path = "/api/v1/authority", responses((status = 200), (status = 404, body = Problem)))]
pub async fn authority(_: Member, control: Data<Control>) -> Answer {
    let pem = tokio::fs::read_to_string(&control.authority).await.map_err(|error| {
        let file = control.authority.display();
        Problem::not_found(format!("the local authority's certificate is not there: {file}: {error}"))
    })?;
    Ok(Json(json!({"pem": pem, "file": control.authority})))
}

/// Adds a certificate, or puts one in the place of its predecessor; no connection is interrupted.
#[utoipa::path(put, path = "/api/v1/environments/{environment}/certificates/{name}", params(Ask), request_body = Given, responses((status = 200), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
    given: Json<Given>,
) -> Answer {
    let target = target(path)?;
    let Given { chain, key } = given.into_inner();
    if chain.len() > mainyard_certificates::LIMIT {
        return Err(Problem::too_large(format!(
            "the chain is longer than {} bytes",
            mainyard_certificates::LIMIT
        )));
    }
    let now = Timestamp::now();
    let found = mainyard_certificates::check(&chain, key.as_deref(), now)
        .map_err(|fault| Problem::invalid(format!("certificate {target}: {fault}")))?;
    let sealed = match key {
        Some(_) if ask.forecast => Some(String::new()),
        Some(key) => Some(control.vault.keep(&target, &SecretValue(key.into_bytes())).await?.name),
        None => None,
    };
    let certificate = Certificate {
        target,
        names: found.names,
        from: found.from,
        until: found.until,
        issuer: found.issuer,
        fingerprint: found.fingerprint,
        chain,
        sealed,
        origin: Origin::new(member.name.clone(), "added", now),
    };
    let act = move |cluster: &mut Cluster, by: &str, now| {
        let serves = cluster.add_certificate(certificate.clone(), by, now)?;
        Ok(json!({"certificate": told(&certificate, now), "serves": serves}))
    };
    forecast::plain(&control, member, ask, act).await
}

/// Removes a certificate that no route names.
#[utoipa::path(delete, path = "/api/v1/environments/{environment}/certificates/{name}", params(Ask), responses((status = 200), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn remove(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    let target = target(path)?;
    let act = move |cluster: &mut Cluster, by: &str, now| {
        Ok(json!({"gone": cluster.remove_certificate(&target, by, now)?}))
    };
    forecast::plain(&control, member, ask, act).await
}

/// Has the local authority issue a certificate for a service's name inside. Chain and key become secrets, which the
/// workload takes as files; issued again, they are new versions, and who follows them gets a release.
#[utoipa::path(post, path = "/api/v1/environments/{environment}/services/{name}/certificate", params(Ask), responses((status = 200), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn issue(
    member: Member,
    control: Data<Control>,
    path: Path<(String, String)>,
    ask: Query<Ask>,
) -> Answer {
    let service = target(path)?;
    {
        let published = control.leader.published.read().await;
        if !published.0.services.contains_key(&service) {
            let here = published.0.services.keys().filter(|it| it.environment == service.environment);
            let hint = did_you_mean(service.name.as_str(), here.map(|it| it.name.as_str()));
            return Err(Problem::not_found(format!("there is no service {service}{hint}")));
        }
    }
    let secret = |part: &str| -> Result<Target, Problem> {
        let name: Name = format!("{}-tls-{part}", service.name)
            .parse()
            .map_err(|error: mainyard_core::model::NameError| Problem::invalid(error.to_string()))?;
        Ok(Target::new(&service.environment, &name))
    };
    let (chain_name, key_name) = (secret("chain")?, secret("key")?);
    let host = format!("{}.{}.{}", service.name, service.environment, mainyard_core::service_names::DOMAIN);
    let dir = control.authority.parent().unwrap_or(&control.authority).to_owned();
    let (for_host, names) = (host.clone(), control.authority_names.clone());
    let issued = tokio::task::spawn_blocking(move || {
        let issuer = authority::issuer(&dir, &names).map_err(|error| error.to_string())?;
        authority::issue(&issuer, &for_host).map_err(|error| error.to_string())
    });
    let unavailable =
        |error: String| Problem::unavailable(format!("the local authority cannot sign: {error}"));
    let (chain, key) = issued.await.map_err(|error| unavailable(error.to_string()))?.map_err(unavailable)?;
    let mut sealed = Vec::new();
    for (target, value) in [(&chain_name, chain), (&key_name, key)] {
        sealed.push(if ask.forecast {
            SealedValue { name: String::new(), text: true }
        } else {
            control.vault.keep(target, &SecretValue(value.into_bytes())).await?
        });
    }
    let watched = |answer: &Value| {
        let made = serde_json::from_value::<Vec<MadeRelease>>(answer["releases"].clone()).unwrap_or_default();
        made.into_iter().map(|made| made.workload).collect::<BTreeSet<Target>>()
    };
    let act = move |cluster: &mut Cluster, by: &str, now| {
        let mut made = Vec::new();
        for (target, sealed) in [&chain_name, &key_name].into_iter().zip(&sealed) {
            made.extend(cluster.add_secret(target, sealed.clone(), by, now)?.releases);
        }
        Ok(
            json!({"host": host, "days": authority::DAYS, "chain": chain_name.name, "key": key_name.name, "releases": made}),
        )
    };
    Ok(Json(forecast::act(&control, member, ask.into_inner(), watched, act).await?))
}
