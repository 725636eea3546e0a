//! One request: where it leads, to which replica it goes, and its answer back.

use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Instant;

use bytes::Bytes;
use http::header::{CONNECTION, HOST, HeaderName, HeaderValue, TE, TRAILER, UPGRADE};
use http::{HeaderMap, Method, Request, Response, StatusCode, Uri};
use http_body_util::{Either, Empty, Full};
use hyper::body::{Body, Frame, Incoming, SizeHint};
use hyper::client::conn::http1::SendRequest;
use hyper_util::rt::TokioIo;
use mainyard_core::address::environment_of;
use mainyard_core::model::{Reason, ReasonCode};
use mainyard_core::routing::by_share;

use crate::backend::{Connection, Pool};
use crate::pages;
use crate::serving::{Open, Replica, Service, Serving, Way};

/// A request's body on its way to a replica.
pub type RequestBody = Either<Incoming, Empty<Bytes>>;
/// An answer's body on its way to the visitor.
pub type AnswerBody = Either<Delivered, Full<Bytes>>;

/// How a connection came in.
#[derive(Debug, Clone, Copy)]
pub struct Arrival {
    /// Who called.
    pub peer: SocketAddr,
    /// Whether over TLS.
    pub secure: bool,
    /// For callers inside: the service's address and port that they called.
    pub inside: Option<SocketAddr>,
}

/// What a worker forwards with.
#[derive(Clone)]
pub struct Forwarder {
    /// Shared by all workers.
    pub serving: Arc<Serving>,
    /// This worker's own.
    pub pool: Pool,
}

const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");
const FORWARDED_FOR: HeaderName = HeaderName::from_static("x-forwarded-for");
const FORWARDED_PROTO: HeaderName = HeaderName::from_static("x-forwarded-proto");
const FORWARDED_HOST: HeaderName = HeaderName::from_static("x-forwarded-host");
const KEEP_ALIVE: HeaderName = HeaderName::from_static("keep-alive");
const PROXY_CONNECTION: HeaderName = HeaderName::from_static("proxy-connection");

/// How many replicas are tried when connections cannot be made.
const TRIES: usize = 4;

struct Lead {
    service: Arc<Service>,
    port: u16,
    way: Arc<str>,
    inside: bool,
}

impl Forwarder {
    /// Answers one request; never fails, whatever happens behind.
    pub async fn answer(&self, request: Request<Incoming>, arrival: Arrival) -> Response<AnswerBody> {
        let begun = Instant::now();
        let id = pages::request_id();
        let accept = request.headers().get(http::header::ACCEPT).cloned();
        let refuse =
            |status: StatusCode, reason: &Reason| pages::problem(status, reason, &id, accept.as_ref());
        let mut answer = match self.lead(&request, arrival) {
            Err((status, reason)) => refuse(status, &reason),
            Ok(lead) => match self.forward(request, arrival, &lead, &id, begun).await {
                Ok(answer) => answer,
                Err((status, reason)) => {
                    self.count(&lead, None, true, begun);
                    refuse(status, &reason)
                }
            },
        };
        if let Ok(value) = HeaderValue::from_str(&id) {
            answer.headers_mut().insert(REQUEST_ID, value);
        }
        answer
    }

    /// From host or inside address to the service.
    fn lead(&self, request: &Request<Incoming>, arrival: Arrival) -> Result<Lead, (StatusCode, Reason)> {
        let routing = self.serving.routing();
        if let Some(called) = arrival.inside {
            let IpAddr::V4(address) = called.ip() else {
                return Err((
                    StatusCode::MISDIRECTED_REQUEST,
                    Reason::new(ReasonCode::NoSuchHost, "no service has this address"),
                ));
            };
            let service = routing.inside.get(&address).cloned().ok_or_else(|| {
                let sentence = format!("no service has the address {address}");
                (StatusCode::MISDIRECTED_REQUEST, Reason::new(ReasonCode::NoSuchHost, sentence))
            })?;
            // An address of the range can be dialled by every replica of the node; only its own environment's are let in.
            let caller = match arrival.peer.ip() {
                IpAddr::V4(peer) => environment_of(peer),
                IpAddr::V6(_) => None,
            };
            if caller != Some(service.environment) {
                let sentence = format!("{} takes callers of its own environment only", service.target);
                return Err((StatusCode::FORBIDDEN, Reason::new(ReasonCode::NotOpenToCaller, sentence)));
            }
            let way = format!("{}:{}", service.target.name, called.port()).into();
            return Ok(Lead { service, port: called.port(), way, inside: true });
        }
        let host = host_of(request).ok_or_else(|| {
            let reason = Reason::new(ReasonCode::BadRequest, "the request names no host, or more than one");
            (StatusCode::BAD_REQUEST, reason)
        })?;
        let Some(found) = routing.hosts.get(&host) else {
            let sentence = format!("no route has the host {host}");
            return Err((StatusCode::NOT_FOUND, Reason::new(ReasonCode::NoSuchHost, sentence)));
        };
        let turn = if found.shares.len() == 1 {
            0
        } else {
            found.turn.fetch_add(1, std::sync::atomic::Ordering::Relaxed)
        };
        let chosen = by_share(&found.shares, turn).and_then(|place| found.services.get(place));
        let service = chosen.cloned().ok_or_else(|| {
            let sentence = format!("every share of the route {host} is zero");
            (StatusCode::SERVICE_UNAVAILABLE, Reason::new(ReasonCode::AllSharesZero, sentence))
        })?;
        let port = service.ports.keys().next().copied().unwrap_or(80);
        Ok(Lead { service, port, way: host.into(), inside: false })
    }

    async fn forward(
        &self,
        mut request: Request<Incoming>,
        arrival: Arrival,
        lead: &Lead,
        id: &str,
        begun: Instant,
    ) -> Result<Response<AnswerBody>, (StatusCode, Reason)> {
        let upgrade = wanted_upgrade(request.headers());
        let on_upgrade = upgrade.is_some().then(|| hyper::upgrade::on(&mut request));
        let safe_to_repeat =
            matches!(*request.method(), Method::GET | Method::HEAD) && request.body().is_end_stream();
        let mut onward = prepare(request, arrival, id, upgrade.as_ref())?;
        let port = lead.service.ports.get(&lead.port);
        let silent = || {
            let otherwise = || {
                Reason::new(
                    ReasonCode::NoneReady,
                    format!("no replica of {} takes requests", lead.service.target.name),
                )
            };
            (StatusCode::SERVICE_UNAVAILABLE, lead.service.reason.clone().unwrap_or_else(otherwise))
        };
        let port = port.ok_or_else(silent)?;
        let mut trouble = None;
        let mut repeated = false;
        for replica in port.in_turn(TRIES) {
            let Some(open) = self.serving.enter(replica) else { continue };
            let connection = if upgrade.is_some() {
                Pool::dial(replica.backend.address).await
            } else {
                self.pool.get(replica.backend.address).await
            };
            let mut connection = match connection {
                Ok(connection) => connection,
                Err(error) => {
                    // Not a byte was sent: another replica may have it, whatever the method.
                    trouble = Some(format!("{} could not be reached: {error}", replica.backend.replica));
                    continue;
                }
            };
            let spare = (safe_to_repeat && !repeated).then(|| copy_without_body(&onward));
            match connection.send(onward).await {
                Ok(answer) => return Ok(self.deliver(answer, connection, open, lead, on_upgrade, begun)),
                Err(failed) => match (failed.unsent, spare) {
                    (Some(unsent), _) => onward = unsent,
                    // An idle connection that the replica closed as it was taken: nothing was answered, and a
                    // second GET changes nothing.
                    (None, Some(spare)) if connection.reused => (onward, repeated) = (spare, true),
                    (None, _) => {
                        let sentence =
                            format!("{} broke the connection: {}", replica.backend.replica, failed.error);
                        return Err((
                            StatusCode::BAD_GATEWAY,
                            Reason::new(ReasonCode::AnswerBroken, sentence),
                        ));
                    }
                },
            }
        }
        Err(match trouble {
            Some(sentence) => (StatusCode::SERVICE_UNAVAILABLE, Reason::new(ReasonCode::NoneReady, sentence)),
            None => silent(),
        })
    }

    fn deliver(
        &self,
        mut answer: Response<Incoming>,
        connection: Connection,
        open: Open,
        lead: &Lead,
        on_upgrade: Option<hyper::upgrade::OnUpgrade>,
        begun: Instant,
    ) -> Response<AnswerBody> {
        if let (StatusCode::SWITCHING_PROTOCOLS, Some(visitor)) = (answer.status(), on_upgrade) {
            let replica = hyper::upgrade::on(&mut answer);
            self.count(lead, Some(&open.replica), false, begun);
            tokio::task::spawn_local(async move {
                // The connection counts as open for as long as both sides talk.
                let _open = open;
                if let (Ok(visitor), Ok(replica)) = (visitor.await, replica.await) {
                    let _ =
                        tokio::io::copy_bidirectional(&mut TokioIo::new(visitor), &mut TokioIo::new(replica))
                            .await;
                }
            });
            return answer.map(|_| Either::Right(Full::default()));
        }
        let failed = answer.status().is_server_error();
        strip_hop_by_hop(answer.headers_mut());
        let (head, body) = answer.into_parts();
        let tally = Tally {
            forwarder: Forwarder { serving: Arc::clone(&self.serving), pool: self.pool.clone() },
            way: self.way(lead, Some(&open.replica)),
            service: Arc::clone(&lead.service),
            begun,
            failed,
            open,
            sender: Some(connection.sender),
        };
        let body = Delivered { inner: body, tally: Some(tally) };
        Response::from_parts(head, Either::Left(body))
    }

    fn way(&self, lead: &Lead, replica: Option<&Arc<Replica>>) -> Way {
        let replica = replica.map(|replica| replica.backend.replica.clone());
        let service: Arc<str> = lead.service.target.to_string().into();
        Way { name: Arc::clone(&lead.way), inside: lead.inside, service, replica }
    }

    fn count(&self, lead: &Lead, replica: Option<&Arc<Replica>>, failed: bool, begun: Instant) {
        let micros = begun.elapsed().as_micros() as u64;
        let backend = replica.map(|replica| &replica.backend);
        self.serving.count(self.way(lead, replica), &lead.service.target, backend, failed, micros);
    }
}

/// The one host that a request is for, in lower case and without its port.
fn host_of(request: &Request<Incoming>) -> Option<String> {
    let mut hosts = request.headers().get_all(HOST).iter();
    let header = hosts.next().map(|value| value.to_str());
    if hosts.next().is_some() {
        return None;
    }
    let authority = match (request.uri().authority(), header) {
        (Some(authority), _) => authority.as_str(),
        (None, Some(Ok(text))) => text,
        _ => return None,
    };
    let host = match authority.rsplit_once(':') {
        Some((host, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) => host,
        _ => authority,
    };
    (!host.is_empty()).then(|| host.trim_end_matches('.').to_ascii_lowercase())
}

fn wanted_upgrade(headers: &HeaderMap) -> Option<HeaderValue> {
    let asked = headers.get(CONNECTION)?.to_str().ok()?;
    let asks = asked.split(',').any(|token| token.trim().eq_ignore_ascii_case("upgrade"));
    headers.get(UPGRADE).filter(|_| asks).cloned()
}

/// Headers that belong to one connection (RFC 9110, section 7.6.1) go no further.
fn strip_hop_by_hop(headers: &mut HeaderMap) {
    let named: Vec<HeaderName> = headers
        .get_all(CONNECTION)
        .iter()
        .filter_map(|value| value.to_str().ok())
        .flat_map(|list| list.split(','))
        .filter_map(|name| name.trim().parse().ok())
        .collect();
    for name in named.iter().chain(&[CONNECTION, KEEP_ALIVE, PROXY_CONNECTION, TE, TRAILER, UPGRADE]) {
        headers.remove(name);
    }
}

fn prepare(
    request: Request<Incoming>,
    arrival: Arrival,
    id: &str,
    upgrade: Option<&HeaderValue>,
) -> Result<Request<RequestBody>, (StatusCode, Reason)> {
    let (mut head, body) = request.into_parts();
    let bad = |sentence: &str| (StatusCode::BAD_REQUEST, Reason::new(ReasonCode::BadRequest, sentence));
    if head.method == Method::CONNECT {
        return Err((
            StatusCode::NOT_IMPLEMENTED,
            Reason::new(ReasonCode::BadRequest, "CONNECT is not offered"),
        ));
    }
    if let Some(authority) = head.uri.authority().map(|authority| authority.as_str().to_owned()) {
        let host = HeaderValue::from_str(&authority).map_err(|_| bad("the host cannot be read"))?;
        head.headers.insert(HOST, host);
    }
    let path = head.uri.path_and_query().map_or("/", |path| path.as_str());
    head.uri = path.parse::<Uri>().map_err(|_| bad("the path cannot be read"))?;
    head.version = http::Version::HTTP_11;
    strip_hop_by_hop(&mut head.headers);
    if let Some(protocol) = upgrade {
        head.headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
        head.headers.insert(UPGRADE, protocol.clone());
    }
    if arrival.inside.is_none() {
        let host = head.headers.get(HOST).cloned();
        let peer = arrival.peer.ip().to_string();
        head.headers.insert(FORWARDED_FOR, HeaderValue::from_str(&peer).map_err(|_| bad("no peer"))?);
        head.headers
            .insert(FORWARDED_PROTO, HeaderValue::from_static(if arrival.secure { "https" } else { "http" }));
        if let Some(host) = host {
            head.headers.insert(FORWARDED_HOST, host);
        }
    }
    if let Ok(value) = HeaderValue::from_str(id) {
        head.headers.insert(REQUEST_ID, value);
    }
    Ok(Request::from_parts(head, Either::Left(body)))
}

fn copy_without_body(request: &Request<RequestBody>) -> Request<RequestBody> {
    let mut copy = Request::new(Either::Right(Empty::new()));
    *copy.method_mut() = request.method().clone();
    *copy.uri_mut() = request.uri().clone();
    *copy.headers_mut() = request.headers().clone();
    copy
}

/// What is done when an answer has been delivered, or was broken off.
struct Tally {
    forwarder: Forwarder,
    way: Way,
    service: Arc<Service>,
    begun: Instant,
    failed: bool,
    open: Open,
    sender: Option<SendRequest<RequestBody>>,
}

impl Tally {
    fn finish(mut self, whole: bool, broken: bool) {
        let backend = &self.open.replica.backend;
        let micros = self.begun.elapsed().as_micros() as u64;
        let way = self.way.clone();
        self.forwarder.serving.count(way, &self.service.target, Some(backend), self.failed || broken, micros);
        // A connection whose answer was not read to its end is never given to the next visitor.
        if let Some(sender) = self.sender.take().filter(|_| whole && !self.open.replica.is_retired()) {
            self.forwarder.pool.put(backend.address, sender);
        }
    }
}

/// An answer's body that knows when it has ended.
pub struct Delivered {
    inner: Incoming,
    tally: Option<Tally>,
}

impl Body for Delivered {
    type Data = Bytes;
    type Error = hyper::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        let polled = Pin::new(&mut self.inner).poll_frame(context);
        let ended = match &polled {
            Poll::Ready(None) => Some(false),
            Poll::Ready(Some(Err(_))) => Some(true),
            Poll::Ready(Some(Ok(_))) if self.inner.is_end_stream() => Some(false),
            _ => None,
        };
        if let Some((broken, tally)) = ended.and_then(|broken| Some((broken, self.tally.take()?))) {
            tally.finish(!broken, broken);
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

impl Drop for Delivered {
    fn drop(&mut self) {
        if let Some(tally) = self.tally.take() {
            let whole = self.inner.is_end_stream();
            tally.finish(whole, false);
        }
    }
}
