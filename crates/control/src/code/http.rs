//! Clone, fetch and push over HTTP, as any Git client speaks it (gitprotocol-http).
//!
//! One handler takes everything below `/code`. The caller is let in before the path is looked at.

use std::io::Read as _;

use actix_web::http::StatusCode;
use actix_web::http::header::{
    AUTHORIZATION, CACHE_CONTROL, CONTENT_ENCODING, CONTENT_TYPE, LOCATION, WWW_AUTHENTICATE,
};
use actix_web::web::{self, Bytes, Data};
use actix_web::{HttpRequest, HttpResponse};
use futures_util::{StreamExt, TryStreamExt};
use mainyard_api::Problem;
use mainyard_core::model::Target;
use mainyard_git::hosting::{advertisement, pkt_line};
use mainyard_store::TokenKind;
use tokio::io::AsyncWriteExt;
use tokio_util::io::{ReaderStream, StreamReader};
use tracing::Instrument;

use super::access::{Service, asked_over_http, may_be_pushed_to};
use super::follow::Output;
use super::push::{Pusher, Refused, finish, take};
use super::repositories::{self, opened};
use crate::Control;
use crate::credentials::{basic, hash};
use crate::problem::of_record;

/// What a client that fetches may ask for in one request, in bytes.
const ASKED: u64 = 16 << 20;

/// A refusal: the text is shown to the person by their client.
struct Refusal {
    status: StatusCode,
    text: String,
}

impl Refusal {
    fn new(status: StatusCode, text: impl Into<String>) -> Refusal {
        Refusal { status, text: text.into() }
    }

    fn respond(&self) -> HttpResponse {
        let mut answer = HttpResponse::build(self.status);
        if self.status == StatusCode::UNAUTHORIZED {
            answer.insert_header((WWW_AUTHENTICATE, "Basic realm=\"main-yard\", charset=\"UTF-8\""));
        }
        answer.content_type("text/plain; charset=utf-8").body(format!("{}\n", self.text))
    }
}

impl From<Problem> for Refusal {
    fn from(problem: Problem) -> Refusal {
        let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        Refusal::new(status, problem.detail)
    }
}

/// Mounts the repositories.
pub(crate) fn configure(app: &mut web::ServiceConfig) {
    app.service(web::scope("/code").default_service(web::to(serve)));
}

async fn serve(request: HttpRequest, payload: web::Payload, control: Data<Control>) -> HttpResponse {
    let (method, path) = (request.method().to_string(), request.uri().path().to_owned());
    let span = tracing::info_span!("code", method, path, member = tracing::field::Empty);
    async move {
        let answer = answer(&request, payload, control).await;
        let answer = answer.unwrap_or_else(|refusal| refusal.respond());
        tracing::debug!(status = answer.status().as_u16(), "answered");
        answer
    }
    .instrument(span)
    .await
}

async fn answer(
    request: &HttpRequest,
    payload: web::Payload,
    control: Data<Control>,
) -> Result<HttpResponse, Refusal> {
    let member = caller(request, &control).await?;
    tracing::Span::current().record("member", member.as_str());
    let asked = asked_over_http(request.method().as_str(), request.uri().path(), request.query_string())
        .ok_or_else(|| Refusal::new(StatusCode::NOT_FOUND, "a repository is at /code/ENVIRONMENT/NAME"))?;
    if let Some(holder) = control.leader.elsewhere() {
        let to = format!("{}{}", holder.url, request.uri());
        return Ok(HttpResponse::TemporaryRedirect().insert_header((LOCATION, to)).finish());
    }
    let protocol = request.headers().get("git-protocol").and_then(|value| value.to_str().ok());
    let protocol = protocol.unwrap_or_default().to_owned();
    match (asked.service, asked.refs) {
        (Service::Upload, true) => show_to_fetch(&control, &asked.target, &protocol).await,
        (Service::Receive, true) => show_to_push(&control, &asked.target).await,
        (Service::Upload, false) => {
            let body = body_of(request, payload).await?;
            fetch(&control, &asked.target, &protocol, body).await
        }
        (Service::Receive, false) => push(control, Pusher { member, target: asked.target }, payload).await,
    }
}

/// Lets the caller in: a token of the API is the password.
async fn caller(request: &HttpRequest, control: &Control) -> Result<String, Refusal> {
    let refuse = |text: &str| Refusal::new(StatusCode::UNAUTHORIZED, text);
    let mut headers = request.headers().get_all(AUTHORIZATION);
    let (Some(header), None) = (headers.next(), headers.next()) else {
        return Err(refuse("sign in with a token of the API as the password; any name will do"));
    };
    let given = header.to_str().ok().and_then(|value| value.split_once(' '));
    let given = given.filter(|(scheme, _)| scheme.eq_ignore_ascii_case("basic"));
    // The name beside it is not looked at: the token says whose it is.
    let (_, secret) = given
        .and_then(|(_, given)| basic(given))
        .ok_or_else(|| refuse("the Authorization header cannot be read"))?;
    let found = control.store.token(&hash(&secret)).await.map_err(of_record)?;
    let found = found.filter(|token| token.kind == TokenKind::Client);
    let found = found.ok_or_else(|| refuse("this token is not known here, or has ended"))?;
    Ok(found.member)
}

fn not_there(words: String) -> Refusal {
    Refusal::new(StatusCode::NOT_FOUND, words)
}

fn of_git(error: mainyard_git::Error) -> Refusal {
    Refusal::new(StatusCode::SERVICE_UNAVAILABLE, error.to_string())
}

fn refs_of(service: Service) -> Vec<u8> {
    let first = format!("# service={}\n", service.word());
    [pkt_line::line(first.as_bytes()), pkt_line::FLUSH.to_vec()].concat()
}

fn answer_as(service: Service, what: &str) -> actix_web::HttpResponseBuilder {
    let mut answer = HttpResponse::Ok();
    answer.insert_header((CONTENT_TYPE, format!("application/x-{}-{what}", service.word())));
    answer.insert_header((CACHE_CONTROL, "no-cache, max-age=0, must-revalidate"));
    answer
}

async fn show_to_fetch(control: &Control, target: &Target, protocol: &str) -> Result<HttpResponse, Refusal> {
    let repository = here(control, target).await?;
    let child = repository.upload(protocol, true, true).map_err(of_git)?;
    let out = child.wait_with_output().await;
    let out = out.map_err(|error| Refusal::new(StatusCode::SERVICE_UNAVAILABLE, error.to_string()))?;
    let first = if protocol == "version=2" { Vec::new() } else { refs_of(Service::Upload) };
    Ok(answer_as(Service::Upload, "advertisement").body([first, out.stdout].concat()))
}

/// The repository of the record, on this machine.
async fn here<'c>(
    control: &'c Control,
    target: &Target,
) -> Result<mainyard_git::hosting::Repository<'c>, Refusal> {
    let kept = repositories::known(&control.store, target).await?;
    let turn = control.code.turn(target);
    let _turn = turn.lock().await;
    Ok(opened(control, &kept).await?)
}

async fn show_to_push(control: &Control, target: &Target) -> Result<HttpResponse, Refusal> {
    may_be_pushed_to(control, target).await.map_err(not_there)?;
    let kept = repositories::find(&control.store, target).await.map_err(of_record)?;
    let refs = kept.map(|kept| kept.code.refs).unwrap_or_default();
    let list = advertisement(refs.iter().map(|(name, id)| (name.as_str(), id.as_str())));
    Ok(answer_as(Service::Receive, "advertisement").body([refs_of(Service::Receive), list].concat()))
}

/// The whole body of a request of a client that fetches; they may be compressed.
async fn body_of(request: &HttpRequest, mut payload: web::Payload) -> Result<Vec<u8>, Refusal> {
    let too_large =
        || Refusal::new(StatusCode::PAYLOAD_TOO_LARGE, "the request is longer than the 16 MiB that are read");
    let mut all = Vec::new();
    while let Some(piece) = payload.next().await {
        let piece = piece.map_err(|error| Refusal::new(StatusCode::BAD_REQUEST, error.to_string()))?;
        all.extend_from_slice(&piece);
        if all.len() as u64 > ASKED {
            return Err(too_large());
        }
    }
    let encoding = request.headers().get(CONTENT_ENCODING).and_then(|value| value.to_str().ok());
    if !matches!(encoding, Some("gzip" | "x-gzip")) {
        return Ok(all);
    }
    let mut plain = Vec::new();
    let read = flate2::read::MultiGzDecoder::new(all.as_slice()).take(ASKED + 1).read_to_end(&mut plain);
    read.map_err(|error| Refusal::new(StatusCode::BAD_REQUEST, error.to_string()))?;
    if plain.len() as u64 > ASKED { Err(too_large()) } else { Ok(plain) }
}

async fn fetch(
    control: &Control,
    target: &Target,
    protocol: &str,
    body: Vec<u8>,
) -> Result<HttpResponse, Refusal> {
    let repository = here(control, target).await?;
    let mut child = repository.upload(protocol, true, false).map_err(of_git)?;
    let (Some(mut stdin), Some(stdout)) = (child.stdin.take(), child.stdout.take()) else {
        return Err(Refusal::new(StatusCode::SERVICE_UNAVAILABLE, "git has no pipes"));
    };
    actix_web::rt::spawn(async move {
        // A client that asks for what is not there: `git` ends, and says so in its answer.
        let _ = stdin.write_all(&body).await;
    });
    // The child ends with the answer.
    let pieces = futures_util::stream::unfold((ReaderStream::new(stdout), child), |(mut out, child)| async {
        let piece = out.next().await?;
        Some((piece, (out, child)))
    });
    Ok(answer_as(Service::Upload, "result").streaming(pieces))
}

async fn push(
    control: Data<Control>,
    pusher: Pusher,
    payload: web::Payload,
) -> Result<HttpResponse, Refusal> {
    may_be_pushed_to(&control, &pusher.target).await.map_err(not_there)?;
    if let Some(problem) = crate::images::no_room(&control.blobs.local().root().join("incoming"), 0) {
        return Err(problem.into());
    }
    let mut body = StreamReader::new(payload.map_err(std::io::Error::other));
    let shared = control.into_inner();
    let taken = take(&shared, &pusher, &mut body, true).await.map_err(|refused| match refused {
        Refused::Push(error) => Refusal::new(StatusCode::BAD_REQUEST, error.to_string()),
        Refused::Platform(problem) => problem.into(),
    })?;
    let (output, sent) = Output::new();
    actix_web::rt::spawn(finish(shared, pusher, taken, output).in_current_span());
    let pieces = futures_util::stream::unfold(sent, |mut sent| async {
        let piece = sent.recv().await?;
        Some((Ok::<Bytes, std::convert::Infallible>(piece), sent))
    });
    Ok(answer_as(Service::Receive, "result").streaming(pieces))
}
