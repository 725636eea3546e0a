//! A replica's connection, with a limit on what is read before an answer begins: a replica that sends interim
//! answers (1xx) without end would keep its worker from everyone else.

use std::io::{Error, ErrorKind, Result};
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::task::{Context, Poll, ready};

use tokio::io::{AsyncRead, ReadBuf};

use crate::stream_wrappers::writes_as_they_are;

/// Bytes of an answer's head, with every interim answer before it.
const HEAD: usize = 192 * 1024;
/// The timer is off: no head is expected, or the answer has begun.
const UNBOUND: usize = usize::MAX;

/// Says when an answer is waited for.
#[derive(Debug, Clone)]
pub(crate) struct Bound(Arc<AtomicUsize>);

impl Bound {
    /// A request is sent: its answer's head is to come.
    pub(crate) fn begin(&self) {
        self.0.store(HEAD, Ordering::Relaxed);
    }

    /// The answer has begun.
    pub(crate) fn end(&self) {
        self.0.store(UNBOUND, Ordering::Relaxed);
    }
}

/// A stream that fails where a head is longer than it may be.
pub(crate) struct HeadLimit<S> {
    stream: S,
    left: Arc<AtomicUsize>,
}

impl<S> HeadLimit<S> {
    /// This stream, and what says when its head is bounded.
    pub(crate) fn new(stream: S) -> (HeadLimit<S>, Bound) {
        let left = Arc::new(AtomicUsize::new(UNBOUND));
        (HeadLimit { stream, left: Arc::clone(&left) }, Bound(left))
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for HeadLimit<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<Result<()>> {
        let left = self.left.load(Ordering::Relaxed);
        match left {
            UNBOUND => return Pin::new(&mut self.stream).poll_read(context, buffer),
            0 => return Poll::Ready(Err(Error::new(ErrorKind::InvalidData, "the answer's head has no end"))),
            _ => {}
        }
        // What is read at once may be more than a head: the body that follows it must not count as one.
        let mut part = buffer.take(left);
        ready!(Pin::new(&mut self.stream).poll_read(context, &mut part))?;
        let count = part.filled().len();
        // SAFETY: the part is of this very buffer, and these bytes of it were filled just now.
        unsafe { buffer.assume_init(count) };
        buffer.advance(count);
        // The answer may have begun meanwhile; then nothing is bounded any more.
        let _ = self.left.compare_exchange(left, left - count, Ordering::Relaxed, Ordering::Relaxed);
        Poll::Ready(Ok(()))
    }
}

writes_as_they_are!(HeadLimit);
