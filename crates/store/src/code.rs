//! Repositories of code that are pushed to, and the keys that members push with.

use jiff::Timestamp;
use serde_json::Value;
use sqlx::Row;
use sqlx::postgres::PgRow;
use sqlx::types::Json;

use crate::{Error, Store};

/// A repository as it is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct CodeRow {
    /// The environment that it is of.
    pub environment: String,
    /// Its name there.
    pub name: String,
    /// How often it was written.
    pub version: i64,
    /// The digest of the file with its objects.
    pub bundle: Option<String>,
    /// All else.
    pub body: Value,
}

/// A key that a member pushes with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SshKey {
    /// SHA-256 of the key, as `ssh-keygen -l` shows it.
    pub fingerprint: String,
    /// Whose it is.
    pub member: String,
    /// Its name among the member's keys.
    pub name: String,
    /// The key, as `authorized_keys` has it, without options and comment.
    pub key: String,
    /// When it was added.
    pub added: Timestamp,
}

pub(crate) const READ_ALL: &str =
    "SELECT environment, name, version, bundle, body FROM code ORDER BY environment, name";
pub(crate) const READ_OPEN: &str = "SELECT environment, name, version, bundle, body FROM code \
    WHERE body->'delivery'->>'state' = 'building' ORDER BY environment, name";
pub(crate) const BUNDLES: &str = "SELECT bundle FROM code WHERE bundle IS NOT NULL";
pub(crate) const READ: &str =
    "SELECT environment, name, version, bundle, body FROM code WHERE environment = $1 AND name = $2";
/// Version 0 makes it; another one is the version that it has in the record.
pub(crate) const PUT: &str = "INSERT INTO code (environment, name, version, bundle, body) \
    SELECT $1, $2, 1, $4, $5 WHERE $3 = 0 ON CONFLICT (environment, name) DO NOTHING";
pub(crate) const CHANGE: &str = "UPDATE code SET version = version + 1, bundle = $4, body = $5 \
    WHERE environment = $1 AND name = $2 AND version = $3";
pub(crate) const REMOVE: &str = "DELETE FROM code WHERE environment = $1 AND name = $2";
pub(crate) const ALL_KEYS: &str = "SELECT fingerprint, member, name, key, (extract(epoch FROM added) * 1000)::bigint \
    FROM ssh_key ORDER BY member, name";
pub(crate) const PUT_KEY: &str =
    "INSERT INTO ssh_key (fingerprint, member, name, key) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING";
pub(crate) const REMOVE_KEY: &str = "DELETE FROM ssh_key WHERE fingerprint = $1";

fn code(row: &PgRow) -> CodeRow {
    CodeRow {
        environment: row.get(0),
        name: row.get(1),
        version: row.get(2),
        bundle: row.get(3),
        body: row.get::<Json<Value>, _>(4).0,
    }
}

impl Store {
    /// All repositories.
    pub async fn all_code(&self) -> Result<Vec<CodeRow>, Error> {
        Ok(sqlx::query(READ_ALL).fetch_all(self.pool()).await?.iter().map(code).collect())
    }

    /// The repositories with a commit on its way.
    pub async fn code_under_way(&self) -> Result<Vec<CodeRow>, Error> {
        Ok(sqlx::query(READ_OPEN).fetch_all(self.pool()).await?.iter().map(code).collect())
    }

    /// The files with the objects of all repositories.
    pub async fn code_bundles(&self) -> Result<Vec<String>, Error> {
        Ok(sqlx::query(BUNDLES).fetch_all(self.pool()).await?.iter().map(|row| row.get(0)).collect())
    }

    /// One repository.
    pub async fn code(&self, environment: &str, name: &str) -> Result<Option<CodeRow>, Error> {
        let read = sqlx::query(READ).bind(environment).bind(name);
        Ok(read.fetch_optional(self.pool()).await?.as_ref().map(code))
    }

    /// Keeps a repository, if it has not changed since the version that is given; 0 stands for one that is not there.
    /// Returns whether it was kept.
    pub async fn put_code(&self, row: &CodeRow) -> Result<bool, Error> {
        let put = sqlx::query(if row.version == 0 { PUT } else { CHANGE });
        let put = put.bind(&row.environment).bind(&row.name).bind(row.version).bind(&row.bundle);
        let put = put.bind(Json(&row.body)).execute(self.pool()).await.map_err(Error::of_write)?;
        Ok(put.rows_affected() == 1)
    }

    /// Removes a repository. Returns whether there was one.
    pub async fn remove_code(&self, environment: &str, name: &str) -> Result<bool, Error> {
        let remove = sqlx::query(REMOVE).bind(environment).bind(name).execute(self.pool());
        Ok(remove.await.map_err(Error::of_write)?.rows_affected() == 1)
    }

    /// All keys.
    pub async fn ssh_keys(&self) -> Result<Vec<SshKey>, Error> {
        let rows = sqlx::query(ALL_KEYS).fetch_all(self.pool()).await?;
        let key = |row: &PgRow| SshKey {
            fingerprint: row.get(0),
            member: row.get(1),
            name: row.get(2),
            key: row.get(3),
            added: Timestamp::from_millisecond(row.get(4)).unwrap_or_default(),
        };
        Ok(rows.iter().map(key).collect())
    }

    /// Adds a key. Returns false where the key, or one of its name, is there already.
    pub async fn put_ssh_key(&self, key: &SshKey) -> Result<bool, Error> {
        let put =
            sqlx::query(PUT_KEY).bind(&key.fingerprint).bind(&key.member).bind(&key.name).bind(&key.key);
        Ok(put.execute(self.pool()).await.map_err(Error::of_write)?.rows_affected() == 1)
    }

    /// Removes a key. Returns whether there was one.
    pub async fn remove_ssh_key(&self, fingerprint: &str) -> Result<bool, Error> {
        let remove = sqlx::query(REMOVE_KEY).bind(fingerprint).execute(self.pool());
        Ok(remove.await.map_err(Error::of_write)?.rows_affected() == 1)
    }
}
