//! The link to control: tables come, confirmations and figures go. The newest table is on disk.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use mainyard_calling::{Control, Failed, Orders, Pause};
use mainyard_core::link::{GatewayHello, GatewayOrder, GatewayReport};
use mainyard_core::routing::Table;

use crate::Config;
use crate::serving::Serving;

/// Figures are sent this often.
const FIGURES_EVERY: Duration = Duration::from_secs(1);
/// And so soon after a failure: a release that fails its visitors should not do so for a second.
const FAILURES_AFTER: Duration = Duration::from_millis(100);
/// Control is asked this long before the table on disk is taken.
const ASK_FIRST: Duration = Duration::from_millis(700);

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
pub async fn first_table(config: &Config, control: &Control, serving: &Arc<Serving>) {
    let asked = async {
        match open(config, control, serving).await.ok()?.next().await.ok()? {
            GatewayOrder::Table(table) => Some(table),
            GatewayOrder::Beat => None,
        }
    };
    match tokio::time::timeout(ASK_FIRST, asked).await {
        Ok(Some(table)) => {
            keep(&config.dir, &table);
            serving.take(&table);
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

/// Tables as they come.
async fn open(config: &Config, control: &Control, serving: &Serving) -> Result<Orders, Failed> {
    control
        .orders(&format!("/link/gateways/{}/orders", config.name), &GatewayHello { life: serving.life })
        .await
}

/// Takes tables as they come, for ever.
pub async fn follow(config: &Config, control: &Control, serving: &Arc<Serving>) {
    let mut pause = Pause::default();
    loop {
        if let Ok(mut orders) = open(config, control, serving).await {
            pause = Pause::default();
            let ended = loop {
                match orders.next().await {
                    Ok(GatewayOrder::Table(table)) => {
                        // On disk first: what was confirmed must still be known after a fall.
                        if serving.is_newer(&table) {
                            keep(&config.dir, &table);
                            serving.take(&table);
                        }
                        serving.changed.notify_one();
                    }
                    Ok(GatewayOrder::Beat) => {}
                    Err(error) => break error,
                }
            };
            tracing::warn!(error = %ended, "the link to control was lost");
        }
        pause.wait().await;
    }
}

/// Tells control at once what changed, and figures every second.
pub async fn report(name: String, control: Control, serving: Arc<Serving>) {
    let path = format!("/link/gateways/{name}/reports");
    let mut taken = Instant::now();
    let mut kept: Vec<mainyard_core::link::Figure> = Vec::new();
    loop {
        let due = taken + if serving.is_failing() { FAILURES_AFTER } else { FIGURES_EVERY };
        let _ = tokio::time::timeout_at(due.into(), serving.changed.notified()).await;
        if Instant::now() >= due {
            kept.extend(serving.take_figures());
            taken = Instant::now();
        }
        let report =
            GatewayReport { life: serving.life, view: serving.view(), figures: std::mem::take(&mut kept) };
        if let Err(error) = control.report(&path, &report).await {
            tracing::debug!(%error, "a report was not taken");
            // Figures of a minute are kept for when control is back; older ones make room.
            kept = report.figures;
            let excess = kept.len().saturating_sub(10_000);
            kept.drain(..excess);
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }
}
