//! Connections to replicas that speak HTTP/2 (RFC 9113): many requests share one.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::net::SocketAddrV4;
use std::rc::Rc;
use std::sync::Arc;
use std::time::Duration;

use http::header::{CONNECTION, HOST, HeaderValue, TE, TRANSFER_ENCODING, UPGRADE};
use http::uri::{Authority, PathAndQuery, Scheme};
use http::{Request, Response, Uri};
use hyper::body::Incoming;
use hyper::client::conn::TrySendError;
use hyper::client::conn::http2::{self, SendRequest};
use hyper_util::rt::{TokioIo, TokioTimer};
use rustls::ClientConfig;
use tokio::io::{AsyncRead, AsyncWrite};

use crate::body::RequestBody;
use crate::local_executor::LocalExecutor;
use crate::pool_key::PoolKey;

/// Its name in ALPN.
pub(crate) const HTTP_2: &[u8] = b"h2";
/// Requests that share one connection; what is more takes another one. Many servers take a hundred.
const AT_ONCE: usize = 100;
/// Most bytes of one answer's headers.
const HEAD: u32 = 192 * 1024;
/// Bytes of one answer, and of all on a connection, that a replica may send before they are taken.
const STREAM_WINDOW: u32 = 1 << 20;
const CONNECTION_WINDOW: u32 = 4 << 20;
/// A replica that is silent for so long is asked whether it is still there, and has as long to say so.
const STILL_THERE: Duration = Duration::from_secs(20);

/// One request's part of a connection.
pub(crate) struct Stream {
    sender: SendRequest<RequestBody>,
    count: Count,
}

/// Counts the requests on a connection.
struct Count(Rc<Cell<usize>>);

impl Count {
    fn of(all: &Rc<Cell<usize>>) -> Count {
        all.set(all.get() + 1);
        Count(Rc::clone(all))
    }
}

impl Drop for Count {
    fn drop(&mut self) {
        self.0.set(self.0.get() - 1);
    }
}

impl Stream {
    /// Whether its connection takes no more requests.
    pub(crate) fn is_closed(&self) -> bool {
        self.sender.is_closed()
    }

    /// Sends a request that has the form of HTTP/1.1.
    pub(crate) async fn send(
        &mut self,
        request: Request<RequestBody>,
    ) -> Result<Response<Incoming>, TrySendError<Request<RequestBody>>> {
        self.sender.try_send_request(in_its_form(request)).await
    }
}

/// The request as HTTP/2 has it: its host and its end are not told by headers (RFC 9113, section 8.2.2).
fn in_its_form(mut request: Request<RequestBody>) -> Request<RequestBody> {
    let host = request.headers_mut().remove(HOST);
    for name in [CONNECTION, TRANSFER_ENCODING, UPGRADE] {
        request.headers_mut().remove(name);
    }
    // What follows an answer's body goes on to the visitor.
    request.headers_mut().insert(TE, HeaderValue::from_static("trailers"));
    let authority = host.and_then(|host| Authority::try_from(host.as_bytes()).ok());
    let mut parts = http::uri::Parts::default();
    parts.scheme = Some(Scheme::HTTP);
    parts.authority = authority.or_else(|| Some(Authority::from_static("replica")));
    let path = request.uri().path_and_query().cloned();
    parts.path_and_query = path.or_else(|| Some(PathAndQuery::from_static("/")));
    if let Ok(uri) = Uri::from_parts(parts) {
        *request.uri_mut() = uri;
    }
    *request.version_mut() = http::Version::HTTP_2;
    request
}

/// Begins HTTP/2 on a connection, by prior knowledge or after ALPN.
pub(crate) async fn handshake(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    address: SocketAddrV4,
) -> std::io::Result<Stream> {
    let mut builder = http2::Builder::new(LocalExecutor);
    builder
        .timer(TokioTimer::new())
        .initial_stream_window_size(STREAM_WINDOW)
        .initial_connection_window_size(CONNECTION_WINDOW)
        .max_header_list_size(HEAD)
        .keep_alive_interval(STILL_THERE)
        .keep_alive_timeout(STILL_THERE);
    let (sender, connection) =
        builder.handshake(TokioIo::new(stream)).await.map_err(std::io::Error::other)?;
    tokio::task::spawn_local(async move {
        if let Err(error) = connection.await {
            tracing::trace!(%error, %address, "a connection to a replica ended");
        }
    });
    Ok(Stream { sender, count: Count::of(&Rc::default()) })
}

/// The same trust, where HTTP/2 is agreed on. A worker makes each once.
pub(crate) fn with_alpn(config: &Arc<ClientConfig>) -> Arc<ClientConfig> {
    type Known = RefCell<HashMap<usize, (Arc<ClientConfig>, Arc<ClientConfig>)>>;
    thread_local! {
        static KNOWN: Known = RefCell::default();
    }
    KNOWN.with_borrow_mut(|known| {
        // One that nobody else has any more would never be asked for again.
        known.retain(|_, (plain, _)| Arc::strong_count(plain) > 1);
        let (_, with) = known.entry(Arc::as_ptr(config) as usize).or_insert_with(|| {
            let mut with = ClientConfig::clone(config);
            with.alpn_protocols = vec![HTTP_2.to_vec()];
            (Arc::clone(config), Arc::new(with))
        });
        Arc::clone(with)
    })
}

/// A connection that requests share.
struct Shared {
    sender: SendRequest<RequestBody>,
    requests: Rc<Cell<usize>>,
    /// It was needed since it was last looked at.
    is_needed: bool,
}

/// A worker's connections that requests share.
#[derive(Clone, Default)]
pub(crate) struct SharedPool(Rc<RefCell<HashMap<PoolKey, Vec<Shared>>>>);

impl SharedPool {
    /// A part of one that has room.
    pub(crate) fn open(&self, place: &PoolKey) -> Option<Stream> {
        let mut all = self.0.borrow_mut();
        let list = all.get_mut(place)?;
        list.retain(|shared| !shared.sender.is_closed());
        let shared = list.iter_mut().find(|shared| shared.requests.get() < AT_ONCE)?;
        shared.is_needed = true;
        Some(Stream { sender: shared.sender.clone(), count: Count::of(&shared.requests) })
    }

    /// Lets others share the connection of this request.
    pub(crate) fn keep(&self, place: PoolKey, stream: &Stream) {
        let (sender, requests) = (stream.sender.clone(), Rc::clone(&stream.count.0));
        let shared = Shared { sender, requests, is_needed: true };
        self.0.borrow_mut().entry(place).or_default().push(shared);
    }

    /// Closes connections to addresses that are no longer in the table, once their requests have ended; and those that were
    /// not needed since the last call, but for one to each replica.
    pub(crate) fn close_unneeded(&self, is_present: impl Fn(&SocketAddrV4) -> bool) {
        self.0.borrow_mut().retain(|(address, _), list| {
            let mut first = true;
            list.retain_mut(|shared| {
                let is_needed = std::mem::take(&mut shared.is_needed) || shared.requests.get() > 0;
                let stays = !shared.sender.is_closed() && (is_needed || std::mem::take(&mut first));
                first &= !stays;
                stays
            });
            is_present(address) && !list.is_empty()
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_request_is_told_in_the_form_of_http_2() {
        let request = Request::post("/pay?now=1")
            .header("host", "api.test:8080")
            .header("transfer-encoding", "chunked")
            .header("x-request-id", "abc")
            .body(RequestBody::empty())
            .expect("a request");
        let request = in_its_form(request);
        assert_eq!(request.uri().to_string(), "http://api.test:8080/pay?now=1");
        let names: Vec<&str> = request.headers().keys().map(http::HeaderName::as_str).collect();
        assert_eq!(names, ["x-request-id", "te"]);
    }
}
