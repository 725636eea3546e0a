//! The values of secrets: sealed as they come, opened only on their way to a node.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use mainyard_core::cluster::SealedValue;
use mainyard_core::link::RunOrder;
use mainyard_core::manifest::{Declared, Problem};
use mainyard_core::model::{Given, Name, SECRET_LIMIT, SecretKey, SecretValue, Target, as_encrypted};
use mainyard_core::record::State;
use mainyard_sealing::open_format::Pair;
use mainyard_sealing::{KeyRing, file};
use mainyard_store::{SealedRow, Store};
use tokio::sync::RwLock;

/// The file of the platform's keys.
#[derive(Clone)]
pub enum KeySource {
    /// In a file, which is made where it is not there, and written when the key is changed.
    File(PathBuf),
    /// Given from outside: one key, or the new one and those before it.
    Given(String),
}

/// Prefix of the names of environments' keys, as they are stored.
const PAIR: &str = "pair-";

/// An error, in words that hold nothing of any value or key.
#[derive(Debug, thiserror::Error)]
pub enum SecretStoreError {
    /// With the record.
    #[error(transparent)]
    Store(#[from] mainyard_store::Error),
    /// With keys or values.
    #[error("{0}")]
    Keys(String),
}

/// Seals and opens.
#[derive(Clone)]
pub(crate) struct SecretStore {
    store: Store,
    source: KeySource,
    /// Locked while the key is being changed.
    changing: Arc<RwLock<()>>,
}

fn words(error: impl std::fmt::Display) -> SecretStoreError {
    SecretStoreError::Keys(error.to_string())
}

impl SecretStore {
    /// With these keys, over this record.
    pub(crate) fn new(store: Store, source: KeySource) -> SecretStore {
        SecretStore { store, source, changing: Arc::default() }
    }

    fn keys(&self) -> Result<KeyRing, SecretStoreError> {
        match &self.source {
            KeySource::File(path) => file::read_or_make(path).map_err(words),
            KeySource::Given(text) => KeyRing::parse(text).map_err(|error| {
                SecretStoreError::Keys(format!("MAINYARD_SECRETS_KEY cannot be used: {error}"))
            }),
        }
    }

    /// Seals a value and keeps it; it is a secret's only when an act says so.
    pub(crate) async fn keep(
        &self,
        target: &Target,
        value: &SecretValue,
    ) -> Result<SealedValue, SecretStoreError> {
        let _nobody_changes = self.changing.read().await;
        let name = mainyard_sealing::new_key().map_err(words)?[..24].to_owned();
        let place = format!("{target} {name}");
        let body = self.keys()?.seal(&place, &value.0).map_err(words)?;
        self.store.put_sealed(&SealedRow { name: name.clone(), place, body }).await?;
        Ok(SealedValue { name, text: value.text().is_some() })
    }

    /// Gives orders the values they need. One that cannot be opened is left out, and the log says why; the replica then
    /// waits for it.
    pub(crate) async fn fill(&self, state: &State, orders: &mut [RunOrder]) -> Result<(), SecretStoreError> {
        let mut wanted: BTreeMap<String, (Target, SecretKey)> = BTreeMap::new();
        for order in orders.iter() {
            for key in order.secret_keys() {
                let target = Target::new(&order.id.workload.environment, &key.secret);
                let version = state.secrets.get(&target).and_then(|secret| secret.versions.get(&key.version));
                match version {
                    Some(version) => drop(wanted.insert(version.sealed.clone(), (target, key))),
                    None => tracing::error!(replica = %order.id, secret = %key, "there is no such version"),
                }
            }
        }
        if wanted.is_empty() {
            return Ok(());
        }
        let mut opened: BTreeMap<(Target, u32), SecretValue> = BTreeMap::new();
        let mut values = self.open(wanted.keys().cloned().collect()).await?;
        for (name, (target, key)) in wanted {
            match values.remove(&name) {
                Some(value) => drop(opened.insert((target, key.version), value)),
                None => tracing::error!(%target, version = key.version, "a secret's value can't be read"),
            }
        }
        for order in orders {
            let environment = order.id.workload.environment.clone();
            let values = order.secret_keys().into_iter().filter_map(|key| {
                let value = opened.get(&(Target::new(&environment, &key.secret), key.version))?.clone();
                Some(Given { secret: key.secret, version: key.version, value })
            });
            order.values = values.collect();
        }
        Ok(())
    }

    /// The pair of keys of an environment, to whose public one people encrypt values; made when it is first asked for.
    pub(crate) async fn pair(&self, environment: &Name) -> Result<Pair, SecretStoreError> {
        let name = format!("{PAIR}{environment}");
        for again in [true, false] {
            let kept = self.store.read_sealed(std::slice::from_ref(&name)).await?;
            if let Some(row) = kept.first() {
                let opened = self.keys()?.open(&row.place, &row.body).map_err(words)?;
                return Pair::read(&String::from_utf8_lossy(&opened)).map_err(words);
            }
            let _nobody_changes = self.changing.read().await;
            let pair = Pair::new();
            let place = format!("the key of {environment}");
            let body = self.keys()?.seal(&place, pair.private().as_bytes()).map_err(words)?;
            match self.store.put_sealed(&SealedRow { name: name.clone(), place, body }).await {
                Ok(()) => return Ok(pair),
                // Somebody else made it at the same moment: theirs counts.
                Err(_) if again => {}
                Err(error) => return Err(error.into()),
            }
        }
        Err(SecretStoreError::Keys(format!("the key of {environment} cannot be kept")))
    }

    /// Opens the values that files declare for an environment, to see that it can be done. What cannot be opened is reported with
    /// its place.
    pub(crate) async fn look_into(
        &self,
        environment: &Name,
        declared: &mut Declared,
    ) -> Result<Vec<Problem>, SecretStoreError> {
        if declared.secrets.is_empty() {
            return Ok(Vec::new());
        }
        let pair = self.pair(environment).await?;
        let mut problems = Vec::new();
        for (name, secret) in &mut declared.secrets {
            match pair.open(&secret.age, SECRET_LIMIT as u64) {
                Ok(value) => secret.text = SecretValue(value).text().is_some(),
                Err(error) => problems.push(Problem {
                    place: secret.place.clone(),
                    message: format!(
                        "the value of the secret `{name}` cannot be opened in {environment}: {error}; encrypt it with: \
                         mainyard secret encrypt {environment}/{name}"
                    ),
                }),
            }
        }
        Ok(problems)
    }

    /// Opens values by the names they are kept under, and those that are encrypted to an environment's key. One that cannot be opened is left out, and the log says why.
    pub(crate) async fn open(
        &self,
        names: Vec<String>,
    ) -> Result<BTreeMap<String, SecretValue>, SecretStoreError> {
        let mut opened = BTreeMap::new();
        if names.is_empty() {
            return Ok(opened);
        }
        for name in &names {
            let Some((environment, text)) = as_encrypted(name) else { continue };
            let environment: Name = environment.parse().map_err(words)?;
            match self.pair(&environment).await?.open(text, SECRET_LIMIT as u64) {
                Ok(value) => drop(opened.insert(name.clone(), SecretValue(value))),
                Err(error) => {
                    tracing::error!(%environment, %error, "a value that was declared cannot be opened")
                }
            }
        }
        let keys = self.keys()?;
        for row in self.store.read_sealed(&names).await? {
            match keys.open(&row.place, &row.body) {
                Ok(value) => drop(opened.insert(row.name, SecretValue(value))),
                Err(error) => tracing::error!(place = row.place, %error, "a value cannot be opened"),
            }
        }
        Ok(opened)
    }

    /// Seals what is sealed under an older key again under the newest, and lets the older ones go where they are in a
    /// file. Also ends a change of the key that was broken off.
    pub(crate) async fn renew(&self) -> Result<u64, SecretStoreError> {
        let _nobody_seals = self.changing.write().await;
        self.renew_all().await
    }

    async fn renew_all(&self) -> Result<u64, SecretStoreError> {
        let keys = self.keys()?;
        let renewed = self
            .store
            .renew_sealed(|row| keys.renew(&row.place, &row.body).map_err(|error| error.to_string()));
        let count = renewed.await?.map_err(SecretStoreError::Keys)?;
        if let KeySource::File(path) = &self.source
            && keys.count() > 1
        {
            file::write(path, &keys.newest_only().map_err(words)?).map_err(words)?;
        }
        Ok(count)
    }

    /// Makes a new key and seals everything again under it. Gives its id and how many values there were. Both keys are on
    /// disk until all is sealed again, so that nothing is lost wherever it is broken off.
    pub(crate) async fn change_key(&self) -> Result<(String, u64), SecretStoreError> {
        let KeySource::File(path) = &self.source else {
            let message = "the key was given in MAINYARD_SECRETS_KEY: start the platform with `NEW,OLD` there; \
                           what is sealed under OLD is sealed again at the start, and OLD can go after it";
            return Err(SecretStoreError::Keys(message.to_owned()));
        };
        let _nobody_seals = self.changing.write().await;
        // Whatever cannot be opened now would be lost for good.
        self.renew_all().await?;
        file::write(path, &self.keys()?.with_new_key().map_err(words)?).map_err(words)?;
        let count = self.renew_all().await?;
        Ok((self.keys()?.sealing_id(), count))
    }
}
