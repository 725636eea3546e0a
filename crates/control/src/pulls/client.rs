//! Speaking to one registry (OCI distribution specification 1.1, "Pull").

use std::sync::{Mutex, PoisonError};

use mainyard_core::model::Registry;
use mainyard_images::Digest;
use mainyard_registry::MANIFEST_LIMIT;
use mainyard_registry::outside::{ACCEPTED, Challenge, words};
use reqwest::header::{ACCEPT, CONTENT_TYPE, RANGE, RETRY_AFTER, WWW_AUTHENTICATE};
use reqwest::{RequestBuilder, Response, StatusCode, Url};
use serde::Deserialize;

use super::Trouble;
use crate::outside_http::{self, url_may_be_called};

/// Longest answer of a token service, and longest words of a refusal.
const SHORT: usize = 64 << 10;

/// One registry, and what it lets us in by.
pub(super) struct RegistryClient {
    http: reqwest::Client,
    base: String,
    host: String,
    user: Option<(String, String)>,
    token: Mutex<Option<String>>,
}

/// A manifest as it came.
pub(super) struct Fetched {
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// What it was said to be.
    pub media_type: String,
    /// Its digest, by what came.
    pub digest: Digest,
}

impl RegistryClient {
    /// Of a registry, with its password where it has one.
    pub(super) fn of(registry: &Registry, password: Option<String>) -> Result<RegistryClient, Trouble> {
        let unusable = |error: String| Trouble::Unusable(format!("registry {}: {error}", registry.name));
        let mut builder = outside_http::builder(registry.authority.as_deref()).map_err(unusable)?;
        builder = match &registry.proxy {
            Some(proxy) => {
                let proxy = reqwest::Proxy::all(proxy).map_err(|error| unusable(error.to_string()))?;
                builder.proxy(proxy)
            }
            None => builder.no_proxy(),
        };
        let http = builder.build().map_err(|error| unusable(error.to_string()))?;
        let scheme = if registry.plain { "http" } else { "https" };
        let base = format!("{scheme}://{}/v2/", registry.host);
        let may_be = Url::parse(&base).is_ok_and(|url| url_may_be_called(&url));
        if !may_be {
            return Err(unusable(format!("{} is no address of a registry", registry.host)));
        }
        let user = registry.user.clone().zip(password);
        Ok(RegistryClient { http, base, host: registry.host.clone(), user, token: Mutex::default() })
    }

    /// Whether the registry answers and lets us in.
    pub(super) async fn check(&self) -> Result<(), Trouble> {
        let answer = self.send(|| self.http.get(&self.base), "").await?;
        self.good(answer, "the registry").await.map(drop)
    }

    /// A manifest by its tag or digest.
    pub(super) async fn manifest(&self, repository: &str, reference: &str) -> Result<Fetched, Trouble> {
        let url = format!("{}{repository}/manifests/{reference}", self.base);
        let answer = self.send(|| self.http.get(&url).header(ACCEPT, ACCEPTED), repository).await?;
        let what = format!("{repository}:{reference}");
        let mut answer = self.good(answer, &what).await?;
        let media_type = answer.headers().get(CONTENT_TYPE).and_then(|it| it.to_str().ok());
        let media_type = media_type.unwrap_or_default().to_owned();
        let bytes =
            bounded(&mut answer, MANIFEST_LIMIT as usize).await.map_err(|error| self.silent(&error))?;
        let bytes = bytes.ok_or_else(|| {
            Trouble::Unusable(format!("the manifest of {what} is longer than {MANIFEST_LIMIT} bytes"))
        })?;
        let digest = Digest::of(&bytes);
        Ok(Fetched { bytes, media_type, digest })
    }

    /// The list of what is about a manifest and of this kind, where the registry keeps one.
    pub(super) async fn referrers(&self, repository: &str, digest: &Digest, kind: &str) -> Option<Vec<u8>> {
        let url = format!("{}{repository}/referrers/{digest}", self.base);
        let query = [("artifactType", kind)];
        let answer = self.send(|| self.http.get(&url).query(&query), repository).await.ok()?;
        let mut answer = answer.status().is_success().then_some(answer)?;
        bounded(&mut answer, MANIFEST_LIMIT as usize).await.ok()?
    }

    /// A short blob, where it has the digest that was named.
    pub(super) async fn short_blob(&self, repository: &str, digest: &Digest, most: u64) -> Option<Vec<u8>> {
        let (mut answer, _) = self.blob(repository, digest, 0).await.ok()?;
        let bytes = bounded(&mut answer, most as usize).await.ok()??;
        (Digest::of(&bytes) == *digest).then_some(bytes)
    }

    /// A blob, from this byte on where the registry can; tells whether it could.
    pub(super) async fn blob(
        &self,
        repository: &str,
        digest: &Digest,
        from: u64,
    ) -> Result<(Response, bool), Trouble> {
        let url = format!("{}{repository}/blobs/{digest}", self.base);
        let request = || {
            let request = self.http.get(&url);
            if from > 0 { request.header(RANGE, format!("bytes={from}-")) } else { request }
        };
        let answer = self.send(request, repository).await?;
        let answer = self.good(answer, &format!("the blob {digest}")).await?;
        let resumed = answer.status() == StatusCode::PARTIAL_CONTENT;
        Ok((answer, resumed))
    }

    /// Sends a request with what lets us in; once more with a token where the registry asks for one.
    async fn send(
        &self,
        request: impl Fn() -> RequestBuilder,
        repository: &str,
    ) -> Result<Response, Trouble> {
        let known = self.token.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let first = match &known {
            Some(token) => request().bearer_auth(token),
            None => request(),
        };
        let answer = first.send().await.map_err(|error| self.silent(&error))?;
        if answer.status() != StatusCode::UNAUTHORIZED {
            return Ok(answer);
        }
        let challenge = answer.headers().get(WWW_AUTHENTICATE).and_then(|it| it.to_str().ok());
        match challenge.and_then(Challenge::parse) {
            Some(Challenge::Basic) => {
                let Some((user, password)) = &self.user else { return Ok(answer) };
                request().basic_auth(user, Some(password)).send().await.map_err(|error| self.silent(&error))
            }
            Some(Challenge::Bearer { realm, service, scope }) => {
                let usual = || (!repository.is_empty()).then(|| format!("repository:{repository}:pull"));
                let token = self.fetch_token(&realm, service, scope.or_else(usual)).await?;
                *self.token.lock().unwrap_or_else(PoisonError::into_inner) = Some(token.clone());
                request().bearer_auth(token).send().await.map_err(|error| self.silent(&error))
            }
            None => Ok(answer),
        }
    }

    /// A token of the service that the registry names. The password goes over TLS only, where the registry itself does.
    async fn fetch_token(
        &self,
        realm: &str,
        service: Option<String>,
        scope: Option<String>,
    ) -> Result<String, Trouble> {
        let unusable = |why: &str| {
            Trouble::Unusable(format!(
                "{} names a token service that is not called: {why} ({realm})",
                self.host
            ))
        };
        let url = Url::parse(realm).map_err(|_| unusable("its address cannot be read"))?;
        let is_plain = self.base.starts_with("http://");
        if !(url.scheme() == "https" || (is_plain && url.scheme() == "http")) {
            return Err(unusable("it is not reached over TLS"));
        }
        if !url_may_be_called(&url) {
            return Err(unusable("nobody's registry is there"));
        }
        let query = [("service", service), ("scope", scope)];
        let query: Vec<_> = query.into_iter().filter_map(|(key, value)| Some((key, value?))).collect();
        let mut request = self.http.get(url).query(&query);
        if let Some((user, password)) = &self.user {
            request = request.basic_auth(user, Some(password));
        }
        let answer = request.send().await.map_err(|error| self.silent(&error))?;
        let mut answer = self.good(answer, "a token").await?;
        #[derive(Deserialize)]
        struct Given {
            token: Option<String>,
            access_token: Option<String>,
        }
        let body =
            bounded(&mut answer, SHORT).await.map_err(|error| self.silent(&error))?.unwrap_or_default();
        let given: Option<Given> = serde_json::from_slice(&body).ok();
        let token = given.and_then(|given| given.token.or(given.access_token)).filter(|it| !it.is_empty());
        token.ok_or_else(|| Trouble::Unusable(format!("the token service of {} gives no token", self.host)))
    }

    /// The answer, where it is one that was wanted.
    async fn good(&self, mut answer: Response, what: &str) -> Result<Response, Trouble> {
        let status = answer.status();
        if status.is_success() {
            return Ok(answer);
        }
        let later = answer.headers().get(RETRY_AFTER).and_then(|it| it.to_str().ok()).map(str::to_owned);
        let body = bounded(&mut answer, SHORT).await.ok().flatten().unwrap_or_default();
        let words = words(&body);
        let said = if words.is_empty() { String::new() } else { format!(": {words}") };
        let host = &self.host;
        Err(match status {
            StatusCode::UNAUTHORIZED if self.user.is_none() => {
                Trouble::Refused(format!("{host} asks for a user and password for {what}{said}"))
            }
            StatusCode::UNAUTHORIZED => {
                Trouble::Refused(format!("{host} does not take the user and password{said}"))
            }
            StatusCode::FORBIDDEN => Trouble::Refused(format!("{host} does not hand out {what}{said}")),
            StatusCode::NOT_FOUND => Trouble::Lacks(format!("{host} has no {what}{said}")),
            StatusCode::TOO_MANY_REQUESTS => {
                let later = later.map_or(String::new(), |later| format!("; again after {later} s"));
                Trouble::Limits(format!("{host} is asked too often{said}{later}"))
            }
            other if other.is_server_error() => {
                Trouble::Silent(format!("{host} answers {} for {what}{said}", other.as_u16()))
            }
            other => Trouble::Unusable(format!("{host} answers {} for {what}{said}", other.as_u16())),
        })
    }

    /// Why a request had no answer.
    pub(super) fn silent(&self, error: &reqwest::Error) -> Trouble {
        let host = &self.host;
        let mut causes: Vec<String> = Vec::new();
        let mut source = std::error::Error::source(error);
        let mut untrusted = false;
        while let Some(cause) = source {
            untrusted |= is_of_certificates(cause);
            causes.push(cause.to_string());
            source = cause.source();
        }
        let last = causes.last().cloned().unwrap_or_else(|| error.to_string());
        let last = last.split(" (os error").next().unwrap_or(&last).to_lowercase();
        if untrusted {
            return Trouble::Untrusted(format!("the certificate of {host} is not trusted: {last}"));
        }
        if error.is_timeout() {
            return Trouble::Silent(format!("{host} does not answer in time"));
        }
        if error.is_redirect() {
            return Trouble::Unusable(format!("{host} redirects to where nobody follows"));
        }
        Trouble::Silent(format!("{host} cannot be called: {last}"))
    }
}

fn is_of_certificates(error: &(dyn std::error::Error + 'static)) -> bool {
    let of_tls = |error: &rustls::Error| matches!(error, rustls::Error::InvalidCertificate(_));
    if let Some(error) = error.downcast_ref::<rustls::Error>() {
        return of_tls(error);
    }
    // An error of the system may hold one of TLS, which is not among its sources.
    let inner = error.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref);
    inner.and_then(|inner| inner.downcast_ref::<rustls::Error>()).is_some_and(of_tls)
}

/// The body, where it is no longer than this.
async fn bounded(answer: &mut Response, most: usize) -> reqwest::Result<Option<Vec<u8>>> {
    let mut all = Vec::new();
    while let Some(piece) = answer.chunk().await? {
        if all.len() + piece.len() > most {
            return Ok(None);
        }
        all.extend_from_slice(&piece);
    }
    Ok(Some(all))
}
