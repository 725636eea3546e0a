//! Where a request leads: from its host, or from the address inside that was dialled, to a service.

use std::net::IpAddr;
use std::sync::Arc;

use http::header::HOST;
use http::{Request, StatusCode};
use hyper::body::Incoming;
use mainyard_core::address::environment_of;
use mainyard_core::model::{Reason, ReasonCode};

use crate::arrival::Arrival;
use crate::serving::{Service, Serving};

/// Where a request goes.
pub struct Lead {
    /// The service.
    pub service: Arc<Service>,
    /// Its port.
    pub port: u16,
    /// The host, or service and port for callers inside.
    pub way: Arc<str>,
    /// Whether the caller was inside.
    pub inside: bool,
}

/// From host or inside address to the service.
pub fn lead(
    serving: &Serving,
    worker: usize,
    request: &Request<Incoming>,
    arrival: Arrival,
) -> Result<Lead, (StatusCode, Reason)> {
    let routing = serving.routing();
    if let Some(called) = arrival.inside {
        let address = called.address;
        let service = routing.inside.get(&address).cloned().ok_or_else(|| {
            let sentence = format!("no service has the address {address}");
            (StatusCode::MISDIRECTED_REQUEST, Reason::new(ReasonCode::NoSuchHost, sentence))
        })?;
        // An address of the range can be dialled by every replica of the node; only its own environment's are let in.
        let caller = match arrival.peer.ip() {
            IpAddr::V4(peer) => environment_of(peer),
            IpAddr::V6(_) => None,
        };
        if called.told_apart && caller != Some(service.environment) {
            let sentence = format!("{} takes callers of its own environment only", service.target);
            return Err((StatusCode::FORBIDDEN, Reason::new(ReasonCode::NotOpenToCaller, sentence)));
        }
        let way = format!("{}:{}", service.target.name, called.port).into();
        return Ok(Lead { service, port: called.port, way, inside: true });
    }
    let host = host_of(request).ok_or_else(|| {
        let reason = Reason::new(ReasonCode::BadRequest, "the request names no host, or more than one");
        (StatusCode::BAD_REQUEST, reason)
    })?;
    let Some(found) = routing.hosts.get(&host) else {
        let sentence = format!("no route has the host {host}");
        return Err((StatusCode::NOT_FOUND, Reason::new(ReasonCode::NoSuchHost, sentence)));
    };
    let turn = if found.services.len() == 1 { 0 } else { found.turns.next(worker) };
    let chosen = found.spread.pick(turn).and_then(|place| found.services.get(place));
    let service = chosen.cloned().ok_or_else(|| {
        let sentence = format!("every share of the route {host} is zero");
        (StatusCode::SERVICE_UNAVAILABLE, Reason::new(ReasonCode::AllSharesZero, sentence))
    })?;
    let port = service.ports.keys().next().copied().unwrap_or(80);
    Ok(Lead { service, port, way: Arc::clone(&found.name), inside: false })
}

/// The one host that a request is for, in lower case and without its port.
fn host_of(request: &Request<Incoming>) -> Option<String> {
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
