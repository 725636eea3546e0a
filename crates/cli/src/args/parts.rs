//! How the platform itself is started.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, ValueEnum};

use crate::place::Place;

/// How to start.
#[derive(Debug, Clone, Args)]
pub struct Start {
    /// Bring up Larkfield Lockers, with gentle traffic of its own.
    #[arg(long)]
    pub demo: bool,
    /// With the demo: also declare so many workloads that rest, in an environment `crowd`, to look at a large board.
    #[arg(long, requires = "demo", default_value_t = 0, value_name = "N")]
    pub crowd: usize,
    /// Folders of this machine from which sources may follow repositories.
    #[arg(long, value_name = "FOLDER")]
    pub allow_repositories: Vec<PathBuf>,
    /// Where the API and the console answer.
    #[arg(long, default_value = "127.0.0.1:8700", value_name = "A:P")]
    pub api: SocketAddr,
    /// Where the gateway takes requests.
    #[arg(long, default_value = "127.0.0.1:8780", value_name = "A:P")]
    pub http: SocketAddr,
    /// Where the gateway takes requests over TLS.
    #[arg(long, default_value = "127.0.0.1:8743", value_name = "A:P")]
    pub https: SocketAddr,
    /// How many gateways take requests there, beside each other: when one falls over, the others go on.
    #[arg(long, default_value_t = 1, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=8))]
    pub gateways: u32,
    /// How replicas are kept apart. Without root only `none` is possible, and is taken by itself.
    #[arg(long, env = "MAINYARD_ISOLATION", value_name = "KIND")]
    pub isolation: Option<IsolationKind>,
    /// Don't wait for the disk when the record is written: for tests. A power failure may then lose the record; a
    /// killed process doesn't.
    #[arg(long, env = "MAINYARD_NO_DISK_SYNC", value_parser = clap::builder::FalseyValueParser::new())]
    pub no_disk_sync: bool,
    /// Come back when it is ready, and leave it running.
    #[arg(long)]
    pub background: bool,
    #[arg(hide = true)]
    pub workload: Option<String>,
}

impl Start {
    /// Folders of this machine that repositories may be in: those that were said, and the demo's own.
    pub fn allowed_repositories(&self, place: &Place) -> Vec<PathBuf> {
        let said = self.allow_repositories.iter();
        let said = said.map(|folder| std::path::absolute(folder).unwrap_or_else(|_| folder.clone()));
        said.chain(self.demo.then(|| place.file("demo"))).collect()
    }
}

/// How replicas are kept apart from each other and from the machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum IsolationKind {
    /// By namespaces, control groups and a system call filter; needs root.
    Kernel,
    /// Not at all: ordinary processes with loopback addresses of their own; of the limits only memory is held.
    None,
}

impl IsolationKind {
    pub fn word(self) -> &'static str {
        match self {
            IsolationKind::Kernel => "kernel",
            IsolationKind::None => "none",
        }
    }
}

/// Which part to run.
#[derive(Debug, Args)]
pub struct Serve {
    /// Which part.
    pub part: Part,
    /// Which one of several.
    #[arg(long, default_value_t = 1)]
    pub number: u32,
}

/// Parts of the platform.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Part {
    /// The API, the console and the decisions.
    Control,
    /// Runs replicas.
    Node,
    /// Carries requests.
    Gateway,
}
