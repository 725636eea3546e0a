//! Requests that are answered by telling where else to ask.

use http::header::{HeaderValue, LOCATION};
use http::{Request, Response, StatusCode};
use http_body_util::{Either, Full};
use hyper::body::Incoming;
use mainyard_core::model::ReasonCode;

use crate::destination;
use crate::rejections::Refused;
use crate::responses::AnswerBody;
use crate::route::Route;
use crate::worker::Forwarder;

impl Forwarder {
    /// The answer to a request that must come over another connection.
    pub(crate) fn elsewhere(
        &self,
        route: &Route,
        request: &Request<Incoming>,
        secure: bool,
    ) -> Result<Option<Response<AnswerBody>>, Refused> {
        if secure && route.spec.is_untouched() {
            // A visitor may use one connection for every host that its certificate covers (RFC 9113, section 9.1.1).
            let sentence = format!(
                "this connection's TLS was opened by the gateway, and the route {} has it passed through: \
                 it must be asked for on a connection of its own",
                route.at
            );
            let status = StatusCode::MISDIRECTED_REQUEST;
            return Err(Refused::new(status, ReasonCode::OtherConnection, sentence));
        }
        if secure || !self.sends_to_https(route, request) {
            return Ok(None);
        }
        self.to_https(request).map(Some)
    }

    fn sends_to_https(&self, route: &Route, request: &Request<Incoming>) -> bool {
        let certified = || {
            let host = destination::host_of(request)?;
            self.serving.https_port()?;
            self.serving.certificates().of(&route.environment, &host, None)
        };
        route.spec.sends_to_https(route.spec.tls.is_none() && certified().is_some())
    }

    fn to_https(&self, request: &Request<Incoming>) -> Result<Response<AnswerBody>, Refused> {
        let host = destination::host_of(request).unwrap_or_default();
        let port = match self.serving.https_port() {
            Some(443) | None => String::new(),
            Some(port) => format!(":{port}"),
        };
        let path = request.uri().path_and_query().map_or("/", |path| path.as_str());
        sent_to(&format!("https://{host}{port}{path}"), StatusCode::PERMANENT_REDIRECT)
    }
}

/// An answer that sends a visitor to another place.
pub(crate) fn sent_to(to: &str, status: StatusCode) -> Result<Response<AnswerBody>, Refused> {
    let location = HeaderValue::from_str(to).map_err(|_| Refused::bad("the path cannot be sent on"))?;
    let mut answer = Response::new(Either::Right(Full::default()));
    *answer.status_mut() = status;
    answer.headers_mut().insert(LOCATION, location);
    Ok(answer)
}
