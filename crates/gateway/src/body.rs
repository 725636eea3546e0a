//! A request's body on its way to a replica: counted, held to the route's size, and not waited for without end.

use std::cell::Cell;
use std::future::Future;
use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use hyper::body::{Body, Frame, Incoming, SizeHint};
use tokio::time::{Instant, Sleep};

/// Progress of a body while it is forwarded.
#[derive(Debug, Default)]
pub(crate) struct Passage {
    /// Bytes that went by.
    pub bytes: Cell<u64>,
    /// Whether all of it did.
    pub ended: Cell<bool>,
    /// The fault that was found in the body.
    pub fault: Cell<Option<Fault>>,
}

/// Why a body was cut off.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Fault {
    /// It is larger than this many bytes.
    TooLarge(u64),
    /// No data came within the time limit.
    Stalled(Duration),
    /// It cannot be read, or its sender left.
    Broken,
}

/// A request's body; one that is empty costs nothing.
pub(crate) struct RequestBody(Option<Box<Passing>>);

impl std::fmt::Debug for RequestBody {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(if self.0.is_some() { "RequestBody(passing)" } else { "RequestBody(empty)" })
    }
}

/// A body brings at least this many bytes in each window of time.
const LEAST: u64 = 1024;
const WINDOW: Duration = Duration::from_secs(60);

/// Whether bytes come faster than someone would send them who only wants to hold a connection.
#[derive(Debug)]
pub(crate) struct MinimumRate {
    since: Instant,
    bytes: u64,
}

impl MinimumRate {
    /// From now on.
    pub(crate) fn new(now: Instant) -> MinimumRate {
        MinimumRate { since: now, bytes: 0 }
    }

    /// So many bytes came; false where a whole window brought too few.
    pub(crate) fn keeps_up(&mut self, bytes: u64, now: Instant) -> bool {
        self.bytes += bytes;
        if now.duration_since(self.since) < WINDOW {
            return true;
        }
        let enough = self.bytes >= LEAST;
        *self = MinimumRate::new(now);
        enough
    }
}

struct Passing {
    body: Incoming,
    limit: Option<u64>,
    pause: Duration,
    timer: Pin<Box<Sleep>>,
    pace: MinimumRate,
    passage: Rc<Passage>,
}

impl RequestBody {
    /// No body.
    pub(crate) fn empty() -> RequestBody {
        RequestBody(None)
    }

    /// A visitor's body. What is known of it is reported beside it, where there is one.
    pub(crate) fn of(
        body: Incoming,
        limit: Option<u64>,
        pause: Duration,
    ) -> (RequestBody, Option<Rc<Passage>>) {
        if body.is_end_stream() {
            return (RequestBody(None), None);
        }
        let passage = Rc::new(Passage::default());
        let timer = Box::pin(tokio::time::sleep(pause));
        let pace = MinimumRate::new(Instant::now());
        let passing = Passing { body, limit, pause, timer, pace, passage: Rc::clone(&passage) };
        (RequestBody(Some(Box::new(passing))), Some(passage))
    }
}

impl Body for RequestBody {
    type Data = Bytes;
    type Error = std::io::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, std::io::Error>>> {
        let Some(it) = &mut self.0 else { return Poll::Ready(None) };
        let fail = |fault: Fault, passage: &Passage| {
            passage.fault.set(Some(fault));
            passage.ended.set(true);
            Poll::Ready(Some(Err(std::io::Error::other("the request's body was cut off"))))
        };
        match Pin::new(&mut it.body).poll_frame(context) {
            Poll::Ready(Some(Ok(frame))) => {
                let size = frame.data_ref().map_or(0, |data| data.len() as u64);
                let bytes = it.passage.bytes.get() + size;
                it.passage.bytes.set(bytes);
                if let Some(limit) = it.limit.filter(|limit| bytes > *limit) {
                    return fail(Fault::TooLarge(limit), &it.passage);
                }
                let now = Instant::now();
                it.timer.as_mut().reset(now + it.pause);
                if !it.pace.keeps_up(size, now) && !it.body.is_end_stream() {
                    return fail(Fault::Stalled(WINDOW), &it.passage);
                }
                it.passage.ended.set(it.body.is_end_stream());
                Poll::Ready(Some(Ok(frame)))
            }
            Poll::Ready(Some(Err(_))) => fail(Fault::Broken, &it.passage),
            Poll::Ready(None) => {
                it.passage.ended.set(true);
                Poll::Ready(None)
            }
            Poll::Pending if it.timer.as_mut().poll(context).is_ready() => {
                fail(Fault::Stalled(it.pause), &it.passage)
            }
            Poll::Pending => Poll::Pending,
        }
    }

    fn is_end_stream(&self) -> bool {
        self.0.as_ref().is_none_or(|it| it.body.is_end_stream())
    }

    fn size_hint(&self) -> SizeHint {
        self.0.as_ref().map_or_else(|| SizeHint::with_exact(0), |it| it.body.size_hint())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_body_slower_than_a_kibibyte_a_minute_times_out() {
        let start = Instant::now();
        let after = |seconds| start + Duration::from_secs(seconds);
        let mut drip = MinimumRate::new(start);
        assert!(drip.keeps_up(1, after(30)), "its first minute is not over");
        assert!(!drip.keeps_up(1, after(61)), "2 bytes in a minute");
        let mut slow = MinimumRate::new(start);
        assert!(slow.keeps_up(LEAST, after(61)));
        assert!(!slow.keeps_up(LEAST - 1, after(122)), "each minute counts for itself");
    }
}
