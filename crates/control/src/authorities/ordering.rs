//! One order of a certificate: account, challenge, signing.

use std::pin::Pin;
use std::time::Duration;

use instant_acme::{
    Account, AccountCredentials, AuthorizationStatus, BodyWrapper, BytesResponse, ChallengeType, Error,
    HttpClient, Identifier, NewAccount, NewOrder, Order, OrderStatus, RetryPolicy,
};
use jiff::Timestamp;
use mainyard_core::acme::{DueCertificate, taken};
use mainyard_core::commands::{NoteAccount, NoteOrder};
use mainyard_core::model::{
    Certificate, CertificateOrder, ChallengeAnswer, ChallengeKind, Name, Origin, OutsideAuthority, Reason,
    ReasonCode, SecretValue, Span, Target,
};

use super::{PLATFORM, note};
use crate::Control;
use crate::outside_http;

/// Gateways have an answer within this time after it was written down: the authority is asked to look only then.
const SPREAD_WITHIN: Duration = Duration::from_secs(1);
/// An authority has looked, or signed, within this time.
const LOOKED_WITHIN: Duration = Duration::from_secs(90);
/// One that wants to be asked less often is left alone for this time.
const LESS_OFTEN: Span = Span::from_secs(3600);

/// Why a certificate was not obtained, and how long the authority is to be left alone.
pub(super) struct Failed {
    pub reason: Reason,
    pub again: Option<Span>,
}

impl Failed {
    pub(super) fn refused(sentence: String) -> Failed {
        Failed { reason: Reason::new(ReasonCode::AuthorityRefuses, sentence), again: None }
    }

    /// What went wrong with an authority, in its own words where it has some.
    fn of(authority: &OutsideAuthority, doing: &str, error: &Error) -> Failed {
        let name = &authority.name;
        match error {
            Error::Api(problem) => {
                let kind =
                    problem.r#type.as_deref().and_then(|it| it.rsplit(':').next()).unwrap_or("no kind");
                let mut says = vec![problem.detail.clone().unwrap_or_else(|| "no detail".to_owned())];
                says.extend(problem.subproblems.iter().filter_map(|it| it.detail.clone()));
                let sentence = format!("{name} refuses to {doing}: {} ({kind})", says.join("; "));
                let again = (kind == "rateLimited").then_some(LESS_OFTEN);
                Failed { again, ..Failed::refused(sentence) }
            }
            Error::Timeout(_) => {
                let sentence = format!("{name} did not {doing} within {} s", LOOKED_WITHIN.as_secs());
                Failed { reason: Reason::new(ReasonCode::AuthoritySilent, sentence), again: None }
            }
            other => {
                let sentence =
                    format!("cannot {doing} at {name} ({}): {}", authority.directory, chain(other));
                Failed { reason: Reason::new(ReasonCode::AuthoritySilent, sentence), again: None }
            }
        }
    }
}

/// An error with all that caused it.
fn chain(error: &dyn std::error::Error) -> String {
    let mut words = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        let more = error.to_string();
        if !words.contains(&more) {
            words = format!("{words}: {more}");
        }
        cause = error.source();
    }
    words
}

/// The platform's own client, which calls nobody who may not be called.
struct Http(reqwest::Client);

impl HttpClient for Http {
    fn request(
        &self,
        request: http::Request<BodyWrapper<bytes::Bytes>>,
    ) -> Pin<Box<dyn Future<Output = Result<BytesResponse, Error>> + Send>> {
        let client = self.0.clone();
        Box::pin(async move {
            let other = |error: reqwest::Error| Error::Other(Box::new(error));
            let request = reqwest::Request::try_from(request.map(reqwest::Body::wrap)).map_err(other)?;
            let may_be = outside_http::url_may_be_called(request.url());
            if !may_be {
                return Err(Error::Str("the authority names an address that may not be called"));
            }
            let answer = client.execute(request).await.map_err(other)?;
            Ok(BytesResponse::from(http::Response::<reqwest::Body>::from(answer)))
        })
    }
}

/// Orders a certificate, shows that the host is served here, and gives what was signed.
pub(super) async fn obtain(control: &Control, due: &DueCertificate) -> Result<Certificate, Failed> {
    let known = {
        let published = control.leader.published.read().await;
        if let Some(why) = taken(&published.0, due) {
            return Err(Failed::refused(why));
        }
        published.0.authorities.get(&due.authority).cloned()
    };
    let authority =
        known.ok_or_else(|| Failed::refused(format!("there is no authority {}", due.authority)))?;
    let failed = |doing: &'static str| {
        let authority = &authority;
        move |error: Error| Failed::of(authority, doing, &error)
    };
    let account = account(control, &authority).await?;
    let identifiers = [Identifier::Dns(due.host.clone())];
    let mut order =
        account.new_order(&NewOrder::new(&identifiers)).await.map_err(failed("take the order"))?;
    show(control, &authority, due, &mut order).await?;
    let patience = RetryPolicy::new().timeout(LOOKED_WITHIN);
    let status = order.poll_ready(&patience).await.map_err(failed("believe that the host is served here"))?;
    if status != OrderStatus::Ready {
        let says = why_invalid(&mut order).await;
        return Err(Failed::refused(format!(
            "{} does not believe that {} is served here: {says}",
            authority.name, due.host
        )));
    }
    let here =
        |error: String| Failed::refused(format!("the request for a certificate cannot be made: {error}"));
    let key = rcgen::KeyPair::generate().map_err(|error| here(error.to_string()))?;
    let params = rcgen::CertificateParams::new(vec![due.host.clone()]);
    let request = params.and_then(|params| params.serialize_request(&key));
    let request = request.map_err(|error| here(error.to_string()))?;
    order.finalize_csr(request.der()).await.map_err(failed("sign"))?;
    let chain = order.poll_certificate(&patience).await.map_err(failed("sign"))?;
    kept(control, due, chain, key.serialize_pem()).await
}

/// The account there; it is made, and its key sealed, before the first order.
async fn account(control: &Control, authority: &OutsideAuthority) -> Result<Account, Failed> {
    let here =
        |error: String| Failed::refused(format!("the account at {} cannot be used: {error}", authority.name));
    let failed = |error: Error| Failed::of(authority, "open an account", &error);
    let client = outside_http::builder(authority.trust.as_deref()).map_err(here)?;
    let client = client.no_proxy().build().map_err(|error| here(error.to_string()))?;
    let builder = Account::builder_with_http(Box::new(Http(client)));
    if let Some(name) = &authority.account {
        let mut opened =
            control.vault.open(vec![name.clone()]).await.map_err(|error| here(error.to_string()))?;
        let value = opened.remove(name).ok_or_else(|| here("its key is another one by now".to_owned()))?;
        let credentials: AccountCredentials =
            serde_json::from_slice(&value.0).map_err(|error| here(error.to_string()))?;
        return builder.from_credentials(credentials).await.map_err(failed);
    }
    let contact: Vec<&str> = authority.contact.iter().map(String::as_str).collect();
    let asked = NewAccount { contact: &contact, terms_of_service_agreed: true, only_return_existing: false };
    let (account, credentials) =
        builder.create(&asked, authority.directory.clone(), None).await.map_err(failed)?;
    let credentials = serde_json::to_vec(&credentials).map_err(|error| here(error.to_string()))?;
    let place: Name = "authorities".parse().map_err(|_| here("no name".to_owned()))?;
    let sealed = control.vault.keep(&Target::new(&place, &authority.name), &SecretValue(credentials)).await;
    let sealed = sealed.map_err(|error| here(error.to_string()))?.name;
    note(control, NoteAccount { authority: authority.name.clone(), sealed }).await;
    Ok(account)
}

/// Has gateways answer what the authority asks, and asks it to look.
async fn show(
    control: &Control,
    authority: &OutsideAuthority,
    due: &DueCertificate,
    order: &mut Order,
) -> Result<(), Failed> {
    let kind = authority.challenge;
    let wanted = match kind {
        ChallengeKind::Http01 => ChallengeType::Http01,
        ChallengeKind::TlsAlpn01 => ChallengeType::TlsAlpn01,
    };
    let failed = |error: Error| Failed::of(authority, "look at the host", &error);
    let mut authorizations = order.authorizations();
    while let Some(authorization) = authorizations.next().await {
        let mut authorization = authorization.map_err(failed)?;
        if authorization.status == AuthorizationStatus::Valid {
            continue;
        }
        let Some(mut challenge) = authorization.challenge(wanted.clone()) else {
            let sentence = format!("{} does not offer {} for {}", authority.name, kind.word(), due.host);
            return Err(Failed::refused(sentence));
        };
        let key_authorization = challenge.key_authorization().as_str().to_owned();
        let answer = ChallengeAnswer { kind, token: challenge.token.clone(), key_authorization };
        let before = authority.orders.get(&due.host);
        let order = CertificateOrder {
            certificate: due.certificate.clone(),
            answer: Some(answer),
            failures: before.map_or(0, |order| order.failures),
            again: None,
            problem: before.and_then(|order| order.problem.clone()),
        };
        let noted =
            NoteOrder { authority: authority.name.clone(), host: due.host.clone(), order: Some(order) };
        note(control, noted).await;
        tokio::time::sleep(SPREAD_WITHIN).await;
        challenge.set_ready().await.map_err(failed)?;
    }
    Ok(())
}

/// What the authority says of a challenge that failed.
async fn why_invalid(order: &mut Order) -> String {
    let mut says = Vec::new();
    let mut authorizations = order.authorizations();
    while let Some(Ok(authorization)) = authorizations.next().await {
        let problems = authorization.challenges.iter().filter_map(|challenge| challenge.error.as_ref());
        says.extend(problems.map(|problem| {
            let detail = problem.detail.clone().unwrap_or_else(|| "no detail".to_owned());
            let kind = problem.r#type.as_deref().and_then(|it| it.rsplit(':').next()).unwrap_or("no kind");
            format!("{detail} ({kind})")
        }));
    }
    if says.is_empty() { "it does not say why".to_owned() } else { says.join("; ") }
}

/// Checks what was signed, and seals its key.
async fn kept(
    control: &Control,
    due: &DueCertificate,
    chain: String,
    key: String,
) -> Result<Certificate, Failed> {
    let now = Timestamp::now();
    let found = mainyard_certificates::check(&chain, Some(&key), now).map_err(|fault| {
        Failed::refused(format!("what {} signed cannot be served: {fault}", due.authority))
    })?;
    let sealed = control.vault.keep(&due.certificate, &SecretValue(key.into_bytes())).await;
    let sealed = sealed.map_err(|error| Failed::refused(format!("its key cannot be kept: {error}")))?;
    Ok(Certificate {
        target: due.certificate.clone(),
        names: found.names,
        from: found.from,
        until: found.until,
        issuer: found.issuer,
        fingerprint: found.fingerprint,
        chain,
        sealed: Some(sealed.name),
        obtained_from: Some(due.authority.clone()),
        origin: Origin::new(PLATFORM, "obtained", now),
    })
}
