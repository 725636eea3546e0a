//! Compressing answers on their way (RFC 9110, section 8.4.1).

use std::io::Write;
use std::pin::Pin;
use std::task::{Context, Poll};

use bytes::Bytes;
use flate2::Compression;
use flate2::write::GzEncoder;
use http::header::{CACHE_CONTROL, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_RANGE, CONTENT_TYPE};
use http::header::{ETAG, HeaderValue, TRAILER, VARY};
use http::{HeaderMap, StatusCode, response};
use hyper::body::{Body, Frame};

use crate::response_body::CountedBody;

/// An answer shorter than this gains nothing.
const LEAST: u64 = 1024;

/// A way to compress that visitors may take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Coding {
    /// RFC 8878, with a window that RFC 9659 has every visitor take.
    Zstd,
    /// RFC 7932.
    Brotli,
    /// RFC 1952.
    Gzip,
}

impl Coding {
    /// The best first.
    const ALL: [Coding; 3] = [Coding::Zstd, Coding::Brotli, Coding::Gzip];

    fn word(self) -> &'static str {
        match self {
            Coding::Zstd => "zstd",
            Coding::Brotli => "br",
            Coding::Gzip => "gzip",
        }
    }

    /// The whole of something, compressed.
    pub(crate) fn whole(self, data: &[u8]) -> Bytes {
        let mut encoder = self.encoder();
        let mut out = encoder.more(data);
        out.extend(encoder.end());
        out.into()
    }

    fn encoder(self) -> Encoder {
        match self {
            // Writing to memory does not fail, and the level is one that there is.
            Coding::Zstd => match zstd::stream::write::Encoder::new(Vec::new(), 1) {
                Ok(encoder) => Encoder::Zstd(Box::new(encoder)),
                Err(_) => Coding::Gzip.encoder(),
            },
            Coding::Brotli => {
                Encoder::Brotli(Box::new(brotli::CompressorWriter::new(Vec::new(), 4096, 4, 18)))
            }
            Coding::Gzip => Encoder::Gzip(GzEncoder::new(Vec::new(), Compression::fast())),
        }
    }
}

/// The coding that a visitor takes best (RFC 9110, section 12.5.3); one with `q=0` is not taken.
pub(crate) fn chosen(accepts: Option<&HeaderValue>) -> Option<Coding> {
    let list = accepts?.to_str().ok()?;
    let weight = |coding: Coding| {
        let entries = list.split(',').map(|entry| {
            let mut parts = entry.split(';').map(str::trim);
            let name = parts.next().unwrap_or_default();
            let weight = parts.find_map(|part| part.strip_prefix("q=")?.parse::<f32>().ok());
            (name, weight.unwrap_or(1.0))
        });
        let named = |wanted: &str| {
            entries.clone().find(|(name, _)| name.eq_ignore_ascii_case(wanted)).map(|(_, weight)| weight)
        };
        named(coding.word()).or_else(|| named("*")).unwrap_or(0.0)
    };
    let mut best: Option<(Coding, f32)> = None;
    for coding in Coding::ALL {
        let weight = weight(coding);
        if weight > best.map_or(0.0, |(_, best)| best) {
            best = Some((coding, weight));
        }
    }
    best.map(|(coding, _)| coding)
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
pub(crate) fn mark(headers: &mut HeaderMap, coding: Coding) {
    headers.remove(CONTENT_LENGTH);
    // Trailers tell of the body as it was.
    headers.remove(TRAILER);
    headers.insert(CONTENT_ENCODING, HeaderValue::from_static(coding.word()));
    headers.append(VARY, HeaderValue::from_static("accept-encoding"));
    let strong = headers.get(ETAG).and_then(|tag| tag.to_str().ok()).filter(|tag| !tag.starts_with("W/"));
    if let Some(weak) = strong.and_then(|tag| HeaderValue::from_str(&format!("W/{tag}")).ok()) {
        headers.insert(ETAG, weak);
    }
}

/// What compresses, in memory.
enum Encoder {
    Zstd(Box<zstd::stream::write::Encoder<'static, Vec<u8>>>),
    Brotli(Box<brotli::CompressorWriter<Vec<u8>>>),
    Gzip(GzEncoder<Vec<u8>>),
}

impl Encoder {
    /// Takes more, and gives what came of it: all, so that nothing waits for what follows.
    fn more(&mut self, data: &[u8]) -> Vec<u8> {
        // Writing to memory does not fail.
        match self {
            Encoder::Zstd(encoder) => {
                let _ = encoder.write_all(data).and_then(|()| encoder.flush());
                std::mem::take(encoder.get_mut())
            }
            Encoder::Brotli(encoder) => {
                let _ = encoder.write_all(data).and_then(|()| encoder.flush());
                std::mem::take(encoder.get_mut())
            }
            Encoder::Gzip(encoder) => {
                let _ = encoder.write_all(data).and_then(|()| encoder.flush());
                std::mem::take(encoder.get_mut())
            }
        }
    }

    /// What comes at the end.
    fn end(self) -> Vec<u8> {
        match self {
            Encoder::Zstd(encoder) => encoder.finish().unwrap_or_default(),
            Encoder::Brotli(encoder) => encoder.into_inner(),
            Encoder::Gzip(encoder) => encoder.finish().unwrap_or_default(),
        }
    }
}

/// A body that is compressed frame by frame, so that nothing waits for what follows.
pub(crate) struct Zipped {
    inner: CountedBody,
    encoder: Option<Encoder>,
}

impl Zipped {
    /// Of this body.
    pub(crate) fn new(inner: CountedBody, coding: Coding) -> Zipped {
        Zipped { inner, encoder: Some(coding.encoder()) }
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
                    let out = encoder.more(&data);
                    if !out.is_empty() {
                        return Poll::Ready(Some(Ok(Frame::data(out.into()))));
                    }
                }
                Poll::Ready(None) => {
                    let rest = this.encoder.take().map(Encoder::end).filter(|rest| !rest.is_empty());
                    return Poll::Ready(rest.map(|rest| Ok(Frame::data(rest.into()))));
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
    fn a_visitor_gets_the_coding_that_it_takes_best() {
        let chosen = |value| chosen(Some(&HeaderValue::from_static(value))).map(Coding::word);
        for (accepts, expected) in [
            ("gzip", Some("gzip")),
            ("gzip, deflate, br, zstd", Some("zstd")),
            ("gzip, deflate, br", Some("br")),
            ("br;q=0.5, GZIP", Some("gzip")),
            ("*", Some("zstd")),
            ("zstd;q=0, *;q=0.1", Some("br")),
            ("gzip;q=0", None),
            ("x-gzipped, deflate", None),
            ("", None),
        ] {
            assert_eq!(chosen(accepts), expected, "{accepts}");
        }
        assert_eq!(super::chosen(None), None);
    }

    #[test]
    fn what_is_compressed_in_pieces_is_whole_again() {
        use std::io::Read;
        let pieces: Vec<String> =
            (0..50).map(|number| format!("locker {number} is free\n").repeat(40)).collect();
        let whole = pieces.concat();
        for coding in Coding::ALL {
            let mut encoder = coding.encoder();
            let mut packed = Vec::new();
            for piece in &pieces {
                let more = encoder.more(piece.as_bytes());
                assert!(!more.is_empty(), "{coding:?} keeps nothing back");
                packed.extend(more);
            }
            packed.extend(encoder.end());
            assert!(packed.len() < whole.len() / 5, "{coding:?}: {}", packed.len());
            let mut read = String::new();
            let done = match coding {
                Coding::Zstd => zstd::stream::read::Decoder::new(&packed[..])
                    .and_then(|mut it| it.read_to_string(&mut read)),
                Coding::Brotli => brotli::Decompressor::new(&packed[..], 4096).read_to_string(&mut read),
                Coding::Gzip => flate2::read::GzDecoder::new(&packed[..]).read_to_string(&mut read),
            };
            assert!(done.is_ok() && read == whole, "{coding:?}: {done:?}");
        }
    }

    #[test]
    fn the_compressed_answer_is_another_representation() {
        let mut headers = HeaderMap::new();
        headers.insert(ETAG, HeaderValue::from_static("\"7\""));
        headers.insert(CONTENT_LENGTH, HeaderValue::from_static("9000"));
        mark(&mut headers, Coding::Gzip);
        assert_eq!(headers[ETAG], "W/\"7\"");
        assert!(!headers.contains_key(CONTENT_LENGTH) && headers[VARY] == "accept-encoding");
    }
}
