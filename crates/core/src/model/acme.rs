//! Certificate authorities outside, which sign certificates for hosts that are proved to be served here (ACME, RFC 8555).

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Name, Origin, Reason, Target};

/// An authority outside, and what was ordered of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct OutsideAuthority {
    /// Its name here.
    pub name: Name,
    /// The URL of its directory (RFC 8555, section 7.1.1).
    pub directory: String,
    /// Where it writes to, as `mailto:` and an address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub contact: Option<String>,
    /// The certificate that its own must lead to, as PEM; what the machine trusts where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
    /// How it is shown that a host is served here.
    pub challenge: ChallengeKind,
    /// The name that the account's sealed key is kept under, once there is an account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// Certificates that are on order, or could not be had, by host.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub orders: BTreeMap<String, CertificateOrder>,
    /// The member who added it.
    pub origin: Origin,
}

/// How it is shown that a host is served here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize, JsonSchema)]
pub enum ChallengeKind {
    /// A file over plain HTTP at port 80 (RFC 8555, section 8.3).
    #[default]
    #[serde(rename = "http-01")]
    Http01,
    /// A certificate over TLS at port 443 (RFC 8737).
    #[serde(rename = "tls-alpn-01")]
    TlsAlpn01,
}

impl ChallengeKind {
    /// As the authority calls it.
    pub fn word(self) -> &'static str {
        match self {
            ChallengeKind::Http01 => "http-01",
            ChallengeKind::TlsAlpn01 => "tls-alpn-01",
        }
    }
}

/// A certificate that is on order, or could not be had.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct CertificateOrder {
    /// The certificate that it becomes.
    pub certificate: Target,
    /// What gateways answer the authority, while it asks.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<ChallengeAnswer>,
    /// How often it failed in a row.
    #[serde(default)]
    pub failures: u32,
    /// Not before then it is tried again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub again: Option<Timestamp>,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<Reason>,
}

/// The answer to an authority that asks whether a host is served here.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ChallengeAnswer {
    /// How it asks.
    pub kind: ChallengeKind,
    /// What it asks for.
    pub token: String,
    /// What it is to be told (RFC 8555, section 8.1).
    pub key_authorization: String,
}
