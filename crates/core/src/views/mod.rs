//! The views of the cluster that client and console share, computed once from the record.
//!
//! The record holds objects; a person asks questions that span several: which services lead to this workload, which
//! replicas take requests, what may be done now, who has to act. The answers are here, so that the client and the
//! console can't disagree. Nothing here is stored: a view follows from the record, an address of the gateway and a
//! moment.

pub mod board;
mod environment;
mod image;
mod index;
mod needs;
mod rollout;
mod source;
mod workload;

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use environment::{EnvironmentView, LegView, RouteView, ServiceView};
pub use image::{ImageUse, kept_by, uses_of};
pub(crate) use needs::changed_live;
pub use needs::{Need, NeedKind, needs};
pub use rollout::{EvidenceRow, evidence};
pub use source::{CommitRelease, CommitView, SourceAct, SourceView};
pub use workload::{Act, Lane, LeftAlone, ReleaseRow, WorkloadView};

use crate::model::Name;
use crate::record::State;

/// The gateway's addresses for visitors.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GatewayPorts {
    /// The port for plain HTTP.
    pub http: u16,
    /// The port for TLS.
    pub https: u16,
}

/// The views of everything.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
pub struct Views {
    /// Of each node.
    pub nodes: BTreeMap<Name, NodeView>,
    /// Of each environment.
    pub environments: BTreeMap<Name, EnvironmentView>,
}

/// The view of a node, beside its own fields.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct NodeView {
    /// Whether the kernel keeps its replicas apart; otherwise they are ordinary processes.
    pub isolates: bool,
}

impl Views {
    /// Computes the view of every node and environment.
    pub fn of(state: &State, gateway: GatewayPorts, now: Timestamp) -> Views {
        let environment = |name: &Name| (name.clone(), EnvironmentView::of(state, name, gateway, now));
        Views {
            nodes: Views::nodes(state),
            environments: state.environments.keys().map(environment).collect(),
        }
    }

    /// Computes the view of every node.
    pub fn nodes(state: &State) -> BTreeMap<Name, NodeView> {
        let view = |node: &crate::model::Node| NodeView { isolates: node.isolates() };
        state.nodes.iter().map(|(name, node)| (name.clone(), view(node))).collect()
    }
}
