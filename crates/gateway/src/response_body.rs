//! An answer on its way out, and what is done when it has ended.

use std::pin::Pin;
use std::rc::Rc;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Instant;

use bytes::Bytes;
use hyper::body::{Body, Frame, Incoming, SizeHint};

use crate::backend::Sender;
use crate::body::Passage;
use crate::cache::Keep;
use crate::counts::{Ended, EntryPoint};
use crate::grpc;
use crate::pool_key::PoolKey;
use crate::request_log::Note;

use crate::replica::Open;
use crate::service::Service;
use crate::worker::Forwarder;

/// Work to do when an answer was delivered, or was broken off.
pub(crate) struct Tally {
    /// The counters it is added to, and the pool that the connection goes back to.
    pub forwarder: Forwarder,
    /// The labels it is counted under.
    pub way: EntryPoint,
    /// The service.
    pub service: Arc<Service>,
    /// When the request came.
    pub begun: Instant,
    /// Whether the answer says that the replica failed.
    pub failed: bool,
    /// Counts as open until the answer has ended.
    pub open: Open,
    /// The connection to the replica, and where it is kept when it is idle.
    pub sender: Option<(Sender, PoolKey)>,
    /// Progress of the request's body.
    pub passage: Option<Rc<Passage>>,
    /// The request's log entry.
    pub note: Note,
}

impl Tally {
    fn finish(mut self, sent: u64, whole: bool, broken: bool) {
        let replica = &self.open.replica;
        let micros = self.begun.elapsed().as_micros() as u64;
        let failed = self.failed || broken;
        let received = self.passage.as_ref().map_or(0, |passage| passage.bytes.get());
        let ended = Ended { failed, micros, received, sent };
        self.forwarder.serving.count(&self.way, &self.service.target, Some(replica), ended);
        self.note.broken = broken;
        self.forwarder.remember(self.note, micros, received, sent);
        // A connection whose answer was not read to its end is never given to the next visitor.
        if let Some((sender, place)) = self.sender.take().filter(|_| whole && !self.open.replica.is_retired())
        {
            self.forwarder.pool.put(place, sender, &self.open.replica);
        }
    }
}

/// An answer's body that knows when it has ended.
pub(crate) struct CountedBody {
    inner: Incoming,
    bytes: u64,
    tally: Option<Tally>,
    /// Where it is kept, as long as it may be.
    keep: Option<Keep>,
}

impl CountedBody {
    /// This body; when it has ended, `tally` is finished.
    pub(crate) fn new(inner: Incoming, tally: Tally, keep: Option<Keep>) -> CountedBody {
        CountedBody { inner, bytes: 0, tally: Some(tally), keep }
    }
}

impl Body for CountedBody {
    type Data = Bytes;
    type Error = hyper::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        let polled = Pin::new(&mut self.inner).poll_frame(context);
        if let Poll::Ready(Some(Ok(frame))) = &polled {
            self.bytes += frame.data_ref().map_or(0, |data| data.len() as u64);
            if let (Some(data), Some(keep)) = (frame.data_ref(), &mut self.keep)
                && !keep.add(data)
            {
                self.keep = None;
            }
            if let (Some(trailers), Some(tally)) = (frame.trailers_ref(), &mut self.tally) {
                tally.failed |= grpc::says_failed(trailers);
            }
        }
        let ended = match &polled {
            Poll::Ready(None) => Some(false),
            Poll::Ready(Some(Err(_))) => Some(true),
            Poll::Ready(Some(Ok(_))) if self.inner.is_end_stream() => Some(false),
            _ => None,
        };
        if ended == Some(false)
            && let Some(keep) = self.keep.take()
        {
            keep.finish();
        }
        if let Some((broken, tally)) = ended.and_then(|broken| Some((broken, self.tally.take()?))) {
            tally.finish(self.bytes, !broken, broken);
        }
        polled
    }

    fn is_end_stream(&self) -> bool {
        // An answer without a body is never polled: its end is seen when it is dropped.
        self.inner.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.inner.size_hint()
    }
}

impl Drop for CountedBody {
    fn drop(&mut self) {
        if let Some(tally) = self.tally.take() {
            let whole = self.inner.is_end_stream();
            tally.finish(self.bytes, whole, false);
        }
    }
}
