//! What a gRPC call and its answer say of themselves (github.com/grpc/grpc, doc/PROTOCOL-HTTP2.md).

use std::time::Duration;

use http::header::{CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue};

/// What calls and answers are marked with.
pub(crate) const TYPE: &str = "application/grpc";
const TIMEOUT: HeaderName = HeaderName::from_static("grpc-timeout");
/// The status of a call, in headers or trailers.
pub(crate) const STATUS: HeaderName = HeaderName::from_static("grpc-status");

/// Status codes that say that the server failed, and not that the caller asked for what cannot be: UNKNOWN,
/// DEADLINE_EXCEEDED, INTERNAL, UNAVAILABLE, DATA_LOSS.
const FAILURES: [&str; 5] = ["2", "4", "13", "14", "15"];

/// Whether a request is a gRPC call.
pub(crate) fn is_call(headers: &HeaderMap) -> bool {
    let kind = headers.get(CONTENT_TYPE).map(HeaderValue::as_bytes).unwrap_or_default();
    let rest = kind.strip_prefix(TYPE.as_bytes());
    rest.is_some_and(|rest| matches!(rest.first(), None | Some(b'+' | b';')))
}

/// How long the caller waits for the answer's end.
pub(crate) fn deadline(headers: &HeaderMap) -> Option<Duration> {
    let text = headers.get(TIMEOUT)?.to_str().ok()?;
    let (number, unit) = text.split_at_checked(text.len().checked_sub(1)?)?;
    if number.is_empty() || number.len() > 8 || !number.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let number: u64 = number.parse().ok()?;
    Some(match unit {
        "H" => Duration::from_secs(number * 3600),
        "M" => Duration::from_secs(number * 60),
        "S" => Duration::from_secs(number),
        "m" => Duration::from_millis(number),
        "u" => Duration::from_micros(number),
        "n" => Duration::from_nanos(number),
        _ => return None,
    })
}

/// Whether headers or trailers say that the server failed.
pub(crate) fn says_failed(headers: &HeaderMap) -> bool {
    let status = headers.get(STATUS).and_then(|status| status.to_str().ok());
    status.is_some_and(|status| FAILURES.contains(&status))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(name: &str, value: &str) -> HeaderMap {
        HeaderMap::from_iter([(name.parse::<HeaderName>().expect("a name"), value.parse().expect("a value"))])
    }

    #[test]
    fn a_call_is_known_by_its_type() {
        for kind in ["application/grpc", "application/grpc+proto", "application/grpc;charset=x"] {
            assert!(is_call(&headers("content-type", kind)), "{kind}");
        }
        for kind in ["application/grpc-web", "application/json", ""] {
            assert!(!is_call(&headers("content-type", kind)), "{kind}");
        }
    }

    #[test]
    fn a_deadline_has_up_to_eight_digits_and_a_unit() {
        let read = |text: &str| deadline(&headers("grpc-timeout", text));
        assert_eq!(read("250m"), Some(Duration::from_millis(250)));
        assert_eq!(read("2S"), Some(Duration::from_secs(2)));
        assert_eq!(read("99999999H"), Some(Duration::from_secs(99_999_999 * 3600)));
        for wrong in ["", "S", "1", "-1S", "1s", "999999999S", "1.5S", "\u{e9}"] {
            assert_eq!(read(wrong), None, "{wrong:?}");
        }
    }

    #[test]
    fn only_what_the_server_did_counts_as_failed() {
        let failed = |status: &str| says_failed(&headers("grpc-status", status));
        assert!(["2", "4", "13", "14", "15"].into_iter().all(failed));
        assert!(!["0", "1", "3", "5", "7", "12", "16"].into_iter().any(failed));
    }
}
