//! WebSocket over HTTP/2 (RFC 8441): an extended CONNECT goes on as the upgrade that HTTP/1.1 has (RFC 6455).

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use http::header::{CONNECTION, HeaderName, HeaderValue, SEC_WEBSOCKET_KEY, UPGRADE};
use http::{Method, Request, Response, StatusCode};
use hyper::ext::Protocol;

/// What belongs to the upgrade of HTTP/1.1 only.
const OF_HTTP_1: [HeaderName; 3] = [CONNECTION, UPGRADE, HeaderName::from_static("sec-websocket-accept")];
const PROTOCOL: &str = "websocket";

/// Whether a request asks for a WebSocket by an extended CONNECT.
pub(crate) fn is_asked<B>(request: &Request<B>) -> bool {
    let protocol = request.extensions().get::<Protocol>().map(Protocol::as_str);
    *request.method() == Method::CONNECT && protocol.is_some_and(|it| it.eq_ignore_ascii_case(PROTOCOL))
}

/// The method that the rules for requests see.
pub(crate) fn method<B>(request: &Request<B>) -> &Method {
    if is_asked(request) { &Method::GET } else { request.method() }
}

/// Makes it the request that HTTP/1.1 would have brought.
pub(crate) fn as_upgrade<B>(request: &mut Request<B>) {
    *request.method_mut() = Method::GET;
    let mut nonce = [0; 16];
    // It keeps caches from answering (RFC 6455, section 10.3), and there is none on the way to a replica.
    let _ = getrandom::fill(&mut nonce);
    let headers = request.headers_mut();
    if let Ok(key) = HeaderValue::from_str(&STANDARD.encode(nonce)) {
        headers.insert(SEC_WEBSOCKET_KEY, key);
    }
    headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
    headers.insert(UPGRADE, HeaderValue::from_static(PROTOCOL));
}

/// Makes the answer to an upgrade one to an extended CONNECT. Gives the status back where the replica answered well and did
/// not switch: here that would say that it had.
pub(crate) fn agreed<B>(answer: &mut Response<B>) -> Result<(), StatusCode> {
    match answer.status() {
        StatusCode::SWITCHING_PROTOCOLS => {
            *answer.status_mut() = StatusCode::OK;
            OF_HTTP_1.iter().for_each(|name| _ = answer.headers_mut().remove(name));
            Ok(())
        }
        status if status.is_success() => Err(status),
        _ => Ok(()),
    }
}
