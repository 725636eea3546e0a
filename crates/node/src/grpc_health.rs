//! The health protocol of gRPC as a check: `grpc.health.v1.Health/Check` (github.com/grpc/grpc, doc/health-checking.md), one
//! call over HTTP/2 without TLS.
//!
//! Its two messages have one field each, so they are written and read here (protobuf.dev, "Encoding").

use std::io::{Error, Result};

use bytes::Bytes;
use http_body_util::{BodyExt, Full, Limited};
use hyper::Request;
use hyper::client::conn::http2;
use hyper::header::HeaderMap;
use hyper_util::rt::{TokioExecutor, TokioIo};
use tokio::io::{AsyncRead, AsyncWrite};

const METHOD: &str = "grpc.health.v1.Health/Check";
/// `HealthCheckRequest.service` and `HealthCheckResponse.status`, each field 1: its number and the type of its value.
const SERVICE: u8 = 0x0a;
const STATUS: u8 = 0x08;
/// The bytes before each message: whether it is compressed, and its length.
const PREFIX: usize = 5;
/// The states by their numbers.
const STATES: [&str; 4] = ["UNKNOWN", "SERVING", "NOT_SERVING", "SERVICE_UNKNOWN"];
const SERVING: u64 = 1;
/// The most that is read of an answer.
const LARGEST: usize = 1024;

/// Asks whether a service is served; `Ok` where it is.
pub(crate) async fn ask(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    service: &str,
    host: &str,
) -> Result<()> {
    let (mut sender, connection) =
        http2::handshake(TokioExecutor::new(), TokioIo::new(stream)).await.map_err(Error::other)?;
    let request = Request::post(format!("http://{host}/{METHOD}"))
        .header("content-type", "application/grpc")
        .header("te", "trailers")
        .header("user-agent", "mainyard-check")
        .body(Full::new(question(service)))
        .map_err(Error::other)?;
    let call = async {
        let answer =
            sender.send_request(request).await.map_err(|_| Error::other("the answer is not HTTP/2"))?;
        if answer.status() != 200 {
            return Err(Error::other(format!(
                "it answers {} where gRPC always answers 200",
                answer.status()
            )));
        }
        failed(answer.headers())?;
        let read = Limited::new(answer.into_body(), LARGEST).collect().await;
        let read = read.map_err(|error| Error::other(error.to_string()))?;
        if let Some(trailers) = read.trailers() {
            failed(trailers)?;
        }
        judge(&read.to_bytes())
    };
    // The connection does its work only while it is asked to, and ends with this call.
    let mut call = std::pin::pin!(call);
    tokio::select! {
        outcome = &mut call => outcome,
        _ = connection => call.await,
    }
}

/// A request for a service, as a message.
fn question(service: &str) -> Bytes {
    let mut message = Vec::new();
    if !service.is_empty() {
        message.push(SERVICE);
        varint(service.len() as u64, &mut message);
        message.extend_from_slice(service.as_bytes());
    }
    let mut framed = vec![0];
    framed.extend_from_slice(&(message.len() as u32).to_be_bytes());
    framed.extend(message);
    framed.into()
}

fn varint(mut number: u64, to: &mut Vec<u8>) {
    while number >= 0x80 {
        to.push(number as u8 | 0x80);
        number >>= 7;
    }
    to.push(number as u8);
}

/// Where a call failed: its status, from the headers or the trailers.
fn failed(headers: &HeaderMap) -> Result<()> {
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok());
    match text("grpc-status") {
        None | Some("0") => Ok(()),
        Some("5") => Err(Error::other("the server does not know this service")),
        Some("12") => Err(Error::other("the server does not have the health service")),
        Some(status) => {
            let message = text("grpc-message").unwrap_or("no message");
            Err(Error::other(format!("status {status}, {message}")))
        }
    }
}

/// What the answer's message says.
fn judge(body: &[u8]) -> Result<()> {
    let message = body.get(PREFIX..).unwrap_or_default();
    let status = match message {
        [] => 0,
        [STATUS, rest @ ..] => u64::from(rest.first().copied().unwrap_or_default()),
        _ => return Err(Error::other("its answer is no message of the health protocol")),
    };
    if status == SERVING {
        return Ok(());
    }
    let state = usize::try_from(status).ok().and_then(|status| STATES.get(status)).unwrap_or(&STATES[0]);
    Err(Error::other(format!("it says {state}")))
}

#[cfg(test)]
mod tests {
    use std::convert::Infallible;

    use hyper::Response;
    use hyper::body::{Frame, Incoming};
    use hyper::service::service_fn;

    use super::*;

    /// A server that answers with this message and status.
    async fn asked(
        service: &str,
        message: &'static [u8],
        status: &'static str,
    ) -> std::result::Result<String, String> {
        let (ours, theirs) = tokio::io::duplex(4096);
        let (told, telling) = tokio::sync::oneshot::channel();
        let told = std::sync::Mutex::new(Some(told));
        let answering = service_fn(move |request: Request<Incoming>| {
            let told = told.lock().expect("a sender").take();
            async move {
                let path = request.uri().path().to_owned();
                let body = request.into_body().collect().await.expect("a body").to_bytes();
                if let Some(told) = told {
                    let _ = told.send(format!("{path} {body:?}"));
                }
                let trailers = HeaderMap::from_iter([(
                    "grpc-status".parse().expect("a name"),
                    status.parse().expect("a value"),
                )]);
                let mut framed = vec![0, 0, 0, 0, message.len() as u8];
                framed.extend_from_slice(message);
                let frames = [Frame::data(Bytes::from(framed)), Frame::trailers(trailers)];
                let frames = futures_util::stream::iter(frames.map(Ok::<_, Infallible>));
                Ok::<_, Infallible>(Response::new(http_body_util::StreamBody::new(frames)))
            }
        });
        tokio::spawn(async move {
            let builder = hyper::server::conn::http2::Builder::new(TokioExecutor::new());
            let _ = builder.serve_connection(TokioIo::new(theirs), answering).await;
        });
        ask(ours, service, "10.118.16.2:50051").await.map_err(|error| error.to_string())?;
        Ok(telling.await.expect("a request"))
    }

    #[tokio::test]
    async fn the_state_decides_and_each_other_is_named() {
        let path = "/grpc.health.v1.Health/Check";
        assert_eq!(asked("", b"\x08\x01", "0").await, Ok(format!("{path} b\"\\0\\0\\0\\0\\0\"")));
        assert_eq!(
            asked("api", b"\x08\x01", "0").await,
            Ok(format!("{path} b\"\\0\\0\\0\\0\\x05\\n\\x03api\""))
        );
        let says = |words: &str| Err(words.to_owned());
        assert_eq!(asked("", b"\x08\x02", "0").await, says("it says NOT_SERVING"));
        assert_eq!(asked("", b"", "0").await, says("it says UNKNOWN"));
        assert_eq!(
            asked("", b"\x12\x01a", "0").await,
            says("its answer is no message of the health protocol")
        );
        assert_eq!(asked("apl", b"", "5").await, says("the server does not know this service"));
        assert_eq!(asked("", b"", "12").await, says("the server does not have the health service"));
    }
}
