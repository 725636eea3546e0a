//! Connections to replicas: each worker keeps its own, as many as were needed a moment ago.

use std::cell::RefCell;
use std::collections::{HashMap, VecDeque};
use std::net::SocketAddrV4;
use std::rc::Rc;
use std::sync::Arc;
use std::time::Duration;

use hyper::body::Incoming;
use hyper::client::conn::http1::{self, SendRequest};
use hyper_util::rt::TokioIo;
use rustls::ClientConfig;
use rustls::pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

use crate::body::RequestBody;
use crate::head_limit::{Bound, HeadLimit};
use crate::http2_client::{self, SharedPool, Stream};
use crate::pool_key::PoolKey;
use crate::replica::Replica;

/// A lost first packet costs a second; a replica on the same node answers in far less than this.
const CONNECT_WITHIN: Duration = Duration::from_millis(700);
/// A replica on the same node agrees on TLS in far less than this.
const TLS_WITHIN: Duration = Duration::from_secs(5);
/// A connection that can take a request.
pub(crate) struct Connection {
    /// Sends on it.
    pub sender: Sender,
    /// Whether it has carried a request before.
    pub reused: bool,
    /// The pool it is kept in while it is idle.
    pub place: PoolKey,
}

/// A replica's connection, ready to be sent on.
pub(crate) enum Sender {
    /// One request after the other.
    Http1 {
        /// Sends on it.
        inner: SendRequest<RequestBody>,
        /// Bounds what is read before an answer.
        bound: Bound,
    },
    /// Many requests at once; this is one of them.
    Http2(Stream),
}

/// A connection to a replica, whichever it is.
pub(crate) async fn connect(address: SocketAddrV4) -> std::io::Result<TcpStream> {
    let stream = tokio::time::timeout(CONNECT_WITHIN, TcpStream::connect(address));
    let stream = stream.await.map_err(|_| std::io::Error::from(std::io::ErrorKind::TimedOut))??;
    stream.set_nodelay(true)?;
    Ok(stream)
}

/// How a replica is spoken to.
#[derive(Debug, Clone)]
pub(crate) struct Onward {
    /// With TLS, where its certificate must be for this name and lead to what the configuration trusts.
    pub tls: Option<(Arc<ClientConfig>, ServerName<'static>)>,
    /// In HTTP/2 and not in HTTP/1.1.
    pub h2: bool,
}

impl Onward {
    /// HTTP/1.1 without TLS.
    pub(crate) const PLAIN: Onward = Onward { tls: None, h2: false };

    /// Tells connections of one kind from those of another.
    fn kind(&self) -> (usize, bool) {
        (self.tls.as_ref().map_or(0, |(config, _)| Arc::as_ptr(config) as usize), self.h2)
    }
}

/// A connection that nobody uses, counted at its replica.
struct Idle {
    sender: Sender,
    _counted: CountedIdle,
}

struct CountedIdle(Arc<Replica>);

impl Drop for CountedIdle {
    fn drop(&mut self) {
        self.0.load.leave_idle();
    }
}

/// Idle connections of a kind to a replica: the one that was used last is used next.
#[derive(Default)]
struct IdleList {
    list: VecDeque<Idle>,
    /// How many were never needed since they were last looked through.
    unneeded: usize,
}

/// A worker's idle connections.
#[derive(Clone, Default)]
pub(crate) struct Pool {
    idle: Rc<RefCell<HashMap<PoolKey, IdleList>>>,
    /// Connections that many requests share.
    shared: SharedPool,
}

impl Pool {
    /// An idle connection that is still good, or a new one.
    pub(crate) async fn get(&self, replica: &Arc<Replica>, onward: &Onward) -> std::io::Result<Connection> {
        let address = replica.backend.address;
        let place = (address, onward.kind());
        if onward.h2 {
            if let Some(stream) = self.shared.open(&place) {
                return Ok(Connection { sender: Sender::Http2(stream), reused: true, place });
            }
            let connection = Self::dial(address, onward).await?;
            if let Sender::Http2(stream) = &connection.sender {
                self.shared.keep(place, stream);
            }
            return Ok(connection);
        }
        while let Some(mut sender) = self.take(&place) {
            if sender.is_ready().await {
                return Ok(Connection { sender, reused: true, place });
            }
        }
        Self::dial(address, onward).await
    }

    fn take(&self, place: &PoolKey) -> Option<Sender> {
        let mut idle = self.idle.borrow_mut();
        let kept = idle.get_mut(place)?;
        let idle = kept.list.pop_back()?;
        kept.unneeded = kept.unneeded.min(kept.list.len());
        Some(idle.sender)
    }

    /// A new connection.
    pub(crate) async fn dial(address: SocketAddrV4, onward: &Onward) -> std::io::Result<Connection> {
        let (stream, place) = (connect(address).await?, (address, onward.kind()));
        let sender = match &onward.tls {
            None => begin(stream, address, onward.h2).await?,
            Some((config, name)) => {
                let config = if onward.h2 { http2_client::with_alpn(config) } else { Arc::clone(config) };
                let opened = TlsConnector::from(config).connect(name.clone(), stream);
                let opened = tokio::time::timeout(TLS_WITHIN, opened).await;
                let opened = opened.map_err(|_| std::io::Error::from(std::io::ErrorKind::TimedOut))??;
                begin(opened, address, onward.h2).await?
            }
        };
        Ok(Connection { sender, reused: false, place })
    }

    /// Keeps a connection whose answer was read to its end, where the replica may have so many.
    pub(crate) fn put(&self, place: PoolKey, sender: Sender, replica: &Arc<Replica>) {
        // One that is shared is kept already.
        if sender.is_closed() || matches!(sender, Sender::Http2(_)) || !replica.load.keep_idle() {
            return;
        }
        let idle = Idle { sender, _counted: CountedIdle(Arc::clone(replica)) };
        self.idle.borrow_mut().entry(place).or_default().list.push_back(idle);
    }

    /// Closes connections to addresses that are no longer in the table, and half of those that were not needed since the
    /// last call: a replica may have a thread for each.
    pub(crate) fn close_unneeded(&self, is_present: impl Fn(&SocketAddrV4) -> bool) {
        self.idle.borrow_mut().retain(|(address, _), kept| {
            kept.list.drain(..kept.unneeded / 2);
            kept.unneeded = kept.list.len();
            is_present(address) && !kept.list.is_empty()
        });
        self.shared.close_unneeded(is_present);
    }
}

impl Sender {
    fn is_closed(&self) -> bool {
        match self {
            Sender::Http1 { inner, .. } => inner.is_closed(),
            Sender::Http2(stream) => stream.is_closed(),
        }
    }

    async fn is_ready(&mut self) -> bool {
        match self {
            Sender::Http1 { inner, .. } => !inner.is_closed() && inner.ready().await.is_ok(),
            Sender::Http2(stream) => !stream.is_closed(),
        }
    }
}

/// Begins HTTP on a connection.
async fn begin(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    address: SocketAddrV4,
    h2: bool,
) -> std::io::Result<Sender> {
    if h2 {
        http2_client::handshake(stream, address).await.map(Sender::Http2)
    } else {
        handshake(stream, address).await
    }
}

async fn handshake(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    address: SocketAddrV4,
) -> std::io::Result<Sender> {
    let (stream, bound) = HeadLimit::new(stream);
    let (sender, connection) = http1::handshake(TokioIo::new(stream)).await.map_err(std::io::Error::other)?;
    tokio::task::spawn_local(async move {
        if let Err(error) = connection.with_upgrades().await {
            tracing::trace!(%error, %address, "a connection to a replica ended");
        }
    });
    Ok(Sender::Http1 { inner: sender, bound })
}

/// The answer of a replica, or the request back where it was not sent.
pub(crate) type Sent = Result<hyper::Response<Incoming>, http1_error::Failed>;

/// Why sending failed.
pub(crate) mod http1_error {
    use super::RequestBody;

    /// The request as it is left after a failed send.
    #[derive(Debug)]
    pub(crate) struct Failed {
        /// The request, where not a byte of it was sent.
        pub unsent: Option<hyper::Request<RequestBody>>,
        /// The error.
        pub error: hyper::Error,
    }
}

impl Connection {
    /// Sends a request.
    pub(crate) async fn send(&mut self, request: hyper::Request<RequestBody>) -> Sent {
        let sent = match &mut self.sender {
            Sender::Http1 { inner, bound } => {
                bound.begin();
                let sent = inner.try_send_request(request).await;
                bound.end();
                sent
            }
            Sender::Http2(stream) => stream.send(request).await,
        };
        sent.map_err(|mut failed| {
            let unsent = failed.take_message();
            http1_error::Failed { unsent, error: failed.into_error() }
        })
    }
}
