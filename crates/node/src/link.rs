//! The link to control: one stream of orders, and reports as requests of their own.

use std::time::Duration;

use mainyard_core::link::{NodeOrder, NodeReport};
use tokio::io::AsyncBufReadExt;
use tokio::sync::mpsc::UnboundedSender;
use tokio::sync::watch;
use tokio_util::io::StreamReader;

use futures_util::TryStreamExt;

use crate::agent::Message;
use crate::{Config, hello};

/// A client that goes straight to control, whatever the surroundings say of proxies.
pub fn client(_config: &Config) -> reqwest::Client {
    let builder =
        reqwest::Client::builder().no_proxy().connect_timeout(Duration::from_secs(2)).tcp_nodelay(true);
    builder.build().expect("a client without TLS needs nothing from outside")
}

/// Control says something at least this often.
const SILENCE: Duration = Duration::from_secs(10);

/// Calls, and calls again whenever the link is lost.
pub async fn follow_orders(config: Config, client: reqwest::Client, inbox: UnboundedSender<Message>) {
    let mut pause = Duration::from_millis(20);
    loop {
        match one_link(&config, &client, &inbox).await {
            Ok(()) => pause = Duration::from_millis(20),
            Err(error) => tracing::warn!(%error, "no link to control"),
        }
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(Duration::from_secs(1));
    }
}

async fn one_link(
    config: &Config,
    client: &reqwest::Client,
    inbox: &UnboundedSender<Message>,
) -> Result<(), String> {
    let url = format!("{}/api/v1/link/nodes/{}/orders", config.control, config.name);
    let call = client.post(url).bearer_auth(&config.token).json(&hello(&config.name)).send();
    let answer =
        call.await.and_then(reqwest::Response::error_for_status).map_err(|error| error.to_string())?;
    let body = answer.bytes_stream().map_err(std::io::Error::other);
    let mut lines = StreamReader::new(body).lines();
    let mut first = true;
    loop {
        let line = tokio::time::timeout(SILENCE, lines.next_line()).await.map_err(|_| "control is silent")?;
        let Some(line) = line.map_err(|error| error.to_string())? else { return Ok(()) };
        let order: NodeOrder = serde_json::from_str(&line).map_err(|error| error.to_string())?;
        let _ = inbox.send(Message::Order(order));
        if std::mem::take(&mut first) {
            let _ = inbox.send(Message::Linked);
        }
    }
}

/// Sends reports, one after the other.
pub async fn send_reports(
    config: Config,
    client: reqwest::Client,
    mut reports: watch::Receiver<Option<NodeReport>>,
    inbox: UnboundedSender<Message>,
) {
    let url = format!("{}/api/v1/link/nodes/{}/reports", config.control, config.name);
    while reports.changed().await.is_ok() {
        let Some(report) = reports.borrow_and_update().clone() else { continue };
        let sent = client.post(&url).bearer_auth(&config.token).json(&report).timeout(SILENCE).send().await;
        let taken = sent.and_then(reqwest::Response::error_for_status);
        if let Err(error) = &taken {
            tracing::debug!(%error, "a report was not taken");
        }
        let _ = inbox.send(Message::Reported(taken.is_ok()));
    }
}
