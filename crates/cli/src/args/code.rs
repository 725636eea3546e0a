//! Commands about repositories of code that live on the platform.

use std::path::PathBuf;

use clap::Subcommand;

use super::Output;

/// What to do with repositories of code.
#[derive(Debug, Subcommand)]
pub(crate) enum CodeCommand {
    /// List them, and how the newest commit of each fares.
    #[command(after_help = "Example:\n  mainyard code list")]
    List {
        #[command(flatten)]
        output: Output,
    },
    /// See one: its branches, its newest commit, and where it is cloned from.
    #[command(after_help = "Example:\n  mainyard code show staging/survey-form")]
    Show {
        /// environment/name
        target: String,
        #[command(flatten)]
        output: Output,
    },
    /// Clone one into a folder. Git signs in through this client from then on, so that `git push` needs no password.
    #[command(
        after_help = "Example:\n  mainyard code clone staging/survey-form\n  cd survey-form\n  git commit -a -m \"A friendlier question\"\n  git push"
    )]
    Clone {
        /// environment/name
        target: String,
        /// The folder; the repository's name by default.
        folder: Option<PathBuf>,
    },
    /// Let a repository that is on this machine push to the platform. The first push makes the application of its mainyard.toml.
    #[command(
        after_help = "Example:\n  mainyard code connect staging/survey-form\n  git push main-yard main"
    )]
    Connect {
        /// environment/name
        target: String,
        /// The folder of the repository.
        #[arg(default_value = ".")]
        folder: PathBuf,
        /// What Git calls the platform there.
        #[arg(long, value_name = "NAME", default_value = "main-yard")]
        remote: String,
    },
    /// Remove one with its history. What it declared stays.
    #[command(after_help = "Example:\n  mainyard code remove staging/survey-form --yes")]
    Remove {
        /// environment/name
        target: String,
        /// Really remove it.
        #[arg(long)]
        yes: bool,
    },
    /// Answer Git's question for a name and a password (gitcredentials); Git itself calls it.
    #[command(hide = true)]
    Credential {
        /// get, store or erase
        operation: String,
    },
}

/// What to do with keys for ssh.
#[derive(Debug, Subcommand)]
pub(crate) enum KeyCommand {
    /// Register a public key of yours.
    #[command(
        after_help = "Example:\n  mainyard key add laptop ~/.ssh/id_ed25519.pub\n  mainyard key add laptop < key.pub"
    )]
    Add {
        /// Its name among your keys.
        name: String,
        /// The file that ends in .pub; standard input by default.
        file: Option<PathBuf>,
    },
    /// List the keys, where code is reached over ssh, and the host key there.
    #[command(after_help = "Example:\n  mainyard key list")]
    List {
        #[command(flatten)]
        output: Output,
    },
    /// Remove a key of yours. It lets nobody in from then on.
    #[command(after_help = "Example:\n  mainyard key remove laptop")]
    Remove {
        /// Its name.
        name: String,
    },
}

/// What happens on a connection over ssh.
#[derive(Debug, Subcommand)]
pub(crate) enum SshStep {
    /// Become the ssh server of the connection that is standard input and output.
    Connection,
    /// Serve somebody whom the ssh server let in.
    Session {
        /// The fingerprint of the key.
        key: String,
        /// Where control listens.
        #[arg(long)]
        door: PathBuf,
    },
}
