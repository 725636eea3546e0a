//! The workers: one thread a core, each with its own runtime and connections to replicas.

use std::collections::HashSet;
use std::net::{SocketAddr, SocketAddrV4, TcpListener as StdListener};
use std::os::fd::AsRawFd;
use std::sync::Arc;
use std::time::Duration;

use http::{Request, StatusCode};
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use mainyard_core::address::{self, Range};
use mainyard_core::model::ReasonCode;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};
use tokio::task::{JoinHandle, LocalSet};

use crate::admission::Admitted;
use crate::arrival::{Arrival, Called};
use crate::http2;
use crate::http2_client::HTTP_2;
use crate::internal_listeners::{ListenerKind, NewListener};
use crate::proxy_protocol;
use crate::rejections::Refused;
use crate::request_validator::{Line, RequestValidator};
use crate::serving::Serving;
use crate::tls::{TlsDoor, VisitorTls};
use crate::worker::Forwarder;
use crate::write_timeout::WriteTimeout;
use crate::{Arrivals, Config, Network};

/// A visitor's headers must be here within this time.
const HEADERS_WITHIN: Duration = Duration::from_secs(20);

/// A visitor takes something of its answer within this time.
const TAKEN_WITHIN: Duration = Duration::from_secs(60);

/// Connections that may wait to be taken; the kernel holds it to its own limit (`net.core.somaxconn`).
const QUEUE: i32 = 4096;

/// The first byte of a TLS handshake (RFC 8446, section 5.1).
const HANDSHAKE: u8 = 0x16;

/// How a listener's connections are taken.
#[derive(Clone)]
enum Door {
    Http,
    Https(Arc<TlsDoor>),
    Inside {
        port: u16,
        told_apart: bool,
    },
    /// Replicas that dialled an address outside.
    WayOut,
    /// A port that a route takes.
    Port(u16),
}

impl Door {
    /// Whether visitors from outside come in there.
    fn is_outside(&self) -> bool {
        matches!(self, Door::Http | Door::Https(_) | Door::Port(_))
    }
}

/// One worker a core.
pub(crate) fn workers() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Starts the workers. Gives, for each, a way to hand it another listener for callers inside.
pub(crate) fn start(
    config: &Config,
    tls: Option<TlsDoor>,
    serving: &Arc<Serving>,
    arrived: &Arrivals,
) -> std::io::Result<Vec<UnboundedSender<NewListener>>> {
    let (mut ports, tls) = (Vec::new(), tls.map(Arc::new));
    for listener in [Some(&config.http), config.https.as_ref()].into_iter().flatten() {
        // Many come at once; those that find no room in the queue would lose a second. Asking again only changes that.
        // SAFETY: the descriptor is a listener's that lives as long as this call.
        unsafe { libc::listen(listener.as_raw_fd(), QUEUE) };
    }
    for number in 0..workers() {
        let mut doors = vec![(config.http.try_clone()?, Door::Http)];
        if let (Some(listener), Some(acceptor)) = (&config.https, &tls) {
            doors.push((listener.try_clone()?, Door::Https(Arc::clone(acceptor))));
        }
        let (to_worker, more) = unbounded_channel();
        ports.push(to_worker);
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        let (network, serving) = (config.network.clone(), Arc::clone(serving));
        let on_the_way = arrived.expect();
        std::thread::Builder::new().name(format!("worker-{number}")).spawn(move || {
            if let Err(error) = network.enter() {
                tracing::error!(%error, "no replica can be reached");
            }
            drop(on_the_way);
            LocalSet::new().block_on(&runtime, work(number, doors, more, network, serving));
        })?;
    }
    Ok(ports)
}

async fn work(
    number: usize,
    doors: Vec<(StdListener, Door)>,
    mut more: UnboundedReceiver<NewListener>,
    network: Network,
    serving: Arc<Serving>,
) {
    let forwarder = Forwarder::new(serving, number);
    for (listener, door) in doors {
        listen(listener, door, &forwarder);
    }
    tokio::task::spawn_local(close_unneeded(forwarder.clone()));
    let told_apart = matches!(network, Network::Private(_));
    while let Some(NewListener { listener, of }) = more.recv().await {
        match of {
            ListenerKind::Service(port) => {
                drop(listen(listener, Door::Inside { port, told_apart }, &forwarder));
            }
            ListenerKind::WayOut => drop(listen(listener, Door::WayOut, &forwarder)),
            ListenerKind::Route(port, until) => {
                let taking = listen(listener, Door::Port(port), &forwarder);
                tokio::task::spawn_local(async move {
                    until.cancelled().await;
                    // Connections that are open go on.
                    taking.inspect(tokio::task::JoinHandle::abort);
                });
            }
        }
    }
    // Nobody is called inside; the doors stay open.
    std::future::pending().await
}

/// Connections to replicas that nobody needs are closed.
async fn close_unneeded(forwarder: Forwarder) {
    loop {
        tokio::time::sleep(Duration::from_secs(1)).await;
        let inside = Arc::clone(&forwarder.serving.routing().inside);
        let services: Vec<_> = inside.values().filter_map(|cell| cell.now()).collect();
        let ports = services.iter().flat_map(|service| service.ports.values());
        let present: HashSet<SocketAddrV4> =
            ports.flat_map(|port| port.replicas().map(|replica| replica.backend.address)).collect();
        forwarder.pool.close_unneeded(|address| present.contains(address));
    }
}

fn listen(listener: StdListener, door: Door, forwarder: &Forwarder) -> Option<JoinHandle<()>> {
    let opened = listener.set_nonblocking(true).and_then(|()| TcpListener::from_std(listener));
    match opened {
        Ok(listener) => Some(tokio::task::spawn_local(accept(listener, door, forwarder.clone()))),
        Err(error) => {
            tracing::error!(%error, "a listener cannot be used");
            None
        }
    }
}

async fn accept(listener: TcpListener, door: Door, forwarder: Forwarder) {
    loop {
        let (stream, peer) = match listener.accept().await {
            Ok(accepted) => accepted,
            Err(error) => {
                // Out of descriptors, most likely: connections wait in the queue meanwhile.
                tracing::warn!(%error, "a connection could not be taken");
                tokio::time::sleep(Duration::from_millis(20)).await;
                continue;
            }
        };
        let _ = stream.set_nodelay(true);
        if door.is_outside() && proxy_protocol::is_trusted(&forwarder.serving.proxies, peer) {
            let (door, forwarder) = (door.clone(), forwarder.clone());
            tokio::task::spawn_local(behind_proxy(stream, peer, door, forwarder));
            continue;
        }
        let Some(admitted) = admitted(&stream, peer, &door, &forwarder) else {
            // Nothing is said: an answer would cost what there is too little of.
            let _ = stream.set_zero_linger();
            continue;
        };
        let (door, forwarder) = (door.clone(), forwarder.clone());
        tokio::task::spawn_local(async move {
            let _admitted = admitted;
            serve(stream, peer, door, forwarder).await;
        });
    }
}

/// A connection that a proxy in front of the gateway made: its header says for whom.
async fn behind_proxy(mut stream: TcpStream, proxy: SocketAddr, door: Door, forwarder: Forwarder) {
    let peer = match proxy_protocol::read(&mut stream, proxy).await {
        Ok(peer) => peer,
        Err(why) => return tracing::debug!(%proxy, why, "a connection of a proxy is not taken"),
    };
    let Some(_admitted) = admitted(&stream, peer, &door, &forwarder) else {
        let _ = stream.set_zero_linger();
        return;
    };
    serve(stream, peer, door, forwarder).await;
}

async fn serve(stream: TcpStream, peer: SocketAddr, door: Door, forwarder: Forwarder) {
    match door {
        Door::Http => {
            let arrival = Arrival { peer, secure: false, inside: None };
            talk(WriteTimeout::new(stream, TAKEN_WITHIN), arrival, None, forwarder).await;
        }
        Door::Inside { port, told_apart } => {
            // The record has services at their private places, whatever range the node has.
            let Ok(SocketAddr::V4(called)) = stream.local_addr() else { return };
            if told_apart && !address::is_ours(*called.ip()) {
                return forwarder.way_out(stream, peer, called).await;
            }
            let address = Range::PRIVATE.place(*called.ip());
            let called = Called { address, port, told_apart };
            let arrival = Arrival { peer, secure: false, inside: Some(called) };
            let Some(stream) = forwarder.splice_inside(stream, arrival).await else { return };
            let Some(speaks_http2) = begins_http2(&stream).await else { return };
            let stream = WriteTimeout::new(stream, TAKEN_WITHIN);
            match speaks_http2 {
                true => http2::talk(stream, arrival, None, forwarder, HEADERS_WITHIN).await,
                false => talk(stream, arrival, None, forwarder).await,
            }
        }
        Door::WayOut => {
            let Ok(SocketAddr::V4(called)) = stream.local_addr() else { return };
            forwarder.way_out(stream, peer, called).await;
        }
        Door::Port(port) => {
            let route = forwarder.serving.routing().by_port.get(&port).cloned();
            if let Some(route) = route {
                forwarder.splice_route(stream, peer, &route).await;
            }
        }
        Door::Https(door) => {
            let Some(stream) = before_tls(stream, peer, &forwarder).await else { return };
            let stream = WriteTimeout::new(stream, TAKEN_WITHIN);
            let opened = tokio::time::timeout(HEADERS_WITHIN, door.open(stream)).await;
            match opened {
                Ok(Ok((stream, visitor))) => {
                    let arrival = Arrival { peer, secure: true, inside: None };
                    let tls = Some(Arc::new(visitor));
                    match stream.get_ref().1.alpn_protocol() {
                        Some(HTTP_2) => {
                            http2::talk(stream, arrival, tls, forwarder, HEADERS_WITHIN).await;
                        }
                        _ => talk(stream, arrival, tls, forwarder).await,
                    }
                }
                other => tracing::debug!(%peer, failed = ?other.err(), "no TLS was agreed"),
            }
        }
    }
}

/// Whether a connection begins with HTTP/2, by prior knowledge (RFC 9113, section 3.3); `None` where nothing comes.
async fn begins_http2(stream: &TcpStream) -> Option<bool> {
    // No method of HTTP/1.1 begins so.
    const BEGIN: &[u8] = b"PRI";
    let mut seen = [0; BEGIN.len()];
    let looks = async {
        loop {
            match stream.peek(&mut seen).await {
                Ok(0) | Err(_) => return None,
                Ok(count) if seen[..count] != BEGIN[..count] => return Some(false),
                Ok(count) if count == BEGIN.len() => return Some(true),
                // What is there stays there, so that more of it cannot be waited for without looking again.
                Ok(_) => tokio::time::sleep(Duration::from_millis(5)).await,
            }
        }
    };
    tokio::time::timeout(HEADERS_WITHIN, looks).await.ok().flatten()
}

/// Takes a connection into account: by the visitor's address, or by the replica that calls and the service it calls.
fn admitted(stream: &TcpStream, peer: SocketAddr, door: &Door, forwarder: &Forwarder) -> Option<Admitted> {
    let admission = forwarder.serving.admission();
    match (door, stream.local_addr()) {
        (Door::Inside { .. } | Door::WayOut, Ok(SocketAddr::V4(called))) => {
            admission.caller(peer.ip(), *called.ip())
        }
        _ => admission.visitor(peer.ip()),
    }
}

/// Looks at a connection before TLS begins: one that speaks plain HTTP is told so, and one whose TLS a route
/// passes through is passed on. Gives any other back.
async fn before_tls(stream: TcpStream, peer: SocketAddr, forwarder: &Forwarder) -> Option<TcpStream> {
    let mut seen = vec![0; 1];
    let first = tokio::time::timeout(HEADERS_WITHIN, stream.peek(&mut seen)).await;
    if !matches!(first, Ok(Ok(1))) {
        return None;
    }
    if seen[0] != HANDSHAKE {
        let arrival = Arrival { peer, secure: false, inside: None };
        let service = service_fn(|_: Request<Incoming>| async {
            let sentence = "plain HTTP was spoken where TLS is expected";
            let refused = Refused::new(StatusCode::BAD_REQUEST, ReasonCode::PlainWhereTls, sentence);
            Ok::<_, std::convert::Infallible>(forwarder.refuse(Refused { last: true, ..refused }, arrival))
        });
        let mut builder = http1::Builder::new();
        builder.timer(TokioTimer::new()).header_read_timeout(HEADERS_WITHIN).keep_alive(false);
        let _ = builder.serve_connection(TokioIo::new(stream), service).await;
        return None;
    }
    let untouched = Arc::clone(&forwarder.serving.routing().untouched);
    if untouched.is_empty() {
        return Some(stream);
    }
    let named = tokio::time::timeout(HEADERS_WITHIN, server_name(&stream)).await.ok()?;
    let route = named.and_then(|host| {
        let wildcard = host.split_once('.').map(|(_, rest)| format!("*.{rest}"));
        untouched.get(&host).or_else(|| untouched.get(&wildcard?)).cloned()
    });
    match route {
        Some(route) => {
            forwarder.splice_route(stream, peer, &route).await;
            None
        }
        None => Some(stream),
    }
}

/// The name that a visitor's first message asks for (RFC 6066, section 3), which stays to be read.
async fn server_name(stream: &TcpStream) -> Option<String> {
    let mut seen = vec![0; 16 * 1024];
    loop {
        let count = stream.peek(&mut seen).await.ok()?;
        let mut acceptor = rustls::server::Acceptor::default();
        acceptor.read_tls(&mut &seen[..count]).ok()?;
        match acceptor.accept() {
            Ok(Some(accepted)) => return accepted.client_hello().server_name().map(str::to_ascii_lowercase),
            // What is there is not all of it; what is to come cannot be waited for without reading.
            Ok(None) if count < seen.len() => tokio::time::sleep(Duration::from_millis(5)).await,
            _ => return None,
        }
    }
}

async fn talk(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    arrival: Arrival,
    tls: Option<Arc<VisitorTls>>,
    forwarder: Forwarder,
) {
    let line = Line::of(tls);
    let service = service_fn(|request: Request<Incoming>| {
        let (forwarder, line) = (forwarder.clone(), Arc::clone(&line));
        // While it is open, a visitor that has sent all of its side may still wait for the answer. Counted at once: the
        // connection may read on before what follows is begun.
        let open = line.open();
        async move {
            let _open = open;
            let answer = match line.refused(request.headers()) {
                Some(refused) => forwarder.refuse(refused, arrival),
                None => forwarder.answer(request, arrival, &line).await,
            };
            Ok::<_, std::convert::Infallible>(answer)
        }
    });
    let stream = RequestValidator::new(stream, Arc::clone(&line));
    let mut builder = http1::Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(HEADERS_WITHIN);
    if let Err(error) = builder.serve_connection(TokioIo::new(stream), service).with_upgrades().await {
        tracing::trace!(%error, peer = %arrival.peer, "a visitor's connection ended");
    }
}
