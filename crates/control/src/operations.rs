//! The API's operations, each mounted with who may call it and how much it may send.
//!
//! [`Operations::add`] is the only way to mount a handler. It takes handlers whose first argument is a
//! [`Caller`], checks how the path is written, lets the caller in, holds the body to its limits, and only then
//! reads the arguments. A path that no operation has is answered like one that exists where a request shows no
//! credential.

use std::collections::BTreeMap;
use std::sync::Arc;

use actix_web::dev::{HttpServiceFactory, Payload};
use actix_web::http::Method;
use actix_web::web::{self, Data};
use actix_web::{
    FromRequest, Handler, HttpMessage, HttpRequest, HttpResponse, Responder, ResponseError, Route,
};
use serde::Serialize;

use crate::Control;
pub use crate::body_limits::Limits;
use crate::body_limits::{self, Watched};
use crate::callers::{Caller, CallerFirst, Who, credential};
use crate::paths;
use crate::problem::Problem;

/// Where the API is.
pub const PREFIX: &str = "/api/v1";

/// An operation, as the OpenAPI document and `docs/security.md` tell of it.
#[derive(Debug, Clone, Serialize)]
pub struct Operation {
    /// The method.
    #[serde(serialize_with = "method_name")]
    pub method: Method,
    /// The path, with names in braces.
    pub path: String,
    /// Who may call it.
    pub who: Who,
    /// What a call may send.
    pub limits: Limits,
}

fn method_name<S: serde::Serializer>(method: &Method, to: S) -> Result<S::Ok, S::Error> {
    to.serialize_str(method.as_str())
}

/// All operations that were mounted.
#[derive(Default)]
pub struct Operations {
    mounted: Vec<(Arc<Operation>, Route)>,
}

impl Operations {
    /// Mounts a handler at a path below [`PREFIX`].
    pub fn add<H, Args>(&mut self, method: Method, path: &str, limits: Limits, handler: H) -> &mut Operations
    where
        H: Handler<Args>,
        Args: FromRequest + CallerFirst + 'static,
        H::Output: Responder + 'static,
    {
        self.at(method, format!("{PREFIX}{path}"), limits, handler)
    }

    /// Mounts a handler at a path of the whole server: only for what a browser opens itself.
    pub fn at<H, Args>(&mut self, method: Method, path: String, limits: Limits, handler: H) -> &mut Operations
    where
        H: Handler<Args>,
        Args: FromRequest + CallerFirst + 'static,
        H::Output: Responder + 'static,
    {
        let operation = Arc::new(Operation { method: method.clone(), path, who: Args::Caller::WHO, limits });
        let mounted = Arc::clone(&operation);
        let route = web::method(method).to(move |request: HttpRequest, payload: web::Payload| {
            let (operation, handler) = (Arc::clone(&mounted), handler.clone());
            async move {
                let answer = call(&operation, handler, request, payload.into_inner()).await;
                answer.unwrap_or_else(|problem| problem.error_response())
            }
        });
        self.mounted.push((operation, route));
        self
    }

    /// Without a body.
    pub fn get<H, Args>(&mut self, path: &str, handler: H) -> &mut Operations
    where
        H: Handler<Args>,
        Args: FromRequest + CallerFirst + 'static,
        H::Output: Responder + 'static,
    {
        self.add(Method::GET, path, Limits::NONE, handler)
    }

    /// With a small JSON document, or none.
    pub fn post<H, Args>(&mut self, path: &str, handler: H) -> &mut Operations
    where
        H: Handler<Args>,
        Args: FromRequest + CallerFirst + 'static,
        H::Output: Responder + 'static,
    {
        self.add(Method::POST, path, Limits::SMALL, handler)
    }

    /// Without a body.
    pub fn delete<H, Args>(&mut self, path: &str, handler: H) -> &mut Operations
    where
        H: Handler<Args>,
        Args: FromRequest + CallerFirst + 'static,
        H::Output: Responder + 'static,
    {
        self.add(Method::DELETE, path, Limits::NONE, handler)
    }

    /// Every operation, for documents and tests.
    pub fn list(&self) -> Vec<Operation> {
        self.mounted.iter().map(|(operation, _)| Operation::clone(operation)).collect()
    }

    /// Hands them to a server.
    pub fn configure(self, app: &mut web::ServiceConfig) {
        let mut by_path: BTreeMap<String, Vec<(Arc<Operation>, Route)>> = BTreeMap::new();
        for (operation, route) in self.mounted {
            by_path.entry(operation.path.clone()).or_default().push((operation, route));
        }
        let mut resources: Vec<_> = by_path.into_iter().collect();
        // The first that matches is taken, so a path goes before one that has a name in the same place.
        resources.sort_by_key(|(path, _)| (path.matches('{').count(), path.clone()));
        for (path, routes) in resources {
            app.service(resource(&path, routes));
        }
        app.service(web::scope("/api").default_service(web::to(unknown_path)));
    }
}

/// All operations at one path. A method that it does not have is told only to a caller with a credential.
fn resource(path: &str, routes: Vec<(Arc<Operation>, Route)>) -> impl HttpServiceFactory + use<> {
    let methods: Vec<&str> = routes.iter().map(|(operation, _)| operation.method.as_str()).collect();
    let allow = methods.join(", ");
    let open = routes.iter().any(|(operation, _)| operation.who == Who::Anyone);
    let pattern = path.to_owned();
    let mut resource = web::resource(path);
    for (_, route) in routes {
        resource = resource.route(route);
    }
    resource.default_service(web::to(move |request: HttpRequest, control: Data<Control>| {
        let (allow, pattern) = (allow.clone(), pattern.clone());
        async move {
            paths::written_plainly(request.uri().path(), &pattern)?;
            if !open && credential(&request, &control).await?.is_none() {
                return Err(Problem::unauthorized("this needs a bearer token, or a session of the console"));
            }
            let problem = Problem::no_such_method(request.method().as_str(), &allow);
            let mut answer = problem.error_response();
            let allow = actix_web::http::header::HeaderValue::from_str(&allow);
            if let Ok(allow) = allow {
                answer.headers_mut().insert(actix_web::http::header::ALLOW, allow);
            }
            Ok::<HttpResponse, Problem>(answer)
        }
    }))
}

/// A path of the API that no operation has: 401 before 404, so that nothing is learnt without a credential.
pub async fn unknown_path(request: HttpRequest, control: Data<Control>) -> Result<HttpResponse, Problem> {
    let path = request.uri().path();
    paths::written_plainly(path, PREFIX)?;
    match credential(&request, &control).await? {
        Some(_) => Err(Problem::not_found(format!("the API has nothing at {path}"))),
        None => Err(Problem::unauthorized("this needs a bearer token, or a session of the console")),
    }
}

async fn call<H, Args>(
    operation: &Operation,
    handler: H,
    request: HttpRequest,
    payload: Payload,
) -> Result<HttpResponse, Problem>
where
    H: Handler<Args>,
    Args: FromRequest + CallerFirst + 'static,
    H::Output: Responder + 'static,
{
    paths::written_plainly(request.uri().path(), &operation.path)?;
    let control = request.app_data::<Data<Control>>().cloned();
    let control = control.ok_or_else(|| Problem::unavailable("control is starting"))?;
    let token = match operation.who {
        Who::Anyone => None,
        _ => credential(&request, &control).await?,
    };
    let caller = <Args::Caller as Caller>::admit(token.as_ref(), &request)?;
    request.extensions_mut().insert(caller);
    if operation.who != Who::Anyone {
        refuse_if_given_up(&request)?;
    }
    let mut payload = body_limits::limited(&request, payload, operation.limits)?;
    let arguments = Args::from_request(&request, &mut payload).await;
    let arguments = arguments.map_err(|error| as_problem(error.into()))?;
    let answer = handler.call(arguments).await.respond_to(&request).map_into_boxed_body();
    // An answer that goes on for long ends when the credential that opened it does.
    Ok(match token {
        Some(token) if body_limits::is_stream(&answer) => {
            answer.map_body(|_, body| Watched::boxed(body, control.store.clone(), token))
        }
        _ => answer,
    })
}

/// What an extractor says, as a problem document.
fn as_problem(error: actix_web::Error) -> Problem {
    match error.as_error::<Problem>() {
        Some(problem) => problem.clone(),
        None => Problem::of_status(error.as_response_error().status_code(), error.to_string()),
    }
}

/// Until when the caller waits, in milliseconds since 1970 UTC.
const WAITS_UNTIL: &str = "mainyard-waits-until";

/// While control is away, calls lie in the listener's queue. Refuse one whose client has already timed out: it was
/// told that it failed, so it must not be done after all.
fn refuse_if_given_up(request: &HttpRequest) -> Result<(), Problem> {
    let until = request.headers().get(WAITS_UNTIL).and_then(|value| value.to_str().ok()?.parse::<i64>().ok());
    match until {
        Some(until) if jiff::Timestamp::now().as_millisecond() > until => Err(Problem::given_up()),
        _ => Ok(()),
    }
}
