//! The link to control: tables come, confirmations and figures go. The newest table is on disk.

use std::sync::Arc;
use std::time::{Duration, Instant};

use mainyard_control_client::{Control, Failed, Orders, Pause};
use mainyard_core::link::{GatewayHello, GatewayOrder, GatewayReport};

use crate::Config;
use crate::request_reports;
use crate::serving::Serving;
use crate::table_store::TableStore;

/// Figures are sent this often.
const FIGURES_EVERY: Duration = Duration::from_secs(1);
/// And so soon after a failure: a release that fails its visitors should not do so for a second.
const FAILURES_AFTER: Duration = Duration::from_millis(100);
/// Control is asked this long before the table on disk is taken.
const ASK_FIRST: Duration = Duration::from_millis(700);

/// The first table: control's, or the one on disk.
pub(crate) async fn first_table(
    config: &Config,
    control: &Control,
    serving: &Arc<Serving>,
    kept: &mut TableStore,
) {
    let asked = async {
        match open(config, control, serving).await.ok()?.next().await.ok()? {
            GatewayOrder::Table(table) => Some(table),
            _ => None,
        }
    };
    // Control sends it again; until then what is on disk is the newest there is.
    serving.take_private(kept.read_private());
    match tokio::time::timeout(ASK_FIRST, asked).await {
        Ok(Some(table)) => {
            kept.whole(&table);
            serving.take(&table);
        }
        _ => {
            if let Some(table) = kept.read() {
                serving.take(&table);
                tracing::info!(version = ?table.version, "serving by the table on disk");
            }
        }
    }
}

/// Tables as they come.
async fn open(config: &Config, control: &Control, serving: &Serving) -> Result<Orders, Failed> {
    control
        .orders(
            &format!("/link/gateways/{}/orders", config.name),
            &GatewayHello { incarnation: serving.incarnation },
        )
        .await
}

/// Takes tables as they come, forever.
pub(crate) async fn follow(config: &Config, control: &Control, serving: &Arc<Serving>, mut kept: TableStore) {
    let mut pause = Pause::default();
    loop {
        if let Ok(mut orders) = open(config, control, serving).await {
            pause = Pause::default();
            let mut begun = false;
            let ended = loop {
                let order = match orders.next().await {
                    Ok(order) => order,
                    Err(error) => break error,
                };
                if let Err(error) = take(order, control, serving, &mut kept, &mut begun) {
                    break error;
                }
            };
            tracing::warn!(error = %ended, "the link to control was lost");
        }
        pause.wait().await;
    }
}

/// Does what control orders. What changed means nothing before the whole has come (`begun`).
fn take(
    order: GatewayOrder,
    control: &Control,
    serving: &Arc<Serving>,
    kept: &mut TableStore,
    begun: &mut bool,
) -> Result<(), Failed> {
    match order {
        GatewayOrder::Table(table) => {
            // On disk first: what was confirmed must still be known after a fall.
            if serving.is_newer(table.version) {
                kept.whole(&table);
                serving.take(&table);
            }
            *begun = true;
            serving.changed.notify_one();
        }
        GatewayOrder::Change(change) if *begun && serving.is_newer(change.version) => {
            if serving.routing().version != change.base {
                return Err(Failed::Unusable("a change of another table came".to_owned()));
            }
            kept.change(&change);
            serving.take_change(&change);
            serving.changed.notify_one();
        }
        GatewayOrder::Change(_) | GatewayOrder::Beat => {}
        GatewayOrder::StepCallers(steps) => serving.way_out.callers.set_steps(steps),
        GatewayOrder::Private(private) => {
            kept.private(&private);
            serving.take_private(private);
        }
        GatewayOrder::Purge { stream, route, path } => {
            let gone = serving.purge(&route, &path);
            tokio::spawn(request_reports::purged(control.clone(), stream, gone));
        }
        GatewayOrder::Recall { stream, id } => {
            let found = serving.seen.find(&id);
            tokio::spawn(request_reports::recalled(control.clone(), stream, found));
        }
        GatewayOrder::TryOutgoing { stream, host, port } => {
            let (control, serving) = (control.clone(), Arc::clone(serving));
            tokio::spawn(request_reports::tried(control, stream, serving, host, port));
        }
        GatewayOrder::Watch { stream } => {
            tokio::spawn(request_reports::ending(control.clone(), stream, Arc::clone(serving)));
        }
    }
    Ok(())
}

/// Tells control at once what changed, and figures every second.
pub(crate) async fn report(name: String, control: Control, serving: Arc<Serving>) {
    let path = format!("/link/gateways/{name}/reports");
    let mut taken = Instant::now();
    let mut kept: Vec<mainyard_core::link::Figure> = Vec::new();
    let mut outgoing = mainyard_core::link::OutgoingFigures::default();
    loop {
        let due = taken + if serving.is_failing() { FAILURES_AFTER } else { FIGURES_EVERY };
        let _ = tokio::time::timeout_at(due.into(), serving.changed.notified()).await;
        if Instant::now() >= due {
            kept.extend(serving.take_figures());
            let told = serving.way_out.counts.take();
            outgoing.connections.extend(told.connections);
            outgoing.names.extend(told.names);
            taken = Instant::now();
        }
        let report = GatewayReport {
            incarnation: serving.incarnation,
            view: serving.view(),
            closed_ports: serving.closed_ports(),
            figures: std::mem::take(&mut kept),
            waiting: serving.take_waiting(),
            outgoing: std::mem::take(&mut outgoing),
        };
        if let Err(error) = control.report(&path, &report).await {
            tracing::debug!(%error, "a report was not taken");
            // Figures of a minute are kept for when control is back; older ones make room.
            kept = report.figures;
            let excess = kept.len().saturating_sub(10_000);
            kept.drain(..excess);
            outgoing = report.outgoing;
            outgoing.connections.truncate(10_000);
            outgoing.names.truncate(10_000);
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }
}
