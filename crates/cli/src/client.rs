//! Calling the API.

use std::time::Duration;

use futures_util::StreamExt;
use jiff::Timestamp;
use mainyard_core::record::{Kind, Object, State};
use mainyard_core::untrusted_text::visible_lines;
use reqwest::{Method, Response};
use serde::Deserialize;
use serde_json::Value;

use crate::args::Past;
use crate::data_dir::{Call, DataDir};
use crate::terminal::Failure;
use crate::times;

/// A client of one platform.
#[derive(Clone)]
pub struct Client {
    call: Call,
    http: reqwest::Client,
    /// The moment of the past that what it reads is of.
    pub as_of: Option<Timestamp>,
    /// Whether it goes on to the control that another one names.
    goes_on: bool,
}

/// Everything the platform knows.
pub struct Snapshot {
    /// The record's objects.
    pub state: State,
    /// The number to follow the stream from.
    pub cursor: u64,
    /// The moment, where it is one of the past.
    pub as_of: Option<Timestamp>,
    /// Whether replicas of that moment are known.
    pub whole: bool,
    /// Where the gateway is reached.
    pub gateway: String,
    /// Where it is reached over TLS.
    pub gateway_tls: String,
    /// What was served in the last seconds.
    pub figures: Vec<mainyard_control::WayFigures>,
}

impl Snapshot {
    /// How a person gets to a route.
    pub fn url_of(&self, route: &mainyard_core::model::Route) -> String {
        let port = |address: &str| address.rsplit(':').next().and_then(|port| port.parse().ok()).unwrap_or(0);
        self.state.url_of(route, port(&self.gateway), port(&self.gateway_tls))
    }

    /// The moment that it is of.
    pub fn at(&self) -> Timestamp {
        self.as_of.unwrap_or_else(Timestamp::now)
    }
}

#[derive(Deserialize)]
struct RawSnapshot {
    cursor: u64,
    as_of: Option<Timestamp>,
    whole: bool,
    gateway: String,
    gateway_tls: String,
    objects: std::collections::BTreeMap<String, std::collections::BTreeMap<String, Value>>,
    figures: Vec<mainyard_control::WayFigures>,
}

#[derive(Deserialize)]
struct RawEntry {
    number: u64,
    kind: String,
    key: String,
    body: Option<Value>,
}

/// Where the authority is kept that the API's certificate leads to, as a PEM file.
const AUTHORITY: &str = "MAINYARD_AUTHORITY";

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

/// What has a large body, such as an image or ten thousand declarations, takes as long as it takes.
fn patience(request: Option<&reqwest::RequestBuilder>) -> Duration {
    let built = request.and_then(reqwest::RequestBuilder::try_clone).and_then(|again| again.build().ok());
    let length =
        built.and_then(|built| built.body().map(|body| body.as_bytes().map_or(usize::MAX, <[u8]>::len)));
    if length.is_some_and(|length| length > 64 << 10) { Duration::from_secs(3600) } else { PATIENCE }
}

impl Client {
    pub fn new(place: &DataDir) -> Result<Client, Failure> {
        Client::to(place.call()?)
    }

    pub fn to(call: Call) -> Result<Client, Failure> {
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
    pub fn at(self, past: &Past) -> Result<Client, Failure> {
        Ok(Client { as_of: past.as_of.as_deref().map(times::read).transpose()?, ..self })
    }

    /// Where the API is.
    pub fn url(&self) -> &str {
        &self.call.url
    }

    pub fn request(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        self.http.request(method, format!("{}/api/v1{path}", self.call.url)).bearer_auth(&self.call.token)
    }

    /// Sends a request; what is not a success becomes a failure in the platform's own words.
    pub async fn send(&self, request: reqwest::RequestBuilder) -> Result<Response, Failure> {
        let again = request.try_clone();
        let patience = patience(again.as_ref());
        let answer = tokio::time::timeout(patience, self.until(patience, request).send()).await;
        let answer = answer.map_err(|_| self.silent())?.map_err(|error| self.unreachable(&error))?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status();
        let text = answer.text().await.unwrap_or_default();
        let problem: Value = serde_json::from_str(&text).unwrap_or_default();
        if let (Some(holder), Some(again), true) = (problem["holder"].as_str(), again, self.goes_on) {
            let elsewhere = Call { url: holder.to_owned(), token: self.call.token.clone() };
            let elsewhere = Client { goes_on: false, ..Client::to(elsewhere)? };
            return Box::pin(elsewhere.send_to(again)).await;
        }
        let problem = for_a_terminal(problem);
        let detail = problem["detail"]
            .as_str()
            .map_or_else(|| format!("the platform answers {status}"), str::to_owned);
        let places = problem["problems"].as_array().cloned().unwrap_or_default();
        let lines = places.into_iter().filter_map(|place| serde_json::from_value(place).ok());
        let lines: Vec<String> =
            lines.map(|problem: mainyard_core::manifest::Problem| format!("\n  {problem}")).collect();
        let message = format!("{detail}{}", lines.concat());
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
            .map_err(|error| Failure::failed(format!("{} is no URL: {error}", self.call.url)))?;
        let url = request.url_mut();
        let moved = url.set_host(base.host_str()).is_ok() && url.set_port(base.port()).is_ok();
        if !moved {
            return Err(Failure::failed(format!("{} cannot be asked", self.call.url)));
        }
        self.send(reqwest::RequestBuilder::from_parts(http, request)).await
    }

    /// Says until when the answer is waited for: what is read later is not carried out.
    fn until(&self, patience: Duration, request: reqwest::RequestBuilder) -> reqwest::RequestBuilder {
        if !self.call.url.starts_with("http://127.") {
            // Another machine's clock may be another.
            return request;
        }
        let until = Timestamp::now().as_millisecond() + patience.as_millis() as i64;
        request.header("mainyard-waits-until", until)
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

    pub async fn get(&self, path: &str) -> Result<Value, Failure> {
        self.get_as_it_is(path).await.map(for_a_terminal)
    }

    /// The same, where what comes is written to a file and not to a terminal.
    pub async fn get_as_it_is(&self, path: &str) -> Result<Value, Failure> {
        let answer = self.send(self.request(Method::GET, &times::asked(path, self.as_of))).await?;
        answer.json().await.map_err(|error| self.unreachable(&error))
    }

    pub async fn post(&self, path: &str, body: &Value) -> Result<Value, Failure> {
        let answer = self.send(self.request(Method::POST, path).json(body)).await?;
        answer.json().await.map(for_a_terminal).map_err(|error| self.unreachable(&error))
    }

    pub async fn delete(&self, path: &str) -> Result<Value, Failure> {
        let answer = self.send(self.request(Method::DELETE, path)).await?;
        answer.json().await.map_err(|error| self.unreachable(&error))
    }

    pub async fn snapshot(&self) -> Result<Snapshot, Failure> {
        let answer = self.send(self.request(Method::GET, &times::asked("/snapshot", self.as_of))).await?;
        let raw: RawSnapshot = answer.json().await.map_err(|error| self.unreachable(&error))?;
        let mut state = State::default();
        for (kind, objects) in raw.objects {
            let Some(kind) = Kind::from_word(&kind) else { continue };
            for (key, body) in objects {
                state.put(object(kind, &key, body)?);
            }
        }
        Ok(Snapshot {
            state,
            cursor: raw.cursor,
            as_of: raw.as_of,
            whole: raw.whole,
            gateway: raw.gateway,
            gateway_tls: raw.gateway_tls,
            figures: raw.figures,
        })
    }

    /// Follows the stream from a snapshot: after each change the state is given to `watch`, until it returns
    /// something. A stream that breaks is taken up where it ended.
    pub async fn follow<T>(
        &self,
        snapshot: &mut Snapshot,
        mut watch: impl FnMut(&Snapshot) -> Option<T>,
    ) -> Result<T, Failure> {
        let mut lost = 0;
        loop {
            if let Some(outcome) = watch(snapshot) {
                return Ok(outcome);
            }
            let request = self.request(Method::GET, &format!("/stream?after={}", snapshot.cursor));
            let mut body = match self.send(request).await {
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
            let mut text = String::new();
            while let Some(Ok(chunk)) = body.next().await {
                text.push_str(&String::from_utf8_lossy(&chunk));
                let mut changed = false;
                while let Some(end) = text.find("\n\n") {
                    let event: String = text.drain(..end + 2).collect();
                    changed |= apply(&event, snapshot)?;
                }
                if changed && let Some(outcome) = watch(snapshot) {
                    return Ok(outcome);
                }
            }
        }
    }
}

fn apply(event: &str, snapshot: &mut Snapshot) -> Result<bool, Failure> {
    let field = |name: &str| event.lines().find_map(|line| line.strip_prefix(name)).unwrap_or("");
    let data = field("data: ");
    let wrong =
        |error: serde_json::Error| Failure::failed(format!("the stream holds what cannot be read: {error}"));
    match field("event: ") {
        "change" => {
            let entry: RawEntry = serde_json::from_str(data).map_err(wrong)?;
            snapshot.cursor = entry.number;
            if let Some(kind) = Kind::from_word(&entry.kind) {
                match entry.body {
                    Some(body) => snapshot.state.put(object(kind, &entry.key, body)?),
                    None => snapshot.state.remove(kind, &entry.key),
                }
            }
            Ok(true)
        }
        "figures" => {
            snapshot.figures = serde_json::from_str(data).map_err(wrong)?;
            Ok(true)
        }
        _ => Ok(false),
    }
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
