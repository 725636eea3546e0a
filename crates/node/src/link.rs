//! The link to control: orders come, reports go.

use std::sync::Arc;

use mainyard_control_client::{Control, Pause};
use mainyard_core::link::{NodeOrder, NodeReport};
use tokio::sync::mpsc::UnboundedSender;
use tokio::sync::{Notify, watch};

use crate::events::Message;
use crate::{Config, hello};

/// Calls, and calls again whenever the link is lost, or is of no use because reports are not taken (`renew`).
pub(crate) async fn follow_orders(
    config: Config,
    incarnation: u64,
    control: Control,
    renew: Arc<Notify>,
    inbox: UnboundedSender<Message>,
) {
    let path = format!("/link/nodes/{}/orders", config.name);
    let mut pause = Pause::default();
    loop {
        match control.orders(&path, &hello(&config, incarnation)).await {
            Ok(mut orders) => {
                pause = Pause::default();
                let mut first = true;
                let ended = loop {
                    let next = tokio::select! {
                        next = orders.next::<NodeOrder>() => next,
                        () = renew.notified() => break "reports are not taken".to_owned(),
                    };
                    match next {
                        Ok(order) => {
                            let _ = inbox.send(Message::Order(order));
                        }
                        Err(error) => break error.to_string(),
                    }
                    if std::mem::take(&mut first) {
                        let _ = inbox.send(Message::Linked);
                    }
                };
                tracing::warn!(error = ended, "the link to control was lost");
            }
            Err(error) => tracing::debug!(%error, "no link to control"),
        }
        pause.wait().await;
    }
}

/// Sends reports, one after the other.
pub(crate) async fn send_reports(
    config: Config,
    control: Control,
    renew: Arc<Notify>,
    mut reports: watch::Receiver<Option<NodeReport>>,
    inbox: UnboundedSender<Message>,
) {
    let path = format!("/link/nodes/{}/reports", config.name);
    while reports.changed().await.is_ok() {
        let Some(report) = reports.borrow_and_update().clone() else { continue };
        let taken = control.report(&path, &report).await;
        if let Err(error) = &taken {
            tracing::debug!(%error, "a report was not taken");
            // Control knows not what it missed: over a new link it is reported all.
            renew.notify_one();
        }
        let _ = inbox.send(Message::Reported(report.number, taken.is_ok()));
    }
}
