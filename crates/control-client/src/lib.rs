//! How a node agent or a gateway calls control: one stream of orders, and reports as requests of their own.
//!
//! Several controls may answer; one decides, and the others name it in their refusal (RFC 9110, section 15.5.20).
//! The caller goes to the one that was named, and back to the one it was told of at its start when that one is gone.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use futures_util::TryStreamExt;
use reqwest::{RequestBuilder, Response, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::io::{AsyncBufRead, AsyncBufReadExt, Lines};
use tokio_util::io::StreamReader;

/// Control says something at least this often.
pub const SILENCE: Duration = Duration::from_secs(10);

/// Why a call failed.
#[derive(Debug, thiserror::Error)]
pub enum Failed {
    /// It does not answer, or its answer broke off.
    #[error("{0}")]
    Unreachable(String),
    /// Another control decides; the next call goes to that one.
    #[error("another control decides, at {0}")]
    NotTheLeader(String),
    /// It answered that it does not do this.
    #[error("{0}")]
    Refused(String),
    /// Its answer is of no use to the caller.
    #[error("{0}")]
    Unusable(String),
}

/// Control, as one part calls it.
#[derive(Debug, Clone)]
pub struct Control {
    known: String,
    present: Arc<Mutex<String>>,
    token: String,
    http: reqwest::Client,
}

/// Orders as they come, one a line.
pub struct Orders(Lines<Box<dyn AsyncBufRead + Unpin + Send>>);

impl Control {
    /// Control at `url`, such as `http://127.0.0.1:8700`, called with a part's token. Goes straight there, whatever the
    /// surroundings say of proxies.
    pub fn at(url: &str, token: &str) -> Control {
        let builder = reqwest::Client::builder().no_proxy().connect_timeout(Duration::from_secs(2));
        let http =
            builder.tcp_nodelay(true).build().expect("a client without TLS needs nothing from outside");
        Control {
            known: url.to_owned(),
            present: Arc::new(Mutex::new(url.to_owned())),
            token: token.to_owned(),
            http,
        }
    }

    fn present(&self) -> std::sync::MutexGuard<'_, String> {
        self.present.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A request to the control that decides, by what is known now.
    fn request(
        &self,
        call: impl FnOnce(&reqwest::Client, String) -> RequestBuilder,
        path: &str,
    ) -> RequestBuilder {
        let url = format!("{}/api/v1{path}", self.present());
        call(&self.http, url).bearer_auth(&self.token)
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, Failed> {
        let answer = match request.send().await {
            Ok(answer) => answer,
            Err(error) => {
                self.present().clone_from(&self.known);
                return Err(Failed::Unreachable(error.to_string()));
            }
        };
        if answer.status() == StatusCode::MISDIRECTED_REQUEST {
            let problem: serde_json::Value = answer.json().await.unwrap_or_default();
            let holder = problem["holder"].as_str().unwrap_or(&self.known).to_owned();
            self.present().clone_from(&holder);
            return Err(Failed::NotTheLeader(holder));
        }
        answer.error_for_status().map_err(|error| Failed::Refused(error.to_string()))
    }

    /// Opens a stream of orders.
    ///
    /// # Errors
    /// When control does not answer, or another one decides; the next call goes to that one.
    pub async fn orders(&self, path: &str, hello: &impl Serialize) -> Result<Orders, Failed> {
        let answer = self.send(self.request(|http, url| http.post(url), path).json(hello)).await?;
        let body = answer.bytes_stream().map_err(std::io::Error::other);
        let reader: Box<dyn AsyncBufRead + Unpin + Send> = Box::new(StreamReader::new(body));
        Ok(Orders(reader.lines()))
    }

    /// Reports.
    ///
    /// # Errors
    /// When the report was not taken.
    pub async fn report(&self, path: &str, report: &impl Serialize) -> Result<(), Failed> {
        let request = self.request(|http, url| http.post(url), path).json(report).timeout(SILENCE);
        self.send(request).await.map(drop)
    }

    /// Sends a stream that was asked for, as long as it lasts.
    ///
    /// # Errors
    /// When nobody wants it any more.
    pub async fn stream(&self, path: &str, body: reqwest::Body) -> Result<(), Failed> {
        self.send(self.request(|http, url| http.post(url), path).body(body)).await.map(drop)
    }

    /// Asks for something.
    ///
    /// # Errors
    /// When it is not available.
    pub async fn get(&self, path: &str) -> Result<Response, Failed> {
        self.get_from(path, 0).await
    }

    /// Asks for something from this byte on (RFC 9110, section 14.2). The answer says whether it begins there.
    ///
    /// # Errors
    /// When it is not available.
    pub async fn get_from(&self, path: &str, first: u64) -> Result<Response, Failed> {
        let request = self.request(|http, url| http.get(url), path);
        let request = if first > 0 { request.header("range", format!("bytes={first}-")) } else { request };
        self.send(request).await
    }
}

impl Orders {
    /// The next order.
    ///
    /// # Errors
    /// When the link has ended, or nothing was heard for [`SILENCE`].
    pub async fn next<T: DeserializeOwned>(&mut self) -> Result<T, Failed> {
        let silent = || Failed::Unreachable("control is silent".to_owned());
        let line = tokio::time::timeout(SILENCE, self.0.next_line()).await.map_err(|_| silent())?;
        let line = line.map_err(|error| Failed::Unreachable(error.to_string()))?;
        let line = line.ok_or_else(|| Failed::Unreachable("control closed the link".to_owned()))?;
        serde_json::from_str(&line)
            .map_err(|error| Failed::Unusable(format!("an order cannot be read: {error}")))
    }
}

/// How long to wait before calling again: longer each time, until a call succeeds.
#[derive(Debug)]
pub struct Pause(Duration);

impl Default for Pause {
    fn default() -> Pause {
        Pause(Duration::from_millis(20))
    }
}

impl Pause {
    /// Waits.
    pub async fn wait(&mut self) {
        tokio::time::sleep(self.0).await;
        self.0 = (self.0 * 2).min(Duration::from_secs(1));
    }
}
