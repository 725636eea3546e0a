//! Ports of the gateway that routes take: opened as such routes come, closed as they go.

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

use tokio::net::TcpSocket;
use tokio::sync::mpsc::UnboundedSender;
use tokio_util::sync::CancellationToken;

use crate::internal_listeners::{ListenerKind, NewListener, TRY_AGAIN, hand_to_all};
use crate::serving::Serving;

/// Follows the table forever. Runs where visitors come from, not where replicas are.
pub(crate) async fn follow(
    at: IpAddr,
    own: Vec<u16>,
    serving: Arc<Serving>,
    workers: Vec<UnboundedSender<NewListener>>,
) {
    let mut open: BTreeMap<u16, CancellationToken> = BTreeMap::new();
    let mut installed = serving.installed();
    loop {
        let mut closed: BTreeMap<u16, String> = BTreeMap::new();
        let wanted = Arc::clone(&serving.routing().by_port);
        open.retain(|port, until| {
            let stays = wanted.contains_key(port);
            if !stays {
                until.cancel();
            }
            stays
        });
        for port in wanted.keys() {
            if open.contains_key(port) {
                continue;
            }
            // Its own ports it could share with itself, and would then answer there at random.
            let listener = if own.contains(port) {
                Err(std::io::Error::from(std::io::ErrorKind::AddrInUse))
            } else {
                listen(at, *port)
            };
            match listener {
                Ok(listener) => {
                    let until = CancellationToken::new();
                    hand_to_all(&workers, &listener, &ListenerKind::Route(*port, until.clone()));
                    open.insert(*port, until);
                }
                // Told, and tried again: what is in the way may go.
                Err(error) => drop(closed.insert(*port, why_closed(&error))),
            }
        }
        let again = (!closed.is_empty()).then_some(TRY_AGAIN);
        serving.tell_closed_ports(closed);
        Serving::next_table(&mut installed, again).await;
    }
}

/// Why a port cannot be listened on, for a person.
fn why_closed(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::AddrInUse => "another program has it".to_owned(),
        std::io::ErrorKind::PermissionDenied => "the gateway's account may not listen there".to_owned(),
        _ => error.to_string(),
    }
}

/// Several gateways of a machine take turns at one port.
fn listen(at: IpAddr, port: u16) -> std::io::Result<std::net::TcpListener> {
    let socket = if at.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
    socket.set_reuseaddr(true)?;
    socket.set_reuseport(true)?;
    socket.bind((at, port).into())?;
    socket.listen(1024)?.into_std()
}
