//! A visitor's HTTP/2 connection, whose control frames are counted: PING, SETTINGS and PRIORITY cost the visitor
//! nothing and the gateway an answer each; WINDOW_UPDATE is only of use where something was sent.

use std::io::{Error, ErrorKind, Result};
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Instant;

use mainyard_core::http_framing::{FrameBudget, FrameCounter};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// A stream that fails once it carries more control frames than it may.
pub(crate) struct FrameWatch<S> {
    stream: S,
    counter: FrameCounter,
    budget: FrameBudget,
    begun: Instant,
}

impl<S> FrameWatch<S> {
    /// Looks at a connection from its beginning.
    pub(crate) fn new(stream: S) -> FrameWatch<S> {
        FrameWatch {
            stream,
            counter: FrameCounter::default(),
            budget: FrameBudget::default(),
            begun: Instant::now(),
        }
    }

    fn wrote(&mut self, written: &Poll<Result<usize>>) {
        if let Poll::Ready(Ok(count)) = written {
            self.budget.sent(*count as u64);
        }
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for FrameWatch<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<Result<()>> {
        let this = &mut *self;
        let before = buffer.filled().len();
        ready!(Pin::new(&mut this.stream).poll_read(context, buffer))?;
        let seen = this.counter.look(&buffer.filled()[before..]);
        let now = this.begun.elapsed().as_millis() as u64;
        if this.budget.take(seen, now) {
            return Poll::Ready(Ok(()));
        }
        tracing::debug!("a visitor floods its connection with control frames");
        Poll::Ready(Err(Error::from(ErrorKind::ConnectionAborted)))
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for FrameWatch<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<Result<usize>> {
        let written = Pin::new(&mut self.stream).poll_write(context, bytes);
        self.wrote(&written);
        written
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
        let written = Pin::new(&mut self.stream).poll_write_vectored(context, pieces);
        self.wrote(&written);
        written
    }
}
