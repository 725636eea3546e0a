//! Commands on secrets and certificates. Values are sealed before they come here; a command holds none.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CommandKind, Removed, outcome_of, released};
use crate::cluster::{MadeRelease, Refusal, SealedValue, Transaction};
use crate::model::{Certificate, CertificateView, Target};

/// Adds a secret, or a version of one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AddSecret {
    /// Which one.
    pub secret: Target,
    /// How its value is kept.
    pub value: SealedValue,
}

/// Adds versions of several secrets at once.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AddSecrets {
    /// Which ones, and how their values are kept.
    pub secrets: Vec<(Target, SealedValue)>,
}

/// New versions of secrets, and what they led to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SecretsAdded {
    /// The number of the new version; of the last one where several were added.
    pub version: u32,
    /// The releases that were made.
    pub releases: Vec<MadeRelease>,
    /// Workloads that are on hold and keep the version they have.
    pub held: Vec<Target>,
}

fn add(
    transaction: &mut Transaction<'_>,
    secrets: &[(Target, SealedValue)],
) -> Result<SecretsAdded, Refusal> {
    let mut all = SecretsAdded { version: 0, releases: Vec::new(), held: Vec::new() };
    for (secret, value) in secrets {
        let added = transaction.add_secret(secret, value.clone())?;
        all.version = added.version;
        all.releases.extend(added.releases);
        all.held.extend(added.held);
    }
    Ok(all)
}

impl CommandKind for AddSecret {
    type Outcome = SecretsAdded;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<SecretsAdded, Refusal> {
        add(transaction, &[(self.secret.clone(), self.value.clone())])
    }

    fn moved(&self, outcome: &SecretsAdded) -> BTreeSet<Target> {
        released(&outcome.releases)
    }

    outcome_of!(AddSecret);
}

impl CommandKind for AddSecrets {
    type Outcome = SecretsAdded;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<SecretsAdded, Refusal> {
        add(transaction, &self.secrets)
    }

    fn moved(&self, outcome: &SecretsAdded) -> BTreeSet<Target> {
        released(&outcome.releases)
    }

    outcome_of!(AddSecrets);
}

/// Removes a secret that nothing uses.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveSecret {
    /// Which one.
    pub secret: Target,
}

impl CommandKind for RemoveSecret {
    type Outcome = Removed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Removed, Refusal> {
        Ok(Removed { gone: transaction.remove_secret(&self.secret)? })
    }

    outcome_of!(RemoveSecret);
}

/// Adds a certificate, or puts one in the place of its predecessor.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AddCertificate {
    /// The certificate.
    pub certificate: Certificate,
}

/// A certificate was added.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CertificateAdded {
    /// The certificate, without its chain.
    pub certificate: CertificateView,
    /// Its uses from now on, in words.
    pub serves: Vec<String>,
}

impl CommandKind for AddCertificate {
    type Outcome = CertificateAdded;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<CertificateAdded, Refusal> {
        let serves = transaction.add_certificate(self.certificate.clone())?;
        Ok(CertificateAdded { certificate: self.certificate.view(transaction.now()), serves })
    }

    outcome_of!(AddCertificate);
}

/// Removes a certificate that no route names.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RemoveCertificate {
    /// Which one.
    pub certificate: Target,
}

impl CommandKind for RemoveCertificate {
    type Outcome = Removed;

    fn run(&self, transaction: &mut Transaction<'_>) -> Result<Removed, Refusal> {
        Ok(Removed { gone: transaction.remove_certificate(&self.certificate)? })
    }

    outcome_of!(RemoveCertificate);
}
