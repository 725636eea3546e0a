//! What gateways need and no table holds: values of secrets that routes let in by, and certificates with their keys.

use std::collections::BTreeMap;

use mainyard_core::cluster::State;
use mainyard_core::link::{Private, PrivateCertificate};
use mainyard_core::model::Target;

use crate::vault::{Vault, VaultError};

/// What is wanted, by what tells one state of it from another: the name that each value is kept under, and the chains.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Wanted {
    secrets: BTreeMap<Target, String>,
    certificates: BTreeMap<Target, (String, Option<String>, Vec<String>)>,
}

impl Wanted {
    /// Whether gateways need nothing.
    pub fn is_empty(&self) -> bool {
        self.secrets.is_empty() && self.certificates.is_empty()
    }
}

/// The secrets that routes let in by, in their newest version, and all certificates.
pub fn wanted(state: &State) -> Wanted {
    let secrets = state.routes.values().filter_map(|route| {
        let secret = Target::new(&route.target.environment, route.spec.enter.secret()?);
        let newest = state.secrets.get(&secret)?.versions.values().next_back()?;
        Some((secret, newest.sealed.clone()))
    });
    let certificates = state
        .certificates
        .values()
        .map(|it| (it.target.clone(), (it.chain.clone(), it.sealed.clone(), it.names.clone())));
    Wanted { secrets: secrets.collect(), certificates: certificates.collect() }
}

/// Opens them.
pub async fn open(vault: &Vault, wanted: &Wanted) -> Result<Private, VaultError> {
    let keys = wanted.certificates.values().filter_map(|(_, sealed, _)| sealed.clone());
    let opened = vault.open(wanted.secrets.values().cloned().chain(keys).collect()).await?;
    let values =
        wanted.secrets.iter().filter_map(|(secret, name)| Some((secret.clone(), opened.get(name)?.clone())));
    let certificates =
        wanted.certificates.iter().map(|(target, (chain, sealed, names))| PrivateCertificate {
            certificate: target.clone(),
            names: names.clone(),
            chain: chain.clone(),
            key: sealed.as_ref().and_then(|name| opened.get(name).cloned()),
        });
    Ok(Private { values: values.collect(), certificates: certificates.collect() })
}
