//! Reading the journal: on from a cursor, or back from now.

use jiff::Timestamp;
use mainyard_core::cluster::Kind;
use serde::Serialize;
use sqlx::Row;

use crate::{Error, Store};

/// One change, in its order.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Entry {
    /// Its number: without gaps.
    pub number: u64,
    /// The kind of what changed.
    pub kind: Kind,
    /// Its key.
    pub key: String,
    /// What it is now; `None` when it is gone.
    pub body: Option<serde_json::Value>,
    /// Who caused it.
    pub cause: serde_json::Value,
    /// When it was written.
    pub at: Timestamp,
}

/// A piece of the journal.
#[derive(Debug, Clone, PartialEq)]
pub struct Feed {
    /// Changes in their order.
    pub entries: Vec<Entry>,
    /// The number to go on from.
    pub cursor: u64,
}

pub(crate) const READ_SINCE: &str = "SELECT number, kind, key, body, cause, (extract(epoch FROM at) * 1000)::bigint \
    FROM journal WHERE number > $1 ORDER BY number LIMIT $2";
pub(crate) const READ_FIRST: &str = "SELECT kept_from FROM ledger";
pub(crate) const PRUNE: &str = "DELETE FROM journal WHERE number <= $1 AND cause->>'by' = 'platform'";
pub(crate) const KEEP_FROM: &str = "UPDATE ledger SET kept_from = $1 WHERE kept_from < $1";

/// The last so many changes stay whole in the change feed; of what is older only people's acts are kept, for good.
pub const FEED: u64 = 50_000;
pub(crate) const READ_TRAIL: &str = "SELECT number, kind, key, body, cause, (extract(epoch FROM at) * 1000)::bigint \
    FROM journal WHERE cause->>'by' <> 'platform' AND ($1 = '' OR key = $1 OR key LIKE $1 || '@%') \
    ORDER BY number DESC LIMIT $2";

impl Store {
    /// At most `limit` changes after `cursor`.
    ///
    /// # Errors
    /// [`Error::Reset`] when changes after the cursor are no longer kept.
    pub async fn read_since(&self, cursor: u64, limit: u32) -> Result<Feed, Error> {
        let first: i64 = sqlx::query(READ_FIRST).fetch_one(self.pool()).await?.get(0);
        if cursor < first as u64 {
            return Err(Error::Reset(first as u64));
        }
        let rows =
            sqlx::query(READ_SINCE).bind(cursor as i64).bind(i64::from(limit)).fetch_all(self.pool()).await?;
        let entries: Vec<Entry> = rows.iter().filter_map(entry).collect();
        let cursor = rows.last().map_or(cursor, |row| row.get::<i64, _>(0) as u64);
        Ok(Feed { entries, cursor })
    }

    /// Forgets what the platform did by itself, except for the last [`FEED`] changes up to `latest`. Gives how many
    /// changes went.
    pub async fn prune(&self, latest: u64) -> Result<u64, Error> {
        let Some(until) = latest.checked_sub(FEED).filter(|until| *until > 0) else { return Ok(0) };
        let mut transaction = self.pool().begin().await?;
        sqlx::query(KEEP_FROM).bind(until as i64).execute(&mut *transaction).await?;
        let gone = sqlx::query(PRUNE).bind(until as i64).execute(&mut *transaction).await?.rows_affected();
        transaction.commit().await?;
        Ok(gone)
    }

    /// What people did, the newest first; to one object and its releases where `key` is not empty.
    pub async fn trail(&self, key: &str, limit: u32) -> Result<Vec<Entry>, Error> {
        let rows = sqlx::query(READ_TRAIL).bind(key).bind(i64::from(limit)).fetch_all(self.pool()).await?;
        Ok(rows.iter().filter_map(entry).collect())
    }
}

/// `None` for a kind that this version does not know.
fn entry(row: &sqlx::postgres::PgRow) -> Option<Entry> {
    Some(Entry {
        number: row.get::<i64, _>(0) as u64,
        kind: Kind::from_word(row.get(1))?,
        key: row.get(2),
        body: row.get(3),
        cause: row.get(4),
        at: Timestamp::from_millisecond(row.get(5)).ok()?,
    })
}
