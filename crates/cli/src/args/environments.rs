//! The arguments of commands for environments.

use clap::{Subcommand, ValueEnum};
use mainyard_core::model::OutgoingMode;

use super::{Moment, Output, Trial};

/// What replicas may reach outside.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum OutgoingChoice {
    /// Nothing, whatever workloads list.
    None,
    /// What a workload lists in `outgoing`.
    Listed,
    /// Everything but the platform itself.
    All,
}

impl From<OutgoingChoice> for OutgoingMode {
    fn from(choice: OutgoingChoice) -> OutgoingMode {
        match choice {
            OutgoingChoice::None => OutgoingMode::None,
            OutgoingChoice::Listed => OutgoingMode::Listed,
            OutgoingChoice::All => OutgoingMode::All,
        }
    }
}

/// On or off.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Switch {
    /// It is so.
    On,
    /// It is not.
    Off,
}

/// Commands for environments.
#[derive(Debug, Subcommand)]
pub(crate) enum Environment {
    /// Make an environment.
    #[command(
        after_help = "Example:\n  mainyard environment add staging\n  mainyard environment add staging --domain staging.lockers.localhost"
    )]
    Add {
        /// Its name.
        name: String,
        /// The domain of routes that name no host in full; NAME.localhost by default.
        #[arg(long, value_name = "DOMAIN")]
        domain: Option<String>,
        /// What its replicas may reach outside: nothing, what workloads list, or everything.
        #[arg(long, value_name = "none|listed|all", default_value = "listed")]
        outgoing: OutgoingChoice,
        #[command(flatten)]
        trial: Trial,
    },
    /// Say what the replicas of an environment may reach outside the platform. Open connections that it no longer allows end.
    #[command(
        after_help = "Example:\n  mainyard environment outgoing staging listed\n  mainyard environment outgoing production none --forecast"
    )]
    Outgoing {
        /// Its name.
        name: String,
        /// none: nothing; listed: what workloads list in `outgoing`; all: everything but the platform itself.
        #[arg(value_name = "none|listed|all")]
        outgoing: OutgoingChoice,
        #[command(flatten)]
        trial: Trial,
    },
    /// Say what images an environment runs: those that a key signed, or any.
    #[command(
        after_help = "Example:\n  mainyard environment image-rule production --signed-by release=ed25519:11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo\n  mainyard environment image-rule production --any"
    )]
    ImageRule {
        /// Its name.
        name: String,
        /// A public key with a name for it; may be given several times, and then one of them is enough.
        #[arg(long, value_name = "NAME=KEY", conflicts_with = "any")]
        signed_by: Vec<String>,
        /// Run every image.
        #[arg(long)]
        any: bool,
        #[command(flatten)]
        trial: Trial,
    },
    /// Allow changes to files of running replicas (mainyard send --live), or end that. What was changed stays until the next release.
    #[command(
        after_help = "Example:\n  mainyard environment live-changes trial on\n  mainyard environment live-changes trial off"
    )]
    LiveChanges {
        /// Its name.
        name: String,
        /// on: files of running replicas may be changed; off: only a release changes what runs.
        #[arg(value_name = "on|off")]
        allowed: Switch,
        #[command(flatten)]
        trial: Trial,
    },
    /// Remove an environment that holds nothing any more.
    #[command(after_help = "Example:\n  mainyard environment remove trial")]
    Remove {
        /// Its name.
        name: String,
        #[command(flatten)]
        trial: Trial,
    },
    /// List the environments.
    #[command(after_help = "Example:\n  mainyard environment list")]
    List {
        #[command(flatten)]
        past: Moment,
        #[command(flatten)]
        output: Output,
    },
}
