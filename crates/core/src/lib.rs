//! The rules of Main Yard, as plain data and pure functions.
//!
//! Nothing here opens a file or a socket, reads a clock or starts a thread: time is passed in, and what should
//! be done comes back as values. The processes around this crate carry it out and record it. A rule that
//! decides anything belongs here, so that it can be tested alone and run in a simulated cluster.
//!
//! A platform of one workload, from its declaration to what follows from it:
//!
//! ```
//! use mainyard_core::cluster::Cluster;
//! use mainyard_core::manifest::{SourceFile, read};
//! use mainyard_core::record::State;
//!
//! let now = "2026-11-23T14:05:00Z".parse().unwrap();
//! let staging = "staging".parse().unwrap();
//! let mut cluster = Cluster::new(State::default(), 1, now);
//! cluster.transaction("mira", now).add_environment(&staging, None).unwrap();
//!
//! let text = r#"
//!     application = "lockers"
//!     [workload.locker-api]
//!     image = "lockers/locker-api:1.4.0"
//! "#;
//! let file = SourceFile { name: "mainyard.toml".into(), text: text.into() };
//! let declared = read(&[file], None).unwrap();
//! cluster.transaction("mira", now).declare(&declared, &staging, false).unwrap();
//!
//! // Written first: who did it, and what there is now. Nothing is ordered yet, as no node has called.
//! let settled = cluster.at(now).settle();
//! assert!(settled.changes.iter().any(|change| change.cause.by == "mira"));
//! assert!(settled.orders.is_empty());
//! assert_eq!(cluster.state().workloads.len(), 1);
//! ```
//!
//! Where to look:
//! - [`model`]: the things there are and their states
//! - [`manifest`]: reading and checking `mainyard.toml`, and its JSON Schema
//! - [`record`]: the objects that are written down, and changes of them
//! - [`cluster`]: everything together: what a command, a report or the passing of time changes
//! - [`declare`]: from what is declared to what changes, in words
//! - [`rollouts`]: what a workload's replicas and rollout need next
//! - [`completion`]: when something that a person follows has ended
//! - [`canary_analysis`]: whether a new release does worse than the previous one
//! - [`latency`]: how long requests took, counted in little space
//! - [`launch_fingerprint`]: whether a node started what a release asks for
//! - [`placement`]: which node has room
//! - [`retention`]: what is kept of releases, changes and images, and for how long
//! - [`retries`]: whether a request that failed is sent to another replica
//! - [`routing`]: the gateway's table, which route takes a request, the choice of a replica, and what replicas reach outside
//! - [`http_framing`]: where one request ends and the next begins, and what is refused because it could be read two ways
//! - [`sign_in_backoff`]: how often signing in may be tried
//! - [`rate_limit`]: how often one visitor may ask
//! - [`growth`]: how many replicas a load needs
//! - [`history`]: what became of everything between two moments, in words
//! - [`service_names`]: what names of services stand for, as replicas ask for them
//! - [`untrusted_text`]: what a stranger wrote, made safe for a terminal and for the record
//! - [`views`]: what client and console show of all this, computed once
//! - [`why`]: why an address or a workload answers, or does not; [`reasons`] is the catalogue behind it
//! - [`drain`]: when a replica that left the table may be stopped
//! - [`replica_lifecycle`]: what the node agent does for one replica
//! - [`link`]: what control, node agents and gateways say to each other

pub mod acme;
pub mod address;
pub mod canary_analysis;
pub mod cluster;
pub mod commands;
pub mod completion;
pub mod declare;
pub mod difference;
pub mod drain;
pub mod export;
pub mod forecast;
pub mod git_plan;
pub mod growth;
pub mod history;
pub mod http_framing;
pub mod latency;
pub mod launch_fingerprint;
pub mod link;
pub mod manifest;
pub mod model;
pub mod node_state;
pub mod overload;
pub mod placement;
pub mod rate_limit;
pub mod reasons;
pub mod record;
pub mod replica_lifecycle;
pub mod retention;
pub mod retries;
pub mod rollouts;
pub mod routing;
pub mod service_names;
pub mod sign_in_backoff;
pub mod sizing;
pub mod suggestions;
pub mod trail;
mod unanswered;
pub mod untrusted_text;
pub mod views;
pub mod why;
