//! The keeper is the tiny parent of one replica's process.
//!
//! The node agent starts one keeper for each run of a replica and hands it a [`Spec`] on standard input.
//! The keeper builds the isolated surroundings, starts a minimal init inside them, holds the output and the
//! exit status, and ends when the replica ends. It needs nobody: the node agent may be restarted or upgraded
//! and finds every keeper where it left it. If a keeper dies, the kernel ends its replica with it.
//!
//! This library is what the keeper's program and the crate that starts it share: the specification's
//! encoding, the progress lines, and the few netlink messages both need.

pub mod netlink;
pub mod progress;
pub mod spec;

pub use progress::{Ending, Progress};
pub use spec::{Group, Spec};
