//! A visitor's connection. Only what can be read in exactly one way comes through ([`mainyard_core::http_framing`]).
//!
//! Where a head is refused, a request of ours takes its place, so that the answer goes out in its turn; then the
//! connection ends. Where a body is refused, reading fails, and what was begun at a replica is broken off.

use std::io::{Error, ErrorKind, Result};
use std::mem::MaybeUninit;
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, OnceLock};
use std::task::{Context, Poll, ready};
use std::time::Duration;

use http::header::HeaderName;
use http::{HeaderMap, StatusCode};
use mainyard_core::http_framing::{FramerAction, Framing, Violation};
use tokio::io::{AsyncRead, ReadBuf};

use crate::stream_wrappers::writes_as_they_are;
use tokio::time::Sleep;

use crate::pages;
use crate::rejections::Refused;
use crate::tls::VisitorTls;

/// A visitor that has closed its side waits for an answer for at most so long.
const AFTER_CLOSING: Duration = Duration::from_secs(5);
/// How much is read at once where it is looked at.
const READ: usize = 16 * 1024;
/// Marks the request that takes a refused one's place. Nobody outside knows its value.
const REFUSED: HeaderName = HeaderName::from_static("mainyard-refused");

fn mark() -> &'static str {
    static MARK: OnceLock<String> = OnceLock::new();
    MARK.get_or_init(|| pages::trace_parent().to_str().unwrap_or("refused").to_owned())
}

/// State of a connection that its reading side and its answering side share.
#[derive(Debug, Default)]
pub(crate) struct Line {
    refused: OnceLock<Violation>,
    /// Requests whose answers have not begun.
    open: AtomicU32,
    /// Whether it carries another protocol from now on.
    pub raw: AtomicBool,
    /// By what its TLS was opened, where it has TLS.
    pub tls: Option<Arc<VisitorTls>>,
}

/// A request whose answer has not begun.
pub(crate) struct Waiting(Arc<Line>);

impl Drop for Waiting {
    fn drop(&mut self) {
        self.0.open.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Line {
    /// Of a connection whose TLS was opened by this.
    pub(crate) fn of(tls: Option<Arc<VisitorTls>>) -> Arc<Line> {
        Arc::new(Line { tls, ..Line::default() })
    }

    /// A request waits for its answer.
    pub(crate) fn open(self: &Arc<Self>) -> Waiting {
        self.open.fetch_add(1, Ordering::Relaxed);
        Waiting(Arc::clone(self))
    }

    /// Why the request with these headers, which is ours, stands in another's place.
    pub(crate) fn refused(&self, headers: &HeaderMap) -> Option<Refused> {
        let ours = headers.get(REFUSED).is_some_and(|value| value == mark());
        let violation = self.refused.get().filter(|_| ours)?;
        let status = StatusCode::from_u16(violation.status).unwrap_or(StatusCode::BAD_REQUEST);
        Some(Refused { last: true, ..Refused::new(status, violation.code, violation.sentence.as_str()) })
    }

    /// Why its body could not be read.
    pub(crate) fn broken(&self) -> Option<&str> {
        self.refused.get().map(|violation| violation.sentence.as_str())
    }
}

/// A stream that is looked at.
pub(crate) struct RequestValidator<S> {
    stream: S,
    framing: Framing,
    /// Bytes that were read and are not forwarded yet.
    inbox: Vec<u8>,
    /// Of that, what may.
    free: usize,
    /// Whether nothing more comes.
    ended: bool,
    /// How long a visitor that has closed its side is still taken to wait for an answer.
    leaving: Option<Pin<Box<Sleep>>>,
    line: Arc<Line>,
}

impl<S> RequestValidator<S> {
    /// Looks at this stream from its beginning.
    pub(crate) fn new(stream: S, line: Arc<Line>) -> RequestValidator<S> {
        RequestValidator {
            stream,
            framing: Framing::default(),
            inbox: Vec::new(),
            free: 0,
            ended: false,
            leaving: None,
            line,
        }
    }

    fn give(&mut self, buffer: &mut ReadBuf<'_>) {
        let count = self.free.min(buffer.remaining());
        buffer.put_slice(&self.inbox[..count]);
        self.inbox.drain(..count);
        self.free -= count;
    }

    fn refuse(&mut self, violation: Violation) -> Result<()> {
        let in_head = self.framing.is_between();
        let _ = self.line.refused.set(violation);
        self.ended = true;
        self.inbox.clear();
        if !in_head {
            return Err(Error::from(ErrorKind::InvalidData));
        }
        let ours =
            format!("GET / HTTP/1.1\r\nhost: refused\r\nconnection: close\r\n{REFUSED}: {}\r\n\r\n", mark());
        self.inbox = ours.into_bytes();
        self.free = self.inbox.len();
        Ok(())
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for RequestValidator<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<Result<()>> {
        let this = &mut *self;
        loop {
            if this.free > 0 {
                this.give(buffer);
                return Poll::Ready(Ok(()));
            }
            if this.ended {
                // A visitor may close its side and wait for the answer; one that has left looks the same. So it is
                // waited for, but not for long: then its request ends at the replica too.
                if this.line.open.load(Ordering::Relaxed) > 0 {
                    let left =
                        this.leaving.get_or_insert_with(|| Box::pin(tokio::time::sleep(AFTER_CLOSING)));
                    ready!(left.as_mut().poll(context));
                }
                return Poll::Ready(Ok(()));
            }
            if this.line.raw.load(Ordering::Relaxed) {
                if this.inbox.is_empty() {
                    return Pin::new(&mut this.stream).poll_read(context, buffer);
                }
                this.free = this.inbox.len();
                continue;
            }
            match this.framing.look(&this.inbox) {
                Ok(FramerAction::Pass(count)) => this.free = count,
                Ok(FramerAction::Drop(count)) => drop(this.inbox.drain(..count)),
                Ok(FramerAction::More) => {
                    let free = usize::try_from(this.framing.free()).unwrap_or(usize::MAX);
                    if free > 0 {
                        // A body goes by without being copied.
                        let mut part = buffer.take(free);
                        ready!(Pin::new(&mut this.stream).poll_read(context, &mut part))?;
                        let count = part.filled().len();
                        // SAFETY: the part is of this very buffer, and these bytes of it were filled just now.
                        unsafe { buffer.assume_init(count) };
                        buffer.advance(count);
                        this.framing.went(count as u64);
                        return Poll::Ready(Ok(()));
                    }
                    // An idle connection keeps no room for what may come.
                    let mut room = [MaybeUninit::uninit(); READ];
                    let mut part = ReadBuf::uninit(&mut room);
                    ready!(Pin::new(&mut this.stream).poll_read(context, &mut part))?;
                    this.inbox.extend_from_slice(part.filled());
                    if part.filled().is_empty() {
                        // Half a message is none: what is left of it goes nowhere.
                        this.ended = true;
                        match this.inbox.is_empty() {
                            true => continue,
                            false => return Poll::Ready(Err(ErrorKind::UnexpectedEof.into())),
                        }
                    }
                }
                Err(violation) => this.refuse(violation)?,
            }
        }
    }
}

writes_as_they_are!(RequestValidator);
