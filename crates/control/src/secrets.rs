//! Secrets: values come in and are never given out again.

use jiff::Timestamp;
use mainyard_api::{
    AddSecret, KeyRotated, ListSecrets, Problem, PublicKey, RemoveSecret, RotateKey, SecretEntry,
    ShowPublicKey, VersionEntry,
};
use mainyard_core::cluster::{Cluster, SealedValue};
use mainyard_core::commands::{self, Removed, SecretsAdded};
use mainyard_core::model::{SECRET_LIMIT, Secret, SecretValue, Target};

use crate::forecast::Acted;
use crate::operations::{Call, Operations};
use crate::problem::{elsewhere, of_record};
use crate::responses::known_environment;
use crate::secret_store::SecretStoreError;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list).mount(rotate_key).mount(public_key).mount(add).mount(remove);
}

impl From<SecretStoreError> for Problem {
    fn from(error: SecretStoreError) -> Problem {
        match error {
            SecretStoreError::Store(error) => of_record(error),
            SecretStoreError::Keys(message) => Problem::conflict(message),
        }
    }
}

fn entry(cluster: &Cluster, secret: &Secret) -> SecretEntry {
    let versions = secret.versions.iter().map(|(number, version)| {
        (*number, VersionEntry { text: version.text, origin: version.origin.clone() })
    });
    SecretEntry {
        secret: secret.target.to_string(),
        versions: versions.collect(),
        used_by: cluster.secret_uses().users(&secret.target).iter().map(Target::to_string).collect(),
    }
}

async fn list(call: Call<ListSecrets>) -> Result<Vec<SecretEntry>, Problem> {
    let state = call.control.leader.published.read().await.0.clone();
    let cluster = Cluster::new(state, 0, Timestamp::now());
    Ok(cluster.state().secrets.values().map(|secret| entry(&cluster, secret)).collect())
}

async fn add(call: Call<AddSecret>) -> Acted<SecretsAdded> {
    let (secret, body) = (call.path.target(), &call.body);
    if body.is_empty() {
        return Err(Problem::invalid(format!("the value of {secret} is empty")));
    }
    if body.len() > SECRET_LIMIT {
        let message =
            format!("the value of {secret} has {} bytes; at most {SECRET_LIMIT} are taken", body.len());
        return Err(Problem::too_large(message));
    }
    let value = SecretValue(body.clone());
    let value = if call.query.forecast {
        SealedValue { name: String::new(), text: value.text().is_some() }
    } else {
        call.control.vault.keep(&secret, &value).await?
    };
    call.act(commands::AddSecret { secret, value }).await
}

async fn remove(call: Call<RemoveSecret>) -> Acted<Removed> {
    call.act(commands::RemoveSecret { secret: call.path.target() }).await
}

async fn public_key(call: Call<ShowPublicKey>) -> Result<PublicKey, Problem> {
    let environment = call.path.environment;
    known_environment(&call.control.leader.published.read().await.0, &environment)?;
    let public_key = call.control.vault.pair(&environment).await?.public();
    Ok(PublicKey { environment, public_key })
}

async fn rotate_key(call: Call<RotateKey>) -> Result<KeyRotated, Problem> {
    let control = &call.control;
    if call.query.forecast {
        let count = control.store.count_sealed().await.map_err(of_record)?;
        return Ok(KeyRotated { key: None, sealed_anew: count });
    }
    if let Some(holder) = control.leader.elsewhere() {
        return Err(elsewhere(holder));
    }
    let (key, count) = control.vault.change_key().await?;
    tracing::info!(by = call.caller.name, key, count, "the platform's key was changed");
    Ok(KeyRotated { key: Some(key), sealed_anew: count })
}
