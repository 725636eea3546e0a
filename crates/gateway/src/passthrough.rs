//! Connections that are passed on as they are: spread over replicas, counted, and let end when a replica drains.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use mainyard_core::model::{Reason, ReasonCode};
use tokio::io::{AsyncRead, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpStream;

use crate::arrival::Arrival;
use crate::backend::connect;
use crate::counts::{Ended, EntryPoint};
use crate::destination;
use crate::proxy_protocol;
use crate::relay::{IDLE, Passed, both_ways};
use crate::route::Route;
use crate::service::Cell;
use crate::waking::awake;
use crate::worker::Forwarder;

/// Replicas that are tried when connections cannot be made.
const TRIES: usize = 4;

impl Forwarder {
    /// A visitor's connection to a port of the gateway, or one whose TLS is passed through.
    pub(crate) async fn splice_route(&self, stream: TcpStream, peer: SocketAddr, route: &Route) {
        let visitors = &route.spec.visitors;
        if !visitors.takes(peer.ip()) {
            return tracing::debug!(route = %route.key, %peer, "the route takes no visitors from there");
        }
        let called = stream.local_addr().unwrap_or(peer);
        let first = route.spec.proxy_protocol.map(|version| proxy_protocol::header(version, peer, called));
        let way = EntryPoint { name: Arc::clone(&route.at), inside: false };
        match destination::leg(route, self.worker) {
            Ok((cell, port)) => self.splice(stream, &cell, port, way, first.as_deref()).await,
            Err(refused) => {
                tracing::debug!(route = %route.key, reason = %refused.reason, "a connection leads nowhere")
            }
        }
    }

    /// A caller inside, at a port where connections are passed on. Gives the stream back where the port is not one.
    pub(crate) async fn splice_inside<S: AsyncRead + AsyncWrite + Unpin>(
        &self,
        stream: S,
        arrival: Arrival,
    ) -> Option<S> {
        let called = arrival.inside?;
        let passes = |cell: &Arc<Cell>| {
            let service = cell.now()?;
            service.ports.get(&called.port).filter(|port| port.tcp).map(|_| ())
        };
        let cell = self.serving.routing().inside.get(&called.address).cloned();
        if cell.as_ref().and_then(passes).is_none() {
            return Some(stream);
        }
        match destination::called(&self.serving, called, arrival) {
            Ok((cell, service)) => {
                let name = format!("{}:{}", service.target.name, called.port).into();
                let way = EntryPoint { name, inside: true };
                self.splice(stream, &cell, called.port, way, None).await;
            }
            Err(refused) => {
                tracing::debug!(reason = %refused.reason, peer = %arrival.peer, "a caller is not let in")
            }
        }
        None
    }

    /// Passes a connection on to a replica, which is sent `first` before anything else.
    async fn splice(
        &self,
        stream: impl AsyncRead + AsyncWrite,
        cell: &Cell,
        port: u16,
        way: EntryPoint,
        first: Option<&[u8]>,
    ) {
        let begun = Instant::now();
        let micros = || begun.elapsed().as_micros() as u64;
        let mut target = None;
        // A replica that left meanwhile did so in a newer table: it is looked up again.
        for _ in 0..2 {
            let Some(service) = cell.now() else { return };
            let woken = awake(&self.serving, cell, service, port, || false).await;
            let Ok(service) = woken.inspect_err(
                |refused| tracing::debug!(reason = %refused.reason, "a connection leads nowhere"),
            ) else {
                return;
            };
            target = Some(Arc::clone(&service.target));
            let Some(port) = service.ports.get(&port) else { return };
            for replica in port.in_turn(self.worker, TRIES) {
                if replica.is_full() {
                    continue;
                }
                let Some(_open) = self.serving.enter(replica, Some((&way, &service))) else { continue };
                let Ok(mut onward) = connect(replica.backend.address).await else { continue };
                if let Some(first) = first
                    && onward.write_all(first).await.is_err()
                {
                    continue;
                }
                let Passed { received, sent, broken } = both_ways(stream, onward, IDLE).await;
                let ended = Ended { failed: broken, micros: micros(), received, sent };
                self.serving.count(&way, &service.target, Some(replica), ended);
                return;
            }
        }
        let Some(target) = target else { return };
        let ended = Ended { failed: true, micros: micros(), received: 0, sent: 0 };
        self.serving.count(&way, &target, None, ended);
        let reason = Reason::new(ReasonCode::NoneReady, format!("no replica of {target} takes connections"));
        tracing::debug!(%reason, "a connection leads nowhere");
    }
}
