//! The one that decides: a thread with the cluster in its hands.
//!
//! Several controls may run on one record. The one that holds the lease decides ([`term`]); the others answer what they
//! can read, follow the journal, and wait for their turn ([`follower`]).
//!
//! Everything that may change the cluster comes as a [`Message`]. The leader takes what has come, lets the
//! core settle, writes the outcome in one transaction, and only then answers, orders and serves. What comes
//! while it writes waits and is taken together, so a burst of reports costs one commit. If the record cannot be
//! written, the caller gets an error, the cluster is read again, and nodes are asked for all they know.

mod config;
mod decision_metrics;
mod follower;
mod growth;
mod handle;
mod private_values;
mod term;

use std::sync::Arc;
use std::time::Duration;

use mainyard_store::{Error, Lease};
use tokio::sync::{RwLock, mpsc, watch};

use config::Leader;
pub(crate) use config::LeaderConfig;
use decision_metrics::DecisionMetrics;
pub(crate) use handle::{ActError, Handle, Holder, Message};

/// Reads the record, and decides, or waits for its turn, on a thread of its own.
pub(crate) async fn start(config: LeaderConfig) -> Result<Handle, Error> {
    let LeaderConfig { name, url, store, links, traffic, outgoing, vault, reserved_hosts, reserved_ports } =
        config;
    let (state, number) = store.snapshot().await?;
    let published = Arc::new(RwLock::new((state, number)));
    let (latest, changed) = watch::channel(number);
    let (holder, held) = watch::channel(Holder::default());
    let (inbox, messages) = mpsc::unbounded_channel();
    let metrics = DecisionMetrics::new();
    let leader = Leader {
        name,
        url,
        store,
        links,
        traffic,
        outgoing,
        vault,
        reserved_hosts,
        reserved_ports,
        published: Arc::clone(&published),
        latest,
        holder,
        metrics: metrics.clone(),
    };
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(|error| Error::Database(error.into()))?;
    let spawned = std::thread::Builder::new().name("leader".to_owned()).spawn(move || {
        let _alive = OrAllEnds;
        runtime.block_on(leader.serve(messages));
    });
    spawned.map_err(|error| Error::Database(error.into()))?;
    Ok(Handle { inbox, published, latest: changed, holder: held, metrics })
}

/// Without the leader nothing is decided: where it falls, the whole process does, and is started again from the record.
struct OrAllEnds;

impl Drop for OrAllEnds {
    fn drop(&mut self) {
        if std::thread::panicking() {
            std::process::abort();
        }
    }
}

impl Leader {
    async fn serve(self, mut messages: mpsc::UnboundedReceiver<Message>) {
        while !messages.is_closed() {
            match self.store.take_lease(&self.name, &self.url).await {
                Ok(Lease::Own(epoch)) => {
                    self.holder.send_replace(Holder {
                        name: self.name.clone(),
                        url: self.url.clone(),
                        epoch: Some(epoch),
                    });
                    term::lead(&self, epoch, &mut messages).await;
                    // Nothing in memory is believed any more: nodes and gateways call again and tell all they know.
                    self.links.hang_up();
                }
                Ok(Lease::Of { name, url }) => {
                    let holder = Holder { name, url, epoch: None };
                    if self.holder.send_replace(holder.clone()) != holder {
                        tracing::info!(name = holder.name, url = holder.url, "another control decides");
                    }
                    follower::follow(&self, &holder, &mut messages).await;
                }
                Err(error) => {
                    tracing::warn!(%error, "waiting for the record");
                    tokio::time::sleep(Duration::from_millis(300)).await;
                }
            }
        }
    }
}
