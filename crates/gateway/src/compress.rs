//! Compressing answers on their way (RFC 9110, section 8.4.1; RFC 1952).

use std::io::Write;
use std::pin::Pin;
use std::task::{Context, Poll};

use bytes::Bytes;
use flate2::Compression;
use flate2::write::GzEncoder;
use http::header::{
    ACCEPT_ENCODING, CACHE_CONTROL, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_RANGE, CONTENT_TYPE,
};
use http::header::{ETAG, HeaderValue, VARY};
use http::{HeaderMap, StatusCode, response};
use hyper::body::{Body, Frame};

use crate::response_body::CountedBody;

/// An answer shorter than this gains nothing.
const LEAST: u64 = 1024;

/// Whether the visitor takes gzip: not with `q=0`.
pub(crate) fn takes_gzip(headers: &HeaderMap) -> bool {
    let lists = headers.get_all(ACCEPT_ENCODING).iter().filter_map(|value| value.to_str().ok());
    lists.flat_map(|list| list.split(',')).any(|entry| {
        let mut parts = entry.split(';').map(str::trim);
        let named = parts.next().is_some_and(|name| name.eq_ignore_ascii_case("gzip"));
        let weight = parts.find_map(|part| part.strip_prefix("q=")?.parse::<f32>().ok());
        named && weight.is_none_or(|weight| weight > 0.0)
    })
}

/// Whether this answer is one to compress: a whole text that is not compressed already and that nobody forbids to
/// change. Events come one by one and are left as they are.
pub(crate) fn fits(answer: &response::Parts) -> bool {
    let text =
        |name| answer.headers.get(name).and_then(|value: &HeaderValue| value.to_str().ok()).unwrap_or("");
    let kind = text(CONTENT_TYPE).split(';').next().unwrap_or("").trim().to_ascii_lowercase();
    let texts = ["application/json", "application/javascript", "application/xml", "image/svg+xml"];
    let is_text = kind.starts_with("text/") && kind != "text/event-stream"
        || texts.contains(&kind.as_str())
        || kind.ends_with("+json")
        || kind.ends_with("+xml");
    let long = text(CONTENT_LENGTH).parse::<u64>().map_or(true, |length| length >= LEAST);
    let free = ![CONTENT_ENCODING, CONTENT_RANGE].iter().any(|name| answer.headers.contains_key(name));
    let left_alone = text(CACHE_CONTROL).contains("no-transform");
    answer.status == StatusCode::OK && is_text && long && free && !left_alone
}

/// The headers of the compressed answer: another length, which nobody knows yet, and another representation.
pub(crate) fn mark(headers: &mut HeaderMap) {
    headers.remove(CONTENT_LENGTH);
    headers.insert(CONTENT_ENCODING, HeaderValue::from_static("gzip"));
    headers.append(VARY, HeaderValue::from_static("accept-encoding"));
    let strong = headers.get(ETAG).and_then(|tag| tag.to_str().ok()).filter(|tag| !tag.starts_with("W/"));
    if let Some(weak) = strong.and_then(|tag| HeaderValue::from_str(&format!("W/{tag}")).ok()) {
        headers.insert(ETAG, weak);
    }
}

/// A body that is compressed frame by frame, so that nothing waits for what follows.
pub(crate) struct Zipped {
    inner: CountedBody,
    encoder: Option<GzEncoder<Vec<u8>>>,
}

impl Zipped {
    /// Of this body.
    pub(crate) fn new(inner: CountedBody) -> Zipped {
        Zipped { inner, encoder: Some(GzEncoder::new(Vec::new(), Compression::fast())) }
    }
}

impl Body for Zipped {
    type Data = Bytes;
    type Error = hyper::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        let this = &mut *self;
        loop {
            let Some(encoder) = &mut this.encoder else { return Poll::Ready(None) };
            match Pin::new(&mut this.inner).poll_frame(context) {
                Poll::Ready(Some(Ok(frame))) => {
                    // Trailers tell of the body as it was.
                    let Ok(data) = frame.into_data() else { continue };
                    // Writing to memory does not fail.
                    let _ = encoder.write_all(&data).and_then(|()| encoder.flush());
                    let out = std::mem::take(encoder.get_mut());
                    if !out.is_empty() {
                        return Poll::Ready(Some(Ok(Frame::data(out.into()))));
                    }
                }
                Poll::Ready(None) => {
                    let rest = this.encoder.take().and_then(|encoder| encoder.finish().ok());
                    return Poll::Ready(
                        rest.filter(|rest| !rest.is_empty()).map(|rest| Ok(Frame::data(rest.into()))),
                    );
                }
                other => return other,
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answer(headers: &[(&'static str, &'static str)]) -> response::Parts {
        let mut answer = http::Response::new(());
        for (name, value) in headers {
            answer.headers_mut().insert(*name, HeaderValue::from_static(value));
        }
        answer.into_parts().0
    }

    #[test]
    fn text_that_is_worth_it_is_compressed() {
        assert!(fits(&answer(&[("content-type", "text/html; charset=utf-8")])));
        assert!(fits(&answer(&[("content-type", "application/problem+json"), ("content-length", "2000")])));
        for other in [
            &[("content-type", "image/png")][..],
            &[("content-type", "text/event-stream")],
            &[("content-type", "text/html"), ("content-length", "12")],
            &[("content-type", "text/html"), ("content-encoding", "br")],
            &[("content-type", "text/html"), ("cache-control", "no-transform")],
        ] {
            assert!(!fits(&answer(other)), "{other:?}");
        }
    }

    #[test]
    fn a_visitor_that_refuses_gzip_gets_none() {
        let takes = |value| {
            let mut headers = HeaderMap::new();
            headers.insert(ACCEPT_ENCODING, HeaderValue::from_static(value));
            takes_gzip(&headers)
        };
        assert!(takes("gzip") && takes("br, GZIP;q=0.5"));
        assert!(!takes("br") && !takes("gzip;q=0") && !takes("x-gzipped"));
    }

    #[test]
    fn the_compressed_answer_is_another_representation() {
        let mut headers = HeaderMap::new();
        headers.insert(ETAG, HeaderValue::from_static("\"7\""));
        headers.insert(CONTENT_LENGTH, HeaderValue::from_static("9000"));
        mark(&mut headers);
        assert_eq!(headers[ETAG], "W/\"7\"");
        assert!(!headers.contains_key(CONTENT_LENGTH) && headers[VARY] == "accept-encoding");
    }
}
