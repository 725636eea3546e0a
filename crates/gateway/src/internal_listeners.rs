//! Listening for callers inside. In a network of the node's own, one listener for each port that any service has
//! takes every address of the service range; in a loopback range of the machine each service has its own. Which
//! service was called is reported by the address the connection came to.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{Ipv4Addr, SocketAddrV4, TcpListener};
use std::sync::Arc;
use std::time::Duration;

use tokio::sync::mpsc::UnboundedSender;
use tokio_util::sync::CancellationToken;

use crate::serving::Serving;
use crate::{Arrivals, Network};

/// A listener for callers inside, and the service port that it stands for; or one for visitors at a port that a route
/// takes, until it goes.
pub(crate) struct NewListener {
    pub listener: TcpListener,
    pub port: u16,
    pub until: Option<CancellationToken>,
}

/// Gives every worker the listener; one that cannot take it goes without, the others answer.
pub(crate) fn hand_to_all(
    workers: &[UnboundedSender<NewListener>],
    listener: &TcpListener,
    port: u16,
    until: Option<&CancellationToken>,
) {
    for worker in workers {
        if let Ok(listener) = listener.try_clone() {
            let _ = worker.send(NewListener { listener, port, until: until.cloned() });
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
    std::thread::Builder::new().name("inside".to_owned()).spawn(move || {
        if let Err(error) = network.enter() {
            tracing::error!(%error, "callers inside are not served");
            return;
        }
        drop(on_the_way);
        let mut open: BTreeSet<SocketAddrV4> = BTreeSet::new();
        let mut refused: BTreeMap<SocketAddrV4, std::io::ErrorKind> = BTreeMap::new();
        loop {
            for address in wanted(&network, &serving).difference(&open).copied().collect::<Vec<_>>() {
                match bind(address, &network) {
                    Ok(listener) => {
                        hand_to_all(&workers, &listener, address.port(), None);
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
            std::thread::sleep(Duration::from_millis(50));
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

fn wanted(network: &Network, serving: &Serving) -> BTreeSet<SocketAddrV4> {
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
    wanted
}
