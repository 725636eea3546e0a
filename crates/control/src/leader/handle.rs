//! The way to the leader: what it is told and asked, and what it publishes.

use std::sync::Arc;

use mainyard_core::cluster::{Cluster, Refusal};
use mainyard_core::link::{GatewayHello, GatewayReport, NodeHello, NodeReport};
use mainyard_core::model::Name;
use mainyard_core::record::State;
use tokio::sync::{RwLock, mpsc, oneshot, watch};

/// An act of a person: changes the cluster, or is refused. It may be done again, on the cluster as it was before.
pub type Act = Box<dyn Fn(&mut Cluster) -> Result<serde_json::Value, Refusal> + Send>;

/// What reaches the leader.
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
    /// The record cannot hold what it comes to; nothing was changed.
    Unwritable(String),
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

/// The way to the leader, and what it has published.
#[derive(Clone)]
pub struct Handle {
    pub(super) inbox: mpsc::UnboundedSender<Message>,
    /// The state as it is in the record, and the number of its last change.
    pub published: Arc<RwLock<(State, u64)>>,
    /// The number of the last change.
    pub latest: watch::Receiver<u64>,
    /// Which control decides.
    pub holder: watch::Receiver<Holder>,
}

impl Handle {
    /// Tells the leader.
    pub fn tell(&self, message: Message) {
        let _ = self.inbox.send(message);
    }

    /// The other control that decides, where one does.
    pub fn elsewhere(&self) -> Option<Holder> {
        let holder = self.holder.borrow();
        (holder.epoch.is_none() && !holder.url.is_empty()).then(|| holder.clone())
    }

    /// Asks the leader, and waits until the answer is in the record.
    pub async fn act(
        &self,
        act: impl Fn(&mut Cluster) -> Result<serde_json::Value, Refusal> + Send + 'static,
    ) -> Result<serde_json::Value, ActError> {
        let (answer, answered) = oneshot::channel();
        self.tell(Message::Act(Box::new(act), answer));
        answered
            .await
            .unwrap_or_else(|_| Err(ActError::Record("the leader is being started again".to_owned())))
    }
}
