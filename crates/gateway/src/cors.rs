//! Scripts of pages from elsewhere: what a route lets them do, in the words that browsers ask for (Fetch Standard, section 3.2).

use http::header::{
    ACCESS_CONTROL_ALLOW_CREDENTIALS, ACCESS_CONTROL_ALLOW_HEADERS, ACCESS_CONTROL_ALLOW_METHODS,
    ACCESS_CONTROL_ALLOW_ORIGIN, ACCESS_CONTROL_EXPOSE_HEADERS, ACCESS_CONTROL_MAX_AGE,
    ACCESS_CONTROL_REQUEST_METHOD, HeaderName, HeaderValue, ORIGIN, VARY,
};
use http::{HeaderMap, Method, Request, Response, StatusCode};
use http_body_util::{Either, Full};
use mainyard_core::model::Cors;

use crate::responses::AnswerBody;

/// What the gateway says itself: a replica's own word on it would be a second one.
const OURS: [HeaderName; 6] = [
    ACCESS_CONTROL_ALLOW_CREDENTIALS,
    ACCESS_CONTROL_ALLOW_HEADERS,
    ACCESS_CONTROL_ALLOW_METHODS,
    ACCESS_CONTROL_ALLOW_ORIGIN,
    ACCESS_CONTROL_EXPOSE_HEADERS,
    ACCESS_CONTROL_MAX_AGE,
];

/// The method that a browser asks for before it sends the request itself.
pub(crate) fn asked_method<B>(request: &Request<B>) -> Option<Method> {
    let headers = request.headers();
    if *request.method() != Method::OPTIONS || !headers.contains_key(ORIGIN) {
        return None;
    }
    Method::from_bytes(headers.get(ACCESS_CONTROL_REQUEST_METHOD)?.as_bytes()).ok()
}

/// The answer to a browser that asks whether it may. Where it may not, the headers that would say so are missing.
pub(crate) fn asked(cors: &Cors) -> Response<AnswerBody> {
    let mut answer = Response::new(Either::Right(Full::default()));
    *answer.status_mut() = StatusCode::NO_CONTENT;
    let headers = answer.headers_mut();
    // A replica's answer may depend on these two, and so does this one.
    headers.append(
        VARY,
        HeaderValue::from_static("access-control-request-method, access-control-request-headers"),
    );
    let list = |words: &mut dyn Iterator<Item = &String>| {
        HeaderValue::from_str(&words.map(String::as_str).collect::<Vec<_>>().join(", ")).ok()
    };
    let lasts = HeaderValue::from_str(&(cors.lasts.millis() / 1000).to_string()).ok();
    let said = [
        (ACCESS_CONTROL_ALLOW_METHODS, list(&mut cors.methods.iter())),
        (ACCESS_CONTROL_ALLOW_HEADERS, list(&mut cors.headers.iter())),
        (ACCESS_CONTROL_MAX_AGE, lasts),
    ];
    for (name, value) in said {
        if let Some(value) = value.filter(|value| !value.is_empty()) {
            headers.insert(name, value);
        }
    }
    answer
}

/// Says in an answer whether the script of a page may read it.
pub(crate) fn say(cors: &Cors, origin: Option<&HeaderValue>, is_asked: bool, headers: &mut HeaderMap) {
    if !is_asked {
        for name in &OURS {
            headers.remove(name);
        }
    }
    headers.append(VARY, HeaderValue::from_static("origin"));
    let allowed = origin.and_then(|origin| cors.allows(origin.to_str().ok()?));
    let Some(allowed) = allowed.and_then(|allowed| HeaderValue::from_str(allowed).ok()) else {
        if is_asked {
            OURS.iter().for_each(|name| drop(headers.remove(name)));
        }
        return;
    };
    headers.insert(ACCESS_CONTROL_ALLOW_ORIGIN, allowed);
    if cors.credentials {
        headers.insert(ACCESS_CONTROL_ALLOW_CREDENTIALS, HeaderValue::from_static("true"));
    }
    let exposed = cors.exposed.iter().map(String::as_str).collect::<Vec<_>>().join(", ");
    if let Ok(exposed) = HeaderValue::from_str(&exposed)
        && !exposed.is_empty()
        && !is_asked
    {
        headers.insert(ACCESS_CONTROL_EXPOSE_HEADERS, exposed);
    }
}
