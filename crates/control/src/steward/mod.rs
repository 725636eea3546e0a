//! The one that decides: a thread with the cluster in its hands.
//!
//! Several controls may run on one record. Whoever holds the lease decides ([`leading`]); the others answer what they
//! can read, follow the journal, and wait for their turn ([`following`]).
//!
//! Everything that may change the cluster comes as a [`Message`]. The steward takes what has come, lets the
//! core settle, writes the outcome in one transaction, and only then answers, orders and serves. What comes
//! while it writes waits and is taken together, so a burst of reports costs one commit. If the record cannot be
//! written, whoever asked is told, the cluster is read anew, and nodes are asked for all they know.

mod following;
mod leading;

use std::sync::Arc;
use std::time::Duration;

use mainyard_core::cluster::{Cluster, Refusal, State};
use mainyard_core::link::{GatewayHello, GatewayReport, NodeHello, NodeReport};
use mainyard_core::model::Name;
use mainyard_store::{Error, Lease, Store};
use tokio::sync::{RwLock, mpsc, oneshot, watch};

use crate::links::Links;
use crate::traffic::Traffic;

/// An act of a person: changes the cluster, or is refused.
pub type Act = Box<dyn FnOnce(&mut Cluster) -> Result<serde_json::Value, Refusal> + Send>;

/// What reaches the steward.
pub enum Message {
    /// A person asks.
    Act(Act, oneshot::Sender<Result<serde_json::Value, ActError>>),
    /// A node agent called.
    Hello(NodeHello),
    /// A node agent tells.
    Node(Name, NodeReport),
    /// A gateway called.
    GatewayCalled(String, GatewayHello),
    /// A gateway tells.
    Gateway(String, GatewayReport),
}

/// Why an act was not done.
#[derive(Debug)]
pub enum ActError {
    /// It was refused.
    Refused(Refusal),
    /// The record could not be written; nothing was changed.
    Record(String),
    /// Another control decides.
    Elsewhere(Holder),
}

/// The control that decides.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Holder {
    /// Its name; empty when none is known.
    pub name: String,
    /// Where it answers.
    pub url: String,
    /// The epoch in which this control decides, where it does.
    pub epoch: Option<u64>,
}

/// The way to the steward, and what it has published.
#[derive(Clone)]
pub struct Handle {
    inbox: mpsc::UnboundedSender<Message>,
    /// The state as it is in the record, and the number of its last change.
    pub published: Arc<RwLock<(State, u64)>>,
    /// The number of the last change.
    pub latest: watch::Receiver<u64>,
    /// Which control decides.
    pub holder: watch::Receiver<Holder>,
}

impl Handle {
    /// Tells the steward.
    pub fn tell(&self, message: Message) {
        let _ = self.inbox.send(message);
    }

    /// The other control that decides, where one does.
    pub fn elsewhere(&self) -> Option<Holder> {
        let holder = self.holder.borrow();
        (holder.epoch.is_none() && !holder.url.is_empty()).then(|| holder.clone())
    }

    /// Asks the steward, and waits until the answer is in the record.
    pub async fn act(
        &self,
        act: impl FnOnce(&mut Cluster) -> Result<serde_json::Value, Refusal> + Send + 'static,
    ) -> Result<serde_json::Value, ActError> {
        let (answer, answered) = oneshot::channel();
        self.tell(Message::Act(Box::new(act), answer));
        answered
            .await
            .unwrap_or_else(|_| Err(ActError::Record("the steward is being started again".to_owned())))
    }
}

struct Steward {
    name: String,
    url: String,
    store: Store,
    links: Links,
    traffic: Arc<Traffic>,
    published: Arc<RwLock<(State, u64)>>,
    latest: watch::Sender<u64>,
    holder: watch::Sender<Holder>,
}

/// What the steward is started with.
pub struct Post {
    /// This control's name among others.
    pub name: String,
    /// Where it answers.
    pub url: String,
    /// The record.
    pub store: Store,
    /// The links to nodes and gateways.
    pub links: Links,
    /// Counts what was served.
    pub traffic: Arc<Traffic>,
}

/// Reads the record, and decides, or waits for its turn, on a thread of its own.
pub async fn start(post: Post) -> Result<Handle, Error> {
    let Post { name, url, store, links, traffic } = post;
    let (state, number) = store.snapshot().await?;
    let published = Arc::new(RwLock::new((state, number)));
    let (latest, changed) = watch::channel(number);
    let (holder, held) = watch::channel(Holder::default());
    let (inbox, messages) = mpsc::unbounded_channel();
    let steward =
        Steward { name, url, store, links, traffic, published: Arc::clone(&published), latest, holder };
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(|error| Error::Database(error.into()))?;
    let spawned = std::thread::Builder::new().name("steward".to_owned()).spawn(move || {
        runtime.block_on(steward.serve(messages));
    });
    spawned.map_err(|error| Error::Database(error.into()))?;
    Ok(Handle { inbox, published, latest: changed, holder: held })
}

impl Steward {
    async fn serve(self, mut messages: mpsc::UnboundedReceiver<Message>) {
        while !messages.is_closed() {
            match self.store.take_lease(&self.name, &self.url).await {
                Ok(Lease::Own(epoch)) => {
                    self.holder.send_replace(Holder {
                        name: self.name.clone(),
                        url: self.url.clone(),
                        epoch: Some(epoch),
                    });
                    leading::lead(&self, epoch, &mut messages).await;
                    // Nothing in memory is believed any more: nodes and gateways call anew and tell all they know.
                    self.links.hang_up();
                }
                Ok(Lease::Of { name, url }) => {
                    let holder = Holder { name, url, epoch: None };
                    if self.holder.send_replace(holder.clone()) != holder {
                        tracing::info!(name = holder.name, url = holder.url, "another control decides");
                    }
                    following::follow(&self, &holder, &mut messages).await;
                }
                Err(error) => {
                    tracing::warn!(%error, "waiting for the record");
                    tokio::time::sleep(Duration::from_millis(300)).await;
                }
            }
        }
    }
}
