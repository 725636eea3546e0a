//! The leader's settings and handles.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mainyard_core::record::State;
use mainyard_store::Store;
use tokio::sync::{RwLock, watch};

use super::decision_metrics::DecisionMetrics;
use super::handle::Holder;
use crate::links::Links;
use crate::outgoing::Outgoing;
use crate::secret_store::SecretStore;
use crate::traffic::Traffic;

/// Settings that the leader starts with.
pub(crate) struct LeaderConfig {
    /// This control's name among others.
    pub name: String,
    /// Its address.
    pub url: String,
    /// The record.
    pub store: Store,
    /// The links to nodes and gateways.
    pub links: Links,
    /// Counts what was served.
    pub traffic: Arc<Traffic>,
    /// What is reached outside.
    pub outgoing: Arc<Outgoing>,
    /// Opens what nodes need of secrets.
    pub vault: SecretStore,
    /// Hosts that are the platform's own.
    pub reserved_hosts: BTreeSet<String>,
    /// Ports that the platform itself listens on, and what for.
    pub reserved_ports: BTreeMap<u16, String>,
}

/// The leader itself, whether it leads or follows.
pub(super) struct Leader {
    pub name: String,
    pub url: String,
    pub store: Store,
    pub links: Links,
    pub traffic: Arc<Traffic>,
    /// What is reached outside.
    pub outgoing: Arc<Outgoing>,
    pub vault: SecretStore,
    pub reserved_hosts: BTreeSet<String>,
    pub reserved_ports: BTreeMap<u16, String>,
    pub published: Arc<RwLock<(State, u64)>>,
    pub latest: watch::Sender<u64>,
    pub holder: watch::Sender<Holder>,
    pub metrics: DecisionMetrics,
}
