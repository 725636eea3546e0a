//! How a request came in.

use std::net::{Ipv4Addr, SocketAddr};

/// How a connection came in.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Arrival {
    /// The caller.
    pub peer: SocketAddr,
    /// Whether over TLS.
    pub secure: bool,
    /// For callers inside: what they called.
    pub inside: Option<Called>,
}

/// The address that a caller inside dialled.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Called {
    /// The service's address.
    pub address: Ipv4Addr,
    /// Its port.
    pub port: u16,
    /// Whether a caller's address tells its environment: not so where replicas are ordinary processes.
    pub told_apart: bool,
}
