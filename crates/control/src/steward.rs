//! The one that decides: a thread with the cluster in its hands.
//!
//! Everything that may change the cluster comes as a [`Message`]. The steward takes what has come, lets the
//! core settle, writes the outcome in one transaction, and only then answers, orders and serves. What comes
//! while it writes waits and is taken together, so a burst of reports costs one commit. If the record cannot be
//! written, whoever asked is told, the cluster is read anew, and nodes are asked for all they know.

use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use mainyard_core::cluster::{Cluster, Refusal, Settled, State};
use mainyard_core::drain::GatewayView;
use mainyard_core::link::{Figure, GatewayOrder, NodeHello, NodeOrder, NodeReport};
use mainyard_core::model::Name;
use mainyard_store::{Entry, Error, Store};
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
    GatewayCalled(String),
    /// A gateway tells.
    Gateway(String, GatewayView, Vec<Figure>),
}

/// Why an act was not done.
#[derive(Debug)]
pub enum ActError {
    /// It was refused.
    Refused(Refusal),
    /// The record could not be written; nothing was changed.
    Record(String),
}

/// The way to the steward, and what it has published.
#[derive(Clone)]
pub struct Handle {
    inbox: mpsc::UnboundedSender<Message>,
    /// The state as it is in the record, and the number of its last change.
    pub published: Arc<RwLock<(State, u64)>>,
    /// The number of the last change.
    pub latest: watch::Receiver<u64>,
}

impl Handle {
    /// Tells the steward.
    pub fn tell(&self, message: Message) {
        let _ = self.inbox.send(message);
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

/// How long a burst of reports is gathered before it is settled and written together.
const GATHER: Duration = Duration::from_millis(6);

struct Steward {
    store: Store,
    links: Links,
    traffic: Arc<Traffic>,
    cluster: Cluster,
    epoch: u64,
    published: Arc<RwLock<(State, u64)>>,
    latest: watch::Sender<u64>,
}

/// Takes over the record and starts deciding on a thread of its own.
pub async fn start(store: Store, links: Links, traffic: Arc<Traffic>) -> Result<Handle, Error> {
    let epoch = store.take_over(&format!("control-{}", std::process::id())).await?;
    let (state, number) = store.snapshot().await?;
    let published = Arc::new(RwLock::new((state.clone(), number)));
    let (latest, changed) = watch::channel(number);
    let (inbox, messages) = mpsc::unbounded_channel();
    let cluster = Cluster::new(state, epoch, Timestamp::now());
    let steward =
        Steward { store, links, traffic, cluster, epoch, published: Arc::clone(&published), latest };
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(|error| Error::Database(error.into()))?;
    let spawned = std::thread::Builder::new().name("steward".to_owned()).spawn(move || {
        runtime.block_on(steward.work(messages));
    });
    spawned.map_err(|error| Error::Database(error.into()))?;
    Ok(Handle { inbox, published, latest: changed })
}

type Waiting =
    Vec<(oneshot::Sender<Result<serde_json::Value, ActError>>, Result<serde_json::Value, Refusal>)>;

impl Steward {
    async fn work(mut self, mut messages: mpsc::UnboundedReceiver<Message>) {
        let mut wake = Some(Timestamp::now());
        loop {
            let pause = wake.map_or(Duration::from_secs(5), |at| {
                let left = at.duration_since(Timestamp::now()).as_millis().clamp(0, 5000);
                Duration::from_millis(left as u64 + 1)
            });
            let mut waiting: Waiting = Vec::new();
            match tokio::time::timeout(pause, messages.recv()).await {
                Ok(Some(message)) => {
                    // Reports come in bursts; a person is never kept waiting for one.
                    let hurried = matches!(message, Message::Act(..) | Message::Gateway(..));
                    self.take(message, &mut waiting);
                    if !hurried {
                        tokio::time::sleep(GATHER).await;
                    }
                }
                Ok(None) => return,
                Err(_) => {}
            }
            while let Ok(message) = messages.try_recv() {
                self.take(message, &mut waiting);
            }
            let settled = self.cluster.settle(Timestamp::now());
            wake = settled.wake;
            if let Err(error) = self.write_and_order(settled).await {
                tracing::error!(%error, "the record cannot be written");
                for (answer, _) in waiting {
                    let _ = answer.send(Err(ActError::Record(error.to_string())));
                }
                self.read_anew().await;
                wake = Some(Timestamp::now());
                continue;
            }
            for (answer, result) in waiting {
                let _ = answer.send(result.map_err(ActError::Refused));
            }
        }
    }

    fn take(&mut self, message: Message, waiting: &mut Waiting) {
        let now = Timestamp::now();
        match message {
            Message::Act(act, answer) => {
                let result = act(&mut self.cluster);
                waiting.push((answer, result));
            }
            Message::Hello(hello) => {
                let node = hello.node.clone();
                self.cluster.hear_hello(hello, now);
                self.links.order_node(&node, whole(&self.cluster, &node, self.epoch));
                for (environment, text) in self.cluster.all_hosts() {
                    self.links.order_node(&node, NodeOrder::Hosts { environment, text });
                }
            }
            Message::Node(node, report) => self.cluster.hear_node(&node, report, now),
            Message::GatewayCalled(gateway) => {
                self.links.order_gateway(&gateway, GatewayOrder::Table(self.cluster.table()));
            }
            Message::Gateway(gateway, view, figures) => {
                self.cluster.hear_figures(&figures);
                self.traffic.add(&figures);
                self.cluster.hear_gateway(&gateway, view, now);
            }
        }
    }

    async fn write_and_order(&mut self, settled: Settled) -> Result<(), Error> {
        if !settled.changes.is_empty() {
            let entries = self.store.write(self.epoch, &settled.changes).await?;
            self.publish(&settled, &entries).await;
        }
        for (environment, text) in settled.hosts {
            self.links.order_all_nodes(&NodeOrder::Hosts { environment, text });
        }
        for (node, orders) in settled.orders {
            let order =
                NodeOrder::Replicas { epoch: self.epoch, whole: false, run: orders.run, stop: orders.stop };
            self.links.order_node(&node, order);
        }
        if let Some(table) = settled.table {
            self.links.order_all_gateways(&GatewayOrder::Table(table));
        }
        Ok(())
    }

    async fn publish(&self, settled: &Settled, entries: &[Entry]) {
        let mut published = self.published.write().await;
        for change in &settled.changes {
            match &change.object {
                Some(object) => published.0.put(object.clone()),
                None => published.0.remove(change.kind, &change.key),
            }
        }
        if let Some(last) = entries.last() {
            published.1 = last.number;
            self.latest.send_replace(last.number);
        }
    }

    /// After a failed write nothing in memory is believed any more.
    async fn read_anew(&mut self) {
        loop {
            match self.try_read_anew().await {
                Ok(()) => return,
                Err(error @ Error::Superseded(..)) => {
                    tracing::error!(%error, "this control decides no more");
                    std::process::exit(1);
                }
                Err(error) => {
                    tracing::warn!(%error, "waiting for the record");
                    tokio::time::sleep(Duration::from_millis(300)).await;
                }
            }
        }
    }

    async fn try_read_anew(&mut self) -> Result<(), Error> {
        self.epoch = self.store.take_over(&format!("control-{}", std::process::id())).await?;
        let (state, number) = self.store.snapshot().await?;
        *self.published.write().await = (state.clone(), number);
        self.latest.send_replace(number);
        self.cluster = Cluster::new(state, self.epoch, Timestamp::now());
        // Nodes and gateways call anew and tell all they know.
        self.links.hang_up();
        Ok(())
    }
}

/// Everything a node should run.
fn whole(cluster: &Cluster, node: &Name, epoch: u64) -> NodeOrder {
    NodeOrder::Replicas { epoch, whole: true, run: cluster.whole_orders(node), stop: Vec::new() }
}
