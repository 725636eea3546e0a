//! A whole platform driven by one seed.
//!
//! Two controls on one record, two nodes, two gateways, visitors and people, around the very machines that run in
//! earnest: [`mainyard_core::cluster::Cluster`], [`mainyard_core::node_state::NodeState`] and the gateway's rules about
//! tables. Time is a number; whatever happens is an event in a queue; chance comes from the seed alone. So a run that
//! breaks a rule is a report that can be replayed, step by step, as often as one likes.
//!
//! For a while everything may go wrong: parts die and come back, processes end, controls freeze and go on where they
//! were, links break, the record is out of reach, messages are lost, late, or come twice. Then the faults end, and the
//! platform must settle. [`run`] tells what was broken, if anything was:
//!
//! - a request never goes to another replica than the one it was meant for, no matter which replica had the address before;
//! - no replica is stopped while a gateway that counts holds a request to it, before the drain limit has passed;
//! - a replica never has two processes;
//! - whatever was acknowledged to a person is in the record, and stays;
//! - the record's changes have one order without a gap, and only the holder of the lease writes;
//! - a service that changes, with its workload or alone, leaves nobody without an answer who had one;
//! - a release never changes; no drain goes below the minimum number of ready replicas; a rollout that went back
//!   leaves exactly the old release;
//! - what a release runs first is begun at most once, and no replica of the release is there before it has ended well or a
//!   person said that it does not matter;
//! - when the faults have ended, every drain and every rollout ends, and record, nodes and tables agree.

//!
//! [`rehearsal`] is the other use: a copy of the present cluster, in which all goes well or one node is lost, for looking
//! at a change before it is made. [`forecasts`] holds such a look against what then happens.

mod chance;
mod controls;
mod faults;
pub mod forecasts;
mod gateways;
mod invariants;
mod links;
mod nodes;
mod operators;
mod parts;
mod quiescence;
mod record;
pub mod rehearsal;
mod simulation;
mod world;

pub use simulation::run;
pub use world::Outcome;
