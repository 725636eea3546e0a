//! Orders on disk, so that a later agent knows of its replicas. The values of secrets are sealed, each replica's in a
//! file of its own, under a key that the node made for itself.

use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use mainyard_core::link::RunOrder;
use mainyard_sealing::{KeyRing, file};

use crate::Error;

const ORDER: &str = "order.json";
const VALUES: &str = "values.sealed";
const BEGUN: &str = "begun";

/// The node's own keys.
pub(crate) fn keys(dir: &Path) -> Result<KeyRing, Error> {
    let kept = file::read_or_make(&dir.join("values-key"));
    kept.map_err(|error| Error::Io {
        doing: "use the node's key".to_owned(),
        source: io::Error::other(error),
    })
}

/// Keeps an order: whole or not at all, and nothing of a secret in the clear.
pub(crate) fn keep(dir: &Path, order: &RunOrder, keys: &KeyRing) -> io::Result<()> {
    let mut plain = order.clone();
    let values = std::mem::take(&mut plain.values);
    if !values.is_empty() {
        let sealed =
            keys.seal(&order.id.to_string(), &serde_json::to_vec(&values)?).map_err(io::Error::other)?;
        write_whole(dir, VALUES, &sealed)?;
    }
    write_whole(dir, ORDER, &serde_json::to_vec(&plain)?)
}

fn write_whole(dir: &Path, name: &str, content: &[u8]) -> io::Result<()> {
    let partial = dir.join(format!("{name}.partial"));
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create(true).truncate(true).mode(0o600);
    options.open(&partial)?.write_all(content)?;
    std::fs::rename(partial, dir.join(name))
}

/// The order that was kept; without the values of secrets where they cannot be opened, which control then sends again.
pub(crate) fn read(dir: &Path, keys: &KeyRing) -> Option<RunOrder> {
    let mut order: RunOrder = serde_json::from_slice(&std::fs::read(dir.join(ORDER)).ok()?).ok()?;
    if order.lacks().is_some() {
        let opened = std::fs::read(dir.join(VALUES)).map_err(|error| error.to_string()).and_then(|sealed| {
            let opened = keys.open(&order.id.to_string(), &sealed).map_err(|error| error.to_string())?;
            serde_json::from_slice(&opened).map_err(|error| error.to_string())
        });
        match opened {
            Ok(values) => order.values = values,
            Err(error) => {
                tracing::warn!(replica = %order.id, error, "the values of its secrets cannot be read")
            }
        }
    }
    Some(order)
}

/// Marks what runs once as begun: on disk before this returns.
pub(crate) fn mark_begun(dir: &Path) -> io::Result<()> {
    std::fs::File::create(dir.join(BEGUN))?.sync_all()?;
    std::fs::File::open(dir)?.sync_all()
}

/// Whether it was marked.
pub(crate) fn was_begun(dir: &Path) -> bool {
    dir.join(BEGUN).exists()
}

#[cfg(test)]
mod tests {
    use mainyard_core::model::{Given, SecretValue};

    use super::*;

    fn order() -> RunOrder {
        let mut order: RunOrder = serde_json::from_value(serde_json::json!({
            "id": "staging/locker-api/a0", "release": 1, "environment": 1, "digest": "sha256:0",
            "address": "10.118.16.2", "secrets": {"db-password": 2},
            "spec": {"image": "lockers/locker-api:1.4.0", "settings": {"DB_PASSWORD": {"secret": "db-password"}}},
        }))
        .expect("an order");
        let value = SecretValue(b"open sesame".to_vec());
        order.values.push(Given { secret: "db-password".parse().expect("a name"), version: 2, value });
        order
    }

    #[test]
    fn an_order_is_read_back_and_its_secrets_are_nowhere_in_the_clear() {
        let dir = tempfile::tempdir().expect("a directory");
        let own = keys(dir.path()).expect("keys");
        keep(dir.path(), &order(), &own).expect("kept");
        assert_eq!(read(dir.path(), &own), Some(order()));
        for entry in std::fs::read_dir(dir.path()).expect("a directory").flatten() {
            let content = std::fs::read(entry.path()).expect("a file");
            assert!(!content.windows(6).any(|part| part == b"sesame"), "{}", entry.path().display());
        }
        std::fs::remove_file(dir.path().join("values-key")).expect("removed");
        let other = keys(dir.path()).expect("other keys");
        let found = read(dir.path(), &other).expect("the order itself");
        assert!(found.values.is_empty() && found.lacks().is_some());
    }
}
