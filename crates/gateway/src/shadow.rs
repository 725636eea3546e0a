//! Copies of requests for a release that no visitor reaches yet: sent beside the visitor's, compared with what the visitor
//! got, and thrown away.
//!
//! Only what may be repeated is copied: a GET or HEAD without a body. Nobody waits for a copy.

use std::sync::Arc;
use std::time::{Duration, Instant};

use http::header::{CONTENT_LENGTH, HeaderName, HeaderValue};
use http::{HeaderMap, Request, StatusCode};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use mainyard_core::canary_analysis::copy_failed;
use mainyard_core::model::Target;

use crate::backend::Onward;
use crate::backend_order::Port;
use crate::body::RequestBody;
use crate::counts::EntryPoint;
use crate::replica::Replica;
use crate::worker::Forwarder;

/// Tells the program that nobody reads its answer.
const COPY: HeaderName = HeaderName::from_static("mainyard-copy");
/// Between two copies of one worker: the new release is to be looked at, not to be loaded.
const BETWEEN: Duration = Duration::from_millis(2);
/// A copy that is not answered by then has failed.
const WITHIN: Duration = Duration::from_secs(30);

/// A copy that is to be sent.
pub(crate) struct Copy {
    request: Request<RequestBody>,
    replica: Arc<Replica>,
    onward: Onward,
}

/// The visitor's answer.
pub(crate) struct Original {
    pub way: EntryPoint,
    pub service: Target,
    pub replica: Arc<Replica>,
    pub status: StatusCode,
    pub length: Option<HeaderValue>,
    pub micros: u64,
}

impl Copy {
    /// A copy of a request that may be repeated, where somebody gets copies and it is time for one.
    pub(crate) fn of(
        forwarder: &Forwarder,
        port: &Port,
        onward: &Onward,
        request: impl FnOnce() -> Request<RequestBody>,
    ) -> Option<Copy> {
        if port.shadows.is_empty() {
            return None;
        }
        let now = Instant::now();
        let last = forwarder.last_copy.replace(Some(now));
        if last.is_some_and(|last| now.duration_since(last) < BETWEEN) {
            forwarder.last_copy.set(last);
            return None;
        }
        let place = forwarder.copies.replace(forwarder.copies.get().wrapping_add(1));
        let replica = Arc::clone(&port.shadows[place % port.shadows.len()]);
        let mut request = request();
        request.headers_mut().insert(COPY, HeaderValue::from_static("shadow"));
        Some(Copy { request, replica, onward: onward.clone() })
    }

    /// Sends it, and counts both answers: each up to its beginning, which is what can be compared.
    pub(crate) fn send(self, forwarder: Forwarder, original: Original) {
        tokio::task::spawn_local(async move {
            let begun = Instant::now();
            let Some(_open) = forwarder.serving.enter(&self.replica, None) else { return };
            let asked = async {
                let mut connection = forwarder.pool.get(&self.replica, &self.onward).await.ok()?;
                let answer = connection.send(self.request).await.ok()?;
                let micros = begun.elapsed().as_micros() as u64;
                let (head, body) = answer.into_parts();
                let whole = read(body).await;
                if whole {
                    forwarder.pool.put(connection.place, connection.sender, &self.replica);
                }
                Some((head.status, length(&head.headers), micros))
            };
            let answered = tokio::time::timeout(WITHIN, asked).await.ok().flatten();
            let Original { way, service, replica, status, length, micros } = original;
            replica.count_copy(&way, &service, status.is_server_error(), micros, false);
            let failed = copy_failed(status.as_u16(), answered.as_ref().map(|(copy, ..)| copy.as_u16()));
            let (micros, other_size) = match answered {
                None => (begun.elapsed().as_micros() as u64, false),
                Some((_, size, micros)) => {
                    (micros, size.zip(length).is_some_and(|(one, other)| one != other))
                }
            };
            self.replica.count_copy(&way, &service, failed, micros, other_size);
        });
    }
}

/// The declared length of an answer.
pub(crate) fn length(headers: &HeaderMap) -> Option<HeaderValue> {
    headers.get(CONTENT_LENGTH).cloned()
}

/// Reads an answer to its end and keeps nothing of it.
async fn read(mut body: Incoming) -> bool {
    while let Some(frame) = body.frame().await {
        if frame.is_err() {
            return false;
        }
    }
    true
}
