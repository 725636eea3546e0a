//! Authorization at a route: by a token, by a name and password, or by the decision of a service that is asked.

use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use http::header::{AUTHORIZATION, HOST, HeaderValue};
use http::{HeaderMap, Request, StatusCode};
use hyper::body::Incoming;
use mainyard_core::model::{AskUrl, Enter, Name, ReasonCode, Target};

use crate::admission::network_of;
use crate::arrival::Arrival;
use crate::backend::{Onward, Pool};
use crate::body::RequestBody;
use crate::headers::{ASKED_METHOD, ASKED_PATH, clean, strip_hop_by_hop};
use crate::rejections::Refused;
use crate::route::Route;
use crate::tls::VisitorTls;
use crate::worker::Forwarder;

impl Forwarder {
    /// Lets a request in, or not.
    ///
    /// `path` is the request's path as it goes on, with its query.
    pub(crate) async fn enter(
        &self,
        route: &Route,
        request: &Request<Incoming>,
        (arrival, visitor): (Arrival, Option<&VisitorTls>),
        path: &str,
    ) -> Result<(), Refused> {
        match &route.spec.enter {
            Enter::Open => Ok(()),
            Enter::Ask(ask) => self.ask(route, ask, request, (arrival, visitor), path).await,
            Enter::Token(_) | Enter::Basic(_) => {
                if !request.headers().contains_key(AUTHORIZATION) {
                    // Showing nothing is how a browser begins; it is no guess.
                    return self.shown(route, request);
                }
                let visitor = network_of(arrival.peer.ip());
                self.serving.guesses.may_try(visitor).map_err(|seconds| {
                    let sentence = format!("the route {} was guessed at too often by this visitor", route.at);
                    let status = StatusCode::TOO_MANY_REQUESTS;
                    Refused::new(status, ReasonCode::RateLimited, sentence).retry_after(seconds)
                })?;
                let entered = self.shown(route, request);
                match &entered {
                    Ok(()) => self.serving.guesses.succeeded(visitor),
                    Err(_) => self.serving.guesses.failed(visitor),
                }
                entered
            }
        }
    }

    /// Whether what the visitor shows opens the route.
    fn shown(&self, route: &Route, request: &Request<Incoming>) -> Result<(), Refused> {
        match &route.spec.enter {
            Enter::Open | Enter::Ask(_) => Ok(()),
            Enter::Token(secret) => {
                let known = self.secret(route, secret)?;
                match credentials(request.headers(), "bearer") {
                    Some(given) if same(given.as_bytes(), &known) => Ok(()),
                    given => Err(stranger(route, StatusCode::UNAUTHORIZED, given.is_some())
                        .challenge("Bearer realm=\"mainyard\"")),
                }
            }
            Enter::Basic(secret) => {
                let known = self.secret(route, secret)?;
                let given = credentials(request.headers(), "basic");
                let pair = given.as_ref().and_then(|given| STANDARD.decode(given).ok());
                // Every line is looked at, so that the time tells nothing of who is known.
                let lines =
                    known.split(|byte| *byte == b'\n').map(|line| line.strip_suffix(b"\r").unwrap_or(line));
                let known = pair.is_some_and(|pair| {
                    lines
                        .filter(|line| line.contains(&b':'))
                        .fold(false, |found, line| found | same(&pair, line))
                });
                if known {
                    return Ok(());
                }
                Err(stranger(route, StatusCode::UNAUTHORIZED, given.is_some())
                    .challenge("Basic realm=\"mainyard\", charset=\"UTF-8\""))
            }
        }
    }

    /// The value of a secret of the route's environment.
    fn secret(&self, route: &Route, name: &Name) -> Result<std::sync::Arc<[u8]>, Refused> {
        let secret = Target::new(&route.environment, name);
        self.serving.value(&secret).ok_or_else(|| {
            let sentence = format!(
                "the route {} checks passwords against the secret {secret}, whose value is not here",
                route.at
            );
            Refused::new(StatusCode::SERVICE_UNAVAILABLE, ReasonCode::SecretMissing, sentence)
        })
    }

    async fn ask(
        &self,
        route: &Route,
        ask: &AskUrl,
        request: &Request<Incoming>,
        (arrival, visitor): (Arrival, Option<&VisitorTls>),
        asked: &str,
    ) -> Result<(), Refused> {
        let silent = |why: String| {
            let sentence = format!("{} must authorize this request, and {why}", ask.ask_url);
            Refused::new(StatusCode::SERVICE_UNAVAILABLE, ReasonCode::DoorSilent, sentence)
        };
        let (authority, path) = split(&ask.ask_url);
        let address = self.address_of(route, authority).map_err(&silent)?;
        let mut question = Request::new(RequestBody::empty());
        let host = HeaderValue::from_str(authority).map_err(|_| silent("its host cannot be read".into()))?;
        *question.uri_mut() = path.parse().map_err(|_| silent("its path cannot be read".into()))?;
        for (name, value) in request.headers() {
            let passes =
                ![http::header::CONTENT_LENGTH, http::header::TRANSFER_ENCODING, http::header::EXPECT]
                    .contains(name);
            if passes {
                question.headers_mut().append(name, value.clone());
            }
        }
        // The very request that a replica would see: a word of the visitor's own that the gateway takes out before a
        // replica gets it must not decide here.
        strip_hop_by_hop(question.headers_mut());
        clean(question.headers_mut(), arrival, visitor);
        question.headers_mut().insert(HOST, host);
        if let Ok(method) = HeaderValue::from_str(request.method().as_str()) {
            question.headers_mut().insert(ASKED_METHOD, method);
        }
        if let Ok(asked) = HeaderValue::from_str(asked) {
            question.headers_mut().insert(ASKED_PATH, asked);
        }
        let within: Duration = ask.within.duration();
        let answered = tokio::time::timeout(within, async {
            let mut connection =
                Pool::dial(address, &Onward::PLAIN).await.map_err(|error| error.to_string())?;
            connection.send(question).await.map_err(|failed| failed.error.to_string())
        });
        let answer = match answered.await {
            Ok(Ok(answer)) => answer,
            Ok(Err(error)) => return Err(silent(format!("it could not be reached: {error}"))),
            Err(_) => return Err(silent(format!("it did not answer within {}", ask.within))),
        };
        match answer.status() {
            status if status.is_success() => Ok(()),
            StatusCode::UNAUTHORIZED => Err(stranger(route, StatusCode::UNAUTHORIZED, false)),
            StatusCode::FORBIDDEN => Err(stranger(route, StatusCode::FORBIDDEN, true)),
            other => Err(silent(format!("it answered {other}"))),
        }
    }

    /// The address of a service that the route's environment may call.
    fn address_of(&self, route: &Route, authority: &str) -> Result<std::net::SocketAddrV4, String> {
        let (host, port) = match authority.rsplit_once(':') {
            Some((host, port)) => (host, port.parse().map_err(|_| format!("{port:?} is not a port"))?),
            None => (authority, 80),
        };
        if host.parse::<std::net::Ipv4Addr>().is_ok() {
            return Err(format!("{host} is an address; expected the name of a service"));
        }
        let plain = host.strip_suffix(".internal").unwrap_or(host);
        let target = match plain.split_once('.') {
            Some((name, environment)) => format!("{environment}/{name}"),
            None => format!("{}/{plain}", route.environment),
        };
        let target: Target = target.parse().map_err(|_| format!("{host} is not a service"))?;
        let service = self.serving.service(&target).ok_or_else(|| format!("there is no service {target}"))?;
        let own = target.environment == route.environment;
        let from = self.serving.environment(&route.environment);
        if !own && !from.is_some_and(|from| service.callers.contains(&from)) {
            return Err(format!("{target} is not open to {}", route.environment));
        }
        let port = service.ports.get(&port).ok_or_else(|| format!("{target} has no port {port}"))?;
        let first = port.in_turn(self.worker, 1).next();
        first.map(|replica| replica.backend.address).ok_or_else(|| service.silent().sentence)
    }
}

/// `host:port` and path of an http URL.
fn split(url: &str) -> (&str, &str) {
    let rest = url.strip_prefix("http://").unwrap_or(url);
    match rest.find('/') {
        Some(at) => (&rest[..at], &rest[at..]),
        None => (rest, "/"),
    }
}

fn stranger(route: &Route, status: StatusCode, showed: bool) -> Refused {
    let what = if showed { "what the visitor showed does not open it" } else { "the visitor showed nothing" };
    Refused::new(
        status,
        ReasonCode::NotAllowed,
        format!("the route {} is not open to everybody: {what}", route.at),
    )
}

/// The text after the scheme's name. A header that appears twice counts as missing.
fn credentials(headers: &HeaderMap, scheme: &str) -> Option<String> {
    let mut given = headers.get_all(AUTHORIZATION).iter();
    let (only, more) = (given.next()?, given.next());
    let (word, rest) = only.to_str().ok()?.split_once(' ')?;
    (word.eq_ignore_ascii_case(scheme) && more.is_none()).then(|| rest.trim().to_owned())
}

/// In a time that does not tell where they differ.
fn same(given: &[u8], known: &[u8]) -> bool {
    let differing = given.iter().zip(known).fold(0, |sum, (one, other)| sum | (one ^ other));
    given.len() == known.len() && differing == 0 && !known.is_empty()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_exact_value_verifies() {
        assert!(same(b"door", b"door"));
        for given in ["", "doo", "doors", "d00r"] {
            assert!(!same(given.as_bytes(), b"door"), "{given}");
        }
        assert!(!same(b"", b""), "an empty value opens nothing");
    }

    #[test]
    fn credentials_come_once_and_by_their_scheme() {
        let mut headers = HeaderMap::new();
        assert_eq!(credentials(&headers, "bearer"), None);
        headers.append(AUTHORIZATION, HeaderValue::from_static("Bearer door"));
        assert_eq!(credentials(&headers, "bearer").as_deref(), Some("door"));
        assert_eq!(credentials(&headers, "basic"), None);
        headers.append(AUTHORIZATION, HeaderValue::from_static("Bearer other"));
        assert_eq!(credentials(&headers, "bearer"), None);
    }
}
