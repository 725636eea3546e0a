//! What gateways need and no table holds: values of secrets that routes let in by.

use std::collections::BTreeMap;

use mainyard_core::cluster::State;
use mainyard_core::link::Private;
use mainyard_core::model::Target;

use crate::vault::{Vault, VaultError};

/// The secrets that routes let in by, and the name that the newest value of each is kept under.
pub fn wanted(state: &State) -> BTreeMap<Target, String> {
    let secrets = state.routes.values().filter_map(|route| {
        let secret = Target::new(&route.target.environment, route.spec.enter.secret()?);
        let newest = state.secrets.get(&secret)?.versions.values().next_back()?;
        Some((secret, newest.sealed.clone()))
    });
    secrets.collect()
}

/// Opens them.
pub async fn open(vault: &Vault, wanted: &BTreeMap<Target, String>) -> Result<Private, VaultError> {
    let mut opened = vault.open(wanted.values().cloned().collect()).await?;
    let values = wanted.iter().filter_map(|(secret, name)| Some((secret.clone(), opened.remove(name)?)));
    Ok(Private { values: values.collect(), certificates: Vec::new() })
}
