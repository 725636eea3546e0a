//! Values for gateways that no table holds: secrets for authorization, and certificates with their keys.

use std::collections::BTreeMap;

use jiff::Timestamp;
use mainyard_core::link::{HostChallenge, Private, PrivateCertificate};
use mainyard_core::model::{ChallengeAnswer, Target};
use mainyard_core::record::State;

use crate::secret_store::{SecretStore, SecretStoreError};

/// The wanted values, by a key that identifies one version of each: the name that each value is kept under, and the chains.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Wanted {
    secrets: BTreeMap<Target, String>,
    certificates: Vec<ServedCertificate>,
    challenges: Vec<HostChallenge>,
}

/// A certificate as it was given.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct ServedCertificate {
    until: Timestamp,
    target: Target,
    names: Vec<String>,
    chain: String,
    sealed: Option<String>,
}

impl Wanted {
    /// Whether gateways need nothing.
    pub(super) fn is_empty(&self) -> bool {
        self.secrets.is_empty() && self.certificates.is_empty() && self.challenges.is_empty()
    }
}

/// The secrets that routes let in by, in their newest version, and all certificates.
pub(super) fn wanted(state: &State) -> Wanted {
    let secrets = state.routes.values().filter_map(|route| {
        let secret = Target::new(&route.target.environment, route.spec.enter.secret()?);
        let newest = state.secrets.get(&secret)?.versions.values().next_back()?;
        Some((secret, newest.sealed.clone()))
    });
    let certificates = state.certificates.values().map(|it| ServedCertificate {
        until: it.until,
        target: it.target.clone(),
        names: it.names.clone(),
        chain: it.chain.clone(),
        sealed: it.sealed.clone(),
    });
    let mut certificates: Vec<ServedCertificate> = certificates.collect();
    certificates.sort();
    let orders = state.authorities.values().flat_map(|authority| &authority.orders);
    let challenges = orders.filter_map(|(host, order)| {
        let answer = order.answer.clone()?;
        let ChallengeAnswer { kind, token, key_authorization } = answer;
        Some(HostChallenge { host: host.clone(), kind, token, key_authorization })
    });
    Wanted { secrets: secrets.collect(), certificates, challenges: challenges.collect() }
}

/// Opens them.
pub(super) async fn open(vault: &SecretStore, wanted: &Wanted) -> Result<Private, SecretStoreError> {
    let keys = wanted.certificates.iter().filter_map(|it| it.sealed.clone());
    let opened = vault.open(wanted.secrets.values().cloned().chain(keys).collect()).await?;
    let values =
        wanted.secrets.iter().filter_map(|(secret, name)| Some((secret.clone(), opened.get(name)?.clone())));
    let certificates = wanted.certificates.iter().map(|it| PrivateCertificate {
        certificate: it.target.clone(),
        names: it.names.clone(),
        chain: it.chain.clone(),
        key: it.sealed.as_ref().and_then(|name| opened.get(name).cloned()),
    });
    let challenges = wanted.challenges.clone();
    Ok(Private { values: values.collect(), certificates: certificates.collect(), challenges })
}
