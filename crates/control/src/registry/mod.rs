//! The registry: images and what belongs to them, for any client that speaks the OCI distribution specification 1.1.
//!
//! One handler takes everything below `/v2`. It reads what a request asks for ([`mainyard_registry::RegistryRequest`]), lets
//! the caller in by the scope that this needs, and only then looks at anything else.

mod access;
mod blobs;
mod manifests;
mod uploads;

use actix_web::dev::Payload;
use actix_web::http::StatusCode;
use actix_web::http::header::{CONTENT_LENGTH, CONTENT_TYPE, LOCATION, WWW_AUTHENTICATE};
use actix_web::web::{self, Data};
use actix_web::{HttpRequest, HttpResponse};
use mainyard_api::{Limits, Problem, ProblemCode};
use mainyard_registry::{
    ErrorCode, Page, RegistryError, RegistryRequest, Repository, Scope, challenge, next_link,
};
use serde::Deserialize;
use tracing::Instrument;

pub(crate) use uploads::{OpenUploads, clear as clear_uploads};

use crate::Control;
use crate::blobs::BlobError;
use crate::body_limits;
use access::Caller;

/// The header that the specification names for a digest.
const DIGEST: &str = "Docker-Content-Digest";
/// The longest blob.
const LONGEST: u64 = 16 << 30;

/// Query parameters of all endpoints.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Query {
    digest: Option<String>,
    mount: Option<String>,
    from: Option<String>,
    n: Option<String>,
    last: Option<String>,
    artifact_type: Option<String>,
}

/// One request, read.
struct Call {
    request: HttpRequest,
    control: Data<Control>,
    query: Query,
    caller: Caller,
}

impl Call {
    fn header(&self, name: impl actix_web::http::header::AsHeaderName) -> Option<&str> {
        self.request.headers().get(name).and_then(|value| value.to_str().ok())
    }

    /// The length of the body, where the request says it.
    fn length(&self) -> Option<u64> {
        self.header(CONTENT_LENGTH).and_then(|length| length.parse().ok())
    }
}

/// Mounts the registry.
pub(crate) fn configure(app: &mut web::ServiceConfig) {
    app.service(web::scope("/v2").default_service(web::to(serve)));
}

async fn serve(request: HttpRequest, payload: web::Payload, control: Data<Control>) -> HttpResponse {
    let (method, path) = (request.method().to_string(), request.uri().path().to_owned());
    let span = tracing::info_span!("registry", method, path, member = tracing::field::Empty);
    let changes = !matches!(method.as_str(), "GET" | "HEAD");
    async move {
        let answer = answer(&request, payload.into_inner(), control).await;
        let answer = answer.unwrap_or_else(|refusal| refusal.respond());
        let status = answer.status().as_u16();
        if changes {
            tracing::info!(status, "answered");
        } else {
            tracing::debug!(status, "answered");
        }
        answer
    }
    .instrument(span)
    .await
}

/// A refusal, and where the client gets a token, if that is what is missing.
struct Refusal {
    error: RegistryError,
    challenge: Option<String>,
}

impl From<RegistryError> for Refusal {
    fn from(error: RegistryError) -> Refusal {
        Refusal { error, challenge: None }
    }
}

impl Refusal {
    fn respond(self) -> HttpResponse {
        let status =
            StatusCode::from_u16(self.error.code.status()).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        if status.is_server_error() {
            tracing::warn!(error = %self.error, "a request to the registry failed");
        }
        let mut answer = HttpResponse::build(status);
        if let Some(challenge) = self.challenge {
            answer.insert_header((WWW_AUTHENTICATE, challenge));
        }
        answer.json(self.error.body())
    }
}

async fn answer(
    request: &HttpRequest,
    payload: Payload,
    control: Data<Control>,
) -> Result<HttpResponse, Refusal> {
    let asked = RegistryRequest::parse(request.method().as_str(), request.uri().path());
    // A caller without a credential learns where to get one, and nothing else.
    let needed = asked.as_ref().ok().and_then(Scope::needed);
    let caller = match access::caller(request, &control, needed.as_ref()).await {
        Ok(caller) => caller,
        Err(error) => {
            let wants_token = error.code == ErrorCode::Unauthorized;
            let challenge =
                wants_token.then(|| challenge(&access::realm(request), access::SERVICE, needed.as_ref()));
            return Err(Refusal { error, challenge });
        }
    };
    tracing::Span::current().record("member", caller.member.as_str());
    let asked = asked?;
    if let Some(elsewhere) = elsewhere(request, &control) {
        return Ok(elsewhere);
    }
    let query = web::Query::<Query>::from_query(request.query_string())
        .map_err(|error| RegistryError::new(ErrorCode::Unsupported, error.to_string()))?
        .into_inner();
    let limits = match &asked {
        RegistryRequest::WriteManifest(..) => Limits::bytes(mainyard_registry::MANIFEST_LIMIT),
        _ => Limits::streamed(LONGEST),
    };
    let payload = body_limits::limited(request, payload, limits).map_err(|problem| of_problem(&problem))?;
    let call = Call { request: request.clone(), control, query, caller };
    Ok(dispatch(call, asked, payload).await?)
}

async fn dispatch(
    call: Call,
    asked: RegistryRequest,
    payload: Payload,
) -> Result<HttpResponse, RegistryError> {
    match asked {
        RegistryRequest::Base => Ok(HttpResponse::Ok().json(serde_json::json!({}))),
        RegistryRequest::Token => access::give_token(&call).await,
        RegistryRequest::Catalog => catalog(&call).await,
        RegistryRequest::Tags(repository) => manifests::tags(&call, &repository).await,
        RegistryRequest::ReadBlob(repository, digest) => blobs::read(&call, &repository, &digest).await,
        RegistryRequest::RemoveBlob(repository, digest) => blobs::remove(&call, &repository, &digest).await,
        RegistryRequest::ReadManifest(repository, reference) => {
            manifests::read(&call, &repository, &reference).await
        }
        RegistryRequest::WriteManifest(repository, reference) => {
            manifests::write(&call, &repository, &reference, payload).await
        }
        RegistryRequest::RemoveManifest(repository, reference) => {
            manifests::remove(&call, &repository, &reference).await
        }
        RegistryRequest::Referrers(repository, digest) => {
            manifests::referrers(&call, &repository, &digest).await
        }
        RegistryRequest::BeginUpload(repository) => uploads::begin(&call, &repository, payload).await,
        RegistryRequest::UploadProgress(repository, id) => uploads::progress(&call, &repository, &id),
        RegistryRequest::WriteUpload(repository, id) => {
            uploads::write(&call, &repository, &id, payload).await
        }
        RegistryRequest::EndUpload(repository, id) => uploads::end(&call, &repository, &id, payload).await,
        RegistryRequest::AbortUpload(repository, id) => uploads::abort(&call, &repository, &id),
    }
}

/// The control that decides also keeps what is pushed: the others send clients there (RFC 9110, section 15.4.8).
fn elsewhere(request: &HttpRequest, control: &Control) -> Option<HttpResponse> {
    let holder = control.leader.elsewhere()?;
    let path = request.uri().path_and_query().map_or("/v2/", |path| path.as_str());
    let location = format!("{}{path}", holder.url);
    Some(HttpResponse::TemporaryRedirect().insert_header((LOCATION, location)).finish())
}

async fn catalog(call: &Call) -> Result<HttpResponse, RegistryError> {
    let page = Page::of(call.query.n.as_deref(), call.query.last.as_deref())?;
    let mut names = call.control.store.repositories().await.map_err(|error| of_record(&error))?;
    let state = call.control.leader.published.read().await.0.clone();
    names.extend(state.images.values().map(|image| image.image.repository.clone()));
    names.sort();
    names.dedup();
    let (names, more) = page.cut(names);
    Ok(listed("/v2/_catalog", &page, more, &names, serde_json::json!({ "repositories": names })))
}

/// One page of a list, with the link to the next.
fn listed(path: &str, page: &Page, more: bool, names: &[String], body: serde_json::Value) -> HttpResponse {
    let mut answer = HttpResponse::Ok();
    if let Some(last) = names.last().filter(|_| more) {
        answer.insert_header(("Link", next_link(path, page.size, last)));
    }
    answer.json(body)
}

fn of_record(error: &mainyard_store::Error) -> RegistryError {
    tracing::warn!(%error, "the registry cannot ask the record");
    RegistryError::new(ErrorCode::Unavailable, "the record cannot be asked now; try again in a moment")
}

fn of_disk(error: &impl std::fmt::Display) -> RegistryError {
    tracing::warn!(%error, "the registry cannot use the image store");
    RegistryError::new(ErrorCode::Unavailable, "the image store cannot be used now; try again in a moment")
}

/// Whether the repository may keep these blobs too, by the rule that holds for it.
async fn within_limit(
    call: &Call,
    repository: &Repository,
    parts: &[(String, u64)],
) -> Result<(), RegistryError> {
    let checked = crate::storage::check_limit(&call.control, repository.as_str(), parts).await;
    checked.map_err(|problem| match problem.code {
        // Trying again does not help: it is denied, not away.
        ProblemCode::NoSpace => RegistryError::new(ErrorCode::Denied, problem.detail),
        _ => of_problem(&problem),
    })
}

fn of_blobs(error: &BlobError) -> RegistryError {
    tracing::warn!(%error, "the registry cannot use the image store");
    let sentence = match error {
        BlobError::Away(..) => "the object store of images gives no answer now; try again in a moment",
        _ => "the image store cannot be used now; try again in a moment",
    };
    RegistryError::new(ErrorCode::Unavailable, sentence)
}

fn of_problem(problem: &Problem) -> RegistryError {
    let code = match problem.code {
        ProblemCode::TooLarge => ErrorCode::SizeInvalid,
        ProblemCode::NoSpace => ErrorCode::NoSpace,
        ProblemCode::NotFound => ErrorCode::ManifestUnknown,
        ProblemCode::RecordUnreachable | ProblemCode::AnotherDecides => ErrorCode::Unavailable,
        ProblemCode::NotSignedIn => ErrorCode::Unauthorized,
        ProblemCode::NotAllowed => ErrorCode::Denied,
        _ => ErrorCode::Unsupported,
    };
    RegistryError::new(code, problem.detail.clone())
}

/// The content type of an answer in bytes.
const BYTES: (actix_web::http::header::HeaderName, &str) = (CONTENT_TYPE, "application/octet-stream");
