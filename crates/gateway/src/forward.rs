//! One request: where it leads, to which replica it goes, and its answer back.

use std::sync::Arc;
use std::time::Instant;

use http::header::HeaderValue;
use http::{Method, Request, Response, StatusCode};
use http_body_util::{Either, Full};
use hyper::body::{Body, Incoming};
use hyper_util::rt::TokioIo;
use mainyard_core::model::{Reason, ReasonCode};

use crate::arrival::Arrival;
use crate::backend::{Connection, Pool};
use crate::counts::Way;
use crate::delivered::{AnswerBody, Delivered, Tally};
use crate::headers::{REQUEST_ID, copy_without_body, prepare, strip_hop_by_hop, wanted_upgrade};
use crate::lead::{Lead, lead};
use crate::pages;
use crate::replica::{Open, Replica};
use crate::shadow::{Copy, Original, length};
use crate::worker::Forwarder;

/// Most bytes of a request's headers.
const HEAD_LIMIT: usize = 64 * 1024;

fn head_size(headers: &http::HeaderMap) -> usize {
    headers.iter().map(|(name, value)| name.as_str().len() + value.len() + 4).sum()
}

/// How many replicas are tried when connections cannot be made.
const TRIES: usize = 4;

impl Forwarder {
    /// Answers one request; never fails, whatever happens behind.
    pub async fn answer(&self, request: Request<Incoming>, arrival: Arrival) -> Response<AnswerBody> {
        let begun = Instant::now();
        let id = pages::request_id();
        let accept = request.headers().get(http::header::ACCEPT).cloned();
        let refuse =
            |status: StatusCode, reason: &Reason| pages::problem(status, reason, &id, accept.as_ref());
        let size = head_size(request.headers());
        let led = if size > HEAD_LIMIT {
            let sentence = format!("the headers are {size} bytes long; at most {HEAD_LIMIT} are taken");
            let reason = Reason::new(ReasonCode::BadRequest, sentence);
            Err((StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE, reason))
        } else {
            lead(&self.serving, self.worker, &request, arrival)
        };
        let mut answer = match led {
            Err((status, reason)) => refuse(status, &reason),
            Ok(lead) => match self.forward(request, arrival, &lead, &id, begun).await {
                Ok(answer) => answer,
                Err((status, reason)) => {
                    self.count(&lead, None, true, begun);
                    refuse(status, &reason)
                }
            },
        };
        answer.headers_mut().insert(REQUEST_ID, id);
        answer
    }

    async fn forward(
        &self,
        mut request: Request<Incoming>,
        arrival: Arrival,
        lead: &Lead,
        id: &HeaderValue,
        begun: Instant,
    ) -> Result<Response<AnswerBody>, (StatusCode, Reason)> {
        let upgrade = wanted_upgrade(request.headers());
        let on_upgrade = upgrade.is_some().then(|| hyper::upgrade::on(&mut request));
        let safe_to_repeat =
            matches!(*request.method(), Method::GET | Method::HEAD) && request.body().is_end_stream();
        let mut onward = prepare(request, arrival, id, upgrade.as_ref())?;
        let silent = || {
            let otherwise = || {
                Reason::new(
                    ReasonCode::NoneReady,
                    format!("no replica of {} takes requests", lead.service.target.name),
                )
            };
            (StatusCode::SERVICE_UNAVAILABLE, lead.service.reason.clone().unwrap_or_else(otherwise))
        };
        let mut trouble = None;
        let mut repeated = false;
        let mut service = Arc::clone(&lead.service);
        loop {
            let mut left = false;
            let port = service.ports.get(&lead.port).ok_or_else(silent)?;
            for replica in port.in_turn(self.worker, TRIES) {
                let Some(open) = self.serving.enter(replica) else {
                    left = true;
                    continue;
                };
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
                let copy = if safe_to_repeat && upgrade.is_none() {
                    Copy::of(self, port, || copy_without_body(&onward))
                } else {
                    None
                };
                let sent = Instant::now();
                match connection.send(onward).await {
                    Ok(answer) => {
                        if let Some(copy) = copy {
                            copy.send(self.clone(), self.original(&answer, &open, lead, sent));
                        }
                        return Ok(self.deliver(answer, connection, open, lead, on_upgrade, begun));
                    }
                    Err(failed) => match (failed.unsent, spare) {
                        (Some(unsent), _) => onward = unsent,
                        // An idle connection that the replica closed as it was taken: nothing was answered, and a
                        // second GET changes nothing.
                        (None, Some(spare)) if connection.reused => (onward, repeated) = (spare, true),
                        (None, _) => {
                            let sentence =
                                format!("{} broke the connection: {}", replica.backend.replica, failed.error);
                            let reason = Reason::new(ReasonCode::AnswerBroken, sentence);
                            return Err((StatusCode::BAD_GATEWAY, reason));
                        }
                    },
                }
            }
            // Whoever left did so in a newer table, which says who came in its place.
            match self.serving.newer(&service).filter(|_| left) {
                Some(newer) => service = newer,
                None => break,
            }
        }
        Err(match trouble {
            Some(sentence) => (StatusCode::SERVICE_UNAVAILABLE, Reason::new(ReasonCode::NoneReady, sentence)),
            None => silent(),
        })
    }

    /// What a copy's answer is compared with.
    fn original(&self, answer: &Response<Incoming>, open: &Open, lead: &Lead, sent: Instant) -> Original {
        Original {
            way: Way { name: Arc::clone(&lead.way), inside: lead.inside },
            service: lead.service.target.clone(),
            replica: Arc::clone(&open.replica),
            status: answer.status(),
            length: length(answer.headers()),
            micros: sent.elapsed().as_micros() as u64,
        }
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
            forwarder: self.clone(),
            way: Way { name: Arc::clone(&lead.way), inside: lead.inside },
            service: Arc::clone(&lead.service),
            begun,
            failed,
            open,
            sender: Some(connection.sender),
        };
        Response::from_parts(head, Either::Left(Delivered::new(body, tally)))
    }

    fn count(&self, lead: &Lead, replica: Option<&Arc<Replica>>, failed: bool, begun: Instant) {
        let micros = begun.elapsed().as_micros() as u64;
        let way = Way { name: Arc::clone(&lead.way), inside: lead.inside };
        self.serving.count(&way, &lead.service.target, replica, failed, micros);
    }
}
