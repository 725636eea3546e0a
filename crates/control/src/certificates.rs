//! Certificates over the API: chains and keys in, facts out. No answer ever holds a key.

use jiff::Timestamp;
use mainyard_api::{
    AddCertificate, Authority, CertificateIssued, Done, IssueCertificate, ListCertificates, NewCertificate,
    Problem, RemoveCertificate, ShowAuthority,
};
use mainyard_certificates::authority;
use mainyard_core::cluster::SealedValue;
use mainyard_core::commands::{self, AddSecrets, CertificateAdded, Removed};
use mainyard_core::model::{Certificate, CertificateView, Name, NameError, Origin, SecretValue, Target};
use mainyard_core::suggestions::did_you_mean;

use crate::Control;
use crate::forecast::Acted;
use crate::operations::{Call, Operations};

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list).mount(authority).mount(issue).mount(add).mount(remove);
}

async fn list(call: Call<ListCertificates>) -> Result<Vec<CertificateView>, Problem> {
    let published = call.control.leader.published.read().await;
    let now = Timestamp::now();
    Ok(published.0.certificates.values().map(|it| it.view(now)).collect())
}

async fn authority(call: Call<ShowAuthority>) -> Result<Authority, Problem> {
    let file = call.control.authority.display().to_string();
    let pem = tokio::fs::read_to_string(&call.control.authority).await.map_err(|error| {
        Problem::not_found(format!("the local authority's certificate is not there: {file}: {error}"))
    })?;
    Ok(Authority { pem, file })
}

async fn add(call: Call<AddCertificate>) -> Acted<CertificateAdded> {
    let target = call.path.target();
    let NewCertificate { chain, key } = call.body.clone();
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
        Some(_) if call.query.forecast => Some(String::new()),
        Some(key) => Some(call.control.vault.keep(&target, &SecretValue(key.into_bytes())).await?.name),
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
        obtained_from: None,
        origin: Origin::new(call.caller.name.clone(), "added", now),
    };
    call.act(commands::AddCertificate { certificate }).await
}

async fn remove(call: Call<RemoveCertificate>) -> Acted<Removed> {
    call.act(commands::RemoveCertificate { certificate: call.path.target() }).await
}

async fn issue(call: Call<IssueCertificate>) -> Acted<CertificateIssued> {
    let service = call.path.target();
    known_service(&call.control, &service).await?;
    let (chain_name, key_name) = (secret_of(&service, "chain")?, secret_of(&service, "key")?);
    let host = format!("{}.{}.{}", service.name, service.environment, mainyard_core::service_names::DOMAIN);
    let (chain, key) = sign(&call.control, &host).await?;
    let mut secrets = Vec::new();
    for (target, value) in [(&chain_name, chain), (&key_name, key)] {
        let value = if call.query.forecast {
            SealedValue { name: String::new(), text: true }
        } else {
            call.control.vault.keep(target, &SecretValue(value.into_bytes())).await?
        };
        secrets.push((target.clone(), value));
    }
    let done: Done<_> = call.act(AddSecrets { secrets }).await?;
    Ok(done.map(|added| CertificateIssued {
        host,
        days: authority::DAYS,
        chain: chain_name.name,
        key: key_name.name,
        releases: added.releases,
    }))
}

async fn known_service(control: &Control, service: &Target) -> Result<(), Problem> {
    let published = control.leader.published.read().await;
    if published.0.services.contains_key(service) {
        return Ok(());
    }
    let here = published.0.services.keys().filter(|it| it.environment == service.environment);
    let hint = did_you_mean(service.name.as_str(), here.map(|it| it.name.as_str()));
    Err(Problem::not_found(format!("there is no service {service}{hint}")))
}

/// The secret that holds this part of a service's certificate.
fn secret_of(service: &Target, part: &str) -> Result<Target, Problem> {
    let name: Name = format!("{}-tls-{part}", service.name)
        .parse()
        .map_err(|error: NameError| Problem::invalid(error.to_string()))?;
    Ok(Target::new(&service.environment, &name))
}

/// A chain and its key from the local authority.
async fn sign(control: &Control, host: &str) -> Result<(String, String), Problem> {
    let dir = control.authority.parent().unwrap_or(&control.authority).to_owned();
    let (host, names) = (host.to_owned(), control.authority_names.clone());
    let issued = tokio::task::spawn_blocking(move || {
        let issuer = authority::issuer(&dir, &names).map_err(|error| error.to_string())?;
        authority::issue(&issuer, &host).map_err(|error| error.to_string())
    });
    let unavailable =
        |error: String| Problem::unavailable(format!("the local authority cannot sign: {error}"));
    issued.await.map_err(|error| unavailable(error.to_string()))?.map_err(unavailable)
}
