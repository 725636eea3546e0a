//! A request's and an answer's headers on their way through (RFC 9110, section 7.6; RFC 7239; W3C Trace Context).

use std::net::IpAddr;

use http::header::{
    CONNECTION, CONTENT_LENGTH, COOKIE, FORWARDED, HOST, HeaderName, HeaderValue, SET_COOKIE, TE, TRAILER,
    TRANSFER_ENCODING, UPGRADE,
};
use http::{HeaderMap, Method, Request, StatusCode, Uri};
use mainyard_core::model::ReasonCode;

use crate::arrival::Arrival;
use crate::body::RequestBody;
use crate::destination::Destination;
use crate::pages;
use crate::rejections::Refused;
use crate::tls::VisitorTls;

/// The request's id, in and out.
pub(crate) const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");
const FORWARDED_FOR: HeaderName = HeaderName::from_static("x-forwarded-for");
const FORWARDED_PROTO: HeaderName = HeaderName::from_static("x-forwarded-proto");
const FORWARDED_HOST: HeaderName = HeaderName::from_static("x-forwarded-host");
const FORWARDED_PORT: HeaderName = HeaderName::from_static("x-forwarded-port");
const FORWARDED_PREFIX: HeaderName = HeaderName::from_static("x-forwarded-prefix");
/// Headers for the service that authorizes a request.
pub(crate) const ASKED_METHOD: HeaderName = HeaderName::from_static("x-forwarded-method");
pub(crate) const ASKED_PATH: HeaderName = HeaderName::from_static("x-forwarded-uri");
const REAL_ADDRESS: HeaderName = HeaderName::from_static("x-real-ip");
const TRACE_PARENT: HeaderName = HeaderName::from_static("traceparent");
const TRACE_STATE: HeaderName = HeaderName::from_static("tracestate");
const KEEP_ALIVE: HeaderName = HeaderName::from_static("keep-alive");
const PROXY_CONNECTION: HeaderName = HeaderName::from_static("proxy-connection");

/// The certificate that a visitor showed (RFC 9440), and its subject in words.
const CLIENT_CERT: HeaderName = HeaderName::from_static("client-cert");
const CLIENT_CERT_CHAIN: HeaderName = HeaderName::from_static("client-cert-chain");
const CLIENT_SUBJECT: HeaderName = HeaderName::from_static("client-cert-subject");

/// Headers that name a request's origin: a visitor's own are never trusted.
const ACCOUNT: [HeaderName; 12] = [
    CLIENT_CERT,
    CLIENT_CERT_CHAIN,
    CLIENT_SUBJECT,
    FORWARDED,
    FORWARDED_FOR,
    FORWARDED_PROTO,
    FORWARDED_HOST,
    FORWARDED_PORT,
    FORWARDED_PREFIX,
    REAL_ADDRESS,
    ASKED_METHOD,
    ASKED_PATH,
];

/// The protocol that a request asks to change to: WebSocket (RFC 6455) and no other. One that carries requests of its own
/// would take them past everything that is looked at here.
pub(crate) fn wanted_upgrade(headers: &HeaderMap) -> Option<HeaderValue> {
    let asked = headers.get(CONNECTION)?.to_str().ok()?;
    let asks = asked.split(',').any(|token| token.trim().eq_ignore_ascii_case("upgrade"));
    let named = headers.get(UPGRADE).filter(|named| named.as_bytes().eq_ignore_ascii_case(b"websocket"));
    named.filter(|_| asks).cloned()
}

/// Headers that belong to one connection (RFC 9110, section 7.6.1) go no further.
pub(crate) fn strip_hop_by_hop(headers: &mut HeaderMap) {
    // What frames and leads a message is not a connection's own, whatever the sender says.
    let mine = |name: &HeaderName| *name != HOST && *name != CONTENT_LENGTH;
    let named: Vec<HeaderName> = headers
        .get_all(CONNECTION)
        .iter()
        .filter_map(|value| value.to_str().ok())
        .flat_map(|list| list.split(','))
        .filter_map(|name| name.trim().parse().ok())
        .filter(mine)
        .collect();
    for name in named.iter().chain(&[CONNECTION, KEEP_ALIVE, PROXY_CONNECTION, TE, TRAILER, UPGRADE]) {
        headers.remove(name);
    }
}

/// Whether a visitor takes what comes after a body (RFC 9110, section 10.1.4).
pub(crate) fn takes_trailers(headers: &HeaderMap) -> bool {
    let listed = headers.get_all(TE).iter().filter_map(|value| value.to_str().ok());
    listed.flat_map(|list| list.split(',')).any(|word| word.trim().eq_ignore_ascii_case("trailers"))
}

/// An id that a caller inside gave, where it is one that can be searched for.
pub(crate) fn given_id(headers: &HeaderMap) -> Option<HeaderValue> {
    let id = headers.get(REQUEST_ID)?;
    let fits = (8..=64).contains(&id.len())
        && id.as_bytes().iter().all(|byte| byte.is_ascii_alphanumeric() || b"-_.".contains(byte));
    fits.then(|| id.clone())
}

/// The request as the replica gets it: its own hop's headers, where it came from, its id, its place in a trace.
pub(crate) fn prepare(
    head: &mut http::request::Parts,
    arrival: Arrival,
    lead: &Destination,
    (id, visitor): (&HeaderValue, Option<&VisitorTls>),
    upgrade: Option<&HeaderValue>,
) -> Result<(), Refused> {
    if head.method == Method::CONNECT {
        let sentence = "CONNECT is not offered";
        return Err(Refused::new(StatusCode::NOT_IMPLEMENTED, ReasonCode::BadRequest, sentence));
    }
    if let Some(authority) = head.uri.authority().map(|authority| authority.as_str().to_owned()) {
        let host = HeaderValue::from_str(&authority).map_err(|_| Refused::bad("the host cannot be read"))?;
        head.headers.insert(HOST, host);
    }
    if head.uri.path_and_query().is_none_or(|given| given.as_str() != lead.path)
        || head.uri.authority().is_some()
    {
        head.uri = lead.path.parse::<Uri>().map_err(|_| Refused::bad("the path cannot be read"))?;
    }
    head.version = http::Version::HTTP_11;
    strip_hop_by_hop(&mut head.headers);
    // Framing goes on in one form, however it was written.
    if head.headers.contains_key(TRANSFER_ENCODING) {
        head.headers.insert(TRANSFER_ENCODING, HeaderValue::from_static("chunked"));
    } else if let Some(length) = length_of(&head.headers) {
        head.headers.insert(CONTENT_LENGTH, length.into());
    }
    // The visitor was told to go on; the replica gets the body in any case.
    head.headers.remove(http::header::EXPECT);
    if let Some(protocol) = upgrade {
        head.headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
        head.headers.insert(UPGRADE, protocol.clone());
    }
    clean(&mut head.headers, arrival, visitor);
    trace(&mut head.headers);
    head.headers.insert(REQUEST_ID, id.clone());
    if let Some(route) = &lead.route {
        route.request.apply(&mut head.headers);
    }
    Ok(())
}

/// Prepares a request's headers for every program behind the gateway, a replica as well as a service that authorizes
/// requests: sets the gateway's own word on where the request comes from, and removes the platform's cookies.
pub(crate) fn clean(headers: &mut HeaderMap, arrival: Arrival, visitor: Option<&VisitorTls>) {
    remove_platform_cookies(headers);
    if arrival.inside.is_none() {
        account(headers, arrival);
    }
    if let Some(shown) = visitor.and_then(|visitor| visitor.shown.as_ref()) {
        headers.insert(CLIENT_CERT, shown.header.clone());
        if let Some(subject) = &shown.subject {
            headers.insert(CLIENT_SUBJECT, subject.clone());
        }
    }
}

/// Text that the names of the console's session cookies contain.
const SESSION: &[u8] = b"mainyard-session-";

/// Cookies ignore ports, so a browser sends the console's session to every host and port of the same machine.
fn remove_platform_cookies(headers: &mut HeaderMap) {
    let holds = |value: &HeaderValue| value.as_bytes().windows(SESSION.len()).any(|part| part == SESSION);
    if !headers.get_all(COOKIE).iter().any(holds) {
        return;
    }
    let cookies: Vec<HeaderValue> = headers.get_all(COOKIE).iter().cloned().collect();
    headers.remove(COOKIE);
    for value in cookies {
        let kept: Vec<&[u8]> = value
            .as_bytes()
            .split(|byte| *byte == b';')
            .map(<[u8]>::trim_ascii)
            .filter(|pair| !pair.is_empty() && !is_session(pair))
            .collect();
        if let Ok(value) = HeaderValue::from_bytes(&kept.join(&b"; "[..]))
            && !value.is_empty()
        {
            headers.append(COOKIE, value);
        }
    }
}

/// A pair of name and value that is the console's session.
fn is_session(pair: &[u8]) -> bool {
    let name = pair.split(|byte| *byte == b'=').next().unwrap_or_default();
    let name = name.to_ascii_lowercase();
    name.strip_prefix(b"__host-").unwrap_or(&name).starts_with(SESSION)
}

/// A replica cannot put a session of its own choosing into a visitor's browser.
pub(crate) fn remove_session_cookies(headers: &mut HeaderMap) {
    if !headers.get_all(SET_COOKIE).iter().any(|value| is_session(value.as_bytes().trim_ascii())) {
        return;
    }
    let all: Vec<HeaderValue> = headers.get_all(SET_COOKIE).iter().cloned().collect();
    headers.remove(SET_COOKIE);
    for value in all.into_iter().filter(|value| !is_session(value.as_bytes().trim_ascii())) {
        headers.append(SET_COOKIE, value);
    }
}

/// Sets the caller, host and scheme, in the standard's form and in the older one.
fn account(headers: &mut HeaderMap, arrival: Arrival) {
    for name in &ACCOUNT {
        headers.remove(name);
    }
    let host = headers.get(HOST).cloned();
    let proto = if arrival.secure { "https" } else { "http" };
    let peer = arrival.peer.ip().to_canonical();
    let node = match peer {
        IpAddr::V4(peer) => peer.to_string(),
        IpAddr::V6(peer) => format!("\"[{peer}]\""),
    };
    let named = host.as_ref().and_then(|host| host.to_str().ok());
    let named = named.map(|host| format!(";host=\"{host}\"")).unwrap_or_default();
    if let Ok(value) = HeaderValue::from_str(&format!("for={node}{named};proto={proto}")) {
        headers.insert(FORWARDED, value);
    }
    if let Ok(value) = HeaderValue::from_str(&peer.to_string()) {
        headers.insert(FORWARDED_FOR, value);
    }
    headers.insert(FORWARDED_PROTO, HeaderValue::from_static(proto));
    if let Some(host) = host {
        headers.insert(FORWARDED_HOST, host);
    }
}

/// A trace is passed on; one that cannot be read, or that there is not, is begun.
fn trace(headers: &mut HeaderMap) {
    let mut given = headers.get_all(TRACE_PARENT).iter();
    let first = given.next().is_some_and(|value| is_trace_parent(value.as_bytes()));
    if !first || given.next().is_some() {
        headers.remove(TRACE_STATE);
        headers.insert(TRACE_PARENT, pages::trace_parent());
    }
}

/// `version-trace-parent-flags` (W3C Trace Context, section 3.2.2).
fn is_trace_parent(value: &[u8]) -> bool {
    let part = |part: &[u8], length: usize| {
        part.len() == length && part.iter().all(|c| c.is_ascii_digit() || (b'a'..=b'f').contains(c))
    };
    let zero = |part: &[u8]| part.iter().all(|c| *c == b'0');
    let parts: Vec<&[u8]> = value.split(|c| *c == b'-').collect();
    match parts.as_slice() {
        [version, trace, parent, flags] => {
            part(version, 2)
                && *version != b"ff"
                && part(trace, 32)
                && !zero(trace)
                && part(parent, 16)
                && !zero(parent)
                && part(flags, 2)
        }
        _ => false,
    }
}

/// The same request once more, for one that has no body.
pub(crate) fn copy_without_body(request: &Request<RequestBody>) -> Request<RequestBody> {
    let mut copy = Request::new(RequestBody::empty());
    *copy.method_mut() = request.method().clone();
    *copy.uri_mut() = request.uri().clone();
    *copy.headers_mut() = request.headers().clone();
    copy
}

/// The length that a body declares, if it declares one.
pub(crate) fn length_of(headers: &HeaderMap) -> Option<u64> {
    headers.get(CONTENT_LENGTH)?.to_str().ok()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forwarding_headers_of_a_visitor_are_ignored() {
        let mut headers = HeaderMap::new();
        headers.insert(HOST, HeaderValue::from_static("api.lockers.localhost:8780"));
        for name in &ACCOUNT {
            headers.append(name, HeaderValue::from_static("10.0.0.1"));
            headers.append(name, HeaderValue::from_static("10.0.0.2"));
        }
        let peer = "[::ffff:127.0.0.9]:4000".parse().expect("an address");
        account(&mut headers, Arrival { peer, secure: true, inside: None });
        let all: Vec<String> = headers
            .iter()
            .map(|(name, value)| format!("{name}: {}", value.to_str().unwrap_or("?")))
            .collect();
        insta::assert_snapshot!(all.join("\n"));
    }

    #[test]
    fn the_consoles_session_goes_no_further_and_comes_from_nowhere_else() {
        let mut headers = HeaderMap::new();
        for value in
            ["a=1; mainyard-session-7=key; b=2", "__Host-mainyard-session-7=key", "c=mainyard-session-7"]
        {
            headers.append(COOKIE, HeaderValue::from_static(value));
        }
        remove_platform_cookies(&mut headers);
        let left: Vec<_> = headers.get_all(COOKIE).iter().collect();
        assert_eq!(left, ["a=1; b=2", "c=mainyard-session-7"]);
        let mut answer = HeaderMap::new();
        for value in ["mainyard-session-7=mine; Path=/", "own=1; Path=/", " MAINYARD-session-7=x"] {
            answer.append(SET_COOKIE, HeaderValue::from_static(value));
        }
        remove_session_cookies(&mut answer);
        assert_eq!(answer.get_all(SET_COOKIE).iter().collect::<Vec<_>>(), ["own=1; Path=/"]);
    }

    #[test]
    fn a_trace_context_is_forwarded_or_started() {
        let kept = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
        for (given, passes) in [
            (kept, true),
            ("00-00000000000000000000000000000000-b7ad6b7169203331-01", false),
            ("00-0AF7651916CD43DD8448EB211C80319C-b7ad6b7169203331-01", false),
            ("nonsense", false),
        ] {
            let mut headers = HeaderMap::new();
            headers.insert(TRACE_PARENT, HeaderValue::from_static(given));
            headers.insert(TRACE_STATE, HeaderValue::from_static("lockers=1"));
            trace(&mut headers);
            assert_eq!(headers[TRACE_PARENT] == given, passes, "{given}");
            assert!(is_trace_parent(headers[TRACE_PARENT].as_bytes()));
            assert_eq!(headers.contains_key(TRACE_STATE), passes, "a state without its parent means nothing");
        }
    }
}
