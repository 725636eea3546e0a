//! Finds the service for a request: from its host and path, or from the address inside that was dialled.

use std::net::IpAddr;
use std::sync::Arc;

use http::header::HOST;
use http::{Request, StatusCode};
use hyper::body::Incoming;
use mainyard_core::address::environment_of;
use mainyard_core::model::ReasonCode;
use mainyard_core::routing::{MatchInput, NoRoute, plain_path};

use crate::arrival::{Arrival, Called};
use crate::cors;
use crate::counts;
use crate::rejections::Refused;
use crate::route::Route;
use crate::service::{Cell, Service};
use crate::serving::Serving;

/// The destination of a request.
pub(crate) struct Destination {
    /// The route, for visitors from outside.
    pub route: Option<Arc<Route>>,
    /// The route's host and path, or service and port for callers inside.
    pub way: Arc<str>,
    /// Whether the caller was inside.
    pub inside: bool,
    /// The service, as the place that holds it.
    pub cell: Arc<Cell>,
    /// The service, as it was when the request came.
    pub service: Arc<Service>,
    /// Its port.
    pub port: u16,
    /// The path, with the query, as it is sent on.
    pub path: String,
}

impl Destination {
    /// The labels it is counted under.
    pub(crate) fn by(&self) -> counts::EntryPoint {
        counts::EntryPoint { name: Arc::clone(&self.way), inside: self.inside }
    }
}

/// The request's path, in the forms in which it is forwarded and compared.
struct PathForms {
    onward: String,
    compared: String,
}

fn path_forms(request: &Request<Incoming>) -> Result<PathForms, Refused> {
    // `OPTIONS *` asks about the server as a whole (RFC 9110, section 9.3.7).
    let asked = request.uri().path();
    if asked == "*" && request.method() == http::Method::OPTIONS {
        return Ok(PathForms { onward: "*".to_owned(), compared: "/".to_owned() });
    }
    let plain = plain_path(if asked.is_empty() { "/" } else { asked }).map_err(Refused::bad)?;
    Ok(PathForms { onward: plain.onward.into_owned(), compared: plain.compared.into_owned() })
}

fn with_query(path: String, request: &Request<Incoming>) -> String {
    match request.uri().query() {
        Some(query) => format!("{path}?{query}"),
        None => path,
    }
}

/// The route of a visitor's request.
pub(crate) fn route(
    serving: &Serving,
    request: &Request<Incoming>,
) -> Result<(Arc<Route>, String, String), Refused> {
    let host = host_of(request).ok_or_else(|| Refused::bad("the request names no host, or more than one"))?;
    let way = path_forms(request)?;
    let routing = serving.routing();
    let header = |name: &str| request.headers().get(name).map(http::HeaderValue::as_bytes);
    let wanted = cors::asked_method(request);
    let asked = |method| MatchInput { host: &host, path: &way.compared, method, header };
    // A browser that asks whether it may is answered by the route that would take the request itself.
    if let Some(method) = &wanted
        && let Ok(route) = routing.finder.find(&asked(method.as_str()))
        && route.spec.cors.is_some()
    {
        return Ok((Arc::clone(route), way.onward, way.compared));
    }
    let found =
        routing.finder.find(&asked(request.method().as_str())).cloned().map_err(|none| match none {
            NoRoute::Host => Refused::new(
                StatusCode::NOT_FOUND,
                ReasonCode::NoSuchHost,
                format!("no route has the host {host}"),
            ),
            NoRoute::Path(_) => Refused::new(
                StatusCode::NOT_FOUND,
                ReasonCode::PathNotMatched,
                format!("no route of {host} takes the path {}", way.compared),
            ),
            NoRoute::Method(methods) => {
                let methods: Vec<String> = methods.into_iter().collect();
                let sentence = format!("{host}{} takes {}", way.compared, methods.join(", "));
                Refused::new(StatusCode::METHOD_NOT_ALLOWED, ReasonCode::MethodNotTaken, sentence)
                    .allow(&methods.join(", "))
            }
            NoRoute::Headers(_) => Refused::new(
                StatusCode::NOT_FOUND,
                ReasonCode::HeaderNotMatched,
                format!(
                    "every route of {host}{} asks for a header that the request does not have",
                    way.compared
                ),
            ),
        })?;
    Ok((found, way.onward, way.compared))
}

/// From the route to one of its services, whose turn it is.
pub(crate) fn through(
    route: Arc<Route>,
    worker: usize,
    request: &Request<Incoming>,
    onward: String,
    compared: &str,
) -> Result<Destination, Refused> {
    let (cell, port) = leg(&route, worker)?;
    let service = cell.now().ok_or_else(|| service_gone(&route))?;
    let path = with_query(route.rewritten(compared).unwrap_or(onward), request);
    Ok(Destination {
        way: Arc::clone(&route.at),
        inside: false,
        cell,
        service,
        port,
        path,
        route: Some(route),
    })
}

/// The service whose turn it is, by share.
pub(crate) fn leg(route: &Route, worker: usize) -> Result<(Arc<Cell>, u16), Refused> {
    let unavailable = |code, sentence| Refused::new(StatusCode::SERVICE_UNAVAILABLE, code, sentence);
    let turn = if route.legs.len() == 1 { 0 } else { route.turns.next(worker) };
    let chosen = route.spread.pick(turn).and_then(|place| route.legs.get(place));
    match chosen {
        Some((cell, port)) => Ok((Arc::clone(cell), *port)),
        None if route.legs.is_empty() => Err(service_gone(route)),
        None => {
            let sentence = format!("every share of the route {} is zero", route.at);
            Err(unavailable(ReasonCode::AllSharesZero, sentence))
        }
    }
}

fn service_gone(route: &Route) -> Refused {
    let sentence = format!("the route {} leads to a service that is not there", route.at);
    Refused::new(StatusCode::SERVICE_UNAVAILABLE, ReasonCode::ServiceMissing, sentence)
}

/// The service that a caller inside dialled, where it is let in.
pub(crate) fn called(
    serving: &Serving,
    called: Called,
    arrival: Arrival,
) -> Result<(Arc<Cell>, Arc<Service>), Refused> {
    let address = called.address;
    let routing = serving.routing();
    let cell = routing.inside.get(&address).cloned();
    let found = cell.and_then(|cell| cell.now().map(|service| (cell, service)));
    let (cell, service) = found.ok_or_else(|| {
        let sentence = format!("no service has the address {address}");
        Refused::new(StatusCode::MISDIRECTED_REQUEST, ReasonCode::NoSuchHost, sentence)
    })?;
    // An address of the range can be dialled by every replica of the node; only environments it is open to are let in.
    let caller = match arrival.peer.ip() {
        IpAddr::V4(peer) => environment_of(peer),
        IpAddr::V6(_) => None,
    };
    if called.told_apart && !caller.is_some_and(|caller| service.callers.contains(&caller)) {
        let open = "callers of its own environment, and of those in its `open_to`";
        let sentence = format!("{} takes {open}", service.target);
        return Err(Refused::new(StatusCode::FORBIDDEN, ReasonCode::NotOpenToCaller, sentence));
    }
    Ok((cell, service))
}

/// The destination for a caller inside.
pub(crate) fn inside(
    serving: &Serving,
    request: &Request<Incoming>,
    dialled: Called,
    arrival: Arrival,
) -> Result<Destination, Refused> {
    let (cell, service) = called(serving, dialled, arrival)?;
    let path = with_query(path_forms(request)?.onward, request);
    let way = format!("{}:{}", service.target.name, dialled.port).into();
    Ok(Destination { route: None, way, inside: true, cell, service, port: dialled.port, path })
}

/// The one host that a request is for, in lower case and without its port.
pub(crate) fn host_of(request: &Request<Incoming>) -> Option<String> {
    let mut hosts = request.headers().get_all(HOST).iter();
    let header = hosts.next().map(|value| value.to_str());
    if hosts.next().is_some() {
        return None;
    }
    let authority = match (request.uri().authority(), header) {
        (Some(authority), _) => authority.as_str(),
        (None, Some(Ok(text))) => text,
        _ => return None,
    };
    let host = match authority.rsplit_once(':') {
        Some((host, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) => host,
        _ => authority,
    };
    (!host.is_empty()).then(|| host.trim_end_matches('.').to_ascii_lowercase())
}
