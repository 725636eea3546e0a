//! Options that many commands have.

use clap::Args;

/// How to print.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct Output {
    /// Print JSON.
    #[arg(long)]
    pub json: bool,
}

/// Of which moment.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct Moment {
    /// As it was at this time: 14:05, or "2026-11-23 14:05", or with a time zone; and what changed since.
    #[arg(long, value_name = "TIME")]
    pub as_of: Option<String>,
}

/// Whether to follow, or to look only.
#[derive(Debug, Clone, Args)]
pub(crate) struct Wait {
    /// Come back at once instead of following to the end.
    #[arg(long)]
    pub no_wait: bool,
    #[command(flatten)]
    pub trial: Trial,
}

/// Whether a change is only to be looked at.
#[derive(Debug, Clone, Args)]
pub(crate) struct Trial {
    /// Change nothing; say what would differ, and rehearse it on a copy of the cluster.
    #[arg(long)]
    pub forecast: bool,
    /// Print the forecast as JSON.
    #[arg(long, requires = "forecast")]
    pub json: bool,
    /// In the forecast, lose this node half-way.
    #[arg(long, value_name = "NODE", requires = "forecast")]
    pub lose_node: Option<String>,
}

/// What to export, and where to.
#[derive(Debug, Args)]
pub(crate) struct Export {
    /// An environment, or a workload as environment/name.
    pub of: String,
    /// The folder; it is made where it is not there. Files that are there are not written over.
    #[arg(long = "output", short = 'o', value_name = "FOLDER")]
    pub folder: std::path::PathBuf,
}
