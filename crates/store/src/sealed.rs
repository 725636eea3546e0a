//! Sealed values of secrets. An object of the record names each one that is in use; the others go after a while.

use sqlx::Row;

use crate::{Error, Store};

/// A value as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SealedRow {
    /// Its name, by chance.
    pub name: String,
    /// The context that its encryption is bound to.
    pub place: String,
    /// The sealed bytes.
    pub body: Vec<u8>,
}

pub(crate) const PUT: &str = "INSERT INTO sealed (name, place, body) VALUES ($1, $2, $3)";
pub(crate) const READ: &str = "SELECT name, place, body FROM sealed WHERE name = ANY($1)";
pub(crate) const READ_ALL: &str = "SELECT name, place, body FROM sealed ORDER BY name FOR UPDATE";
pub(crate) const RENEW: &str = "UPDATE sealed SET body = $2 WHERE name = $1";
pub(crate) const COUNT: &str = "SELECT count(*) FROM sealed";
/// One that no object names yet may belong to an act that is on its way; environments' pairs of keys stay.
pub(crate) const SWEEP: &str = "DELETE FROM sealed WHERE made < now() - make_interval(secs => $1) AND NOT EXISTS ( \
    SELECT 1 FROM object, jsonb_each(body->'versions') AS version \
    WHERE kind = 'secret' AND version.value->>'sealed' = sealed.name) \
    AND NOT EXISTS (SELECT 1 FROM object WHERE kind IN ('certificate', 'registry') AND body->>'sealed' = sealed.name) \
    AND NOT starts_with(name, 'pair-')";

fn row(row: &sqlx::postgres::PgRow) -> SealedRow {
    SealedRow { name: row.get(0), place: row.get(1), body: row.get(2) }
}

impl Store {
    /// Keeps a sealed value.
    pub async fn put_sealed(&self, value: &SealedRow) -> Result<(), Error> {
        sqlx::query(PUT).bind(&value.name).bind(&value.place).bind(&value.body).execute(self.pool()).await?;
        Ok(())
    }

    /// The values of these names; those that are not there are left out.
    pub async fn read_sealed(&self, names: &[String]) -> Result<Vec<SealedRow>, Error> {
        let rows = sqlx::query(READ).bind(names).fetch_all(self.pool()).await?;
        Ok(rows.iter().map(row).collect())
    }

    /// Gives every value to `renew` and keeps what comes back, all in one transaction. Gives how many were renewed.
    ///
    /// # Errors
    /// Entries that `renew` returns replaced, as text, or the record's own error; nothing is changed then.
    pub async fn renew_sealed(
        &self,
        renew: impl Fn(&SealedRow) -> Result<Option<Vec<u8>>, String>,
    ) -> Result<Result<u64, String>, Error> {
        let mut transaction = self.pool().begin().await?;
        let mut count = 0;
        for found in sqlx::query(READ_ALL).fetch_all(&mut *transaction).await?.iter().map(row) {
            match renew(&found) {
                Ok(None) => {}
                Ok(Some(body)) => {
                    sqlx::query(RENEW).bind(&found.name).bind(body).execute(&mut *transaction).await?;
                    count += 1;
                }
                Err(why) => return Ok(Err(format!("the value of {}: {why}", found.place))),
            }
        }
        transaction.commit().await?;
        Ok(Ok(count))
    }

    /// How many values there are.
    pub async fn count_sealed(&self) -> Result<u64, Error> {
        let row = sqlx::query(COUNT).fetch_one(self.pool()).await?;
        Ok(row.get::<i64, _>(0).max(0) as u64)
    }

    /// Removes values that no object has named for `seconds` after they were made.
    pub async fn sweep_sealed(&self, seconds: f64) -> Result<u64, Error> {
        Ok(sqlx::query(SWEEP).bind(seconds).execute(self.pool()).await?.rows_affected())
    }
}
