//! TLS of a route: towards visitors, and from the gateway to replicas.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Name, Span};

/// How a route is reached over TLS, and how the gateway goes on.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct RouteTls {
    /// The certificate; by default the one that covers the host, or one of the local authority's.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub certificate: Option<Name>,
    /// The authority outside that the certificate is obtained from, and renewed by.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub obtain_from: Option<Name>,
    /// The answer to requests without TLS.
    pub http: PlainHttp,
    /// That browsers use https alone from now on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hsts: Option<Hsts>,
    /// The oldest version of TLS that visitors may speak.
    #[serde(skip_serializing_if = "is_default")]
    pub least: TlsVersion,
    /// The cipher suites that may be agreed on; empty for all that the platform has.
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    pub ciphers: BTreeSet<String>,
    /// Certificates that visitors show.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub client_certificates: Option<ClientCertificates>,
    /// How the gateway speaks to the replica.
    pub onward: Onward,
    /// The certificate that the replica's own must lead to; the platform's authority where there is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub authority: Option<Name>,
    /// Whether the visitor's TLS is passed through as it is, by its name.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub untouched: bool,
}

impl RouteTls {
    /// The certificates that it names, whatever for.
    pub fn names(&self) -> impl Iterator<Item = &Name> {
        let clients = self.client_certificates.as_ref().map(|clients| &clients.authority);
        [self.certificate.as_ref(), self.authority.as_ref(), clients].into_iter().flatten()
    }
}

/// The answer to requests without TLS.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PlainHttp {
    /// They are sent to https.
    #[default]
    Redirect,
    /// They are answered.
    Answer,
}

/// How the gateway speaks to the replica after it has opened the visitor's TLS.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Onward {
    /// Without TLS.
    #[default]
    Plain,
    /// With TLS, and the replica's certificate is checked.
    Tls,
}

/// That browsers use https alone from now on (RFC 6797).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Hsts {
    /// For how long after each answer.
    pub lasts: Span,
    /// Also for every host below this one.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub subdomains: bool,
    /// Whether browsers' makers may put the host on the lists that they ship.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub preload: bool,
}

impl Hsts {
    /// The header's value.
    pub fn header(&self) -> String {
        let subdomains = if self.subdomains { "; includeSubDomains" } else { "" };
        let preload = if self.preload { "; preload" } else { "" };
        format!("max-age={}{subdomains}{preload}", self.lasts.millis() / 1000)
    }
}

/// A version of TLS.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize, JsonSchema)]
pub enum TlsVersion {
    /// RFC 5246.
    #[default]
    #[serde(rename = "1.2")]
    Tls12,
    /// RFC 8446.
    #[serde(rename = "1.3")]
    Tls13,
}

/// The cipher suites that there are, by their names in IANA's registry.
pub const CIPHERS: [&str; 9] = [
    "TLS_AES_256_GCM_SHA384",
    "TLS_AES_128_GCM_SHA256",
    "TLS_CHACHA20_POLY1305_SHA256",
    "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384",
    "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256",
    "TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256",
    "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384",
    "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256",
    "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256",
];

/// Whether a cipher suite is one of TLS 1.3.
pub fn is_of_tls13(cipher: &str) -> bool {
    !cipher.starts_with("TLS_ECDHE")
}

/// Certificates that visitors show to be let in (RFC 8446, section 4.3.2).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ClientCertificates {
    /// The certificate that theirs must lead to.
    pub authority: Name,
    /// Whether one must be shown; otherwise replicas see who showed one.
    #[serde(default = "ClientCertificates::usual", skip_serializing_if = "Clone::clone")]
    pub required: bool,
}

impl ClientCertificates {
    fn usual() -> bool {
        true
    }
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}
