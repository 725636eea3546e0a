//! The answer of a replica on its way to the visitor.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use http::header::{HeaderValue, TRAILER};
use http::{Method, Response, StatusCode};
use http_body_util::{Either, Full};
use hyper::body::Incoming;
use hyper::upgrade::OnUpgrade;
use hyper_util::rt::TokioIo;

use crate::affinity;
use crate::compress::{self, Zipped};
use crate::counts::Ended;
use crate::grpc;
use crate::headers::{remove_session_cookies, strip_hop_by_hop};
use crate::outbound::{Answered, Outbound};
use crate::relay::{IDLE, both_ways};
use crate::replica::Open;
use crate::response_body::{CountedBody, Tally};
use crate::responses::AnswerBody;
use crate::shadow::{Original, length};

impl Outbound<'_> {
    /// The visitor's answer; counted when it has ended.
    pub(crate) fn deliver(
        self,
        mut answered: Answered,
        on_upgrade: Option<OnUpgrade>,
    ) -> Response<AnswerBody> {
        if let Some(copy) = answered.copy.take() {
            copy.send(self.forwarder.clone(), self.original(&answered));
        }
        let (affinity, secure) = (answered.open.replica.affinity, self.asked.arrival.secure);
        let sticky = self.lead.route.as_ref().and_then(|route| route.spec.sticky.as_ref());
        let sticky = sticky.filter(|_| self.presented != Some(affinity));
        let mut answer = match on_upgrade {
            Some(visitor) if answered.answer.status() == StatusCode::SWITCHING_PROTOCOLS => {
                self.switch(answered, visitor)
            }
            _ => self.pass_on(answered),
        };
        if let Some(sticky) = sticky {
            affinity::set_cookie(answer.headers_mut(), sticky, affinity, secure);
        }
        answer
    }

    /// The visitor's answer, which the shadow copy's is compared with.
    fn original(&self, answered: &Answered) -> Original {
        let Answered { answer, open, sent, .. } = answered;
        Original {
            way: self.way.clone(),
            service: self.lead.service.target.as_ref().clone(),
            replica: Arc::clone(&open.replica),
            status: answer.status(),
            length: length(answer.headers()),
            micros: sent.elapsed().as_micros() as u64,
        }
    }

    /// Both sides talk by another protocol from here on; the connection counts as open for as long.
    fn switch(mut self, answered: Answered, visitor: OnUpgrade) -> Response<AnswerBody> {
        let Answered { mut answer, open, .. } = answered;
        self.note_answer(&answer, &open);
        let replica = hyper::upgrade::on(&mut answer);
        let micros = self.asked.begun.elapsed().as_micros() as u64;
        let ended = Ended { failed: false, micros, received: 0, sent: 0 };
        let service = Arc::clone(&self.lead.service.target);
        self.forwarder.serving.count(&self.way, &service, Some(&open.replica), ended);
        self.forwarder.remember(self.asked.note, micros, 0, 0);
        self.asked.line.raw.store(true, Ordering::Relaxed);
        let way = self.way;
        tokio::task::spawn_local(async move {
            if let (Ok(visitor), Ok(replica)) = (visitor.await, replica.await) {
                let passed = both_ways(TokioIo::new(visitor), TokioIo::new(replica), IDLE).await;
                open.replica.counts.add_bytes(&way, &service, passed.received, passed.sent);
            }
        });
        answer.map(|_| Either::Right(Full::default()))
    }

    fn pass_on(mut self, answered: Answered) -> Response<AnswerBody> {
        let Answered { mut answer, connection, open, .. } = answered;
        self.note_answer(&answer, &open);
        let failed = answer.status().is_server_error() || grpc::says_failed(answer.headers());
        // What comes after the body is named before it (RFC 9110, section 6.6.2), to those who take it.
        let named: Vec<HeaderValue> = match self.asked.trailers {
            true => answer.headers().get_all(TRAILER).iter().cloned().collect(),
            false => Vec::new(),
        };
        strip_hop_by_hop(answer.headers_mut());
        for name in named {
            answer.headers_mut().append(TRAILER, name);
        }
        remove_session_cookies(answer.headers_mut());
        let (mut head, body) = answer.into_parts();
        let cache = self.lead.route.as_ref().and_then(|route| route.cache.as_ref());
        let keep = cache.and_then(|cache| cache.keep(self.asked.asked.as_ref()?, &head));
        let zip = self.lead.route.as_ref().is_some_and(|route| {
            route.answer.apply(&mut head.headers);
            route.spec.compress
        });
        let zip = zip && self.asked.note.method != Method::HEAD && compress::fits(&head);
        let coding = if zip { compress::chosen(self.asked.accepts.as_ref()) } else { None };
        let tally = Tally {
            forwarder: self.forwarder.clone(),
            way: self.way,
            service: Arc::clone(&self.lead.service),
            begun: self.asked.begun,
            failed,
            open,
            sender: Some((connection.sender, connection.place)),
            passage: self.passage,
            note: self.asked.note,
        };
        let body = CountedBody::new(body, tally, keep);
        if let Some(coding) = coding {
            compress::mark(&mut head.headers, coding);
            return Response::from_parts(head, Either::Left(Either::Right(Zipped::new(body, coding))));
        }
        Response::from_parts(head, Either::Left(Either::Left(body)))
    }

    fn note_answer(&mut self, answer: &Response<Incoming>, open: &Open) {
        let note = &mut self.asked.note;
        note.way = Some(Arc::clone(&self.lead.way));
        note.replica = Some(Arc::clone(&open.replica));
        note.status = answer.status().as_u16();
    }
}
