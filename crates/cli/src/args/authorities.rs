//! The arguments of commands for certificate authorities outside.

use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};
use mainyard_core::model::ChallengeKind;

use super::{Output, Trial};

/// How it is shown that a host is served here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ChallengeChoice {
    /// By a file over plain HTTP, at port 80 of the host.
    #[value(name = "http-01")]
    Http01,
    /// By a handshake over TLS, at port 443 of the host.
    #[value(name = "tls-alpn-01")]
    TlsAlpn01,
}

impl From<ChallengeChoice> for ChallengeKind {
    fn from(choice: ChallengeChoice) -> ChallengeKind {
        match choice {
            ChallengeChoice::Http01 => ChallengeKind::Http01,
            ChallengeChoice::TlsAlpn01 => ChallengeKind::TlsAlpn01,
        }
    }
}

/// Commands for certificate authorities outside.
#[derive(Debug, Subcommand)]
pub(crate) enum AuthorityCommand {
    /// Add an authority that speaks ACME (RFC 8555), or change one. A route obtains its certificate with `tls = { obtain_from = NAME }`.
    #[command(
        after_help = "Example:\n  mainyard authority add public --directory https://acme.example/directory --contact ops@lockers.example --agree-to-terms"
    )]
    Add {
        /// Its name here.
        name: String,
        /// The URL of its directory.
        #[arg(long, value_name = "URL")]
        directory: String,
        /// The mail address that it writes to.
        #[arg(long, value_name = "ADDRESS")]
        contact: Option<String>,
        /// How it is shown that a host is served here.
        #[arg(long, value_name = "KIND", default_value = "http-01")]
        challenge: ChallengeChoice,
        /// The certificate that its own must lead to, as a PEM file, instead of what the machine trusts.
        #[arg(long, value_name = "FILE")]
        trust: Option<PathBuf>,
        /// Agree to the authority's terms of service; it signs for nobody else.
        #[arg(long, required = true)]
        agree_to_terms: bool,
        #[command(flatten)]
        trial: Trial,
    },
    /// List the authorities, and certificates that are on order or could not be had.
    #[command(after_help = "Example:\n  mainyard authority list")]
    List {
        #[command(flatten)]
        output: Output,
    },
    /// Remove an authority. Certificates that it signed stay, and are not renewed.
    #[command(after_help = "Example:\n  mainyard authority remove public")]
    Remove {
        /// Its name.
        name: String,
        #[command(flatten)]
        trial: Trial,
    },
}
