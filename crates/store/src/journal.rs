//! Reading the journal: on from a cursor, or back from now.

use jiff::Timestamp;
use mainyard_core::model::Origin;
use mainyard_core::record::Kind;
use serde::Serialize;
use sqlx::Row;

use crate::past::fleeting;
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
    /// Its present value; `None` if it was removed.
    pub body: Option<serde_json::Value>,
    /// The member or part that caused it.
    pub cause: Origin,
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
pub(crate) const READ_TRAIL: &str = "SELECT number, kind, key, body, cause, (extract(epoch FROM at) * 1000)::bigint \
    FROM journal WHERE ($1 OR cause->>'by' <> 'platform') \
    AND NOT kind = ANY ($2) \
    AND ($3 = '' OR key = $3 OR starts_with(key, $3 || '@') OR starts_with(key, $3 || '/')) \
    AND ($4 = '' OR key = $4 OR starts_with(key, $4 || '/') OR kind = 'image') \
    AND ($5 = '' OR kind = $5) AND ($6 = '' OR cause->>'by' = $6) AND ($7 = '' OR cause->>'act' = $7) \
    AND at >= to_timestamp($8::double precision / 1000) AND at <= to_timestamp($9::double precision / 1000) \
    AND number < $10 ORDER BY number DESC LIMIT $11";

/// A search of the trail; empty fields match everything.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sought {
    /// An object's key, with its releases.
    pub of: String,
    /// An environment.
    pub environment: String,
    /// A kind of object.
    pub kind: String,
    /// A member.
    pub by: String,
    /// An act.
    pub act: String,
    /// Not before.
    pub from: Option<Timestamp>,
    /// Not after.
    pub until: Option<Timestamp>,
    /// Before this change.
    pub before: Option<u64>,
    /// Include the platform's own acts, except routine starts and stops.
    pub platform: bool,
    /// How many at most.
    pub limit: u32,
}

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

    /// The acts, the newest first.
    pub async fn trail(&self, sought: &Sought) -> Result<Vec<Entry>, Error> {
        // What a person did shows in what came of it, a replica too.
        let without: Vec<&str> = if sought.platform { fleeting() } else { Vec::new() };
        let millis = |at: Option<Timestamp>, otherwise| at.map_or(otherwise, |at| at.as_millisecond() as f64);
        let query = sqlx::query(READ_TRAIL).bind(sought.platform).bind(without);
        let query = query.bind(&sought.of).bind(&sought.environment).bind(&sought.kind).bind(&sought.by);
        let query = query.bind(&sought.act).bind(millis(sought.from, f64::NEG_INFINITY));
        let query = query.bind(millis(sought.until, f64::INFINITY));
        let query =
            query.bind(sought.before.map_or(i64::MAX, |number| number as i64)).bind(i64::from(sought.limit));
        let rows = query.fetch_all(self.pool()).await?;
        Ok(rows.iter().filter_map(entry).collect())
    }
}

/// `None` for a kind that this version does not know.
fn entry(row: &sqlx::postgres::PgRow) -> Option<Entry> {
    let at = Timestamp::from_millisecond(row.get(5)).ok()?;
    // A cause that another version wrote otherwise must not hide the change.
    let cause = serde_json::from_value(row.get(4));
    let cause = cause.unwrap_or_else(|_| Origin::new("another version", "changed", at));
    Some(Entry {
        number: row.get::<i64, _>(0) as u64,
        kind: Kind::from_word(row.get(1))?,
        key: row.get(2),
        body: row.get(3),
        cause,
        at,
    })
}
