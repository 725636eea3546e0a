//! Listening for callers inside: one listener for each port that any service has, on every address of the
//! service range. Which service was called is told by the address the connection came to.

use std::collections::BTreeSet;
use std::net::{Ipv4Addr, TcpListener};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use mainyard_runtime::enter;
use tokio::sync::mpsc::UnboundedSender;

use crate::serving::Serving;

/// Starts the thread that opens listeners as services come.
pub fn start(
    network: Option<PathBuf>,
    serving: Arc<Serving>,
    workers: Vec<UnboundedSender<TcpListener>>,
) -> std::io::Result<()> {
    let Some(network) = network else { return Ok(()) };
    std::thread::Builder::new().name("inside".to_owned()).spawn(move || {
        if let Err(error) = enter(&network) {
            tracing::error!(%error, "callers inside are not served");
            return;
        }
        let mut open: BTreeSet<u16> = BTreeSet::new();
        loop {
            let wanted: BTreeSet<u16> = serving
                .routing()
                .inside
                .values()
                .flat_map(|service| service.ports.keys().copied().collect::<Vec<_>>())
                .collect();
            for port in wanted.difference(&open).copied().collect::<Vec<_>>() {
                match TcpListener::bind((Ipv4Addr::UNSPECIFIED, port)) {
                    Ok(listener) => {
                        for worker in &workers {
                            if let Ok(shared) = listener.try_clone() {
                                let _ = worker.send(shared);
                            }
                        }
                        open.insert(port);
                    }
                    Err(error) => tracing::warn!(%error, port, "callers inside cannot reach this port yet"),
                }
            }
            std::thread::sleep(Duration::from_millis(50));
        }
    })?;
    Ok(())
}
