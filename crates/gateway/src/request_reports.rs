//! Telling control of requests, by requests of the gateway's own.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use mainyard_control_client::Control;
use mainyard_core::link::Served;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::mpsc;

use crate::serving::Serving;

/// One request, or nothing where it is not remembered.
pub(crate) async fn recalled(control: Control, stream: u64, found: Option<Served>) {
    let line = found.as_ref().map(line).unwrap_or_default();
    if let Err(error) = control.stream(&format!("/link/streams/{stream}"), line.into()).await {
        tracing::debug!(%error, stream, "the client no longer waits for the request");
    }
}

/// What became of a connection to the outside that somebody asks about; nothing where this gateway makes none.
pub(crate) async fn tried(control: Control, stream: u64, serving: Arc<Serving>, host: String, port: u16) {
    let attempt = match serving.way_out.dialler() {
        Some(dialler) => Some(dialler.attempt(&host, port, &serving).await),
        None => None,
    };
    let line = attempt.map(|attempt| serde_json::to_vec(&attempt).unwrap_or_default()).unwrap_or_default();
    if let Err(error) = control.stream(&format!("/link/streams/{stream}"), line.into()).await {
        tracing::debug!(%error, stream, "the client no longer waits for the connection");
    }
}

/// Requests as they end, for as long as somebody reads them.
pub(crate) async fn ending(control: Control, stream: u64, serving: Arc<Serving>) {
    let mut ended = serving.seen.read();
    let (to_send, body) = mpsc::channel::<Result<Bytes, std::io::Error>>(64);
    let sending = tokio::spawn(async move {
        let body =
            futures_util::stream::unfold(body, |mut body| async move { Some((body.recv().await?, body)) });
        control.stream(&format!("/link/streams/{stream}"), reqwest::Body::wrap_stream(body)).await
    });
    loop {
        let piece = match tokio::time::timeout(Duration::from_secs(1), ended.recv()).await {
            Ok(Ok(served)) => line(&served),
            // What a slow reader missed is said, not hidden.
            Ok(Err(RecvError::Lagged(missed))) => Bytes::from(format!("{{\"missed\":{missed}}}\n")),
            Ok(Err(RecvError::Closed)) => break,
            // An empty line shows whether anyone still listens.
            Err(_) => Bytes::from_static(b"\n"),
        };
        if to_send.send(Ok(piece)).await.is_err() {
            break;
        }
    }
    serving.seen.read_no_more();
    sending.abort();
}

fn line(served: &Served) -> Bytes {
    let mut line = serde_json::to_vec(served).unwrap_or_default();
    line.push(b'\n');
    line.into()
}

/// How many kept answers were forgotten.
pub(crate) async fn purged(control: Control, stream: u64, gone: u64) {
    if let Err(error) = control.stream(&format!("/link/streams/{stream}"), gone.to_string().into()).await {
        tracing::debug!(%error, stream, "cannot tell how many answers were forgotten");
    }
}
