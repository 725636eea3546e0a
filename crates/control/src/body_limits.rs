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
use mainyard_api::{Limits, Problem};
use mainyard_store::{Store, Token};
use tokio::time::{Instant, Sleep};

/// How often a stream's credential is looked at.
const RECHECK: Duration = Duration::from_secs(5);

/// The request's body, which ends with an error where it is longer or slower than it may be.
///
/// # Errors
/// 413 at once where the request says itself that its body is longer.
pub(crate) fn limited(request: &HttpRequest, payload: Payload, limits: Limits) -> Result<Payload, Problem> {
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
pub(crate) fn too_large(limit: u64) -> Problem {
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

/// Why a body could not be read to its end.
pub(crate) fn of_payload(error: &PayloadError) -> Problem {
    match error {
        PayloadError::Overflow => Problem::too_large("the body is longer than this operation takes"),
        PayloadError::Io(error) if error.kind() == std::io::ErrorKind::TimedOut => Problem::too_slow(),
        PayloadError::Io(error) if error.kind() == std::io::ErrorKind::InvalidData => {
            Problem::invalid("the body holds U+0000, which the record cannot hold")
        }
        error => Problem::invalid(format!("the request's body cannot be read: {error}")),
    }
}

/// Whether an answer goes on for as long as there is something to say.
pub(crate) fn is_stream(answer: &HttpResponse) -> bool {
    matches!(answer.body().size(), BodySize::Stream)
}

type Check = Pin<Box<dyn Future<Output = bool>>>;

/// A streamed answer that ends soon after its caller's credential does.
pub(crate) struct Watched {
    body: BoxBody,
    store: Store,
    hash: Vec<u8>,
    timer: Pin<Box<Sleep>>,
    check: Option<Check>,
}

impl Watched {
    /// Wraps the body of an answer.
    pub(crate) fn boxed(body: BoxBody, store: Store, token: Token) -> BoxBody {
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
