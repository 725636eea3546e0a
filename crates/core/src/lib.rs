//! What Main Yard knows and decides, as plain data and pure functions.
//!
//! Nothing here opens a file or a socket, reads a clock or starts a thread: time is passed in, and what should
//! be done comes back as values. The processes around this crate carry it out and record it. A rule that
//! decides anything belongs here, so that it can be tested alone and run in a simulated cluster.
//!
//! Where to look:
//! - [`model`]: the things there are and their states
//! - [`manifest`]: reading and checking `mainyard.toml`, and its JSON Schema
//! - [`cluster`]: everything together: what a command, a report or the passing of time changes
//! - [`declare`]: from what is declared to what changes, in words
//! - [`steer`]: what a workload's replicas and rollout need next
//! - [`judge`]: whether a new release does worse than the one before
//! - [`started`]: whether a node started what a release asks for
//! - [`placement`]: which node has room
//! - [`routing`]: the gateway's table, which route takes a request, and the choice of a replica
//! - [`framing`]: where one request ends and the next begins, and what is refused because it could be read two ways
//! - [`attempts`]: how often signing in may be tried
//! - [`pace`]: how often one visitor may ask
//! - [`past`]: what became of everything between two moments, in words
//! - [`resolving`]: what names of services stand for, as replicas ask for them
//! - [`untrusted_text`]: what a stranger wrote, made safe for a terminal and for the record
//! - [`why`]: why an address or a workload answers, or does not; [`reasons`] is the catalogue behind it
//! - [`drain`]: when a replica that left the table may be stopped
//! - [`replica_run`]: what the node agent does for one replica
//! - [`link`]: what control, node agents and gateways say to each other

pub mod address;
pub mod attempts;
pub mod board;
pub mod cluster;
pub mod declare;
pub mod difference;
pub mod drain;
pub mod follow;
pub mod framing;
pub mod judge;
pub mod leave;
pub mod link;
mod losing;
pub mod manifest;
pub mod model;
pub mod near;
pub mod node_desk;
pub mod pace;
pub mod past;
pub mod placement;
pub mod reasons;
pub mod replica_run;
pub mod resolving;
pub mod retention;
pub mod routing;
pub mod sizing;
pub mod started;
pub mod steer;
pub mod untrusted_text;
pub mod why;
