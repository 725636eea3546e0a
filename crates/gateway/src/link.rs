//! The link to control: tables come, confirmations and figures go. The newest table is on disk.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::TryStreamExt;
use mainyard_core::link::{GatewayOrder, GatewayReport};
use mainyard_core::routing::Table;
use tokio::io::{AsyncBufReadExt, Lines};
use tokio_util::io::StreamReader;

use crate::Config;
use crate::serving::Serving;

/// Control says something at least this often.
const SILENCE: Duration = Duration::from_secs(10);
/// Figures are sent this often.
const FIGURES_EVERY: Duration = Duration::from_secs(1);
/// Control is asked this long before the table on disk is taken.
const ASK_FIRST: Duration = Duration::from_millis(700);

/// Where and as whom control is called.
#[derive(Debug, Clone)]
pub struct Address {
    control: String,
    token: String,
}

impl Address {
    /// From the gateway's configuration.
    pub fn of(config: &Config) -> Address {
        Address { control: config.control.clone(), token: config.token.clone() }
    }
}

/// A client that goes straight to control, whatever the surroundings say of proxies.
pub fn client() -> reqwest::Client {
    let builder =
        reqwest::Client::builder().no_proxy().connect_timeout(Duration::from_secs(2)).tcp_nodelay(true);
    builder.build().expect("a client without TLS needs nothing from outside")
}

fn table_file(dir: &Path) -> PathBuf {
    dir.join("table.json")
}

fn keep(dir: &Path, table: &Table) {
    let file = table_file(dir);
    let partial = file.with_extension("partial");
    let kept = serde_json::to_vec(table)
        .map_err(std::io::Error::other)
        .and_then(|bytes| std::fs::write(&partial, bytes))
        .and_then(|()| std::fs::rename(&partial, &file));
    if let Err(error) = kept {
        tracing::warn!(%error, "the table cannot be kept on disk");
    }
}

/// The first table: control's, or the one on disk.
pub async fn first_table(config: &Config, client: &reqwest::Client, serving: &Arc<Serving>) {
    let asked = async {
        let mut lines = open(config, client).await.ok()?;
        next(&mut lines).await.ok()?
    };
    match tokio::time::timeout(ASK_FIRST, asked).await {
        Ok(Some(table)) => {
            serving.take(&table);
            keep(&config.dir, &table);
        }
        _ => {
            let kept = std::fs::read(table_file(&config.dir)).ok();
            if let Some(table) = kept.and_then(|bytes| serde_json::from_slice(&bytes).ok()) {
                serving.take(&table);
                tracing::info!(version = ?table.version, "serving by the table on disk");
            }
        }
    }
}

type OrderLines = Lines<Box<dyn tokio::io::AsyncBufRead + Unpin + Send>>;

async fn open(config: &Config, client: &reqwest::Client) -> Result<OrderLines, String> {
    let url = format!("{}/api/v1/link/gateways/{}/orders", config.control, config.name);
    let call = client.post(url).bearer_auth(&config.token).send();
    let answer =
        call.await.and_then(reqwest::Response::error_for_status).map_err(|error| error.to_string())?;
    let body = answer.bytes_stream().map_err(std::io::Error::other);
    let reader: Box<dyn tokio::io::AsyncBufRead + Unpin + Send> = Box::new(StreamReader::new(body));
    Ok(reader.lines())
}

/// The next table; `None` for a beat.
async fn next(lines: &mut OrderLines) -> Result<Option<Table>, String> {
    let line = tokio::time::timeout(SILENCE, lines.next_line()).await.map_err(|_| "control is silent")?;
    let line = line.map_err(|error| error.to_string())?.ok_or("control closed the link")?;
    match serde_json::from_str(&line).map_err(|error| error.to_string())? {
        GatewayOrder::Table(table) => Ok(Some(table)),
        GatewayOrder::Beat => Ok(None),
    }
}

/// Takes tables as they come, for ever.
pub async fn follow(config: &Config, client: &reqwest::Client, serving: &Arc<Serving>) {
    let mut pause = Duration::from_millis(20);
    loop {
        if let Ok(mut lines) = open(config, client).await {
            pause = Duration::from_millis(20);
            loop {
                match next(&mut lines).await {
                    Ok(Some(table)) => {
                        if serving.take(&table) {
                            keep(&config.dir, &table);
                        }
                        serving.changed.notify_one();
                    }
                    Ok(None) => {}
                    Err(error) => {
                        tracing::warn!(%error, "the link to control was lost");
                        break;
                    }
                }
            }
        }
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(Duration::from_secs(1));
    }
}

/// Tells control at once what changed, and figures every second.
pub async fn report(name: String, address: Address, client: reqwest::Client, serving: Arc<Serving>) {
    let url = format!("{}/api/v1/link/gateways/{name}/reports", address.control);
    let mut figures_due = Instant::now() + FIGURES_EVERY;
    let mut kept: Vec<mainyard_core::link::Figure> = Vec::new();
    loop {
        let _ = tokio::time::timeout_at(figures_due.into(), serving.changed.notified()).await;
        if Instant::now() >= figures_due {
            kept.extend(serving.take_figures());
            figures_due = Instant::now() + FIGURES_EVERY;
        }
        let report = GatewayReport { view: serving.view(), figures: std::mem::take(&mut kept) };
        let call = client.post(&url).bearer_auth(&address.token).json(&report).timeout(SILENCE).send();
        if let Err(error) = call.await.and_then(reqwest::Response::error_for_status) {
            tracing::debug!(%error, "a report was not taken");
            // Figures of a minute are kept for when control is back; older ones make room.
            kept = report.figures;
            let excess = kept.len().saturating_sub(10_000);
            kept.drain(..excess);
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }
}
