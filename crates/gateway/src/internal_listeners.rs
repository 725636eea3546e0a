//! Listening for callers inside. In a network of the node's own, one listener for each port that any service has
//! takes every address of the service range; in a loopback range of the machine each service has its own. Which
//! service was called is reported by the address the connection came to.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{Ipv4Addr, SocketAddrV4, TcpListener};
use std::sync::Arc;
use std::time::Duration;

use mainyard_core::address::NODE_ADDRESS;
use mainyard_core::routing::OutgoingEntry;
use mainyard_runtime::SocketSteering;
use tokio::sync::mpsc::UnboundedSender;
use tokio_util::sync::CancellationToken;

use crate::serving::Serving;
use crate::{Arrivals, Network};

/// An address that could not be listened on is tried again after this time.
pub(crate) const TRY_AGAIN: Duration = Duration::from_millis(250);

/// A listener for the workers, and what its connections are.
pub(crate) struct NewListener {
    pub listener: TcpListener,
    pub of: ListenerKind,
}

/// What the connections of a listener are.
#[derive(Debug, Clone)]
pub(crate) enum ListenerKind {
    /// Callers inside, at this port of services.
    Service(u16),
    /// Replicas that dialled an address outside.
    WayOut,
    /// Visitors at a port that a route takes, until it goes.
    Route(u16, CancellationToken),
}

/// Gives every worker the listener; one that cannot take it goes without, the others answer.
pub(crate) fn hand_to_all(
    workers: &[UnboundedSender<NewListener>],
    listener: &TcpListener,
    of: &ListenerKind,
) {
    for worker in workers {
        if let Ok(listener) = listener.try_clone() {
            let _ = worker.send(NewListener { listener, of: of.clone() });
        }
    }
}

/// Starts the thread that opens listeners as services come.
pub(crate) fn start(
    network: Network,
    serving: Arc<Serving>,
    workers: Vec<UnboundedSender<NewListener>>,
    arrived: &Arrivals,
) -> std::io::Result<()> {
    if matches!(network, Network::Elsewhere) {
        return Ok(());
    }
    let on_the_way = arrived.expect();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_time().build()?;
    std::thread::Builder::new().name("inside".to_owned()).spawn(move || {
        if let Err(error) = network.enter() {
            tracing::error!(%error, "callers inside are not served");
            return;
        }
        let steered = steer(&network);
        drop(on_the_way);
        let steering = steered.map(|(listener, steering)| {
            hand_to_all(&workers, &listener, &ListenerKind::WayOut);
            (listener, steering)
        });
        let steers = steering.is_some();
        let mut open: BTreeSet<SocketAddrV4> = BTreeSet::new();
        let mut refused: BTreeMap<SocketAddrV4, std::io::ErrorKind> = BTreeMap::new();
        let mut installed = serving.installed();
        loop {
            let wanted = wanted(&network, &serving, steers);
            refused.retain(|address, _| wanted.contains(address));
            for address in wanted.difference(&open).copied().collect::<Vec<_>>() {
                match bind(address, &network) {
                    Ok(listener) => {
                        hand_to_all(&workers, &listener, &ListenerKind::Service(address.port()));
                        open.insert(address);
                        refused.remove(&address);
                    }
                    // Said once, and tried again: what is in the way may go.
                    Err(error) if refused.insert(address, error.kind()) != Some(error.kind()) => {
                        tracing::warn!(%error, %address, "callers inside cannot be taken here yet");
                    }
                    Err(_) => {}
                }
            }
            let again = (!refused.is_empty()).then_some(TRY_AGAIN);
            runtime.block_on(Serving::next_table(&mut installed, again));
        }
    })?;
    Ok(())
}

/// How much higher a low port of a service is taken in a loopback range by an account that may not take low ones.
const ABOVE: u16 = 8000;

fn bind(address: SocketAddrV4, network: &Network) -> std::io::Result<TcpListener> {
    match TcpListener::bind(address) {
        Err(error)
            if error.kind() == std::io::ErrorKind::PermissionDenied
                && matches!(network, Network::Loopback(_)) =>
        {
            let above = SocketAddrV4::new(*address.ip(), address.port().saturating_add(ABOVE));
            let listener = TcpListener::bind(above)?;
            tracing::info!(%address, %above, "callers inside are taken at a higher port");
            Ok(listener)
        }
        other => other,
    }
}

fn wanted(network: &Network, serving: &Serving, steers: bool) -> BTreeSet<SocketAddrV4> {
    let inside = Arc::clone(&serving.routing().inside);
    let mut wanted = BTreeSet::new();
    for (address, cell) in &*inside {
        let Some(service) = cell.now() else { continue };
        let address = match network {
            Network::Loopback(range) => range.place(*address),
            Network::Private(_) | Network::Elsewhere => Ipv4Addr::UNSPECIFIED,
        };
        wanted.extend(service.ports.keys().map(|port| SocketAddrV4::new(address, *port)));
    }
    if !steers && matches!(network, Network::Private(_)) {
        let ports = serving.with_table(|table| listed_ports(&table.outgoing));
        wanted.extend(ports.into_iter().map(|port| SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, port)));
    }
    wanted
}

/// Ports of a rule that are listened on one by one, at most.
const RANGE: u16 = 64;

/// Ports that workloads list, where connections to the outside are not steered to one listener.
fn listed_ports(outgoing: &BTreeMap<String, OutgoingEntry>) -> BTreeSet<u16> {
    let policies = outgoing.values().flat_map(|entry| &entry.releases).map(|release| &release.policy);
    let rules = policies.flat_map(|policy| &policy.rules);
    rules.flat_map(|rule| rule.first..=rule.last.min(rule.first.saturating_add(RANGE))).collect()
}

/// Has every connection to the outside come to one listener. Where the kernel cannot, ports that are listed are listened
/// on instead.
fn steer(network: &Network) -> Option<(TcpListener, SocketSteering)> {
    let Network::Private(file) = network else { return None };
    let listener = match TcpListener::bind(SocketAddrV4::new(NODE_ADDRESS, 0)) {
        Ok(listener) => listener,
        Err(error) => {
            tracing::error!(%error, "there is no way out");
            return None;
        }
    };
    match SocketSteering::to(&listener, file) {
        Ok(steering) => Some((listener, steering)),
        Err(error) => {
            tracing::warn!(%error, "the way out is open for ports that workloads list, and for no others");
            None
        }
    }
}
