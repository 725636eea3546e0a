//! Bodies within their limits: what a caller sends, and answers that go on while their caller's credential is good.

use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use actix_web::body::{BodySize, BoxBody, MessageBody};
use actix_web::dev::Payload;
use actix_web::error::PayloadError;
use actix_web::http::header::CONTENT_LENGTH;
use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse};
use futures_util::{Stream, StreamExt};
use mainyard_store::{Store, Token};
use serde::Serialize;
use tokio::time::{Instant, Sleep};

use crate::problem::Problem;

/// How often a stream's credential is looked at.
const RECHECK: Duration = Duration::from_secs(5);

/// As deep as the reader of JSON goes.
const DEPTH: u32 = 127;

/// What one call may send, and how long it may take to send it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Limits {
    /// The body's largest size in bytes; 0 where there is none.
    pub body: u64,
    /// The whole body is here within so many seconds, unless it is a stream.
    pub within: u64,
    /// How deep a JSON document may be.
    pub depth: u32,
    /// The longest pause between two pieces of a streamed body, in seconds.
    pub pause: Option<u64>,
}

impl Limits {
    /// No body, or an empty JSON object.
    pub const NONE: Limits = Limits { body: 1 << 10, within: 10, depth: DEPTH, pause: None };
    /// A small JSON document.
    pub const SMALL: Limits = Limits { body: 64 << 10, within: 10, depth: DEPTH, pause: None };

    /// Up to so many bytes.
    pub const fn bytes(body: u64) -> Limits {
        Limits { body, within: 60, depth: DEPTH, pause: None }
    }

    /// A body that comes in pieces for as long as it goes on.
    pub const fn streamed(body: u64) -> Limits {
        Limits { body, within: 24 * 3600, depth: DEPTH, pause: Some(30) }
    }
}

/// The request's body, which ends with an error where it is longer or slower than it may be.
///
/// # Errors
/// 413 at once where the request says itself that its body is longer.
pub fn limited(request: &HttpRequest, payload: Payload, limits: Limits) -> Result<Payload, Problem> {
    let said =
        request.headers().get(CONTENT_LENGTH).and_then(|value| value.to_str().ok()?.parse::<u64>().ok());
    if said.is_some_and(|length| length > limits.body) {
        return Err(too_large(limits.body));
    }
    let within = Duration::from_secs(limits.within);
    let pause = limits.pause.map(Duration::from_secs);
    let timer = Box::pin(tokio::time::sleep(pause.unwrap_or(within)));
    let body = Limited { payload, left: limits.body, pause, timer, zero: ZeroFinder::default() };
    Ok(Payload::Stream { payload: Box::pin(body) })
}

/// A body is longer than the operation takes.
pub fn too_large(limit: u64) -> Problem {
    Problem::too_large(format!("the body is longer than the {limit} bytes that this operation takes"))
}

struct Limited {
    payload: Payload,
    left: u64,
    pause: Option<Duration>,
    timer: Pin<Box<Sleep>>,
    zero: ZeroFinder,
}

/// Finds the escape of U+0000 in JSON (RFC 8259, section 7), also across pieces. No text of the API may hold it: the
/// record could not.
#[derive(Default)]
struct ZeroFinder {
    /// How much of the escape was seen.
    seen: usize,
}

impl ZeroFinder {
    fn found_in(&mut self, piece: &[u8]) -> bool {
        const ESCAPE: &[u8] = b"\\u0000";
        for byte in piece {
            if self.seen == 0 {
                self.seen = usize::from(*byte == b'\\');
                continue;
            }
            if *byte == ESCAPE[self.seen] {
                self.seen += 1;
                if self.seen == ESCAPE.len() {
                    return true;
                }
            } else {
                // Two backslashes are one, and begin nothing.
                let other_begins = self.seen > 1 && *byte == b'\\';
                self.seen = usize::from(other_begins);
            }
        }
        false
    }
}

impl Stream for Limited {
    type Item = Result<Bytes, PayloadError>;

    fn poll_next(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let this = &mut *self;
        match this.payload.poll_next_unpin(context) {
            Poll::Ready(Some(Ok(piece))) => {
                if piece.len() as u64 > this.left {
                    return Poll::Ready(Some(Err(PayloadError::Overflow)));
                }
                this.left -= piece.len() as u64;
                if this.pause.is_none() && this.zero.found_in(&piece) {
                    let zero = std::io::Error::from(std::io::ErrorKind::InvalidData);
                    return Poll::Ready(Some(Err(PayloadError::Io(zero))));
                }
                if let Some(pause) = this.pause {
                    this.timer.as_mut().reset(Instant::now() + pause);
                }
                Poll::Ready(Some(Ok(piece)))
            }
            Poll::Ready(end) => Poll::Ready(end),
            Poll::Pending => match std::future::Future::poll(this.timer.as_mut(), context) {
                Poll::Ready(()) => {
                    let slow = std::io::Error::from(std::io::ErrorKind::TimedOut);
                    Poll::Ready(Some(Err(PayloadError::Io(slow))))
                }
                Poll::Pending => Poll::Pending,
            },
        }
    }
}

/// Whether an answer goes on for as long as there is something to say.
pub fn is_stream(answer: &HttpResponse) -> bool {
    matches!(answer.body().size(), BodySize::Stream)
}

type Check = Pin<Box<dyn Future<Output = bool>>>;

/// A streamed answer that ends soon after its caller's credential does.
pub struct Watched {
    body: BoxBody,
    store: Store,
    hash: Vec<u8>,
    timer: Pin<Box<Sleep>>,
    check: Option<Check>,
}

impl Watched {
    /// Wraps the body of an answer.
    pub fn boxed(body: BoxBody, store: Store, token: Token) -> BoxBody {
        let timer = Box::pin(tokio::time::sleep(RECHECK));
        BoxBody::new(Watched { body, store, hash: token.hash, timer, check: None })
    }

    /// Whether the credential was found to have ended.
    fn has_ended(&mut self, context: &mut Context<'_>) -> bool {
        if self.timer.as_mut().poll(context).is_ready() {
            self.timer.as_mut().reset(Instant::now() + RECHECK);
            // The timer must be polled again to be woken by it.
            let _ = self.timer.as_mut().poll(context);
            if self.check.is_none() {
                let (store, hash) = (self.store.clone(), self.hash.clone());
                // A record that is away for a moment ends no stream.
                self.check = Some(Box::pin(async move { matches!(store.token(&hash).await, Ok(None)) }));
            }
        }
        let Some(check) = &mut self.check else { return false };
        match check.as_mut().poll(context) {
            Poll::Ready(ended) => {
                self.check = None;
                ended
            }
            Poll::Pending => false,
        }
    }
}

impl MessageBody for Watched {
    type Error = <BoxBody as MessageBody>::Error;

    fn size(&self) -> BodySize {
        self.body.size()
    }

    fn poll_next(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Bytes, Self::Error>>> {
        if self.has_ended(context) {
            return Poll::Ready(None);
        }
        Pin::new(&mut self.body).poll_next(context)
    }
}

#[cfg(test)]
mod tests {
    use super::ZeroFinder;

    #[test]
    fn the_escape_is_found_in_any_pieces_and_no_other_text_is_taken_for_it() {
        for (text, found) in [
            (r#"{"a":"\u0000"}"#, true),
            (r#"{"a":"x\\\u0000"}"#, true),
            (r#"{"a":"\\u0000"}"#, false),
            (r#"{"a":"\\\\u0000"}"#, false),
            (r#"{"a":"\u00001"}"#, true),
            (r#"{"a":"\u0001 u0000 \n\u0000"}"#, true),
            (r#"{"a":"\u000\u0000"}"#, true),
            (r#"{"a":"u0000"}"#, false),
        ] {
            for size in 1..text.len() {
                let mut finder = ZeroFinder::default();
                let any = text.as_bytes().chunks(size).any(|piece| finder.found_in(piece));
                assert_eq!(any, found, "{text} in pieces of {size}");
            }
        }
    }
}
