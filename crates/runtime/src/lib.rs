//! Isolation on Linux: what a replica is started with, and what the machine has to give for it.
//!
//! [`Isolation`] belongs to one node. It owns the node's network namespace, its control groups and the id maps
//! of the environments, and turns a [`Run`] into a command that starts a keeper. It starts nothing itself and
//! has no threads: the node agent does the waiting.

mod filter;
mod groups;
mod isolation;
mod listening;
mod network;
mod survivor;
mod users;

pub use groups::Groups;
pub use isolation::{Isolation, Run};
pub use listening::{Listening, listening};
pub use mainyard_keeper::{Ending, Progress};
pub use network::{LAST_LINK, NodeNetwork, enter};
pub use survivor::{Survivor, find_survivor, last_ending, process_started_at};

/// What the machine refused.
#[derive(Debug, thiserror::Error)]
#[error("cannot {doing}: {source}")]
pub struct Error {
    /// What was being done, as in "make a control group".
    pub doing: String,
    /// What the kernel answered.
    pub source: std::io::Error,
}

trait Doing<T> {
    fn doing(self, doing: impl Into<String>) -> Result<T, Error>;
}

impl<T> Doing<T> for std::io::Result<T> {
    fn doing(self, doing: impl Into<String>) -> Result<T, Error> {
        self.map_err(|source| Error { doing: doing.into(), source })
    }
}
