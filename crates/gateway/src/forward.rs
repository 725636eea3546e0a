//! One request: what is looked at before a replica is chosen, and its refusal where it goes no further. `outbound.rs` sends it.

use std::cell::OnceCell;
use std::sync::Arc;
use std::time::{Instant, SystemTime};

use http::header::{ACCEPT_ENCODING, HeaderValue, ORIGIN, STRICT_TRANSPORT_SECURITY};
use http::{HeaderMap, Request, Response, StatusCode};
use hyper::body::Incoming;
use mainyard_core::model::ReasonCode;

use crate::arrival::Arrival;
use crate::cache::Cache;
use crate::challenges;
use crate::compress;
use crate::cors;
use crate::counts::Ended;
use crate::destination::{self, Destination};
use crate::given_again::given_again;
use crate::grpc;
use crate::grpc_refusals;
use crate::headers::{REQUEST_ID, given_id, length_of, takes_trailers};
use crate::outbound::RequestContext;
use crate::pages;
use crate::redirects::sent_to;
use crate::rejections::Refused;
use crate::request_log::{Note, short};
use crate::request_validator::Line;
use crate::responses::AnswerBody;
use crate::route::{Route, joined};
use crate::worker::Forwarder;

/// Most bytes of a request's headers.
const HEAD_LIMIT: usize = 64 * 1024;

fn head_size(headers: &http::HeaderMap) -> usize {
    headers.iter().map(|(name, value)| name.as_str().len() + value.len() + 4).sum()
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
        let origin = request.headers().get(ORIGIN).cloned();
        let is_asked = cors::asked_method(&request).is_some();
        let found = OnceCell::new();
        let note = note(&request, arrival, &id);
        let asked = RequestContext {
            arrival,
            begun: Instant::now(),
            id: id.clone(),
            accepts: request.headers().get(ACCEPT_ENCODING).cloned(),
            trailers: takes_trailers(request.headers()),
            asked: None,
            note,
            line: Arc::clone(line),
        };
        let mut answer = match self.serve(request, asked, &found).await {
            Ok(answer) => answer,
            Err(refused) if is_call => grpc_refusals::refused(&refused),
            Err(refused) => pages::refused(refused, &id, accept.as_ref()),
        };
        if let Some(route) = found.get() {
            dress(answer.headers_mut(), route, arrival, origin.as_ref(), is_asked);
        }
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
        found: &OnceCell<Arc<Route>>,
    ) -> Result<Response<AnswerBody>, Refused> {
        let begun = asked.begun;
        let find_destination = self.find_destination(&request, &mut asked, found).await;
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
        let failed = match self.send(request, asked, &lead).await {
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
        found: &OnceCell<Arc<Route>>,
    ) -> Result<Handling, Refused> {
        let version = self.serving.routing().version;
        let find_destination = self.find_in_table(request, asked, found).await;
        let missing =
            find_destination.as_ref().is_err_and(|refused| refused.reason.code == ReasonCode::ServiceMissing);
        if missing && self.serving.routing().version != version {
            return self.find_in_table(request, asked, found).await;
        }
        find_destination
    }

    /// Everything that is looked at before a replica is chosen.
    async fn find_in_table(
        &self,
        request: &Request<Incoming>,
        asked: &mut RequestContext,
        found: &OnceCell<Arc<Route>>,
    ) -> Result<Handling, Refused> {
        check_head(request.headers())?;
        if let Some(called) = asked.arrival.inside {
            return destination::inside(&self.serving, request, called, asked.arrival).map(Handling::To);
        }
        if let Some(answer) = challenges::answer(&self.serving.challenges(), request) {
            return Ok(Handling::Elsewhere(Box::new(answer)));
        }
        let (route, onward, compared) = destination::route(&self.serving, request)?;
        asked.note.way = Some(Arc::clone(&route.at));
        asked.note.route = Some(Arc::clone(&route.key));
        let _ = found.set(Arc::clone(&route));
        takes_visitor(&route, asked.arrival)?;
        if let Some(answer) = self.elsewhere(&route, request, asked.arrival.secure)? {
            return Ok(Handling::Elsewhere(Box::new(answer)));
        }
        within_rate(&route, asked.arrival)?;
        if let Some(cors) = route.spec.cors.as_ref().filter(|_| cors::asked_method(request).is_some()) {
            // A browser asks without what would let it in.
            return Ok(Handling::Elsewhere(Box::new(cors::asked(cors))));
        }
        let visitor = asked.line.tls.as_deref();
        self.check_client(&route, visitor)?;
        let path = request.uri().query().map_or(onward.clone(), |query| format!("{onward}?{query}"));
        self.enter(&route, request, (asked.arrival, visitor), &path).await?;
        within_size(&route, request.headers())?;
        drill(&route).await?;
        if let Some(cache) = &route.cache {
            let scheme = if asked.arrival.secure { "https" } else { "http" };
            let origin = format!("{scheme}://{}", destination::host_of(request).unwrap_or_default());
            cache.forget(request, &origin);
            let accepts = asked.accepts.as_ref().filter(|_| route.spec.compress);
            if let Some((head, body)) = cache.answer(request, &origin) {
                let answer = given_again(head, body, request, compress::chosen(accepts));
                return Ok(Handling::Elsewhere(Box::new(answer)));
            }
            asked.asked = Cache::asked(request, &origin);
        }
        if let Some(redirect) = &route.spec.redirect {
            let to = joined(&redirect.to, route.below(&compared));
            let to = request.uri().query().map_or(to.clone(), |query| format!("{to}?{query}"));
            let status = StatusCode::from_u16(redirect.status).unwrap_or(StatusCode::PERMANENT_REDIRECT);
            return sent_to(&to, status).map(|answer| Handling::Elsewhere(Box::new(answer)));
        }
        destination::through(route, self.worker, request, onward, &compared).map(Handling::To)
    }
}

/// A head that is no longer than may be.
fn check_head(headers: &http::HeaderMap) -> Result<(), Refused> {
    let size = head_size(headers);
    if size <= HEAD_LIMIT {
        return Ok(());
    }
    let sentence = format!("the headers are {size} bytes long; at most {HEAD_LIMIT} are taken");
    Err(Refused::new(StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE, ReasonCode::BadRequest, sentence))
}

/// A visitor whose address the route takes.
fn takes_visitor(route: &Route, arrival: Arrival) -> Result<(), Refused> {
    let address = arrival.peer.ip();
    if route.spec.visitors.takes(address) {
        return Ok(());
    }
    let sentence = format!("the route {} takes no visitors from {}", route.at, address.to_canonical());
    Err(Refused::new(StatusCode::FORBIDDEN, ReasonCode::AddressNotAllowed, sentence))
}

/// Lets some requests wait, or fails them, where a drill is declared.
async fn drill(route: &Route) -> Result<(), Refused> {
    let Some(drill) = &route.spec.drill else { return Ok(()) };
    if !route.drilled.is_next(drill.share) {
        return Ok(());
    }
    if let Some(wait) = drill.wait {
        tokio::time::sleep(wait.duration()).await;
    }
    let Some(status) = drill.status else { return Ok(()) };
    let status = StatusCode::from_u16(status).unwrap_or(StatusCode::SERVICE_UNAVAILABLE);
    let sentence = format!("the route {} fails some requests on purpose, and this is one of them", route.at);
    Err(Refused::new(status, ReasonCode::Drill, sentence))
}

/// What a route says in every answer, also in the gateway's own.
fn dress(
    headers: &mut HeaderMap,
    route: &Route,
    arrival: Arrival,
    origin: Option<&HeaderValue>,
    is_asked: bool,
) {
    if let Some(cors) = &route.spec.cors {
        cors::say(cors, origin, is_asked, headers);
    }
    if let Some(hsts) = route.hsts.as_ref().filter(|_| arrival.secure) {
        headers.insert(STRICT_TRANSPORT_SECURITY, hsts.clone());
    }
}

/// A visitor that asks no more often than the route takes from one.
fn within_rate(route: &Route, arrival: Arrival) -> Result<(), Refused> {
    let Some(limiter) = &route.limiter else { return Ok(()) };
    limiter.take(arrival.peer.ip()).map_err(|seconds| {
        let rate = &limiter.rate;
        let sentence = format!(
            "the route {} takes {} requests in {} from one visitor, and this one asked more often",
            route.at, rate.requests, rate.every
        );
        let refused = Refused::new(StatusCode::TOO_MANY_REQUESTS, ReasonCode::RateLimited, sentence);
        refused.retry_after(seconds)
    })
}

/// A body whose length, where it is told, is no more than the route takes.
fn within_size(route: &Route, headers: &http::HeaderMap) -> Result<(), Refused> {
    let limit = route.spec.limits.body.map(|limit| limit.bytes());
    match limit.filter(|limit| length_of(headers).is_some_and(|length| length > *limit)) {
        Some(limit) => Err(Refused::too_large(limit)),
        None => Ok(()),
    }
}

enum Handling {
    To(Destination),
    Elsewhere(Box<Response<AnswerBody>>),
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
