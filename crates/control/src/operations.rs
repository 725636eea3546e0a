//! The API's operations on the server.
//!
//! [`Operations::mount`] is the only way to mount a handler. The operation's type says who may call it, what it takes and
//! what it answers. Before the handler runs, the way that the path is written is checked, the caller is let in, the body is
//! held to its limits, and path, query and body are read, in this order. A path that no operation has is answered like one
//! that exists where a request shows no credential.

use std::collections::BTreeMap;
use std::future::Future;

use actix_web::cookie::Cookie;
use actix_web::dev::{HttpServiceFactory, Payload};
use actix_web::http::Method;
use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::web::{self, Bytes, Data};
use actix_web::{HttpMessage, HttpRequest, HttpResponse, Route};
use futures_util::StreamExt;
use mainyard_api::{
    AnswerKind, Binary, Body, Caller, Created, EventAnswer, JsonAnswer, JsonBody, LineAnswer, NoBody,
    NoContent, Operation, PageAnswer, Problem, REQUEST_ID, RawBody, StreamBody, TextAnswer, WAITS_UNTIL, Who,
};
use serde::Serialize;
use serde::de::DeserializeOwned;
use tracing::Instrument;
use tracing::field::Empty;

use crate::Control;
use crate::body_limits::{self, Watched, of_payload};
use crate::callers::{Admit, credential};
use crate::paths;
use crate::problem::{Refused, respond};

/// One call of an operation: all of it was read and is of the operation's types.
pub(crate) struct Call<O: Operation<Caller: Admit, Body: Read>> {
    /// The caller.
    pub caller: <O::Caller as Admit>::Admitted,
    /// The state that every handler gets.
    pub control: Data<Control>,
    /// The path parameters.
    pub path: O::Path,
    /// The query parameters.
    pub query: O::Query,
    /// The body.
    pub body: <O::Body as Read>::Given,
    /// The request, for its headers.
    pub request: HttpRequest,
    /// The request's id.
    pub request_id: String,
}

/// How a kind of body is read.
pub(crate) trait Read: Body {
    /// The handler's argument.
    type Given: 'static;

    /// Reads it.
    fn read(request: &HttpRequest, payload: Payload) -> impl Future<Output = Result<Self::Given, Problem>>;
}

impl Read for NoBody {
    type Given = ();

    async fn read(_: &HttpRequest, _: Payload) -> Result<(), Problem> {
        Ok(())
    }
}

impl Read for StreamBody {
    type Given = Payload;

    async fn read(_: &HttpRequest, payload: Payload) -> Result<Payload, Problem> {
        Ok(payload)
    }
}

impl Read for RawBody {
    type Given = Vec<u8>;

    async fn read(_: &HttpRequest, payload: Payload) -> Result<Vec<u8>, Problem> {
        read_all(payload).await
    }
}

impl<T: DeserializeOwned + 'static> Read for JsonBody<T>
where
    JsonBody<T>: Body,
{
    type Given = T;

    async fn read(request: &HttpRequest, payload: Payload) -> Result<T, Problem> {
        let media = request.content_type();
        if media != "application/json" {
            let found = if media.is_empty() { "without one".to_owned() } else { format!("as {media}") };
            return Err(Problem::invalid(format!(
                "the body came {found}; send it with the header Content-Type: application/json"
            )));
        }
        let text = read_all(payload).await?;
        serde_json::from_slice(&text).map_err(|error| unreadable(&error))
    }
}

/// The whole body.
async fn read_all(mut payload: Payload) -> Result<Vec<u8>, Problem> {
    let mut all = Vec::new();
    while let Some(piece) = payload.next().await {
        all.extend_from_slice(&piece.map_err(|error| of_payload(&error))?);
    }
    Ok(all)
}

/// Adds the position to an error of JSON syntax; an error about a value does not need it.
fn unreadable(error: &serde_json::Error) -> Problem {
    let words = error.to_string();
    Problem::invalid(match error.classify() {
        serde_json::error::Category::Data => words.split(" at line ").next().unwrap_or(&words).to_owned(),
        _ => format!("the body is not JSON: {words}"),
    })
}

/// How a kind of answer is sent.
pub(crate) trait Reply: AnswerKind {
    /// The handler's result.
    type Given;

    /// Makes the response of it.
    fn reply(given: Self::Given) -> HttpResponse;
}

impl<T: Serialize + 'static> Reply for JsonAnswer<T>
where
    JsonAnswer<T>: AnswerKind,
{
    type Given = T;

    fn reply(given: T) -> HttpResponse {
        HttpResponse::Ok().json(given)
    }
}

impl<T: 'static> Reply for LineAnswer<T>
where
    LineAnswer<T>: AnswerKind,
{
    type Given = HttpResponse;

    fn reply(given: HttpResponse) -> HttpResponse {
        given
    }
}

macro_rules! replies {
    ($($kind:ty: $given:ty => $reply:expr;)*) => {$(
        impl Reply for $kind {
            type Given = $given;

            fn reply(given: $given) -> HttpResponse {
                $reply(given)
            }
        }
    )*};
}
replies! {
    EventAnswer: HttpResponse => |given| given;
    TextAnswer: HttpResponse => |given| given;
    PageAnswer: HttpResponse => |given| given;
    Binary: HttpResponse => |given| given;
    NoContent: () => |()| HttpResponse::NoContent().finish();
    Created: () => |()| HttpResponse::Accepted().finish();
}

/// Headers that a handler may add to its answer.
struct NewCookie(Cookie<'static>);

impl<O: Operation<Caller: Admit, Body: Read>> Call<O> {
    /// Sends a cookie with the answer.
    pub(crate) fn send_cookie(&self, cookie: Cookie<'static>) {
        self.request.extensions_mut().insert(NewCookie(cookie));
    }
}

/// An operation as it is mounted.
#[derive(Clone, Copy)]
struct Mounted {
    method: mainyard_api::Method,
    path: &'static str,
    who: Who,
}

/// All operations that were mounted.
#[derive(Default)]
pub(crate) struct Operations {
    mounted: Vec<(Mounted, Route)>,
}

impl Operations {
    /// Mounts an operation's handler.
    pub(crate) fn mount<O, H, F>(&mut self, handler: H) -> &mut Operations
    where
        O: Operation<Caller: Admit, Body: Read, Answer: Reply>,
        H: Fn(Call<O>) -> F + Clone + 'static,
        F: Future<Output = Result<<O::Answer as Reply>::Given, Problem>> + 'static,
    {
        let operation = Mounted { method: O::METHOD, path: O::PATH, who: <O::Caller as Caller>::WHO };
        let route =
            web::method(http_method(O::METHOD)).to(move |request: HttpRequest, payload: web::Payload| {
                let handler = handler.clone();
                async move {
                    let (id, method, path) = (request_id(&request), O::METHOD, O::PATH);
                    let span = tracing::info_span!("request", id, %method, path, member = Empty);
                    answer_logged::<O, H, F>(handler, request, payload.into_inner(), id)
                        .instrument(span)
                        .await
                }
            });
        self.mounted.push((operation, route));
        self
    }

    /// Methods and paths of all, to hold them against the API's own list.
    #[cfg(test)]
    pub(crate) fn mounted(&self) -> std::collections::BTreeSet<(mainyard_api::Method, &'static str)> {
        self.mounted.iter().map(|(operation, _)| (operation.method, operation.path)).collect()
    }

    /// Hands them to a server.
    pub(crate) fn configure(self, app: &mut web::ServiceConfig) {
        let mut by_path: BTreeMap<&'static str, Vec<(Mounted, Route)>> = BTreeMap::new();
        for (operation, route) in self.mounted {
            by_path.entry(operation.path).or_default().push((operation, route));
        }
        let mut resources: Vec<_> = by_path.into_iter().collect();
        // The first that matches is taken, so a path goes before one that has a name in the same place.
        resources.sort_by_key(|(path, _)| (path.matches('{').count(), *path));
        for (path, routes) in resources {
            app.service(resource(path, routes));
        }
        app.service(web::scope("/api").default_service(web::to(unknown_path)));
    }
}

fn http_method(method: mainyard_api::Method) -> Method {
    match method {
        mainyard_api::Method::Get => Method::GET,
        mainyard_api::Method::Post => Method::POST,
        mainyard_api::Method::Put => Method::PUT,
        mainyard_api::Method::Patch => Method::PATCH,
        mainyard_api::Method::Delete => Method::DELETE,
    }
}

/// All operations at one path. A wrong method is explained only to a caller with a credential.
fn resource(path: &'static str, routes: Vec<(Mounted, Route)>) -> impl HttpServiceFactory + use<> {
    let methods: Vec<&str> = routes.iter().map(|(operation, _)| operation.method.word()).collect();
    let allow = methods.join(", ");
    let open = routes.iter().any(|(operation, _)| operation.who == Who::Anyone);
    let mut resource = web::resource(path);
    for (_, route) in routes {
        resource = resource.route(route);
    }
    resource.default_service(web::to(move |request: HttpRequest, control: Data<Control>| {
        let allow = allow.clone();
        async move {
            paths::written_plainly(request.uri().path(), path)?;
            if !open && credential(&request, &control).await?.is_none() {
                return Err(no_credential());
            }
            let mut answer = respond(&Problem::no_such_method(request.method().as_str(), &allow));
            let allow = actix_web::http::header::HeaderValue::from_str(&allow);
            if let Ok(allow) = allow {
                answer.headers_mut().insert(actix_web::http::header::ALLOW, allow);
            }
            Ok::<HttpResponse, Refused>(answer)
        }
    }))
}

fn no_credential() -> Refused {
    Refused(Problem::unauthorized("this needs a bearer token, or a session of the console"))
}

/// A path of the API that no operation has: 401 before 404, so that nothing is learnt without a credential.
async fn unknown_path(request: HttpRequest, control: Data<Control>) -> Result<HttpResponse, Refused> {
    let path = request.uri().path();
    paths::written_plainly(path, mainyard_api::PREFIX)?;
    match credential(&request, &control).await? {
        Some(_) => Err(Problem::not_found(format!("the API has nothing at {path}")).into()),
        None => Err(no_credential()),
    }
}

/// The id that a request brings, or a new one: 24 hexadecimal digits.
fn request_id(request: &HttpRequest) -> String {
    let given = request.headers().get(REQUEST_ID).and_then(|value| value.to_str().ok());
    let plain = |id: &&str| {
        (8..=64).contains(&id.len()) && id.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
    };
    given.filter(plain).map_or_else(|| format!("{:024x}", fastrand::u128(..) >> 32), str::to_owned)
}

/// Answers a request, and says in the log what came of it.
async fn answer_logged<O, H, F>(
    handler: H,
    request: HttpRequest,
    payload: Payload,
    id: String,
) -> HttpResponse
where
    O: Operation<Caller: Admit, Body: Read, Answer: Reply>,
    H: Fn(Call<O>) -> F,
    F: Future<Output = Result<<O::Answer as Reply>::Given, Problem>>,
{
    let began = std::time::Instant::now();
    let answer = answer::<O, H, F>(handler, request, payload, id.clone()).await;
    let micros = began.elapsed().as_micros() as u64;
    let mut answer = answer.unwrap_or_else(|problem| {
        if problem.status >= 500 {
            tracing::warn!(
                status = problem.status,
                micros,
                code = problem.code.word(),
                detail = problem.detail,
                "a request failed"
            );
        }
        respond(&problem)
    });
    let status = answer.status().as_u16();
    // What a person changes is reported always; what is only read, or comes from parts all the time, when it is asked for.
    if O::METHOD != mainyard_api::Method::Get && <O::Caller as Caller>::WHO == Who::Person {
        tracing::info!(status, micros, "answered");
    } else {
        tracing::debug!(status, micros, "answered");
    }
    if let Ok(id) = HeaderValue::from_str(&id) {
        answer.headers_mut().insert(HeaderName::from_static(REQUEST_ID), id);
    }
    answer
}

async fn answer<O, H, F>(
    handler: H,
    request: HttpRequest,
    payload: Payload,
    request_id: String,
) -> Result<HttpResponse, Problem>
where
    O: Operation<Caller: Admit, Body: Read, Answer: Reply>,
    H: Fn(Call<O>) -> F,
    F: Future<Output = Result<<O::Answer as Reply>::Given, Problem>>,
{
    let who = <O::Caller as Caller>::WHO;
    paths::written_plainly(request.uri().path(), O::PATH)?;
    let control = request.app_data::<Data<Control>>().cloned();
    let control = control.ok_or_else(|| Problem::unavailable("control is starting"))?;
    let token = match who {
        Who::Anyone => None,
        _ => credential(&request, &control).await?,
    };
    let caller = O::Caller::admit(token.as_ref(), &request)?;
    if let Some(token) = &token {
        tracing::Span::current().record("member", token.member.as_str());
    }
    if who != Who::Anyone {
        refuse_if_given_up(&request)?;
    }
    let payload = body_limits::limited(&request, payload, O::LIMITS)?;
    let path = request.match_info().load().map_err(|error| Problem::invalid(error.to_string()))?;
    let query = read_query::<O>(request.query_string())?;
    let body = O::Body::read(&request, payload).await?;
    let store = control.store.clone();
    let call = Call { caller, control, path, query, body, request: request.clone(), request_id };
    let mut answer = O::Answer::reply(handler(call).await?);
    if let Some(NewCookie(cookie)) = request.extensions_mut().remove::<NewCookie>() {
        answer.add_cookie(&cookie).map_err(|error| Problem::unavailable(error.to_string()))?;
    }
    // An answer that goes on for long ends when the credential that opened it does.
    Ok(match token {
        Some(token) if body_limits::is_stream(&answer) => {
            answer.map_body(|_, body| Watched::boxed(body, store, token))
        }
        _ => answer,
    })
}

/// Reads a query, and refuses what no text of the API may hold.
fn read_query<O: Operation>(written: &str) -> Result<O::Query, Problem> {
    if written.contains("%00") {
        return Err(Problem::invalid("the query holds U+0000 (%00), which the record cannot hold"));
    }
    let query = web::Query::<O::Query>::from_query(written).map_err(|error| of_query(&error))?.into_inner();
    mainyard_api::check_query::<O>(&query).map_err(Problem::invalid)?;
    Ok(query)
}

/// A query that cannot be read: what the reader says is enough, which one it was is of no interest.
fn of_query(error: &actix_web::error::QueryPayloadError) -> Problem {
    let words = error.to_string();
    Problem::invalid(words.split_once(" error: ").map_or(words.clone(), |(_, rest)| rest.to_owned()))
}

/// While control is away, calls lie in the listener's queue. Refuse one whose client has already timed out: it was
/// told that it failed, so it must not be done after all.
fn refuse_if_given_up(request: &HttpRequest) -> Result<(), Problem> {
    let until = request.headers().get(WAITS_UNTIL).and_then(|value| value.to_str().ok()?.parse::<i64>().ok());
    match until {
        Some(until) if jiff::Timestamp::now().as_millisecond() > until => Err(Problem::given_up()),
        _ => Ok(()),
    }
}

/// Lines as they come, for as long as there are any.
pub(crate) fn lines(lines: impl futures_util::Stream<Item = Bytes> + 'static) -> HttpResponse {
    let lines = lines.map(Ok::<_, std::convert::Infallible>);
    HttpResponse::Ok().content_type("application/x-ndjson").streaming(lines)
}
