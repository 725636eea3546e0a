//! Usage of replicas, day by day. It is no object: nothing is decided by it, and losing some of it loses nothing else.

use mainyard_core::model::{ReleaseNumber, Target};
use mainyard_core::sizing::{DAYS, Usage};
use sqlx::Row;

use crate::{Error, Store};

pub(crate) const ADD: &str = "INSERT INTO usage \
    (workload, replica, release, needed, peak, memory, kills, held_back, watched, processes, disk) \
    SELECT * FROM UNNEST($1::text[], $2::text[], $3::bigint[], $4::bigint[], $5::bigint[], $6::bigint[], $7::bigint[], $8::bigint[], $9::bigint[], $10::bigint[], $11::bigint[]) \
    ON CONFLICT (day, replica, release) DO UPDATE SET \
    needed = GREATEST(usage.needed, EXCLUDED.needed), peak = GREATEST(usage.peak, EXCLUDED.peak), \
    memory = EXCLUDED.memory, kills = usage.kills + EXCLUDED.kills, \
    held_back = usage.held_back + EXCLUDED.held_back, watched = usage.watched + EXCLUDED.watched, \
    processes = GREATEST(usage.processes, EXCLUDED.processes), disk = GREATEST(usage.disk, EXCLUDED.disk)";
pub(crate) const READ: &str = "SELECT workload, replica, release, max(needed), max(peak), max(memory), \
    sum(kills)::bigint, sum(held_back)::bigint, sum(watched)::bigint, max(processes), max(disk) \
    FROM usage WHERE day > current_date - $1::int AND ($2 = '' OR workload = $2) \
    GROUP BY workload, replica, release ORDER BY workload, release, replica";
pub(crate) const SWEEP: &str = "DELETE FROM usage WHERE day <= current_date - $1::int";

impl Store {
    /// Adds what replicas used to today's rows.
    pub async fn add_usage(&self, usage: &[Usage]) -> Result<(), Error> {
        let column = |of: fn(&Usage) -> u64| -> Vec<i64> {
            usage.iter().map(|it| i64::try_from(of(it)).unwrap_or(i64::MAX)).collect()
        };
        let texts = |of: fn(&Usage) -> String| -> Vec<String> { usage.iter().map(of).collect() };
        sqlx::query(ADD)
            .bind(texts(|it| it.replica.workload.to_string()))
            .bind(texts(|it| it.replica.to_string()))
            .bind(column(|it| u64::from(it.release.0)))
            .bind(column(|it| it.needed))
            .bind(column(|it| it.peak))
            .bind(column(|it| it.limit))
            .bind(column(|it| it.kills))
            .bind(column(|it| it.held_back))
            .bind(column(|it| it.watched))
            .bind(column(|it| it.processes))
            .bind(column(|it| it.disk))
            .execute(self.pool())
            .await?;
        Ok(())
    }

    /// Usage of each replica in the last days, of one workload or of all.
    pub async fn usage(&self, workload: Option<&Target>) -> Result<Vec<Usage>, Error> {
        let workload = workload.map_or(String::new(), ToString::to_string);
        let rows = sqlx::query(READ).bind(DAYS).bind(workload).fetch_all(self.pool()).await?;
        let number = |row: &sqlx::postgres::PgRow, place: usize| row.get::<i64, _>(place).max(0) as u64;
        let usage = rows.iter().filter_map(|row| {
            Some(Usage {
                replica: row.get::<String, _>(1).parse().ok()?,
                release: ReleaseNumber(number(row, 2) as u32),
                needed: number(row, 3),
                peak: number(row, 4),
                limit: number(row, 5),
                kills: number(row, 6),
                held_back: number(row, 7),
                watched: number(row, 8),
                processes: number(row, 9),
                disk: number(row, 10),
                now: None,
            })
        });
        Ok(usage.collect())
    }

    /// Removes rows that no look back reaches any more.
    pub async fn sweep_usage(&self) -> Result<u64, Error> {
        Ok(sqlx::query(SWEEP).bind(DAYS).execute(self.pool()).await?.rows_affected())
    }
}
