//! The way to the leader: what is sent to it, and what it publishes.

use std::sync::Arc;

use super::decision_metrics::DecisionMetrics;
use mainyard_core::cluster::Refusal;
use mainyard_core::commands::{Command, CommandKind, Outcome};
use mainyard_core::link::{GatewayHello, GatewayReport, NodeHello, NodeReport};
use mainyard_core::model::Name;
use mainyard_core::record::State;
use tokio::sync::{RwLock, mpsc, oneshot, watch};

/// A command on its way to the cluster. It may be carried out again, on the cluster as it was before.
pub(crate) struct PendingCommand {
    /// The command.
    pub command: Command,
    /// The caller.
    pub by: String,
    /// The id of the request that it came with; empty where it came with none.
    pub request: String,
    /// The receiver of the outcome, once it is in the record.
    pub answer: oneshot::Sender<Result<Outcome, ActError>>,
}

/// A message for the leader.
pub(crate) enum Message {
    /// A command.
    Command(Box<PendingCommand>),
    /// A node agent called.
    Hello(NodeHello),
    /// A node agent tells.
    Node(Name, NodeReport),
    /// A gateway called.
    GatewayCalled(String, GatewayHello),
    /// A gateway tells.
    Gateway(String, GatewayReport),
}

/// Why a command was not carried out.
#[derive(Debug, thiserror::Error)]
pub enum ActError {
    /// It was refused.
    #[error(transparent)]
    Refused(Refusal),
    /// The record cannot hold what it comes to; nothing was changed.
    #[error("{0}")]
    Unwritable(String),
    /// The record could not be written; nothing was changed.
    #[error("{0}")]
    Record(String),
    /// Another control decides.
    #[error("{} decides now, at {}", .0.name, .0.url)]
    Elsewhere(Holder),
}

/// The control that decides.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Holder {
    /// Its name; empty when none is known.
    pub name: String,
    /// Its address.
    pub url: String,
    /// The epoch in which this control decides, where it does.
    pub epoch: Option<u64>,
}

/// The way to the leader, and what it has published.
#[derive(Clone)]
pub(crate) struct Handle {
    pub(super) inbox: mpsc::UnboundedSender<Message>,
    /// The state as it is in the record, and the number of its last change.
    pub published: Arc<RwLock<(State, u64)>>,
    /// The number of the last change.
    pub latest: watch::Receiver<u64>,
    /// Which control decides.
    pub holder: watch::Receiver<Holder>,
    pub(super) metrics: DecisionMetrics,
}

impl Handle {
    /// Tells the leader.
    pub(crate) fn tell(&self, message: Message) {
        let _ = self.inbox.send(message);
    }

    /// Adds the metrics of decisions.
    pub(crate) fn register(&self, registry: &mut prometheus_client::registry::Registry) {
        self.metrics.register(registry);
    }

    /// The other control that decides, where one does.
    pub(crate) fn elsewhere(&self) -> Option<Holder> {
        let holder = self.holder.borrow();
        (holder.epoch.is_none() && !holder.url.is_empty()).then(|| holder.clone())
    }

    /// Has a command carried out, and waits until what came of it is in the record.
    pub(crate) async fn carry_out<C: CommandKind>(
        &self,
        command: C,
        by: &str,
        request: &str,
    ) -> Result<C::Outcome, ActError> {
        let (answer, answered) = oneshot::channel();
        let asked = PendingCommand {
            command: command.into(),
            by: by.to_owned(),
            request: request.to_owned(),
            answer,
        };
        self.tell(Message::Command(Box::new(asked)));
        let again = || ActError::Record("the leader is being started again".to_owned());
        let outcome = answered.await.map_err(|_| again())??;
        C::outcome_of(outcome).ok_or_else(again)
    }
}
