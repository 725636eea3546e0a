//! The parts of a simulated platform, as they are at a moment.

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;

use mainyard_core::cluster::Cluster;
use mainyard_core::drain::GatewayView;
use mainyard_core::link::RunOrder;
use mainyard_core::model::{Name, ReleaseNumber, ReplicaId};
use mainyard_core::node_state::NodeState;
use mainyard_core::replica_lifecycle::Ended;
use mainyard_core::routing::Table;

/// A node agent or a gateway.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Part {
    Node(usize),
    Gateway(usize),
}

/// One control.
#[derive(Debug, Default)]
pub(crate) struct Control {
    pub alive: bool,
    pub incarnation: u64,
    /// Until then it does nothing, and goes on where it was.
    pub frozen_until: u64,
    /// Until then it does not reach the record.
    pub cut_until: u64,
    pub leader: Option<(Cluster, u64)>,
    pub links: BTreeMap<Part, (u64, u64)>,
    pub settle_at: Option<u64>,
}

/// One node.
#[derive(Debug, Default)]
pub(crate) struct Node {
    pub incarnation: u64,
    pub agent: Option<NodeState>,
    pub link: Option<(usize, u64)>,
    pub processes: BTreeMap<ReplicaId, Process>,
    pub kept: BTreeMap<ReplicaId, RunOrder>,
    /// Of what is run once: that it was begun, as the agent marked on disk.
    pub begun_runs: BTreeSet<ReplicaId>,
    /// How processes ended, as their keepers wrote it down.
    pub endings: BTreeMap<ReplicaId, Ended>,
    pub kept_epoch: u64,
    pub begun: u64,
}

/// A replica's process.
#[derive(Debug, Clone)]
pub(crate) struct Process {
    pub number: u64,
    pub address: Ipv4Addr,
    /// When it begins to listen on the declared port; never for an image that listens elsewhere.
    pub listens_at: Option<u64>,
    pub asked_to_stop: bool,
}

/// One gateway.
#[derive(Debug, Default)]
pub(crate) struct Gateway {
    pub alive: bool,
    pub incarnation: u64,
    pub link: Option<(usize, u64)>,
    pub table: Table,
    pub kept: Option<Table>,
    pub open: BTreeMap<u64, Request>,
    pub turn: u64,
    /// Answers since the last report, and how many of them failed.
    pub served: BTreeMap<(ReplicaId, ReleaseNumber), (u64, u64)>,
    /// A report is on its way; another is wanted.
    pub in_flight: bool,
    pub wants: bool,
    pub next_beat: u64,
    /// The epoch in which a report was last taken, and when.
    pub heard: (u64, u64),
}

/// A gateway's report.
pub(crate) type View = GatewayView;

/// An open request.
#[derive(Debug, Clone)]
pub(crate) struct Request {
    pub replica: ReplicaId,
    pub release: ReleaseNumber,
    pub failed: bool,
}

pub(crate) fn node_name(node: usize) -> Name {
    format!("node-{}", node + 1).parse().expect("a name")
}

pub(crate) fn gateway_name(gateway: usize) -> String {
    format!("gateway-{}", gateway + 1)
}
