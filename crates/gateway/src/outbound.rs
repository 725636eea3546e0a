//! A request on its way to a replica: it is prepared once, and sent to one replica after the other until one answers, as its
//! retries allow (`core/src/retries.rs`).

use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant};

use http::header::HeaderValue;
use http::{Request, Response, StatusCode};
use hyper::body::{Body, Incoming};
use mainyard_core::model::{Reason, ReasonCode, RouteLimits, Span};
use mainyard_core::retries::{Failure, Retries};

use crate::affinity;
use crate::arrival::Arrival;
use crate::backend::{Connection, Onward, Pool, Sent};
use crate::backend_order::Port;
use crate::body::{Fault, Passage, RequestBody};
use crate::candidates::Candidates;
use crate::counts::EntryPoint;
use crate::destination::Destination;
use crate::grpc;
use crate::headers::{copy_without_body, prepare, wanted_upgrade};
use crate::rejections::Refused;
use crate::replica::{Open, Replica, Slot};
use crate::request_log::Note;
use crate::request_validator::Line;
use crate::responses::AnswerBody;
use crate::service::Service;
use crate::shadow::Copy;
use crate::waking::{self, awake};
use crate::worker::Forwarder;

/// A request whose body is sent for longer holds no place at its replica.
const SENT_WITHIN: Duration = Duration::from_millis(50);
/// How many replicas are tried when connections cannot be made.
const TRIES: usize = 4;

/// Context of a request while it is forwarded.
pub(crate) struct RequestContext {
    pub arrival: Arrival,
    pub begun: Instant,
    pub id: HeaderValue,
    /// The codings that the visitor takes.
    pub accepts: Option<HeaderValue>,
    /// Whether the visitor takes trailers.
    pub trailers: bool,
    /// The request as it came, where its answer may be kept.
    pub asked: Option<http::request::Parts>,
    pub note: Note,
    pub line: Arc<Line>,
}

/// A request that is sent, and what is known of it.
pub(crate) struct Outbound<'a> {
    pub forwarder: &'a Forwarder,
    pub lead: &'a Destination,
    /// How it came.
    pub way: EntryPoint,
    pub asked: RequestContext,
    /// The replica that the visitor's cookie names.
    pub presented: Option<u64>,
    /// Progress of its body, where it has one.
    pub passage: Option<Rc<Passage>>,
    speaks: Onward,
    retries: Retries<'a>,
    /// How long an answer may take to begin.
    within: Duration,
    /// It asks for another protocol.
    is_upgrade: bool,
    /// Why the last replica could not be reached.
    trouble: Option<String>,
}

/// The answer of a replica, with what belongs to it until it was delivered.
pub(crate) struct Answered {
    pub answer: Response<Incoming>,
    pub connection: Connection,
    pub open: Open,
    /// A copy of the request for a release that no visitor reaches yet.
    pub copy: Option<Copy>,
    /// When the request was sent.
    pub sent: Instant,
}

/// What came of sending a request to one replica.
#[expect(clippy::large_enum_variant, reason = "there is one for each request: a box would cost more")]
enum Attempt {
    Answered(Answered),
    /// It may go to another one.
    Next(Request<RequestBody>),
    /// The replica left the table meanwhile.
    Left(Request<RequestBody>),
}

/// What came of trying the replicas of a service.
#[expect(clippy::large_enum_variant, reason = "there is one for each request: a box would cost more")]
enum Tried {
    Answered(Answered),
    /// None of them answered; whether one of them left the table meanwhile.
    Nobody(Request<RequestBody>, bool),
}

impl Forwarder {
    /// Sends a request to a replica and gives its answer.
    pub(crate) async fn send(
        &self,
        mut request: Request<Incoming>,
        asked: RequestContext,
        lead: &Destination,
    ) -> Result<Response<AnswerBody>, Refused> {
        let upgrade = wanted_upgrade(request.headers());
        let on_upgrade = upgrade.is_some().then(|| hyper::upgrade::on(&mut request));
        let (mut outbound, request) = Outbound::prepare(self, request, asked, lead, upgrade.as_ref())?;
        let answered = outbound.find_answer(request).await?;
        Ok(outbound.deliver(answered, on_upgrade))
    }
}

impl<'a> Outbound<'a> {
    /// The request in the form in which replicas get it.
    fn prepare(
        forwarder: &'a Forwarder,
        request: Request<Incoming>,
        asked: RequestContext,
        lead: &'a Destination,
        upgrade: Option<&HeaderValue>,
    ) -> Result<(Outbound<'a>, Request<RequestBody>), Refused> {
        let route = lead.route.as_ref();
        let unlimited = RouteLimits::default();
        let limits = route.map_or(&unlimited, |route| &route.spec.limits);
        let deadline = grpc::deadline(request.headers()).filter(|_| grpc::is_call(request.headers()));
        let within = deadline.map_or(limits.answer.duration(), |it| it.min(limits.answer.duration()));
        let repeat = route.and_then(|route| route.spec.repeat.as_ref());
        let retries = Retries::new(request.method().as_str(), request.body().is_end_stream(), repeat);
        let sticky = route.and_then(|route| route.spec.sticky.as_ref());
        let presented = sticky.and_then(|sticky| affinity::presented(request.headers(), sticky));
        let (mut head, body) = request.into_parts();
        prepare(&mut head, asked.arrival, lead, (&asked.id, asked.line.tls.as_deref()), upgrade)?;
        let (body, passage) =
            RequestBody::of(body, limits.body.map(|limit| limit.bytes()), limits.pause.duration());
        let h2 = lead.service.ports.get(&lead.port).is_some_and(|port| port.h2) && upgrade.is_none();
        let speaks = match route {
            Some(route) => forwarder.onward(route, &lead.service.target, h2)?,
            None => Onward { tls: None, h2 },
        };
        let (way, is_upgrade) = (lead.by(), upgrade.is_some());
        let outbound = Outbound {
            forwarder,
            lead,
            way,
            asked,
            presented,
            passage,
            speaks,
            retries,
            within,
            is_upgrade,
            trouble: None,
        };
        Ok((outbound, Request::from_parts(head, body)))
    }

    /// Tries the service, and again where another table says who came in the place of a replica that left.
    async fn find_answer(&mut self, request: Request<RequestBody>) -> Result<Answered, Refused> {
        let (mut service, mut request) = (Arc::clone(&self.lead.service), request);
        loop {
            let asks_for_page = || waking::asks_for_page(request.method(), request.headers());
            let serving = &self.forwarder.serving;
            service = awake(serving, &self.lead.cell, service, self.lead.port, asks_for_page).await?;
            let left;
            (request, left) = match self.try_each(&service, request).await? {
                Tried::Answered(answered) => return Ok(answered),
                Tried::Nobody(request, left) => (request, left),
            };
            match self.lead.cell.now().filter(|newer| left && !Arc::ptr_eq(newer, &service)) {
                Some(newer) => service = newer,
                None => break,
            }
        }
        Err(unavailable(match self.trouble.take() {
            Some(sentence) => Reason::new(ReasonCode::NoneReady, sentence),
            None => service.silent(),
        }))
    }

    /// Sends the request to the replicas of a service, each where it has room, until one answers.
    async fn try_each(
        &mut self,
        service: &Service,
        mut request: Request<RequestBody>,
    ) -> Result<Tried, Refused> {
        let port = service.ports.get(&self.lead.port).ok_or_else(|| unavailable(service.silent()))?;
        let is_bound = |replica: &&Arc<Replica>| Some(replica.affinity) == self.presented;
        let bound = if self.presented.is_some() { port.replicas().find(is_bound) } else { None };
        let turns = port.in_turn(self.forwarder.worker, TRIES + self.retries.left() as usize);
        let mut candidates = Candidates::new(port, bound, turns);
        let mut left = false;
        while let Some(slot) = candidates.next(self.asked.arrival.peer.ip(), &service.target.name).await? {
            request = match self.attempt(slot, service, port, request).await? {
                Attempt::Answered(answered) => return Ok(Tried::Answered(answered)),
                Attempt::Next(request) => request,
                Attempt::Left(request) => {
                    left = true;
                    request
                }
            };
        }
        Ok(Tried::Nobody(request, left))
    }

    /// Sends the request to one replica.
    async fn attempt(
        &mut self,
        slot: Slot,
        service: &Service,
        port: &Port,
        request: Request<RequestBody>,
    ) -> Result<Attempt, Refused> {
        let replica = Arc::clone(slot.replica());
        let Some(open) = self.forwarder.serving.enter(&replica, Some((&self.way, service))) else {
            return Ok(Attempt::Left(request));
        };
        let mut connection = match self.connect(&replica).await {
            Ok(connection) => connection,
            Err(error) => {
                replica.load.note_break();
                // Not a byte was sent: another replica may have it, whatever the method.
                self.asked.note.tried = self.asked.note.tried.saturating_add(1);
                self.trouble = Some(format!("{} could not be reached: {error}", replica.backend.replica));
                return Ok(Attempt::Next(request));
            }
        };
        let spare = self.retries.remain().then(|| copy_without_body(&request));
        let copy = if self.retries.is_idempotent() && !self.is_upgrade {
            Copy::of(self.forwarder, port, &self.speaks, || copy_without_body(&request))
        } else {
            None
        };
        let (sent, mut slot) = (Instant::now(), Some(slot));
        let answered = in_time(connection.send(request), self.within, self.passage.as_ref(), &mut slot).await;
        let faulty = self.passage.as_ref().is_some_and(|passage| passage.fault.get().is_some());
        note_outcome(&answered, &replica, slot, sent.elapsed(), faulty);
        let again = match answered {
            Some(Ok(answer)) => match self.again(&answer, &replica, spare)? {
                Some(spare) => spare,
                None => {
                    let answered = Answered { answer, connection, open, copy, sent };
                    return Ok(Attempt::Answered(answered));
                }
            },
            Some(Err(failed)) => match (failed.unsent, spare) {
                (Some(unsent), _) => return Ok(Attempt::Next(unsent)),
                (None, Some(spare)) if self.retries.again(Failure::Broken { reused: connection.reused }) => {
                    spare
                }
                (None, _) => return Err(self.broken(&replica, &failed.error)),
            },
            None => spare
                .filter(|_| self.retries.again(Failure::Late))
                .ok_or_else(|| late(&replica, self.within))?,
        };
        self.asked.note.tried = self.asked.note.tried.saturating_add(1);
        Ok(Attempt::Next(again))
    }

    async fn connect(&self, replica: &Arc<Replica>) -> std::io::Result<Connection> {
        if self.is_upgrade {
            return Pool::dial(replica.backend.address, &self.speaks).await;
        }
        self.forwarder.pool.get(replica, &self.speaks).await
    }

    /// The request again, where its answer is one that another replica may better.
    fn again(
        &mut self,
        answer: &Response<Incoming>,
        replica: &Replica,
        spare: Option<Request<RequestBody>>,
    ) -> Result<Option<Request<RequestBody>>, Refused> {
        if answer.status() == StatusCode::SWITCHING_PROTOCOLS && !self.is_upgrade {
            // RFC 9110, section 15.2.2: only who asked may be switched.
            let sentence =
                format!("{} switched to a protocol that was not asked for", replica.backend.replica);
            return Err(Refused::new(StatusCode::BAD_GATEWAY, ReasonCode::AnswerBroken, sentence));
        }
        let failure = Failure::Answered(answer.status().as_u16());
        Ok(spare.filter(|_| self.retries.again(failure)))
    }

    /// The replica broke the connection, or the visitor's body was cut off.
    fn broken(&self, replica: &Replica, error: &hyper::Error) -> Refused {
        match self.passage.as_ref().and_then(|passage| passage.fault.get()) {
            Some(Fault::TooLarge(limit)) => Refused::too_large(limit),
            Some(Fault::Stalled(pause)) => {
                let sentence =
                    format!("nothing more of the request's body came for {} s", pause.as_secs_f32());
                let refused = Refused::new(StatusCode::REQUEST_TIMEOUT, ReasonCode::BodyStalled, sentence);
                Refused { last: true, ..refused }
            }
            Some(Fault::Broken) => {
                let why = self.asked.line.broken().unwrap_or("the request's body was broken off");
                Refused { last: true, ..Refused::bad(why) }
            }
            None => {
                let sentence = format!("{} broke the connection: {error}", replica.backend.replica);
                Refused::new(StatusCode::BAD_GATEWAY, ReasonCode::AnswerBroken, sentence)
            }
        }
    }
}

fn unavailable(reason: Reason) -> Refused {
    Refused { reason, ..Refused::unavailable() }
}

fn late(replica: &Replica, within: Duration) -> Refused {
    let within = Span::from_millis(within.as_millis() as u64);
    let sentence = format!("{} did not begin its answer within {within}", replica.backend.replica);
    Refused::new(StatusCode::GATEWAY_TIMEOUT, ReasonCode::AnswerLate, sentence)
}

/// Notes what came of a request to a replica, whose slot is free again.
fn note_outcome(
    answered: &Option<Sent>,
    replica: &Replica,
    slot: Option<Slot>,
    took: Duration,
    by_visitor: bool,
) {
    match answered {
        // Its body was cut off or was too large: that says nothing of the replica.
        _ if by_visitor => {}
        Some(Ok(answer)) if !answer.status().is_server_error() => {
            if let Some(slot) = slot {
                slot.answered(took);
            }
        }
        Some(Ok(_)) => replica.load.note_failure(),
        _ => replica.load.note_break(),
    }
}

/// Waits for an answer's head. The time begins when the request's body has gone, which has a limit of its own; `None`
/// when it is over.
async fn in_time<T>(
    answer: impl Future<Output = T>,
    within: Duration,
    passage: Option<&Rc<Passage>>,
    slot: &mut Option<Slot>,
) -> Option<T> {
    let mut answer = std::pin::pin!(answer);
    let sends = || passage.is_some_and(|passage| !passage.ended.get());
    if sends() {
        if let Ok(answered) = tokio::time::timeout(SENT_WITHIN, answer.as_mut()).await {
            return Some(answered);
        }
        // A slow sender keeps nobody else waiting.
        if sends() {
            *slot = None;
        }
    }
    loop {
        let answered = tokio::time::timeout(within, answer.as_mut()).await;
        match answered {
            Ok(answered) => return Some(answered),
            Err(_) if sends() => {}
            Err(_) => return None,
        }
    }
}
