//! Commands about things of their own: images, secrets, environments.

use std::path::PathBuf;

use clap::Subcommand;

use super::{Output, Trial, Wait};

/// What to do with images.
#[derive(Debug, Subcommand)]
pub enum Image {
    /// Add an image: an image layout as a directory or a tar archive.
    #[command(
        after_help = "Example:\n  mainyard image add locker-api-1.5.0.tar\n  mainyard image add ./layout --name lockers/locker-api:1.5.0"
    )]
    Add {
        /// The archive or directory.
        path: PathBuf,
        /// Its name, instead of the one the layout gives it.
        #[arg(long)]
        name: Option<String>,
        #[command(flatten)]
        trial: Trial,
    },
    /// List the images.
    #[command(after_help = "Example:\n  mainyard image list")]
    List {
        #[command(flatten)]
        output: Output,
    },
}

/// What to do with secrets.
#[derive(Debug, Subcommand)]
pub enum Secret {
    /// Add a secret, or a new version of one; who follows it gets a release. The value comes from standard input.
    #[command(
        after_help = "Example:\n  mainyard secret add staging/db-password < password.txt\n  printf %s \"$NEW\" | mainyard secret add staging/db-password --forecast"
    )]
    Add {
        /// The secret, as environment/name.
        secret: String,
        /// Keep the line end at the end of the value; otherwise one is taken off.
        #[arg(long)]
        keep_newline: bool,
        #[command(flatten)]
        wait: Wait,
    },
    /// List the secrets, their versions and who uses them.
    #[command(after_help = "Example:\n  mainyard secret list staging")]
    List {
        /// One environment only.
        environment: Option<String>,
        #[command(flatten)]
        output: Output,
    },
    /// See the versions of a secret and the releases they are in. No value is shown.
    #[command(after_help = "Example:\n  mainyard secret show staging/db-password")]
    Show {
        /// The secret, as environment/name.
        secret: String,
        #[command(flatten)]
        output: Output,
    },
    /// Remove a secret that nothing uses.
    #[command(after_help = "Example:\n  mainyard secret remove staging/db-password")]
    Remove {
        /// The secret, as environment/name.
        secret: String,
        #[command(flatten)]
        trial: Trial,
    },
    /// Make a new platform key and seal all values anew under it.
    #[command(after_help = "Example:\n  mainyard secret rotate-key")]
    RotateKey {
        #[command(flatten)]
        trial: Trial,
    },
}

/// What to do with environments.
#[derive(Debug, Subcommand)]
pub enum Environment {
    /// Make an environment.
    #[command(
        after_help = "Example:\n  mainyard environment add staging\n  mainyard environment add staging --domain staging.lockers.localhost"
    )]
    Add {
        /// Its name.
        name: String,
        /// What hosts of routes are under that are not named in full; NAME.localhost by default.
        #[arg(long, value_name = "DOMAIN")]
        domain: Option<String>,
        #[command(flatten)]
        trial: Trial,
    },
    /// List the environments.
    #[command(after_help = "Example:\n  mainyard environment list")]
    List {
        #[command(flatten)]
        output: Output,
    },
}
