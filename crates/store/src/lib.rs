//! The record in PostgreSQL.
//!
//! Objects are JSON documents by kind and key; every change of one is also a row of the journal, numbered by a
//! counter that each writing transaction holds, so the journal has no gap and no two orders. A snapshot and its
//! cursor come from one transaction. Only the control of the present epoch may write.

mod builds;
mod code;
mod demand;
mod journal;
mod lease;
mod migrations;
mod past;
mod registry;
mod sealed;
mod tokens;
mod usage;

use jiff::Timestamp;
use mainyard_core::model::Origin;
use mainyard_core::record::{Change, Kind, Object, State};
use sqlx::postgres::{PgConnectOptions, PgPoolOptions, PgRow};
use sqlx::{PgPool, Row};

pub use builds::{BuildLineRow, BuildRow};
pub use code::{CodeRow, SshKey};
pub use journal::{Entry, Feed, Sought};
pub use lease::{LEASE, Lease};
pub use past::{HistoryRange, PastState};
pub use registry::{ManifestRow, TagRow};
pub use sealed::SealedRow;
pub use tokens::{NewToken, Token, TokenKind};

/// An error of the record.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// PostgreSQL does not answer or refuses.
    #[error("{what}: {0}", what = trouble(.0))]
    Database(#[from] sqlx::Error),
    /// The database's tables are not this version's.
    #[error("the record's tables cannot be brought up to date: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// Another control has taken over.
    #[error("another control decides now; this one decided in epoch {0}")]
    Superseded(u64),
    /// An object in the record cannot be read.
    #[error("the {kind} {key} in the record cannot be read: {source}")]
    Unreadable {
        /// Its kind.
        kind: String,
        /// Its key.
        key: String,
        /// The error.
        source: serde_json::Error,
    },
    /// The change can't be stored, and would be refused again.
    #[error("the record cannot hold this: {0}")]
    Refused(String),
    /// A cursor that is older than what the journal keeps.
    #[error("the journal begins after {0}; read a snapshot again")]
    Reset(u64),
}

impl Error {
    /// Tells what can never be written from what may pass when it is tried again. Classes of SQLSTATE
    /// (PostgreSQL's documentation, appendix A): 22 data exception, 23 integrity constraint violation, 54 program
    /// limit exceeded.
    fn of_write(error: sqlx::Error) -> Error {
        let code = error.as_database_error().and_then(|error| Some(error.code()?.into_owned()));
        match code.as_deref().and_then(|code| code.get(..2)) {
            Some("22" | "23" | "54") => Error::Refused(error.to_string()),
            _ => Error::Database(error),
        }
    }
}

/// Maps PostgreSQL's classes of error codes to our errors.
fn trouble(error: &sqlx::Error) -> &'static str {
    let code = error.as_database_error().and_then(|error| error.code());
    match code.as_deref() {
        Some("53100") => "the record's disk is full; nothing was changed",
        _ => "the record cannot be reached",
    }
}

/// The record.
#[derive(Debug, Clone)]
pub struct Store {
    pool: PgPool,
}

const READ_OBJECTS: &str = "SELECT kind, key, body FROM object ORDER BY kind, key";
const READ_NUMBER: &str = "SELECT number FROM ledger";
const TAKE_LEDGER: &str = "SELECT number, epoch FROM ledger FOR UPDATE";
const SET_NUMBER: &str =
    "UPDATE ledger SET number = $1, lease_until = clock_timestamp() + make_interval(secs => $2)";
const DELETE_OBJECTS: &str = "DELETE FROM object USING UNNEST($1::text[], $2::text[]) AS gone(kind, key) WHERE object.kind = gone.kind AND object.key = gone.key";
const PUT_OBJECTS: &str = "INSERT INTO object (kind, key, body, changed) \
    SELECT * FROM UNNEST($1::text[], $2::text[], $3::jsonb[], $4::bigint[]) \
    ON CONFLICT (kind, key) DO UPDATE SET body = EXCLUDED.body, changed = EXCLUDED.changed";
const WRITE_JOURNAL: &str = "INSERT INTO journal (number, kind, key, body, cause) \
    SELECT * FROM UNNEST($1::bigint[], $2::text[], $3::text[], $4::jsonb[], $5::jsonb[])";

/// Every query, for the test that prepares each of them.
pub const QUERIES: &[&str] = &[
    READ_OBJECTS,
    READ_NUMBER,
    TAKE_LEDGER,
    SET_NUMBER,
    DELETE_OBJECTS,
    PUT_OBJECTS,
    WRITE_JOURNAL,
    lease::TAKE,
    lease::READ,
    lease::RENEW,
    lease::RELEASE,
    journal::READ_SINCE,
    journal::READ_FIRST,
    journal::READ_TRAIL,
    past::NUMBER_AT,
    past::OBJECTS_AT,
    past::READ_REACH,
    past::NUMBER_BEFORE,
    past::KEEP_FROM,
    past::PRUNE,
    past::PRUNE_GONE,
    sealed::PUT,
    sealed::READ,
    sealed::READ_ALL,
    sealed::RENEW,
    sealed::COUNT,
    sealed::SWEEP,
    usage::ADD,
    usage::READ,
    usage::SWEEP,
    demand::ADD,
    demand::READ,
    demand::SWEEP,
    tokens::PUT_TOKEN,
    tokens::READ_TOKEN,
    tokens::READ_TOKENS,
    tokens::USE_TOKEN,
    tokens::REMOVE_TOKEN,
    tokens::REMOVE_SESSIONS,
    tokens::REMOVE_OTHERS,
    tokens::TAKE_TOKEN,
    tokens::SWEEP_TOKENS,
    registry::LINK_BLOB,
    registry::HAS_BLOB,
    registry::UNLINK_BLOB,
    registry::NEEDED_BY,
    registry::PUT_MANIFEST,
    registry::PUT_TAG,
    registry::READ_MANIFEST,
    registry::READ_REFERRERS,
    registry::ALL_MANIFESTS,
    registry::READ_TAGS,
    registry::REMOVE_TAG,
    registry::REMOVE_MANIFEST,
    registry::REPOSITORIES,
    builds::NEXT,
    builds::PUT,
    builds::READ,
    builds::READ_OPEN,
    builds::READ_NEWEST,
    builds::READ_BY_DIGEST,
    builds::SWEEP,
    builds::ADD_LINES,
    builds::CLEAR_LINES,
    builds::READ_LINES,
    builds::READ_LAST_LINES,
    builds::PUT_LAYER,
    builds::USE_LAYER,
    builds::DROP_LAYER,
    builds::ALL_LAYERS,
    builds::SWEEP_LAYERS,
    builds::READ_TIMES,
    builds::PUT_TIMES,
    code::READ_ALL,
    code::READ_OPEN,
    code::BUNDLES,
    code::READ,
    code::PUT,
    code::CHANGE,
    code::REMOVE,
    code::ALL_KEYS,
    code::PUT_KEY,
    code::REMOVE_KEY,
];

/// How often a first connection is tried, for as long as a connection is waited for each time.
const TRIES: u32 = 5;

impl Store {
    /// Connects and brings the tables up to date.
    pub async fn connect(url: &str) -> Result<Store, Error> {
        let options: PgConnectOptions = url.parse()?;
        let pool = PgPoolOptions::new().max_connections(8).acquire_timeout(std::time::Duration::from_secs(5));
        let mut tries = 1;
        let pool = loop {
            match pool.clone().connect_with(options.clone()).await {
                // A busy disk makes a server that starts slow; one that is not there at all is told of soon enough.
                Err(sqlx::Error::PoolTimedOut) if tries < TRIES => tries += 1,
                other => break other?,
            }
        };
        migrations::migrator().run(&pool).await?;
        Ok(Store { pool })
    }

    /// The pool, for tests.
    pub fn pool(&self) -> &PgPool {
        &self.pool
    }

    /// Every object, and the number of the last change among them.
    pub async fn snapshot(&self) -> Result<(State, u64), Error> {
        let mut transaction = self.pool.begin_with("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY").await?;
        let number: i64 = sqlx::query(READ_NUMBER).fetch_one(&mut *transaction).await?.get(0);
        let rows = sqlx::query(READ_OBJECTS).fetch_all(&mut *transaction).await?;
        transaction.commit().await?;
        Ok((state(rows)?, number as u64))
    }

    /// Writes changes in one transaction; gives their journal entries.
    ///
    /// # Errors
    /// [`Error::Superseded`] when the epoch is no longer the present one; [`Error::Refused`] when these changes can
    /// never be written. Nothing is written then, nor after any other error.
    pub async fn write(&self, epoch: u64, changes: &[Change]) -> Result<Vec<Entry>, Error> {
        let mut transaction = self.pool.begin().await?;
        let row = sqlx::query(TAKE_LEDGER).fetch_one(&mut *transaction).await?;
        let (number, present): (i64, i64) = (row.get(0), row.get(1));
        if present as u64 != epoch {
            return Err(Error::Superseded(epoch));
        }
        let entries = entries(number as u64, changes)?;
        let columns = |keep: fn(&&Entry) -> bool| {
            let kept: Vec<&Entry> = entries.iter().filter(keep).collect();
            let kinds: Vec<String> = kept.iter().map(|entry| entry.kind.word().to_owned()).collect();
            let keys: Vec<String> = kept.iter().map(|entry| entry.key.clone()).collect();
            let bodies: Vec<Option<serde_json::Value>> =
                kept.iter().map(|entry| entry.body.clone()).collect();
            let numbers: Vec<i64> = kept.iter().map(|entry| entry.number as i64).collect();
            (kinds, keys, bodies, numbers)
        };
        // What goes makes room (a host, an address) for what comes.
        let (kinds, keys, _, _) = columns(|entry| entry.body.is_none());
        sqlx::query(DELETE_OBJECTS)
            .bind(kinds)
            .bind(keys)
            .execute(&mut *transaction)
            .await
            .map_err(Error::of_write)?;
        let (kinds, keys, bodies, numbers) = columns(|entry| entry.body.is_some());
        sqlx::query(PUT_OBJECTS)
            .bind(kinds)
            .bind(keys)
            .bind(bodies)
            .bind(numbers)
            .execute(&mut *transaction)
            .await
            .map_err(Error::of_write)?;
        let (kinds, keys, bodies, numbers) = columns(|_| true);
        let causes: Vec<sqlx::types::Json<&Origin>> =
            entries.iter().map(|entry| sqlx::types::Json(&entry.cause)).collect();
        let insert =
            sqlx::query(WRITE_JOURNAL).bind(numbers).bind(kinds).bind(keys).bind(bodies).bind(causes);
        insert.execute(&mut *transaction).await.map_err(Error::of_write)?;
        let last = number + entries.len() as i64;
        sqlx::query(SET_NUMBER)
            .bind(last)
            .bind(LEASE.as_secs_f64())
            .execute(&mut *transaction)
            .await
            .map_err(Error::of_write)?;
        // Deferred constraints are checked here.
        transaction.commit().await.map_err(Error::of_write)?;
        Ok(entries)
    }
}

/// The objects of rows of kind, key and body. A kind that this version does not know is left out.
fn state(rows: Vec<PgRow>) -> Result<State, Error> {
    let mut state = State::default();
    for row in rows {
        let (kind, key): (String, String) = (row.get(0), row.get(1));
        let Some(known) = Kind::from_word(&kind) else { continue };
        let object =
            Object::read(known, row.get(2)).map_err(|source| Error::Unreadable { kind, key, source })?;
        state.put(object);
    }
    Ok(state)
}

fn entries(after: u64, changes: &[Change]) -> Result<Vec<Entry>, Error> {
    let numbered = changes.iter().zip(after + 1..);
    let entry = |(change, number): (&Change, u64)| {
        let unreadable = |source| Error::Unreadable {
            kind: change.kind.word().to_owned(),
            key: change.key.clone(),
            source,
        };
        let body = change.object.as_ref().map(Object::body).transpose().map_err(unreadable)?;
        let cause = change.cause.clone();
        Ok(Entry { number, kind: change.kind, key: change.key.clone(), body, cause, at: Timestamp::now() })
    };
    numbered.map(entry).collect()
}
