//! Secrets and certificates: values, chains and keys come in, and are never given out again.

use std::collections::BTreeMap;

use mainyard_core::cluster::MadeRelease;
use mainyard_core::commands::{CertificateAdded, Removed, SecretsAdded};
use mainyard_core::model::{CertificateView, Name, Origin, SECRET_LIMIT};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Done;
use crate::operation::{JsonAnswer, JsonBody, NoBody, Person, RawBody, operations};
use crate::{Limits, NoPath, NoQuery, OfEnvironment, OfTarget, Trial};

/// Longest chain of certificates, in bytes.
pub const CHAIN_LIMIT: usize = 256 << 10;

operations! {
    /// Lists all secrets, without their values.
    ListSecrets: Get "/api/v1/secrets" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<SecretEntry>>, problems: [],
    }
    /// Adds a secret or a version of one. The body is the value, as it is; no answer ever holds it.
    AddSecret: Put "/api/v1/environments/{environment}/secrets/{name}" {
        caller: Person, path: OfTarget, query: Trial, body: RawBody, limits: Limits::bytes(2 * SECRET_LIMIT as u64),
        answer: JsonAnswer<Done<SecretsAdded>>, problems: [NotFound, Conflict],
    }
    /// Removes a secret that nothing uses.
    RemoveSecret: Delete "/api/v1/environments/{environment}/secrets/{name}" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Done<Removed>>, problems: [NotFound, Conflict],
    }
    /// Returns the key to which values for an environment can be encrypted into files, in the age format.
    ShowPublicKey: Get "/api/v1/environments/{environment}/public-key" {
        caller: Person, path: OfEnvironment, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<PublicKey>, problems: [NotFound, Conflict],
    }
    /// Creates a new platform key and seals all values again under it.
    RotateKey: Post "/api/v1/secrets/rotate-key" {
        caller: Person, path: NoPath, query: Trial, body: NoBody, limits: Limits::SMALL,
        answer: JsonAnswer<KeyRotated>, problems: [Conflict],
    }
    /// Lists all certificates, without their keys.
    ListCertificates: Get "/api/v1/certificates" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<CertificateView>>, problems: [],
    }
    /// Returns the local authority's own certificate: what to trust where no other was given.
    ShowAuthority: Get "/api/v1/authority" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Authority>, problems: [NotFound],
    }
    /// Adds a certificate, or puts one in the place of its predecessor; no connection is interrupted.
    AddCertificate: Put "/api/v1/environments/{environment}/certificates/{name}" {
        caller: Person, path: OfTarget, query: Trial, body: JsonBody<NewCertificate>,
        limits: Limits::bytes(4 * CHAIN_LIMIT as u64),
        answer: JsonAnswer<Done<CertificateAdded>>, problems: [NotFound, Conflict],
        example: r#"{"chain": "-----BEGIN CERTIFICATE-----\n"}"#,
    }
    /// Removes a certificate that no route names.
    RemoveCertificate: Delete "/api/v1/environments/{environment}/certificates/{name}" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Done<Removed>>, problems: [NotFound, Conflict],
    }
    /// Issues a certificate of the local authority for a service's name inside.
    ///
    /// Chain and key become secrets, which the workload takes as files. Issued again, they are new versions, and workloads
    /// that use them get a release.
    IssueCertificate: Post "/api/v1/environments/{environment}/services/{name}/certificate" {
        caller: Person, path: OfTarget, query: Trial, body: NoBody, limits: Limits::SMALL,
        answer: JsonAnswer<Done<CertificateIssued>>, problems: [NotFound, Conflict],
    }
}

/// A version of a secret, without its value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct VersionEntry {
    /// Whether it is text.
    pub text: bool,
    /// The member who added it.
    pub origin: Origin,
}

/// A secret, without its values.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SecretEntry {
    /// Which one, as `environment/name`.
    pub secret: String,
    /// Its versions by number.
    pub versions: BTreeMap<u32, VersionEntry>,
    /// The workloads that use it, as `environment/name`.
    pub used_by: Vec<String>,
}

/// A key that values are encrypted to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct PublicKey {
    /// For which environment.
    pub environment: Name,
    /// The key, in the age format.
    pub public_key: String,
}

/// All values are sealed under a new key, or would be.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct KeyRotated {
    /// The name of the new key; absent in a forecast.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// How many values were sealed again.
    pub sealed_anew: u64,
}

/// The local authority's certificate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Authority {
    /// The certificate, as PEM (RFC 7468).
    pub pem: String,
    /// The file on the platform's machine.
    pub file: String,
}

/// A chain, with its key where hosts are served with it.
#[derive(Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewCertificate {
    /// Certificates as PEM (RFC 7468), the host's own first.
    pub chain: String,
    /// The private key as PEM; left out, the certificate only says which authority is trusted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
}

impl std::fmt::Debug for NewCertificate {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("NewCertificate").field("chain", &self.chain).finish_non_exhaustive()
    }
}

/// A certificate was issued.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CertificateIssued {
    /// For which name.
    pub host: String,
    /// How many days it lasts.
    pub days: i64,
    /// The secret that holds the chain.
    pub chain: Name,
    /// The secret that holds the key.
    pub key: Name,
    /// The releases that were made because of it.
    pub releases: Vec<MadeRelease>,
}
