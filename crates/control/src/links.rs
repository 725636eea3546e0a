//! The open links to node agents and gateways: what is said to them, and streams they were asked for.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use actix_web::web::Bytes;
use mainyard_core::link::{GatewayOrder, NodeOrder};
use mainyard_core::model::{Name, ReleaseId, ReplicaId};
use tokio::sync::mpsc;

type Line = mpsc::UnboundedSender<Bytes>;

#[derive(Default)]
struct Inner {
    nodes: HashMap<String, Line>,
    gateways: HashMap<String, Line>,
    /// By the part that was asked, such as `node/node-1`.
    streams: HashMap<u64, (String, mpsc::Sender<Bytes>)>,
    next_stream: u64,
}

/// Which log lines a node is asked for.
#[derive(Debug, Clone, Default)]
pub(crate) struct LogAsked {
    /// Of these replicas.
    pub replicas: Vec<ReplicaId>,
    /// And of the replicas of this release that are gone.
    pub kept: Option<ReleaseId>,
    /// Of those only this one, by its short name.
    pub only: Option<String>,
    /// At most this many lines of what is there.
    pub tail: u32,
    /// Go on with what comes.
    pub follow: bool,
}

/// The open links.
#[derive(Clone, Default)]
pub(crate) struct Links(Arc<Mutex<Inner>>);

impl Links {
    fn with<T>(&self, act: impl FnOnce(&mut Inner) -> T) -> T {
        act(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// A node called: its orders come through the receiver, and no more through an earlier one.
    pub(crate) fn add_node(&self, node: &Name) -> mpsc::UnboundedReceiver<Bytes> {
        let (line, orders) = mpsc::unbounded_channel();
        self.with(|inner| inner.nodes.insert(node.to_string(), line));
        orders
    }

    /// The same for a gateway.
    pub(crate) fn add_gateway(&self, gateway: &str) -> mpsc::UnboundedReceiver<Bytes> {
        let (line, orders) = mpsc::unbounded_channel();
        self.with(|inner| inner.gateways.insert(gateway.to_owned(), line));
        orders
    }

    /// The receiver of a stream that this part was asked for; it is taken once.
    pub(crate) fn take_stream(&self, stream: u64, part: &str) -> Option<mpsc::Sender<Bytes>> {
        self.with(|inner| {
            inner.streams.get(&stream).filter(|(asked, _)| asked == part)?;
            inner.streams.remove(&stream).map(|(_, to)| to)
        })
    }

    /// To one node, where it is linked.
    pub(crate) fn order_node(&self, node: &Name, order: NodeOrder) {
        self.with(|inner| send(inner.nodes.get(node.as_str()), &order));
    }

    /// To all nodes.
    pub(crate) fn order_all_nodes(&self, order: &NodeOrder) {
        self.with(|inner| inner.nodes.values().for_each(|line| send(Some(line), order)));
    }

    /// To one gateway.
    pub(crate) fn order_gateway(&self, gateway: &str, order: GatewayOrder) {
        self.with(|inner| send(inner.gateways.get(gateway), &order));
    }

    /// To all gateways.
    pub(crate) fn order_all_gateways(&self, order: &GatewayOrder) {
        self.with(|inner| inner.gateways.values().for_each(|line| send(Some(line), order)));
    }

    /// Ends every link; the parts call again.
    pub(crate) fn hang_up(&self) {
        self.with(|inner| {
            inner.nodes.clear();
            inner.gateways.clear();
        });
    }

    /// How many gateways are linked.
    pub(crate) fn gateways(&self) -> usize {
        self.with(|inner| inner.gateways.values().filter(|line| !line.is_closed()).count())
    }

    /// Asks every gateway for something; what each answers comes through its receiver.
    pub(crate) fn ask_gateways(&self, order: impl Fn(u64) -> GatewayOrder) -> Vec<mpsc::Receiver<Bytes>> {
        self.with(|inner| {
            let lines: Vec<(String, Line)> =
                inner.gateways.iter().map(|(name, line)| (name.clone(), line.clone())).collect();
            let asked = lines.iter().map(|(gateway, line)| {
                let (to, from) = mpsc::channel(64);
                inner.next_stream += 1;
                inner.streams.insert(inner.next_stream, (format!("gateway/{gateway}"), to));
                send(Some(line), &order(inner.next_stream));
                from
            });
            asked.collect()
        })
    }

    /// The nodes that are linked.
    pub(crate) fn nodes(&self) -> Vec<String> {
        self.with(|inner| inner.nodes.keys().cloned().collect())
    }

    /// Asks a node for log lines; they come through the receiver.
    pub(crate) fn ask_for_log(&self, node: &str, asked: LogAsked) -> Option<mpsc::Receiver<Bytes>> {
        let LogAsked { replicas, kept, only, tail, follow } = asked;
        self.ask_node(node, |stream| NodeOrder::Log { stream, replicas, kept, only, tail, follow })
    }

    /// Asks a node for something; what it answers comes through the receiver. Nothing where it is not linked.
    pub(crate) fn ask_node(
        &self,
        node: &str,
        order: impl FnOnce(u64) -> NodeOrder,
    ) -> Option<mpsc::Receiver<Bytes>> {
        let (to, from) = mpsc::channel(16);
        self.with(|inner| {
            let line = inner.nodes.get(node)?;
            inner.next_stream += 1;
            let stream = inner.next_stream;
            send(Some(line), &order(stream));
            inner.streams.insert(stream, (format!("node/{node}"), to));
            Some(from)
        })
    }
}

fn send(line: Option<&Line>, order: &impl serde::Serialize) {
    let Some(line) = line else { return };
    match serde_json::to_vec(order) {
        Ok(mut bytes) => {
            bytes.push(b'\n');
            let _ = line.send(bytes.into());
        }
        Err(error) => tracing::error!(%error, "an order cannot be written down"),
    }
}
