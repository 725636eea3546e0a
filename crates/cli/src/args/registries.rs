//! The arguments of commands for registries outside.

use std::path::PathBuf;

use clap::Subcommand;

use super::{Output, Trial};

/// Commands for registries outside.
#[derive(Debug, Subcommand)]
pub(crate) enum Registry {
    /// Add a registry, or change one. Its password comes from standard input.
    #[command(
        after_help = "Example:\n  mainyard registry add forge --host registry.forge.example\n  mainyard registry add forge --host registry.forge.example --user lockers < password"
    )]
    Add {
        /// Its name here: images that begin with it are pulled from there.
        name: String,
        /// Its host, with its port where it is not the usual one.
        #[arg(long, value_name = "HOST[:PORT]")]
        host: String,
        /// The user that images are pulled as; then standard input holds the password, or a token.
        #[arg(long)]
        user: Option<String>,
        /// Speak to it without TLS.
        #[arg(long)]
        plain: bool,
        /// The certificate that its own must lead to, as a PEM file, instead of what the machine trusts.
        #[arg(long, value_name = "FILE", conflicts_with = "plain")]
        authority: Option<PathBuf>,
        /// The proxy that it is reached through, such as `http://proxy.example:3128`.
        #[arg(long, value_name = "URL")]
        proxy: Option<String>,
        #[command(flatten)]
        trial: Trial,
    },
    /// List the registries, and images that could not be pulled.
    #[command(after_help = "Example:\n  mainyard registry list")]
    List {
        #[command(flatten)]
        output: Output,
    },
    /// Ask whether a registry answers and takes the password.
    #[command(after_help = "Example:\n  mainyard registry check forge")]
    Check {
        /// Its name.
        name: String,
    },
    /// Remove a registry. Images that were pulled stay.
    #[command(after_help = "Example:\n  mainyard registry remove forge")]
    Remove {
        /// Its name.
        name: String,
        #[command(flatten)]
        trial: Trial,
    },
}
