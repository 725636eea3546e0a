//! The link to control: orders come, reports go.

use mainyard_calling::{Control, Pause};
use mainyard_core::link::{NodeOrder, NodeReport};
use tokio::sync::mpsc::UnboundedSender;
use tokio::sync::watch;

use crate::agent::Message;
use crate::{Config, hello};

/// Calls, and calls again whenever the link is lost.
pub async fn follow_orders(config: Config, life: u64, control: Control, inbox: UnboundedSender<Message>) {
    let path = format!("/link/nodes/{}/orders", config.name);
    let mut pause = Pause::default();
    loop {
        match control.orders(&path, &hello(&config.name, life)).await {
            Ok(mut orders) => {
                pause = Pause::default();
                let mut first = true;
                let ended = loop {
                    match orders.next::<NodeOrder>().await {
                        Ok(order) => {
                            let _ = inbox.send(Message::Order(order));
                        }
                        Err(error) => break error,
                    }
                    if std::mem::take(&mut first) {
                        let _ = inbox.send(Message::Linked);
                    }
                };
                tracing::warn!(error = %ended, "the link to control was lost");
            }
            Err(error) => tracing::debug!(%error, "no link to control"),
        }
        pause.wait().await;
    }
}

/// Sends reports, one after the other.
pub async fn send_reports(
    config: Config,
    control: Control,
    mut reports: watch::Receiver<Option<NodeReport>>,
    inbox: UnboundedSender<Message>,
) {
    let path = format!("/link/nodes/{}/reports", config.name);
    while reports.changed().await.is_ok() {
        let Some(report) = reports.borrow_and_update().clone() else { continue };
        let taken = control.report(&path, &report).await;
        if let Err(error) = &taken {
            tracing::debug!(%error, "a report was not taken");
        }
        let _ = inbox.send(Message::Reported(report.number, taken.is_ok()));
    }
}
