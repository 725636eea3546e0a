//! Visitors that speak HTTP/2 (RFC 9113), many requests on one connection. Each is held to the rules of HTTP/1.1, takes its
//! form, and goes on like any other.

use std::cell::{Cell, RefCell};
use std::convert::Infallible;
use std::pin::Pin;
use std::rc::{Rc, Weak};
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use http::header::{CONTENT_LENGTH, COOKIE, HOST, HeaderValue, TRANSFER_ENCODING};
use http::{HeaderMap, Request, StatusCode};
use hyper::body::{Body, Frame, Incoming, SizeHint};
use hyper::server::conn::http2;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use mainyard_core::http_framing::{Fields, HEAD, Violation, read_fields};
use mainyard_core::model::ReasonCode;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::sync::Notify;
use tokio::time::Instant;

use crate::arrival::Arrival;
use crate::frame_watch::FrameWatch;
use crate::http2_websocket;
use crate::local_executor::LocalExecutor;
use crate::rejections::Refused;
use crate::request_validator::Line;
use crate::responses::AnswerBody;
use crate::tls::VisitorTls;
use crate::worker::Forwarder;

/// Requests that one connection has open at once.
const AT_ONCE: u32 = 200;
/// Most bytes of one answer that wait for the visitor to take them.
const WAITING: usize = 64 * 1024;
/// A visitor that is silent for so long is asked whether it is still there, and has as long to say so.
const STILL_THERE: Duration = Duration::from_secs(20);
/// A connection without a new request for so long takes no more; what is open on it ends in its own time.
const IDLE: Duration = Duration::from_secs(60);

/// So many requests a visitor may take back before they are answered. When they are more than half of all, too, its
/// connection ends: each costs a replica's connection.
const TAKEN_BACK: u32 = 100;

/// A visitor makes room for more of an answer within this time.
const TAKEN_WITHIN: Duration = Duration::from_secs(30);
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// Work that was started on a connection.
#[derive(Default)]
struct OpenStreams {
    all: Cell<u32>,
    taken_back: Cell<u32>,
    enough: Notify,
    /// Since when each open answer has had a piece that the visitor makes no room for.
    answers: RefCell<Vec<Weak<Cell<Option<Instant>>>>>,
}

impl OpenStreams {
    /// Whether an answer was not taken on for too long.
    fn is_stuck(&self, now: Instant) -> bool {
        let answers = self.answers.borrow();
        let since = answers.iter().filter_map(|answer| answer.upgrade()?.get());
        since.into_iter().any(|since| now.duration_since(since) > TAKEN_WITHIN)
    }
}

/// An answer's body. The connection asks for the next piece once the visitor has made room for one: until then the
/// visitor is waited for, and from then on the replica.
struct WatchedBody {
    body: AnswerBody,
    progress: Rc<Cell<Option<Instant>>>,
}

impl Body for WatchedBody {
    type Data = <AnswerBody as Body>::Data;
    type Error = <AnswerBody as Body>::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Self::Data>, Self::Error>>> {
        let polled = Pin::new(&mut self.body).poll_frame(context);
        self.progress.set(polled.is_ready().then(Instant::now));
        polled
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

/// One request; dropped before it is answered, it was taken back.
struct Open {
    begun: Rc<OpenStreams>,
    answered: bool,
}

impl Open {
    fn new(begun: &Rc<OpenStreams>) -> Open {
        begun.all.set(begun.all.get().saturating_add(1));
        Open { begun: Rc::clone(begun), answered: false }
    }

    /// It is answered. Gives what is to be told of how the visitor takes the answer.
    fn done(mut self) -> Rc<Cell<Option<Instant>>> {
        self.answered = true;
        let progress = Rc::new(Cell::new(Some(Instant::now())));
        let mut answers = self.begun.answers.borrow_mut();
        answers.retain(|answer| answer.strong_count() > 0);
        answers.push(Rc::downgrade(&progress));
        drop(answers);
        progress
    }
}

impl Drop for Open {
    fn drop(&mut self) {
        if self.answered {
            return;
        }
        let begun = &self.begun;
        begun.taken_back.set(begun.taken_back.get().saturating_add(1));
        if begun.taken_back.get() > TAKEN_BACK.max(begun.all.get() / 2) {
            begun.enough.notify_one();
        }
    }
}

/// Serves a connection to its end. The first request must be here within `begun_within`.
pub(crate) async fn talk(
    stream: impl AsyncRead + AsyncWrite + Unpin + 'static,
    arrival: Arrival,
    tls: Option<Arc<VisitorTls>>,
    forwarder: Forwarder,
    begun_within: Duration,
) {
    let leaves = Rc::new(Cell::new(Instant::now() + begun_within));
    let begun = Rc::new(OpenStreams::default());
    let service = service_fn(|request: Request<Incoming>| {
        let open = Open::new(&begun);
        leaves.set(Instant::now() + IDLE);
        let (forwarder, line) = (forwarder.clone(), Line::of(tls.clone()));
        async move {
            let is_websocket = http2_websocket::is_asked(&request);
            let mut answer = match plain(request) {
                Ok(request) => forwarder.answer(request, arrival, &line).await,
                Err(violation) => forwarder.refuse(refused(&violation), arrival),
            };
            if is_websocket && let Err(status) = http2_websocket::agreed(&mut answer) {
                let sentence = format!("a WebSocket was asked for, and the replica answered {status}");
                let refused = Refused::new(StatusCode::BAD_GATEWAY, ReasonCode::AnswerBroken, sentence);
                answer = forwarder.refuse(refused, arrival);
            }
            let progress = open.done();
            Ok::<_, Infallible>(answer.map(|body| WatchedBody { body, progress }))
        }
    });
    let mut builder = http2::Builder::new(LocalExecutor);
    builder
        .timer(TokioTimer::new())
        .max_concurrent_streams(AT_ONCE)
        .enable_connect_protocol()
        .max_header_list_size(HEAD as u32)
        .max_send_buf_size(WAITING)
        .keep_alive_interval(STILL_THERE)
        .keep_alive_timeout(STILL_THERE);
    let stream = FrameWatch::new(stream);
    let mut connection = std::pin::pin!(builder.serve_connection(TokioIo::new(stream), service));
    let mut leaving = false;
    let mut looks = tokio::time::interval(LOOK_EVERY);
    loop {
        tokio::select! {
            ended = connection.as_mut() => {
                if let Err(error) = ended {
                    tracing::trace!(%error, peer = %arrival.peer, "a visitor's connection ended");
                }
                return;
            }
            () = begun.enough.notified() => {
                tracing::debug!(peer = %arrival.peer, "a visitor cancels its requests too often");
                return;
            }
            _ = looks.tick() => {
                if begun.is_stuck(Instant::now()) {
                    tracing::debug!(peer = %arrival.peer, "a visitor does not read its answer");
                    return;
                }
            }
            () = tokio::time::sleep_until(leaves.get()), if !leaving => {
                if leaves.get() <= Instant::now() {
                    connection.as_mut().graceful_shutdown();
                    leaving = true;
                }
            }
        }
    }
}

fn refused(violation: &Violation) -> Refused {
    let status = StatusCode::from_u16(violation.status).unwrap_or(StatusCode::BAD_REQUEST);
    Refused::new(status, violation.code, violation.sentence.as_str())
}

/// The request as HTTP/1.1 would have brought it.
fn plain(mut request: Request<Incoming>) -> Result<Request<Incoming>, Violation> {
    let headers = request.headers().iter().map(|(name, value)| (name.as_str(), value.as_bytes()));
    let fields = Fields {
        method: http2_websocket::method(&request).as_str(),
        path: request.uri().path_and_query().map_or("", |path| path.as_str()),
        authority: request.uri().authority().map(|authority| authority.as_str()),
    };
    let host = HeaderValue::from_str(read_fields(fields, headers)?);
    let streams = !request.body().is_end_stream();
    let headers = request.headers_mut();
    if let Ok(host) = host {
        headers.insert(HOST, host);
    }
    if streams && !headers.contains_key(CONTENT_LENGTH) {
        headers.insert(TRANSFER_ENCODING, HeaderValue::from_static("chunked"));
    }
    join_cookies(headers);
    if http2_websocket::is_asked(&request) {
        http2_websocket::as_upgrade(&mut request);
    }
    Ok(request)
}

/// Cookies may come in pieces; in HTTP/1.1 they are one header (RFC 9113, section 8.2.3).
fn join_cookies(headers: &mut HeaderMap) {
    let pieces: Vec<&[u8]> = headers.get_all(COOKIE).iter().map(HeaderValue::as_bytes).collect();
    if pieces.len() > 1
        && let Ok(whole) = HeaderValue::from_bytes(&pieces.join(b"; ".as_slice()))
    {
        headers.insert(COOKIE, whole);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cookies_in_pieces_are_one_header() {
        let mut headers = HeaderMap::new();
        join_cookies(&mut headers);
        assert!(headers.is_empty());
        for piece in ["a=1", "b=2; c=3", "d=4"] {
            headers.append(COOKIE, HeaderValue::from_static(piece));
        }
        join_cookies(&mut headers);
        let all: Vec<_> = headers.get_all(COOKIE).iter().collect();
        assert_eq!(all, ["a=1; b=2; c=3; d=4"]);
    }
}
