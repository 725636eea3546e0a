//! The node agent: runs the replicas that control orders, checks them, keeps their logs, and tells how they are.
//!
//! It calls control, never the other way round. Its orders are on disk, so that it goes on by itself while
//! control is away, and finds its replicas again after it was started again. What to do for a replica is decided
//! by [`mainyard_core::replica_lifecycle`]; this crate carries it out.

mod agent;
mod builds;
mod events;
mod grpc_health;
mod images;
mod keepers;
mod kept_logs;
mod link;
mod live_files;
mod logs;
mod orders;
mod probes;
mod usage;

use std::path::PathBuf;
use std::time::Duration;

use mainyard_core::address::Range;
use mainyard_core::link::NodeHello;
use mainyard_core::model::{Bytes, Cpu, Name};
use mainyard_runtime::IsolationMode;

/// Settings that a node agent starts with.
#[derive(Debug, Clone)]
pub struct Config {
    /// Its data directory; no other part uses it.
    pub dir: PathBuf,
    /// Its name.
    pub name: Name,
    /// The driver that runs replicas.
    pub means: IsolationMode,
    /// Control's URL, such as `http://127.0.0.1:8700`.
    pub control: String,
    /// The token of a part.
    pub token: String,
    /// How often the layers on disk are read again.
    pub verify_every: Duration,
}

/// Why the agent cannot run.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The machine refuses what isolation needs.
    #[error(transparent)]
    Isolation(#[from] mainyard_runtime::Error),
    /// Something about its files or its thread.
    #[error("cannot {doing}: {source}")]
    Io {
        /// The operation that failed.
        doing: String,
        /// Why not.
        source: std::io::Error,
    },
}

/// Runs until the process ends. Replicas outlive it.
pub async fn run(config: Config) -> Result<(), Error> {
    agent::run(config).await
}

/// The resources and features of this machine.
fn hello(config: &Config, incarnation: u64) -> NodeHello {
    let cores = std::thread::available_parallelism().map_or(1, usize::from) as u64;
    let meminfo = std::fs::read_to_string("/proc/meminfo").unwrap_or_default();
    let total = meminfo.lines().find_map(|line| line.strip_prefix("MemTotal:"));
    let kib: u64 = total.and_then(|rest| rest.split_whitespace().next()?.parse().ok()).unwrap_or(0);
    // A sixteenth stays with the machine itself.
    NodeHello {
        node: config.name.clone(),
        incarnation,
        cpu: Cpu::from_milli(cores * 1000),
        memory: Bytes::new(kib * 1024 / 16 * 15),
        range: match config.means {
            IsolationMode::Isolated { .. } => Range::PRIVATE,
            IsolationMode::Plain { range } => range,
        },
    }
}
