//! One request: where it leads, to which replica it goes, and its answer back.

use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use http::header::HeaderValue;
use http::{Method, Request, Response, StatusCode};
use http_body_util::{Either, Full};
use hyper::body::{Body, Incoming};
use hyper_util::rt::TokioIo;
use mainyard_core::model::{Reason, ReasonCode, RouteLimits};
use mainyard_core::retries::{Failure, Retries};

use crate::affinity;
use crate::arrival::Arrival;
use crate::backend::{Connection, Onward, Pool, Sent};
use crate::body::{Fault, Passage, RequestBody};
use crate::candidates::Candidates;
use crate::compress::{self, Zipped};
use crate::counts::Ended;
use crate::destination::{self, Destination};
use crate::grpc;
use crate::grpc_refusals;
use crate::headers::{
    REQUEST_ID, copy_without_body, given_id, length_of, prepare, remove_session_cookies, strip_hop_by_hop,
    wanted_upgrade,
};
use crate::pages;
use crate::redirects::sent_to;
use crate::rejections::Refused;
use crate::relay::{IDLE, both_ways};
use crate::replica::{Open, Replica, Slot};
use crate::request_log::{Note, short};
use crate::request_validator::Line;
use crate::response_body::{CountedBody, Tally};
use crate::responses::AnswerBody;
use crate::route::joined;
use crate::shadow::{Copy, Original, length};
use crate::waking::{self, awake};
use crate::worker::Forwarder;

/// Most bytes of a request's headers.
const HEAD_LIMIT: usize = 64 * 1024;
/// A request whose body is sent for longer holds no place at its replica.
const SENT_WITHIN: Duration = Duration::from_millis(50);
/// How many replicas are tried when connections cannot be made.
const TRIES: usize = 4;

fn head_size(headers: &http::HeaderMap) -> usize {
    headers.iter().map(|(name, value)| name.as_str().len() + value.len() + 4).sum()
}

/// Context of a request while it is forwarded.
struct RequestContext {
    arrival: Arrival,
    begun: Instant,
    id: HeaderValue,
    gzip: bool,
    note: Note,
    line: Arc<Line>,
}

impl Forwarder {
    /// Answers one request; never fails, whatever happens behind.
    pub(crate) async fn answer(
        &self,
        request: Request<Incoming>,
        arrival: Arrival,
        line: &Arc<Line>,
    ) -> Response<AnswerBody> {
        let id = arrival.inside.and_then(|_| given_id(request.headers())).unwrap_or_else(pages::request_id);
        let accept = request.headers().get(http::header::ACCEPT).cloned();
        let is_call = grpc::is_call(request.headers());
        let note = note(&request, arrival, &id);
        let asked = RequestContext {
            arrival,
            begun: Instant::now(),
            id: id.clone(),
            gzip: compress::takes_gzip(request.headers()),
            note,
            line: Arc::clone(line),
        };
        let mut answer = match self.serve(request, asked).await {
            Ok(answer) => answer,
            Err(refused) if is_call => grpc_refusals::refused(&refused),
            Err(refused) => pages::refused(refused, &id, accept.as_ref()),
        };
        answer.headers_mut().insert(REQUEST_ID, id);
        answer
    }

    /// A request that cannot be understood, with the reason.
    pub(crate) fn refuse(&self, refused: Refused, arrival: Arrival) -> Response<AnswerBody> {
        let id = pages::request_id();
        let mut note = note(&Request::new(()), arrival, &id);
        note.path = "".into();
        self.note_refused(note, &refused, Instant::now());
        let mut answer = pages::refused(refused, &id, None);
        answer.headers_mut().insert(REQUEST_ID, id);
        answer
    }

    fn note_refused(&self, mut note: Note, refused: &Refused, begun: Instant) {
        note.status = refused.status.as_u16();
        note.reason = Some(refused.reason.code);
        note.sentence = Some(refused.reason.sentence.as_str().into());
        self.remember(note, begun.elapsed().as_micros() as u64, 0, 0);
    }

    async fn serve(
        &self,
        request: Request<Incoming>,
        mut asked: RequestContext,
    ) -> Result<Response<AnswerBody>, Refused> {
        let begun = asked.begun;
        let find_destination = self.find_destination(&request, &mut asked).await;
        let lead = match find_destination {
            Ok(Handling::To(lead)) => lead,
            Ok(Handling::Elsewhere(answer)) => {
                asked.note.status = answer.status().as_u16();
                self.remember(asked.note, begun.elapsed().as_micros() as u64, 0, 0);
                return Ok(*answer);
            }
            Err(refused) => {
                self.note_refused(asked.note, &refused, begun);
                return Err(refused);
            }
        };
        let mut note = asked.note.clone();
        let failed = match self.forward(request, asked, &lead).await {
            Ok(answer) => return Ok(answer),
            Err(failed) => failed,
        };
        // A visitor that sends too much, too slowly or half of it is no failure of the service.
        let failed_us = failed.status.is_server_error();
        let micros = begun.elapsed().as_micros() as u64;
        let ended = Ended { failed: failed_us, micros, received: 0, sent: 0 };
        self.serving.count(&lead.by(), &lead.service.target, None, ended);
        note.way = Some(Arc::clone(&lead.way));
        note.route = lead.route.as_ref().map(|route| Arc::clone(&route.key));
        self.note_refused(note, &failed, begun);
        Err(failed)
    }

    /// Where a request is led. Where its service went between finding the route and the service, the new table has another
    /// way: it is led once more.
    async fn find_destination(
        &self,
        request: &Request<Incoming>,
        asked: &mut RequestContext,
    ) -> Result<Handling, Refused> {
        let version = self.serving.routing().version;
        let find_destination = self.find_in_table(request, asked).await;
        let missing =
            find_destination.as_ref().is_err_and(|refused| refused.reason.code == ReasonCode::ServiceMissing);
        if missing && self.serving.routing().version != version {
            return self.find_in_table(request, asked).await;
        }
        find_destination
    }

    /// Everything that is looked at before a replica is chosen.
    async fn find_in_table(
        &self,
        request: &Request<Incoming>,
        asked: &mut RequestContext,
    ) -> Result<Handling, Refused> {
        let size = head_size(request.headers());
        if size > HEAD_LIMIT {
            let sentence = format!("the headers are {size} bytes long; at most {HEAD_LIMIT} are taken");
            let status = StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE;
            return Err(Refused::new(status, ReasonCode::BadRequest, sentence));
        }
        if let Some(called) = asked.arrival.inside {
            return destination::inside(&self.serving, request, called, asked.arrival).map(Handling::To);
        }
        let (route, onward, compared) = destination::route(&self.serving, request)?;
        asked.note.way = Some(Arc::clone(&route.at));
        asked.note.route = Some(Arc::clone(&route.key));
        if let Some(answer) = self.elsewhere(&route, request, asked.arrival.secure)? {
            return Ok(Handling::Elsewhere(Box::new(answer)));
        }
        if let Some(limiter) = &route.limiter
            && let Err(seconds) = limiter.take(asked.arrival.peer.ip())
        {
            let rate = &limiter.rate;
            let sentence = format!(
                "the route {} takes {} requests in {} from one visitor, and this one asked more often",
                route.at, rate.requests, rate.every
            );
            let refused = Refused::new(StatusCode::TOO_MANY_REQUESTS, ReasonCode::RateLimited, sentence);
            return Err(refused.retry_after(seconds));
        }
        let path = request.uri().query().map_or(onward.clone(), |query| format!("{onward}?{query}"));
        self.enter(&route, request, asked.arrival, &path).await?;
        if let (Some(limit), Some(length)) = (route.spec.limits.body, length_of(request.headers()))
            && length > limit.bytes()
        {
            return Err(Refused::too_large(limit.bytes()));
        }
        if let Some(redirect) = &route.spec.redirect {
            let to = joined(&redirect.to, route.below(&compared));
            let to = request.uri().query().map_or(to.clone(), |query| format!("{to}?{query}"));
            let status = StatusCode::from_u16(redirect.status).unwrap_or(StatusCode::PERMANENT_REDIRECT);
            return sent_to(&to, status).map(|answer| Handling::Elsewhere(Box::new(answer)));
        }
        destination::through(route, self.worker, request, onward, &compared).map(Handling::To)
    }

    #[expect(
        clippy::too_many_lines,
        reason = "one request from its head to its answer, with what is tried again"
    )]
    #[expect(clippy::excessive_nesting, reason = "what is tried again is a choice within a choice")]
    async fn forward(
        &self,
        mut request: Request<Incoming>,
        mut asked: RequestContext,
        lead: &Destination,
    ) -> Result<Response<AnswerBody>, Refused> {
        let upgrade = wanted_upgrade(request.headers());
        let mut on_upgrade = upgrade.is_some().then(|| hyper::upgrade::on(&mut request));
        let unlimited = RouteLimits::default();
        let limits = lead.route.as_ref().map_or(&unlimited, |route| &route.spec.limits);
        let repeat = lead.route.as_ref().and_then(|route| route.spec.repeat.as_ref());
        let method = request.method().clone();
        let deadline = grpc::deadline(request.headers()).filter(|_| grpc::is_call(request.headers()));
        let within = deadline.map_or(limits.answer.duration(), |it| it.min(limits.answer.duration()));
        let mut retries = Retries::new(method.as_str(), request.body().is_end_stream(), repeat);
        let sticky = lead.route.as_ref().and_then(|route| route.spec.sticky.as_ref());
        let secure = asked.arrival.secure;
        let presented = sticky.and_then(|sticky| affinity::presented(request.headers(), sticky));
        let (mut head, body) = request.into_parts();
        prepare(&mut head, asked.arrival, lead, &asked.id, upgrade.as_ref())?;
        let pause = limits.pause.duration();
        let (body, passage) = RequestBody::of(body, limits.body.map(|limit| limit.bytes()), pause);
        let mut onward = Request::from_parts(head, body);
        let h2 = lead.service.ports.get(&lead.port).is_some_and(|port| port.h2) && upgrade.is_none();
        let speaks = match &lead.route {
            Some(route) => self.onward(route, &lead.service.target, h2)?,
            None => Onward { tls: None, h2 },
        };
        let silent = |reason: Reason| Refused { reason, ..Refused::unavailable() };
        let mut trouble = None;
        let (way, mut service) = (lead.by(), Arc::clone(&lead.service));
        loop {
            let mut left = false;
            let asks_for_page = || waking::asks_for_page(onward.method(), onward.headers());
            service = awake(&self.serving, &lead.cell, service, lead.port, asks_for_page).await?;
            let port = service.ports.get(&lead.port).ok_or_else(|| silent(service.silent()))?;
            let bound =
                presented.and_then(|affinity| port.replicas().find(|replica| replica.affinity == affinity));
            let turns = port.in_turn(self.worker, TRIES + retries.left() as usize);
            let mut candidates = Candidates::new(port, bound, turns);
            while let Some(slot) = candidates.next(asked.arrival.peer.ip(), &service.target.name).await? {
                let replica = &Arc::clone(slot.replica());
                let mut slot = Some(slot);
                let Some(open) = self.serving.enter(replica, Some((&way, &service))) else {
                    left = true;
                    continue;
                };
                let connection = if upgrade.is_some() {
                    Pool::dial(replica.backend.address, &speaks).await
                } else {
                    self.pool.get(replica, &speaks).await
                };
                let mut connection = match connection {
                    Ok(connection) => connection,
                    Err(error) => {
                        replica.load.note_break();
                        // Not a byte was sent: another replica may have it, whatever the method.
                        asked.note.tried = asked.note.tried.saturating_add(1);
                        trouble = Some(format!("{} could not be reached: {error}", replica.backend.replica));
                        continue;
                    }
                };
                let spare = retries.remain().then(|| copy_without_body(&onward));
                let copy = if retries.is_idempotent() && upgrade.is_none() {
                    Copy::of(self, port, &speaks, || copy_without_body(&onward))
                } else {
                    None
                };
                let sent = Instant::now();
                let answered = in_time(connection.send(onward), within, passage.as_ref(), &mut slot).await;
                let faulty = passage.as_ref().is_some_and(|passage| passage.fault.get().is_some());
                note_outcome(&answered, replica, slot, sent.elapsed(), faulty);
                let next = match answered {
                    Some(Ok(answer))
                        if answer.status() == StatusCode::SWITCHING_PROTOCOLS && on_upgrade.is_none() =>
                    {
                        // RFC 9110, section 15.2.2: only who asked may be switched.
                        let sentence = format!(
                            "{} switched to a protocol that was not asked for",
                            replica.backend.replica
                        );
                        return Err(Refused::new(
                            StatusCode::BAD_GATEWAY,
                            ReasonCode::AnswerBroken,
                            sentence,
                        ));
                    }
                    Some(Ok(answer)) => {
                        let failure = Failure::Answered(answer.status().as_u16());
                        match spare.filter(|_| retries.again(failure)) {
                            Some(spare) => spare,
                            None => {
                                if let Some(copy) = copy {
                                    copy.send(self.clone(), self.original(&answer, &open, lead, sent));
                                }
                                let affinity = sticky
                                    .filter(|_| presented != Some(replica.affinity))
                                    .map(|sticky| (sticky.clone(), replica.affinity));
                                let mut answer = self.deliver(
                                    answer,
                                    connection,
                                    open,
                                    lead,
                                    on_upgrade.take(),
                                    passage,
                                    asked,
                                );
                                if let Some((sticky, taken)) = affinity {
                                    affinity::set_cookie(answer.headers_mut(), &sticky, taken, secure);
                                }
                                return Ok(answer);
                            }
                        }
                    }
                    Some(Err(failed)) => match (failed.unsent, spare) {
                        (Some(unsent), _) => {
                            onward = unsent;
                            continue;
                        }
                        (None, Some(spare))
                            if retries.again(Failure::Broken { reused: connection.reused }) =>
                        {
                            spare
                        }
                        (None, _) => {
                            return Err(broken(
                                &replica.backend.replica,
                                &failed.error,
                                passage.as_deref(),
                                &asked.line,
                            ));
                        }
                    },
                    None => match spare.filter(|_| retries.again(Failure::Late)) {
                        Some(spare) => spare,
                        None => {
                            let sentence = format!(
                                "{} did not begin its answer within {}",
                                replica.backend.replica, limits.answer
                            );
                            return Err(Refused::new(
                                StatusCode::GATEWAY_TIMEOUT,
                                ReasonCode::AnswerLate,
                                sentence,
                            ));
                        }
                    },
                };
                asked.note.tried = asked.note.tried.saturating_add(1);
                onward = next;
            }
            drop(candidates);
            // Anyone who left did so in a newer table, which says who came in its place.
            match lead.cell.now().filter(|newer| left && !Arc::ptr_eq(newer, &service)) {
                Some(newer) => service = newer,
                None => break,
            }
        }
        Err(match trouble {
            Some(sentence) => silent(Reason::new(ReasonCode::NoneReady, sentence)),
            None => silent(service.silent()),
        })
    }

    /// The visitor's answer, which the shadow copy's is compared with.
    fn original(
        &self,
        answer: &Response<Incoming>,
        open: &Open,
        lead: &Destination,
        sent: Instant,
    ) -> Original {
        Original {
            way: lead.by(),
            service: lead.service.target.as_ref().clone(),
            replica: Arc::clone(&open.replica),
            status: answer.status(),
            length: length(answer.headers()),
            micros: sent.elapsed().as_micros() as u64,
        }
    }

    #[allow(clippy::too_many_arguments, reason = "everything that was gathered on the way")]
    fn deliver(
        &self,
        mut answer: Response<Incoming>,
        connection: Connection,
        open: Open,
        lead: &Destination,
        on_upgrade: Option<hyper::upgrade::OnUpgrade>,
        passage: Option<Rc<Passage>>,
        mut asked: RequestContext,
    ) -> Response<AnswerBody> {
        let way = lead.by();
        asked.note.way = Some(Arc::clone(&lead.way));
        asked.note.replica = Some(Arc::clone(&open.replica));
        asked.note.status = answer.status().as_u16();
        if let (StatusCode::SWITCHING_PROTOCOLS, Some(visitor)) = (answer.status(), on_upgrade) {
            let replica = hyper::upgrade::on(&mut answer);
            let micros = asked.begun.elapsed().as_micros() as u64;
            let ended = Ended { failed: false, micros, received: 0, sent: 0 };
            self.serving.count(&way, &lead.service.target, Some(&open.replica), ended);
            self.remember(asked.note, micros, 0, 0);
            let service = Arc::clone(&lead.service.target);
            asked.line.raw.store(true, std::sync::atomic::Ordering::Relaxed);
            tokio::task::spawn_local(async move {
                // The connection counts as open for as long as both sides talk.
                if let (Ok(visitor), Ok(replica)) = (visitor.await, replica.await) {
                    let passed = both_ways(TokioIo::new(visitor), TokioIo::new(replica), IDLE).await;
                    open.replica.counts.add_bytes(&way, &service, passed.received, passed.sent);
                }
            });
            return answer.map(|_| Either::Right(Full::default()));
        }
        let failed = answer.status().is_server_error() || grpc::says_failed(answer.headers());
        strip_hop_by_hop(answer.headers_mut());
        remove_session_cookies(answer.headers_mut());
        let (mut head, body) = answer.into_parts();
        let zip = lead.route.as_ref().is_some_and(|route| {
            route.answer.apply(&mut head.headers);
            route.spec.compress
        });
        let zip = zip && asked.gzip && asked.note.method != Method::HEAD && compress::fits(&head);
        let tally = Tally {
            forwarder: self.clone(),
            way,
            service: Arc::clone(&lead.service),
            begun: asked.begun,
            failed,
            open,
            sender: Some((connection.sender, connection.place)),
            passage,
            note: asked.note,
        };
        let body = CountedBody::new(body, tally);
        if zip {
            compress::mark(&mut head.headers);
            return Response::from_parts(head, Either::Left(Either::Right(Zipped::new(body))));
        }
        Response::from_parts(head, Either::Left(Either::Left(body)))
    }
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

enum Handling {
    To(Destination),
    Elsewhere(Box<Response<AnswerBody>>),
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

/// The replica broke the connection, or the visitor's body was cut off.
fn broken(
    replica: &mainyard_core::model::ReplicaId,
    error: &hyper::Error,
    passage: Option<&Passage>,
    line: &Line,
) -> Refused {
    match passage.and_then(|passage| passage.fault.get()) {
        Some(Fault::TooLarge(limit)) => Refused::too_large(limit),
        Some(Fault::Stalled(pause)) => {
            let sentence = format!("nothing more of the request's body came for {} s", pause.as_secs_f32());
            let refused = Refused::new(StatusCode::REQUEST_TIMEOUT, ReasonCode::BodyStalled, sentence);
            Refused { last: true, ..refused }
        }
        Some(Fault::Broken) => {
            let why = line.broken().unwrap_or("the request's body was broken off");
            Refused { last: true, ..Refused::bad(why) }
        }
        None => {
            let sentence = format!("{replica} broke the connection: {error}");
            Refused::new(StatusCode::BAD_GATEWAY, ReasonCode::AnswerBroken, sentence)
        }
    }
}

fn note<B>(request: &Request<B>, arrival: Arrival, id: &HeaderValue) -> Note {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    let host = request.headers().get(http::header::HOST).and_then(|host| host.to_str().ok());
    Note {
        at: since.as_millis() as u64,
        id: id.clone(),
        peer: arrival.peer.ip(),
        method: request.method().clone(),
        host: host.filter(|_| arrival.inside.is_none()).map(Into::into),
        path: short(request.uri().path()),
        secure: arrival.secure,
        way: None,
        route: None,
        replica: None,
        status: 0,
        reason: None,
        sentence: None,
        tried: 0,
        broken: false,
    }
}
