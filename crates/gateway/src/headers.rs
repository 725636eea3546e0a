//! A request's and an answer's headers on their way through (RFC 9110, section 7.6).

use http::header::{CONNECTION, HOST, HeaderName, HeaderValue, TE, TRAILER, UPGRADE};
use http::{HeaderMap, Method, Request, StatusCode, Uri};
use http_body_util::{Either, Empty};
use hyper::body::Incoming;
use mainyard_core::model::{Reason, ReasonCode};

use crate::arrival::{Arrival, RequestBody};

/// The request's id, in and out.
pub const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");
const FORWARDED_FOR: HeaderName = HeaderName::from_static("x-forwarded-for");
const FORWARDED_PROTO: HeaderName = HeaderName::from_static("x-forwarded-proto");
const FORWARDED_HOST: HeaderName = HeaderName::from_static("x-forwarded-host");
const KEEP_ALIVE: HeaderName = HeaderName::from_static("keep-alive");
const PROXY_CONNECTION: HeaderName = HeaderName::from_static("proxy-connection");

/// The protocol that a request asks to change to.
pub fn wanted_upgrade(headers: &HeaderMap) -> Option<HeaderValue> {
    let asked = headers.get(CONNECTION)?.to_str().ok()?;
    let asks = asked.split(',').any(|token| token.trim().eq_ignore_ascii_case("upgrade"));
    headers.get(UPGRADE).filter(|_| asks).cloned()
}

/// Headers that belong to one connection (RFC 9110, section 7.6.1) go no further.
pub fn strip_hop_by_hop(headers: &mut HeaderMap) {
    let named: Vec<HeaderName> = headers
        .get_all(CONNECTION)
        .iter()
        .filter_map(|value| value.to_str().ok())
        .flat_map(|list| list.split(','))
        .filter_map(|name| name.trim().parse().ok())
        .collect();
    for name in named.iter().chain(&[CONNECTION, KEEP_ALIVE, PROXY_CONNECTION, TE, TRAILER, UPGRADE]) {
        headers.remove(name);
    }
}

/// The request as the replica gets it: its own hop's headers, where it came from, its id.
pub fn prepare(
    request: Request<Incoming>,
    arrival: Arrival,
    id: &HeaderValue,
    upgrade: Option<&HeaderValue>,
) -> Result<Request<RequestBody>, (StatusCode, Reason)> {
    let (mut head, body) = request.into_parts();
    let bad = |sentence: &str| (StatusCode::BAD_REQUEST, Reason::new(ReasonCode::BadRequest, sentence));
    if head.method == Method::CONNECT {
        return Err((
            StatusCode::NOT_IMPLEMENTED,
            Reason::new(ReasonCode::BadRequest, "CONNECT is not offered"),
        ));
    }
    if let Some(authority) = head.uri.authority().map(|authority| authority.as_str().to_owned()) {
        let host = HeaderValue::from_str(&authority).map_err(|_| bad("the host cannot be read"))?;
        head.headers.insert(HOST, host);
    }
    let path = head.uri.path_and_query().map_or("/", |path| path.as_str());
    head.uri = path.parse::<Uri>().map_err(|_| bad("the path cannot be read"))?;
    head.version = http::Version::HTTP_11;
    strip_hop_by_hop(&mut head.headers);
    if let Some(protocol) = upgrade {
        head.headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
        head.headers.insert(UPGRADE, protocol.clone());
    }
    if arrival.inside.is_none() {
        let host = head.headers.get(HOST).cloned();
        let peer = arrival.peer.ip().to_string();
        head.headers.insert(FORWARDED_FOR, HeaderValue::from_str(&peer).map_err(|_| bad("no peer"))?);
        head.headers
            .insert(FORWARDED_PROTO, HeaderValue::from_static(if arrival.secure { "https" } else { "http" }));
        if let Some(host) = host {
            head.headers.insert(FORWARDED_HOST, host);
        }
    }
    head.headers.insert(REQUEST_ID, id.clone());
    Ok(Request::from_parts(head, Either::Left(body)))
}

/// The same request once more, for one that has no body.
pub fn copy_without_body(request: &Request<RequestBody>) -> Request<RequestBody> {
    let mut copy = Request::new(Either::Right(Empty::new()));
    *copy.method_mut() = request.method().clone();
    *copy.uri_mut() = request.uri().clone();
    *copy.headers_mut() = request.headers().clone();
    copy
}
