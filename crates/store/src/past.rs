//! Any moment of the past, read from the journal.

use jiff::{SignedDuration, Timestamp};
use mainyard_core::record::{Kind, State};
use mainyard_core::retention::Journal;
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Error, Store, state};

/// Everything as it was.
#[derive(Debug, Clone, PartialEq)]
pub struct PastState {
    /// Every object that there was; replicas, nodes and gateways only where [`PastState::whole`].
    pub state: State,
    /// The number of the last change up to then.
    pub number: u64,
    /// Whether replicas, nodes and gateways of that time are still known.
    pub whole: bool,
}

/// How far back the record goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HistoryRange {
    /// Since when everything is known.
    pub whole: Timestamp,
    /// Since when what is declared is known.
    pub declared: Timestamp,
}

pub(crate) const NUMBER_AT: &str = "SELECT number FROM journal WHERE at <= to_timestamp($1::double precision / 1000) \
    ORDER BY at DESC, number DESC LIMIT 1";
pub(crate) const OBJECTS_AT: &str = "SELECT kind, key, body FROM (\
        SELECT DISTINCT ON (kind, key) kind, key, body FROM journal WHERE number <= $1 ORDER BY kind, key, number DESC\
    ) AS last WHERE body IS NOT NULL AND ($2 OR kind <> ALL ($3))";
pub(crate) const READ_REACH: &str = "WITH first AS (SELECT min(at) AS at FROM journal) \
    SELECT (extract(epoch FROM coalesce(whole_since, first.at)) * 1000)::bigint, \
    (extract(epoch FROM coalesce(declared_since, first.at)) * 1000)::bigint FROM ledger, first";

/// The last number before so many seconds ago; 0 where there is none.
pub(crate) const NUMBER_BEFORE: &str = "SELECT coalesce(max(number), 0) FROM journal \
    WHERE at < clock_timestamp() - make_interval(secs => $1)";
pub(crate) const KEEP_FROM: &str = "UPDATE ledger SET kept_from = greatest(kept_from, $1), \
    whole_since = greatest(whole_since, (SELECT max(at) FROM journal WHERE number <= $1)), \
    declared_since = greatest(declared_since, (SELECT max(at) FROM journal WHERE number <= $2))";
/// Of what came and went only the last change before the whole part stays, and of what is declared so does every one
/// for a time. People's acts stay for good.
pub(crate) const PRUNE: &str = "DELETE FROM journal AS old WHERE cause->>'by' = 'platform' \
    AND number <= CASE WHEN kind = ANY ($3) THEN $1::bigint ELSE $2::bigint END \
    AND EXISTS (SELECT FROM journal AS later WHERE later.kind = old.kind AND later.key = old.key \
        AND later.number > old.number AND later.number <= CASE WHEN old.kind = ANY ($3) THEN $1::bigint ELSE $2::bigint END)";
/// That something went says nothing once nothing is left of what it was.
pub(crate) const PRUNE_GONE: &str = "DELETE FROM journal AS old WHERE cause->>'by' = 'platform' AND body IS NULL \
    AND number <= CASE WHEN kind = ANY ($3) THEN $1::bigint ELSE $2::bigint END \
    AND NOT EXISTS (SELECT FROM journal AS earlier WHERE earlier.kind = old.kind AND earlier.key = old.key \
        AND earlier.number < old.number)";

/// Kinds whose things come and go by themselves.
pub(crate) fn fleeting() -> Vec<&'static str> {
    Kind::ALL.iter().filter(|kind| kind.is_fleeting()).map(|kind| kind.word()).collect()
}

impl Store {
    /// Everything as it was after the last change up to a moment; `None` before the first change that is kept.
    pub async fn past(&self, at: Timestamp) -> Result<Option<PastState>, Error> {
        let mut transaction =
            self.pool().begin_with("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY").await?;
        let reach = reach(&sqlx::query(READ_REACH).fetch_one(&mut *transaction).await?);
        let Some(reach) = reach.filter(|reach| reach.declared <= at) else { return Ok(None) };
        let whole = reach.whole <= at;
        let number = sqlx::query(NUMBER_AT).bind(at.as_millisecond() as f64);
        let number = number.fetch_optional(&mut *transaction).await?.map_or(0, |row| row.get::<i64, _>(0));
        let query = sqlx::query(OBJECTS_AT).bind(number).bind(whole).bind(fleeting());
        let rows = query.fetch_all(&mut *transaction).await?;
        transaction.commit().await?;
        Ok(Some(PastState { state: state(rows)?, number: number as u64, whole }))
    }

    /// How far back the record goes; `None` where nothing was ever changed.
    pub async fn reach(&self) -> Result<Option<HistoryRange>, Error> {
        Ok(reach(&sqlx::query(READ_REACH).fetch_one(self.pool()).await?))
    }

    /// Thins out what is old, up to the change `latest`; gives how many changes went.
    pub async fn prune(&self, rule: &Journal, latest: u64) -> Result<u64, Error> {
        let before = async |span: SignedDuration| -> Result<u64, Error> {
            let row = sqlx::query(NUMBER_BEFORE).bind(span.as_secs_f64()).fetch_one(self.pool()).await?;
            Ok(row.get::<i64, _>(0) as u64)
        };
        let Some(old) = rule.old(latest, before(rule.whole).await?, before(rule.declared).await?) else {
            return Ok(0);
        };
        let (whole, declared) = (old.whole as i64, old.declared as i64);
        let mut transaction = self.pool().begin().await?;
        sqlx::query(KEEP_FROM).bind(whole).bind(declared).execute(&mut *transaction).await?;
        let mut gone = 0;
        for query in [PRUNE, PRUNE_GONE] {
            let query = sqlx::query(query).bind(whole).bind(declared).bind(fleeting());
            gone += query.execute(&mut *transaction).await?.rows_affected();
        }
        transaction.commit().await?;
        Ok(gone)
    }
}

fn reach(row: &PgRow) -> Option<HistoryRange> {
    let at = |column: usize| {
        row.get::<Option<i64>, _>(column).and_then(|millis| Timestamp::from_millisecond(millis).ok())
    };
    Some(HistoryRange { whole: at(0)?, declared: at(1)? })
}
