//! What was asked of workloads in the last day, minute by minute. It is no object: nothing is decided by it, and losing some of it
//! loses nothing else.

use jiff::Timestamp;
use mainyard_core::growth::Minute;
use mainyard_core::model::Target;
use sqlx::Row;

use crate::{Error, Store};

pub(crate) const ADD: &str = "INSERT INTO demand (workload, minute, open, rate) \
    SELECT workload, to_timestamp($1::bigint), open, rate FROM UNNEST($2::text[], $3::real[], $4::real[]) AS new (workload, open, rate) \
    ON CONFLICT (workload, minute) DO UPDATE SET open = EXCLUDED.open, rate = EXCLUDED.rate";
pub(crate) const READ: &str = "SELECT extract(epoch FROM looked.minute)::bigint, coalesce(asked.open, 0), coalesce(asked.rate, 0) \
    FROM demand AS looked LEFT JOIN demand AS asked ON asked.minute = looked.minute AND asked.workload = $1 \
    WHERE looked.workload = '' AND looked.minute > now() - interval '1 day' ORDER BY looked.minute";
pub(crate) const SWEEP: &str = "DELETE FROM demand WHERE minute <= now() - interval '1 day'";

/// The row that says that control looked.
const LOOKED: &str = "";

impl Store {
    /// Keeps what was asked of workloads in the minute that began then: requests that were open, and requests a second.
    pub async fn add_demand(&self, minute: Timestamp, asked: &[(Target, f64, f64)]) -> Result<(), Error> {
        let names = asked.iter().map(|(workload, ..)| workload.to_string()).chain([LOOKED.to_owned()]);
        let column = |of: fn(&(Target, f64, f64)) -> f64| -> Vec<f32> {
            asked.iter().map(|it| of(it) as f32).chain([0.0]).collect()
        };
        sqlx::query(ADD)
            .bind(minute.as_second())
            .bind(names.collect::<Vec<_>>())
            .bind(column(|it| it.1))
            .bind(column(|it| it.2))
            .execute(self.pool())
            .await?;
        Ok(())
    }

    /// What was asked of a workload in the last day.
    pub async fn demand(&self, workload: &Target) -> Result<Vec<Minute>, Error> {
        let rows = sqlx::query(READ).bind(workload.to_string()).fetch_all(self.pool()).await?;
        let minutes = rows.iter().filter_map(|row| {
            Some(Minute {
                at: Timestamp::from_second(row.get(0)).ok()?,
                open: f64::from(row.get::<f32, _>(1)),
                rate: f64::from(row.get::<f32, _>(2)),
            })
        });
        Ok(minutes.collect())
    }

    /// Removes minutes that no look back reaches any more.
    pub async fn sweep_demand(&self) -> Result<u64, Error> {
        Ok(sqlx::query(SWEEP).execute(self.pool()).await?.rows_affected())
    }
}
