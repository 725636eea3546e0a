//! A visitor's connection that is not waited for without end: where nothing of what is written is taken for a time, it is
//! given up, and with it the replica's connection that fills it.

use std::future::Future;
use std::io::{Error, ErrorKind, IoSlice, Result};
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Instant, Sleep};

use crate::body::MinimumRate;

/// A stream whose writes do not wait without end.
#[derive(Debug)]
pub(crate) struct WriteTimeout<S> {
    stream: S,
    within: Duration,
    waiting: Option<Pin<Box<Sleep>>>,
    /// Bytes accepted while writes had to wait, and since when they wait.
    pace: Option<MinimumRate>,
}

impl<S> WriteTimeout<S> {
    /// Gives up a write when the visitor took nothing of it within this time.
    pub(crate) fn new(stream: S, within: Duration) -> WriteTimeout<S> {
        WriteTimeout { stream, within, waiting: None, pace: None }
    }

    fn in_time(&mut self, context: &mut Context<'_>, written: Poll<Result<usize>>) -> Poll<Result<usize>> {
        if let Poll::Ready(taken) = &written {
            // One byte from time to time holds a replica's connection as well as none does.
            if self.waiting.take().is_none() {
                self.pace = None;
            } else if let (Ok(taken), Some(pace)) = (taken, &mut self.pace)
                && !pace.keeps_up(*taken as u64, Instant::now())
            {
                return Poll::Ready(Err(Error::from(ErrorKind::TimedOut)));
            }
            return written;
        }
        self.pace.get_or_insert_with(|| MinimumRate::new(Instant::now()));
        let within = self.within;
        let waiting = self.waiting.get_or_insert_with(|| Box::pin(tokio::time::sleep(within)));
        ready!(waiting.as_mut().poll(context));
        Poll::Ready(Err(Error::from(ErrorKind::TimedOut)))
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for WriteTimeout<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<Result<()>> {
        Pin::new(&mut self.stream).poll_read(context, buffer)
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for WriteTimeout<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<Result<usize>> {
        let written = Pin::new(&mut self.stream).poll_write(context, bytes);
        self.in_time(context, written)
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
        pieces: &[IoSlice<'_>],
    ) -> Poll<Result<usize>> {
        let written = Pin::new(&mut self.stream).poll_write_vectored(context, pieces);
        self.in_time(context, written)
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    use super::*;

    fn runtime() -> tokio::runtime::Runtime {
        tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime")
    }

    #[test]
    fn a_reader_that_stops_is_given_up() {
        runtime().block_on(async {
            let (here, _there) = tokio::io::duplex(16);
            let mut patient = WriteTimeout::new(here, Duration::from_millis(20));
            let failed = patient.write_all(&[0; 64]).await.expect_err("nobody takes it");
            assert_eq!(failed.kind(), ErrorKind::TimedOut);
        });
    }

    #[test]
    fn a_slow_but_steady_reader_is_waited_for() {
        runtime().block_on(async {
            let (here, mut there) = tokio::io::duplex(16);
            let mut patient = WriteTimeout::new(here, Duration::from_secs(600));
            let writing = tokio::spawn(async move { patient.write_all(&[7; 64]).await });
            let mut taken = [0; 64];
            for byte in &mut taken {
                *byte = there.read_u8().await.expect("a byte");
                tokio::task::yield_now().await;
            }
            writing.await.expect("it ends").expect("it is taken");
            assert_eq!(taken, [7; 64]);
        });
    }
}
