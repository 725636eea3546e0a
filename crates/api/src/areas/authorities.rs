//! Certificate authorities outside, which certificates are obtained from (ACME, RFC 8555).

use jiff::Timestamp;
use mainyard_core::commands::{AuthorityAdded, Removed};
use mainyard_core::model::{ChallengeKind, Name, Origin, Reason};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Done;
use crate::operation::{JsonAnswer, JsonBody, NoBody, Person, operations};
use crate::{Limits, NoPath, NoQuery, OfAuthority, Trial};

operations! {
    /// Lists the authorities outside that certificates are obtained from, and orders that are open or failed.
    ListAuthorities: Get "/api/v1/authorities" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<AuthorityEntry>>, problems: [],
    }
    /// Adds an authority outside, or puts one in the place of its predecessor. Routes obtain certificates from it by
    /// `tls.obtain_from`.
    AddAuthority: Put "/api/v1/authorities/{authority}" {
        caller: Person, path: OfAuthority, query: Trial, body: JsonBody<NewAuthority>, limits: Limits::bytes(256 << 10),
        answer: JsonAnswer<Done<AuthorityAdded>>, problems: [NotFound, Conflict],
        example: r#"{"directory": "https://acme.example/directory", "contact": "ops@lockers.example", "agrees_to_terms": true}"#,
    }
    /// Removes an authority outside; certificates that it signed stay, and are not renewed.
    RemoveAuthority: Delete "/api/v1/authorities/{authority}" {
        caller: Person, path: OfAuthority, query: Trial, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Done<Removed>>, problems: [NotFound, Conflict],
    }
}

/// An authority that is to be added.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAuthority {
    /// The URL of its directory.
    #[schemars(length(min = 1, max = 500))]
    pub directory: String,
    /// The mail address that it writes to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 3, max = 260))]
    pub contact: Option<String>,
    /// The certificate that its own must lead to, as PEM.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(max = 131_072))]
    pub trust: Option<String>,
    /// How it is shown that a host is served here.
    #[serde(default)]
    pub challenge: ChallengeKind,
    /// Whether its terms of service are agreed to.
    pub agrees_to_terms: bool,
}

/// An authority, without its account.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AuthorityEntry {
    /// Its name.
    pub name: Name,
    /// The URL of its directory.
    pub directory: String,
    /// Where it writes to.
    pub contact: Option<String>,
    /// How it is shown that a host is served here.
    pub challenge: ChallengeKind,
    /// Whether a certificate of its own is trusted.
    pub own_trust: bool,
    /// How many certificates it signed that are here.
    pub certificates: u32,
    /// Orders that are open or failed.
    pub orders: Vec<CertificateOrderEntry>,
    /// The member who added it.
    pub origin: Origin,
}

/// An order that is open or failed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CertificateOrderEntry {
    /// The host.
    pub host: String,
    /// The certificate that it becomes, as `environment/name`.
    pub certificate: String,
    /// How often it failed in a row.
    pub failures: u32,
    /// Not before then it is tried again.
    pub again: Option<Timestamp>,
    /// Why it failed.
    pub problem: Option<Reason>,
}
