//! Calling the API.

use std::time::Duration;

use eventsource_stream::Eventsource;
use futures_util::StreamExt;
use jiff::Timestamp;
use mainyard_api::{
    AsOf, ChangeEvent, Document, Figures, FollowChanges, JsonBody, ListFetches, NoBody, NoPath, NoQuery,
    NodeFetch, Operation, Problem, ShowSnapshot, StreamQuery, WAITS_UNTIL, path_of,
};
use mainyard_core::model::ReplicaState;
use mainyard_core::record::{Kind, Object, State};
use mainyard_core::untrusted_text::visible_lines;
use mainyard_core::views::Views;
use reqwest::{Method, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use crate::args::Moment;
use crate::data_dir::{Call, DataDir};
use crate::terminal::Failure;
use crate::times;

/// A client of one platform.
#[derive(Clone)]
pub(crate) struct Client {
    call: Call,
    http: reqwest::Client,
    /// The moment of the past that what it reads is of.
    pub as_of: Option<Timestamp>,
    /// Whether it goes on to the control that another one names.
    goes_on: bool,
}

/// Everything the platform knows.
pub(crate) struct Snapshot {
    /// The record's objects.
    pub state: State,
    /// The number to follow the stream from.
    pub cursor: u64,
    /// The moment, where it is one of the past.
    pub as_of: Option<Timestamp>,
    /// Whether replicas of that moment are known.
    pub whole: bool,
    /// The gateway's address for HTTP.
    pub gateway: String,
    /// The address for TLS.
    pub gateway_tls: String,
    /// Requests of the last seconds.
    pub figures: Figures,
    /// Groups of connected objects, as they were when the snapshot was read; [`Client::follow`] does not update them.
    pub views: Views,
    /// Images that nodes fetch now, where a replica waits for one.
    pub fetches: Vec<NodeFetch>,
}

impl Snapshot {
    /// How a person gets to a route.
    pub(crate) fn url_of(&self, route: &mainyard_core::model::Route) -> String {
        let port = |address: &str| address.rsplit(':').next().and_then(|port| port.parse().ok()).unwrap_or(0);
        self.state.url_of(route, port(&self.gateway), port(&self.gateway_tls))
    }

    /// The moment that it is of.
    pub(crate) fn at(&self) -> Timestamp {
        self.as_of.unwrap_or_else(Timestamp::now)
    }
}

/// The PEM file of the authority that signed the API's certificate.
pub(crate) const AUTHORITY: &str = "MAINYARD_AUTHORITY";

/// Whose certificates are trusted: the machine's authorities, or only the one that was named.
fn trust() -> Result<rustls::ClientConfig, Failure> {
    let failed = |error: &dyn std::fmt::Display| Failure::failed(format!("TLS cannot be prepared: {error}"));
    let mut roots = rustls::RootCertStore::empty();
    match std::env::var_os(AUTHORITY) {
        Some(file) => {
            let pem = std::fs::read_to_string(&file).map_err(|error| {
                Failure::failed(format!("{AUTHORITY}: {} cannot be read: {error}", file.display()))
            })?;
            for certificate in mainyard_certificates::certificates(&pem).map_err(|error| failed(&error))? {
                roots.add(certificate).map_err(|error| failed(&error))?;
            }
        }
        None => drop(roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs)),
    }
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    let builder = rustls::ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    Ok(builder.map_err(|error| failed(&error))?.with_root_certificates(roots).with_no_client_auth())
}

/// How long an answer may take to begin.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long it is waited for where the request itself takes its time.
const NO_LIMIT: Duration = Duration::from_secs(3600);

/// Calls with a large body, such as ten thousand declarations, or with a stream, such as an image, have no time limit.
fn patience(request: Option<&reqwest::RequestBuilder>) -> Duration {
    // A stream cannot be read twice, so such a request has no copy.
    let Some(request) = request else { return NO_LIMIT };
    let built = request.try_clone().and_then(|again| again.build().ok());
    let length =
        built.and_then(|built| built.body().map(|body| body.as_bytes().map_or(usize::MAX, <[u8]>::len)));
    if length.is_some_and(|length| length > 64 << 10) { NO_LIMIT } else { PATIENCE }
}

impl Client {
    pub(crate) fn new(place: &DataDir) -> Result<Client, Failure> {
        Client::to(place.call()?)
    }

    pub(crate) fn to(call: Call) -> Result<Client, Failure> {
        let builder = reqwest::Client::builder().no_proxy().connect_timeout(Duration::from_secs(5));
        let builder =
            if call.url.starts_with("https:") { builder.use_preconfigured_tls(trust()?) } else { builder };
        let http = builder.build().map_err(|error| Failure::failed(error.to_string()))?;
        Ok(Client { call, http, as_of: None, goes_on: true })
    }

    /// The same, where what it reads is of a moment of the past.
    ///
    /// # Errors
    /// When the moment cannot be read.
    pub(crate) fn at(self, past: &Moment) -> Result<Client, Failure> {
        Ok(Client { as_of: past.as_of.as_deref().map(times::read).transpose()?, ..self })
    }

    /// The path prefix of the API.
    pub(crate) fn url(&self) -> &str {
        &self.call.url
    }

    /// The token that it shows.
    pub(crate) fn token(&self) -> &str {
        &self.call.token
    }

    /// A request for an operation, without its body.
    pub(crate) fn request<O: Operation>(&self, path: &O::Path, query: &O::Query) -> RequestBuilder {
        let method = match O::METHOD {
            mainyard_api::Method::Get => Method::GET,
            mainyard_api::Method::Post => Method::POST,
            mainyard_api::Method::Put => Method::PUT,
            mainyard_api::Method::Patch => Method::PATCH,
            mainyard_api::Method::Delete => Method::DELETE,
        };
        let url = format!("{}{}", self.call.url, path_of::<O>(path));
        self.http.request(method, url).query(query).bearer_auth(&self.call.token)
    }

    /// Calls an operation that takes no body, and reads its answer.
    pub(crate) async fn ask<O>(
        &self,
        path: O::Path,
        query: O::Query,
    ) -> Result<<O::Answer as Document>::Of, Failure>
    where
        O: Operation<Body = NoBody, Answer: Document<Of: DeserializeOwned>>,
    {
        self.read(self.request::<O>(&path, &query)).await
    }

    /// Calls an operation with a JSON document, and reads its answer.
    pub(crate) async fn ask_with<O, T>(
        &self,
        path: O::Path,
        query: O::Query,
        body: &T,
    ) -> Result<<O::Answer as Document>::Of, Failure>
    where
        O: Operation<Body = JsonBody<T>, Answer: Document<Of: DeserializeOwned>>,
        T: Serialize,
    {
        self.read(self.request::<O>(&path, &query).json(body)).await
    }

    /// Sends a request, and reads the document that answers it, so that a terminal can show it.
    pub(crate) async fn read<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, Failure> {
        let document: Value = self.read_as_it_is(request).await?;
        serde_json::from_value(for_a_terminal(document)).map_err(|error| unreadable(&error))
    }

    /// The same, where what comes is written to a file and not to a terminal.
    pub(crate) async fn read_as_it_is<T: DeserializeOwned>(
        &self,
        request: RequestBuilder,
    ) -> Result<T, Failure> {
        let answer = self.send(request).await?;
        let bytes = answer.bytes().await.map_err(|error| self.unreachable(&error))?;
        serde_json::from_slice(&bytes).map_err(|error| unreadable(&error))
    }

    /// The moment of what it reads, as a query.
    pub(crate) fn moment(&self) -> AsOf {
        AsOf { as_of: self.as_of }
    }

    /// Sends a request; what is not a success becomes a failure in the platform's own words.
    pub(crate) async fn send(&self, request: reqwest::RequestBuilder) -> Result<Response, Failure> {
        let again = request.try_clone();
        let patience = patience(again.as_ref());
        let answer = tokio::time::timeout(patience, self.until(patience, request).send()).await;
        let answer = answer.map_err(|_| self.silent())?.map_err(|error| self.unreachable(&error))?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status();
        let text = answer.text().await.unwrap_or_default();
        let problem: Option<Problem> =
            serde_json::from_str(&text).ok().and_then(|it| serde_json::from_value(for_a_terminal(it)).ok());
        let Some(problem) = problem else {
            return Err(Failure::refused(format!("the platform answers {status}")));
        };
        if let (Some(holder), Some(again), true) = (problem.holder, again, self.goes_on) {
            let elsewhere = Call { url: holder, token: self.call.token.clone() };
            let elsewhere = Client { goes_on: false, ..Client::to(elsewhere)? };
            return Box::pin(elsewhere.send_to(again)).await;
        }
        let lines: Vec<String> = problem.problems.iter().map(|place| format!("\n  {place}")).collect();
        let message = format!("{}{}", problem.detail, lines.concat());
        Err(match status.as_u16() {
            503 => Failure::unreachable(message),
            _ => Failure::refused(message),
        })
    }

    /// The same request to this client's platform, which was named by another.
    async fn send_to(&self, request: reqwest::RequestBuilder) -> Result<Response, Failure> {
        let (http, request) = request.build_split();
        let mut request = request.map_err(|error| self.unreachable(&error))?;
        let base = reqwest::Url::parse(&self.call.url)
            .map_err(|error| Failure::failed(format!("{} is not a URL: {error}", self.call.url)))?;
        let url = request.url_mut();
        let moved = url.set_host(base.host_str()).is_ok() && url.set_port(base.port()).is_ok();
        if !moved {
            return Err(Failure::failed(format!("{} can't be reached", self.call.url)));
        }
        self.send(reqwest::RequestBuilder::from_parts(http, request)).await
    }

    /// A call of the platform's registry (OCI distribution specification); a refusal has its words.
    pub(crate) async fn registry(
        &self,
        method: &str,
        path: &str,
        body: Option<(&str, Vec<u8>)>,
    ) -> Result<Response, Failure> {
        let method =
            Method::from_bytes(method.as_bytes()).map_err(|error| Failure::failed(error.to_string()))?;
        let mut request =
            self.http.request(method, format!("{}{path}", self.call.url)).bearer_auth(&self.call.token);
        if let Some((kind, bytes)) = body {
            request = request.header(reqwest::header::CONTENT_TYPE, kind).body(bytes);
        }
        let answer = tokio::time::timeout(PATIENCE, request.send()).await;
        let answer = answer.map_err(|_| self.silent())?.map_err(|error| self.unreachable(&error))?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status();
        let said = answer.bytes().await.unwrap_or_default();
        Err(Failure::refused(format!(
            "the registry answers {status}: {}",
            mainyard_registry::outside::words(&said)
        )))
    }

    /// Says until when the answer is waited for: what is read later is not carried out.
    fn until(&self, patience: Duration, request: reqwest::RequestBuilder) -> reqwest::RequestBuilder {
        if !self.call.url.starts_with("http://127.") {
            // Another machine's clock may be another.
            return request;
        }
        let until = Timestamp::now().as_millisecond() + patience.as_millis() as i64;
        request.header(WAITS_UNTIL, until)
    }

    /// The supervisor holds the socket while control is away, so calls are taken that nobody answers yet.
    fn silent(&self) -> Failure {
        let url = &self.call.url;
        Failure::unreachable(format!(
            "{url} takes calls, but control has not answered for {} s: it is being started, or has lost the record\n\
             Read why in logs/control.log and logs/supervisor.log of the data directory",
            PATIENCE.as_secs()
        ))
    }

    fn unreachable(&self, error: &reqwest::Error) -> Failure {
        let url = &self.call.url;
        if error.is_connect() && url.starts_with("http:") {
            return Failure::unreachable(format!(
                "nothing answers at {url}\nStart the platform with: mainyard start"
            ));
        }
        let mut words = error.to_string();
        let mut source = std::error::Error::source(error);
        while let Some(cause) = source {
            words = format!("{words}: {cause}");
            source = cause.source();
        }
        if words.contains("UnknownIssuer") {
            words = format!(
                "{words}\nIts certificate leads to no authority that is trusted here. Name the platform's own: \
                 {AUTHORITY}=authority.pem (on the platform's machine: mainyard certificate show-authority)"
            );
        }
        Failure::unreachable(format!("{url} does not answer as it should: {words}"))
    }

    pub(crate) async fn snapshot(&self) -> Result<Snapshot, Failure> {
        let read = self.ask::<ShowSnapshot>(NoPath {}, self.moment()).await?;
        let mainyard_api::Snapshot {
            cursor,
            as_of,
            whole,
            gateway,
            gateway_tls,
            objects,
            figures,
            views,
            ..
        } = read;
        let state: State = objects.into();
        let is_fetched = state.replicas.values().any(|replica| replica.state == ReplicaState::Fetching);
        let fetches =
            if is_fetched { self.ask::<ListFetches>(NoPath {}, NoQuery {}).await? } else { Vec::new() };
        Ok(Snapshot { state, cursor, as_of, whole, gateway, gateway_tls, figures, views, fetches })
    }

    /// Follows the stream from a snapshot: after each change the state is given to `watch`, until it returns
    /// something. A stream that breaks is taken up where it ended.
    pub(crate) async fn follow<T>(
        &self,
        snapshot: &mut Snapshot,
        mut watch: impl FnMut(&Snapshot) -> Option<T>,
    ) -> Result<T, Failure> {
        let mut lost = 0;
        loop {
            if let Some(outcome) = watch(snapshot) {
                return Ok(outcome);
            }
            let query = StreamQuery { after: Some(snapshot.cursor), views: false };
            let request = self.request::<FollowChanges>(&NoPath {}, &query);
            let body = match self.send(request).await {
                Ok(answer) => {
                    lost = 0;
                    answer.bytes_stream()
                }
                Err(failure) if lost >= 50 => return Err(failure),
                Err(_) => {
                    lost += 1;
                    tokio::time::sleep(Duration::from_millis(200)).await;
                    continue;
                }
            };
            // What has come at once is looked at once.
            let mut events = body.eventsource().ready_chunks(1024);
            while let Some(events) = events.next().await {
                let mut changed = false;
                for event in events.into_iter().map_while(Result::ok) {
                    changed |= apply(&event, snapshot)?;
                }
                if changed && let Some(outcome) = watch(snapshot) {
                    return Ok(outcome);
                }
            }
        }
    }
}

/// Takes an event in; gives whether anything changed.
fn apply(event: &eventsource_stream::Event, snapshot: &mut Snapshot) -> Result<bool, Failure> {
    let wrong = |error| unreadable(&error);
    match event.event.as_str() {
        "change" => {
            let change: ChangeEvent = serde_json::from_str(&event.data).map_err(wrong)?;
            snapshot.cursor = change.number;
            match change.body {
                Some(body) => snapshot.state.put(object(change.kind, &change.key, body)?),
                None => snapshot.state.remove(change.kind, &change.key),
            }
            Ok(true)
        }
        "figures" => {
            snapshot.figures = serde_json::from_str(&event.data).map_err(wrong)?;
            Ok(true)
        }
        _ => Ok(false),
    }
}

fn unreadable(error: &serde_json::Error) -> Failure {
    Failure::failed(format!("the answer cannot be read: {error}\nIs this client of the platform's version?"))
}

/// Texts that replicas, repositories and images wrote are part of most answers: none of them may move the cursor of
/// the terminal that shows them.
fn for_a_terminal(value: Value) -> Value {
    match value {
        Value::String(text) => Value::String(visible_lines(&text).into_owned()),
        Value::Array(list) => list.into_iter().map(for_a_terminal).collect(),
        Value::Object(map) => map
            .into_iter()
            .map(|(key, value)| (visible_lines(&key).into_owned(), for_a_terminal(value)))
            .collect(),
        other => other,
    }
}

fn object(kind: Kind, key: &str, body: Value) -> Result<Object, Failure> {
    Object::read(kind, for_a_terminal(body)).map_err(|error| {
        Failure::failed(format!(
            "the {} {key} cannot be read: {error}\nIs this client of the platform's version?",
            kind.word()
        ))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_takes_its_time_is_waited_for() {
        let http = reqwest::Client::new();
        let post = || http.post("http://127.0.0.1:1/");
        assert_eq!(patience(Some(&post())), PATIENCE);
        assert_eq!(patience(Some(&post().body("short"))), PATIENCE);
        assert_eq!(patience(Some(&post().body(vec![0; 65 << 10]))), NO_LIMIT);
        let stream = futures_util::stream::iter([Ok::<_, std::io::Error>(b"a layer".to_vec())]);
        let stream = post().body(reqwest::Body::wrap_stream(stream));
        assert_eq!(patience(stream.try_clone().as_ref()), NO_LIMIT, "an image");
    }
}
