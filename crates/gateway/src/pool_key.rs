//! What tells one kind of connection to a replica from another.

use std::net::SocketAddrV4;

/// Where it leads, the trust that it was opened with (0 without TLS), and whether HTTP/2 is spoken on it.
pub(crate) type PoolKey = (SocketAddrV4, (usize, bool));
