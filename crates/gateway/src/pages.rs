//! Bodies of the gateway's own answers: a short page, or a problem document (RFC 9457) for programs.

use std::cell::Cell;
use std::time::SystemTime;

use bytes::Bytes;
use http::header::{ACCEPT, CACHE_CONTROL, CONTENT_TYPE, HeaderValue};
use http::{Response, StatusCode};
use http_body_util::{Either, Full};
use mainyard_core::model::{Reason, ReasonCode};

use crate::rejections::Refused;
use crate::responses::AnswerBody;

/// An id for one request: the time, so that ids sort, and chance. The chance is the system's once for each worker,
/// and stretched from there (SplitMix64): an id must be unlike others, not unguessable.
pub(crate) fn request_id() -> HeaderValue {
    let chance = chance().to_be_bytes();
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    let millis = (since.as_millis() as u64).to_be_bytes();
    let mut text = [0; 28];
    for (place, byte) in millis[2..].iter().chain(&chance).enumerate() {
        text[2 * place] = HEX[usize::from(byte >> 4)];
        text[2 * place + 1] = HEX[usize::from(byte & 15)];
    }
    HeaderValue::from_bytes(&text).unwrap_or_else(|_| HeaderValue::from_static("none"))
}

/// The beginning of a trace (W3C Trace Context): random ids, and not sampled by us.
pub(crate) fn trace_parent() -> HeaderValue {
    let (first, second, parent) = (chance(), chance(), chance().max(1));
    let text = format!("00-{first:016x}{second:016x}-{parent:016x}-00");
    HeaderValue::from_str(&text).unwrap_or_else(|_| HeaderValue::from_static("none"))
}

fn chance() -> u64 {
    thread_local! {
        static CHANCE: Cell<u64> = Cell::new(seed());
    }
    let state = CHANCE.get().wrapping_add(0x9e37_79b9_7f4a_7c15);
    CHANCE.set(state);
    let mut mixed = (state ^ (state >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    mixed ^ (mixed >> 31)
}

const HEX: &[u8; 16] = b"0123456789abcdef";

fn seed() -> u64 {
    let mut bytes = [0; 8];
    // Without the system's chance the time has to do; it differs from start to start.
    match getrandom::fill(&mut bytes) {
        Ok(()) => u64::from_ne_bytes(bytes),
        Err(_) => SystemTime::now()
            .duration_since(SystemTime::UNIX_EPOCH)
            .map_or(1, |since| since.as_nanos() as u64),
    }
}

/// The answer for what cannot be served.
fn problem(
    status: StatusCode,
    reason: &Reason,
    id: &HeaderValue,
    accept: Option<&HeaderValue>,
) -> Response<AnswerBody> {
    let id = id.to_str().unwrap_or("none");
    let accept = accept.and_then(|value| value.to_str().ok()).unwrap_or("");
    let (kind, text) = if accept.contains("text/html") {
        ("text/html; charset=utf-8", page(status, reason, id))
    } else {
        ("application/problem+json", document(status, reason, id))
    };
    let mut answer = Response::new(Either::Right(Full::new(Bytes::from(text))));
    *answer.status_mut() = status;
    answer.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    answer.headers_mut().insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    answer.headers_mut().insert(http::header::VARY, HeaderValue::from_static(ACCEPT.as_str()));
    answer
}

/// The answer to a request that no replica gets.
pub(crate) fn refused(
    refused: Refused,
    id: &HeaderValue,
    accept: Option<&HeaderValue>,
) -> Response<AnswerBody> {
    let mut answer = problem(refused.status, &refused.reason, id, accept);
    if let Some((name, value)) = refused.header {
        answer.headers_mut().insert(name, value);
    }
    if refused.last {
        answer.headers_mut().insert(http::header::CONNECTION, HeaderValue::from_static("close"));
    }
    answer
}

/// A problem document. It has nothing of the reason's sentence, which may name replicas, addresses, and what a failing
/// program wrote: the platform's operator finds that by the request's id.
fn document(status: StatusCode, reason: &Reason, id: &str) -> String {
    let body = serde_json::json!({
        "type": format!("urn:mainyard:reason:{}", reason.code),
        "title": title(status),
        "status": status.as_u16(),
        "code": reason.code,
        "request_id": id,
    });
    format!("{body}\n")
}

fn title(status: StatusCode) -> &'static str {
    match status {
        StatusCode::NOT_FOUND => "Nothing is here",
        StatusCode::BAD_GATEWAY | StatusCode::SERVICE_UNAVAILABLE => "Not answering at the moment",
        StatusCode::FORBIDDEN => "Not open to this caller",
        StatusCode::UNAUTHORIZED => "Who is asking?",
        StatusCode::TOO_MANY_REQUESTS => "Not so fast",
        StatusCode::PAYLOAD_TOO_LARGE => "The request is too large",
        StatusCode::GATEWAY_TIMEOUT => "No answer in time",
        _ => "This request cannot be served",
    }
}

fn page(status: StatusCode, reason: &Reason, id: &str) -> String {
    let title = title(status);
    let (title, advice) = match reason.code {
        ReasonCode::Asleep => ("Waking up", "This page comes back by itself, in a moment."),
        _ => (title, "If it should answer, tell its operator the request id below."),
    };
    format!(
        "<!doctype html><html lang=en><meta charset=utf-8><meta name=viewport content='width=device-width'>\
         <title>{title}</title><style>body{{font:16px/1.5 system-ui,sans-serif;background:#f4f3ee;color:#1b212b;\
         margin:12vh auto;max-width:34rem;padding:0 1.5rem}}code{{font:13px ui-monospace,monospace;color:#5a616d}}\
         </style><h1>{title}</h1><p>{advice}</p><p><code>{} · {} · request {id}</code></p></html>\n",
        status.as_u16(),
        reason.code
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn error_pages_do_not_show_the_reasons_sentence() {
        let words = "ended with exit code 1: password=open-sesame at 10.118.16.2";
        let reason = Reason::new(ReasonCode::KeepsEnding, words);
        for text in [page, document].map(|write| write(StatusCode::SERVICE_UNAVAILABLE, &reason, "1")) {
            assert!(text.contains("keeps-ending") && text.contains("503"), "{text}");
            for word in words.split(' ') {
                assert!(word.len() < 5 || !text.contains(word), "{word} in {text}");
            }
        }
    }

    #[test]
    fn ids_differ_and_sort_by_time() {
        let ids: std::collections::HashSet<HeaderValue> = (0..1000).map(|_| request_id()).collect();
        assert_eq!(ids.len(), 1000);
    }
}
