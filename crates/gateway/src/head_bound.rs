//! A replica's connection, of which only so much is read before an answer begins: a replica that sends interim
//! answers (1xx) without end would keep its worker from everyone else.

use std::io::{Error, ErrorKind, Result};
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::task::{Context, Poll, ready};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// Bytes of an answer's head, with every interim answer before it.
const HEAD: usize = 192 * 1024;
/// Nothing is waited for, or the answer has begun.
const UNBOUND: usize = usize::MAX;

/// Says when an answer is waited for.
#[derive(Debug, Clone)]
pub struct Bound(Arc<AtomicUsize>);

impl Bound {
    /// A request is sent: its answer's head is to come.
    pub fn begin(&self) {
        self.0.store(HEAD, Ordering::Relaxed);
    }

    /// The answer has begun.
    pub fn end(&self) {
        self.0.store(UNBOUND, Ordering::Relaxed);
    }
}

/// A stream that fails where a head is longer than it may be.
pub struct HeadBound<S> {
    stream: S,
    left: Arc<AtomicUsize>,
}

impl<S> HeadBound<S> {
    /// This stream, and what says when its head is bounded.
    pub fn new(stream: S) -> (HeadBound<S>, Bound) {
        let left = Arc::new(AtomicUsize::new(UNBOUND));
        (HeadBound { stream, left: Arc::clone(&left) }, Bound(left))
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for HeadBound<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<Result<()>> {
        let before = buffer.filled().len();
        ready!(Pin::new(&mut self.stream).poll_read(context, buffer))?;
        let left = self.left.load(Ordering::Relaxed);
        if left == UNBOUND {
            return Poll::Ready(Ok(()));
        }
        match left.checked_sub(buffer.filled().len() - before) {
            Some(left) => {
                self.left.store(left, Ordering::Relaxed);
                Poll::Ready(Ok(()))
            }
            None => Poll::Ready(Err(Error::new(ErrorKind::InvalidData, "the answer's head has no end"))),
        }
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for HeadBound<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<Result<usize>> {
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        pieces: &[std::io::IoSlice<'_>],
    ) -> Poll<Result<usize>> {
        Pin::new(&mut self.stream).poll_write_vectored(context, pieces)
    }
}
