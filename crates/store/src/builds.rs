//! Builds, the lines of their steps, and the layers that steps made. They are no objects: nothing of the cluster is decided
//! by them.

use mainyard_core::link::StepLine;
use serde_json::Value;
use sqlx::Row;
use sqlx::postgres::PgRow;
use sqlx::types::Json;

use crate::{Error, Store};

/// A build as it is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct BuildRow {
    /// Its number.
    pub number: u64,
    /// The repository of its image.
    pub repository: String,
    /// How it stands, in a word.
    pub state: String,
    /// The digest of the image that it made.
    pub digest: Option<String>,
    /// All of it.
    pub body: Value,
}

/// A line of a build, with its place among all lines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BuildLineRow {
    /// Its place; later lines have greater ones.
    pub place: i64,
    /// The step that wrote it, from 0.
    pub step: u32,
    /// The line.
    pub line: StepLine,
}

pub(crate) const NEXT: &str = "SELECT nextval('build_number')";
pub(crate) const PUT: &str = "INSERT INTO build (number, repository, state, digest, body) VALUES ($1, $2, $3, $4, $5) \
    ON CONFLICT (number) DO UPDATE SET state = EXCLUDED.state, digest = EXCLUDED.digest, body = EXCLUDED.body";
pub(crate) const READ: &str = "SELECT body FROM build WHERE number = $1";
pub(crate) const READ_OPEN: &str =
    "SELECT body FROM build WHERE state IN ('queued', 'running') ORDER BY number";
pub(crate) const READ_NEWEST: &str =
    "SELECT body FROM build WHERE ($1 = '' OR repository = $1) ORDER BY number DESC LIMIT $2";
pub(crate) const READ_BY_DIGEST: &str = "SELECT body FROM build WHERE digest = $1 ORDER BY number LIMIT 1";
/// Ended builds past the newest ones go, with their lines.
pub(crate) const SWEEP: &str = "DELETE FROM build WHERE state NOT IN ('queued', 'running') AND number <= \
    (SELECT coalesce(min(number), 1) - 1 FROM (SELECT number FROM build ORDER BY number DESC LIMIT $1) AS newest)";
pub(crate) const ADD_LINES: &str = "INSERT INTO build_line (build, step, number, at, source, line) \
    SELECT $1, $2, * FROM UNNEST($3::bigint[], $4::bigint[], $5::text[], $6::text[]) ON CONFLICT DO NOTHING";
pub(crate) const CLEAR_LINES: &str = "DELETE FROM build_line WHERE build = $1 AND step = $2";
pub(crate) const READ_LINES: &str = "SELECT place, step, number, at, source, line FROM build_line \
    WHERE build = $1 AND place > $2 ORDER BY place LIMIT $3";
pub(crate) const READ_LAST_LINES: &str = "SELECT place, step, number, at, source, line FROM build_line \
    WHERE build = $1 AND step = $2 ORDER BY number DESC LIMIT $3";
pub(crate) const PUT_LAYER: &str = "INSERT INTO build_layer (key, repository, digest, size) VALUES ($1, $2, $3, $4) \
    ON CONFLICT (key) DO UPDATE SET digest = EXCLUDED.digest, size = EXCLUDED.size, used = now()";
pub(crate) const USE_LAYER: &str =
    "UPDATE build_layer SET used = now() WHERE key = $1 RETURNING digest, size";
pub(crate) const DROP_LAYER: &str = "DELETE FROM build_layer WHERE key = $1";
pub(crate) const ALL_LAYERS: &str = "SELECT DISTINCT digest FROM build_layer";
/// Layers that were not used for so many days go, and then those that were not used for longest, until the others have no
/// more than so many bytes.
pub(crate) const SWEEP_LAYERS: &str = "DELETE FROM build_layer WHERE used < now() - make_interval(days => $1) OR key IN \
    (SELECT key FROM (SELECT key, sum(size) OVER (ORDER BY used DESC, key) AS held FROM build_layer) AS by_age \
    WHERE held > $2)";
pub(crate) const READ_TIMES: &str = "SELECT files FROM build_times WHERE repository = $1";
pub(crate) const PUT_TIMES: &str = "INSERT INTO build_times (repository, files) VALUES ($1, $2) \
    ON CONFLICT (repository) DO UPDATE SET files = EXCLUDED.files";

fn bigint(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

fn bodies(rows: Vec<PgRow>) -> Vec<Value> {
    rows.iter().map(|row| row.get::<Json<Value>, _>(0).0).collect()
}

fn line(row: &PgRow) -> BuildLineRow {
    let source: String = row.get(4);
    BuildLineRow {
        place: row.get(0),
        step: row.get::<i32, _>(1).unsigned_abs(),
        line: StepLine {
            number: row.get::<i64, _>(2).unsigned_abs(),
            at: row.get::<i64, _>(3).unsigned_abs(),
            source: source.chars().next().unwrap_or('o'),
            text: row.get(5),
        },
    }
}

impl Store {
    /// The number of the next build.
    pub async fn next_build(&self) -> Result<u64, Error> {
        Ok(sqlx::query(NEXT).fetch_one(self.pool()).await?.get::<i64, _>(0).unsigned_abs())
    }

    /// Keeps a build as it is now.
    pub async fn put_build(&self, row: &BuildRow) -> Result<(), Error> {
        let put = sqlx::query(PUT).bind(bigint(row.number)).bind(&row.repository).bind(&row.state);
        put.bind(&row.digest).bind(Json(&row.body)).execute(self.pool()).await.map_err(Error::of_write)?;
        Ok(())
    }

    /// A build.
    pub async fn build(&self, number: u64) -> Result<Option<Value>, Error> {
        let row = sqlx::query(READ).bind(bigint(number)).fetch_optional(self.pool()).await?;
        Ok(row.map(|row| row.get::<Json<Value>, _>(0).0))
    }

    /// The builds that have not ended, the oldest first.
    pub async fn open_builds(&self) -> Result<Vec<Value>, Error> {
        Ok(bodies(sqlx::query(READ_OPEN).fetch_all(self.pool()).await?))
    }

    /// The newest builds, of one repository or of all; the newest first.
    pub async fn newest_builds(&self, repository: Option<&str>, limit: u32) -> Result<Vec<Value>, Error> {
        let read = sqlx::query(READ_NEWEST).bind(repository.unwrap_or_default()).bind(i64::from(limit));
        Ok(bodies(read.fetch_all(self.pool()).await?))
    }

    /// The build that made the image of this digest first.
    pub async fn build_of_image(&self, digest: &str) -> Result<Option<Value>, Error> {
        let row = sqlx::query(READ_BY_DIGEST).bind(digest).fetch_optional(self.pool()).await?;
        Ok(row.map(|row| row.get::<Json<Value>, _>(0).0))
    }

    /// Removes ended builds past the newest ones.
    pub async fn sweep_builds(&self, keep: u32) -> Result<u64, Error> {
        Ok(sqlx::query(SWEEP).bind(i64::from(keep)).execute(self.pool()).await?.rows_affected())
    }

    /// Adds lines of a step; those that are known already stay.
    pub async fn add_build_lines(&self, build: u64, step: u32, lines: &[StepLine]) -> Result<(), Error> {
        // The record holds no zero characters.
        let plain = |text: &str| text.replace('\0', "\u{fffd}");
        sqlx::query(ADD_LINES)
            .bind(bigint(build))
            .bind(i32::try_from(step).unwrap_or(i32::MAX))
            .bind(lines.iter().map(|line| bigint(line.number)).collect::<Vec<_>>())
            .bind(lines.iter().map(|line| bigint(line.at)).collect::<Vec<_>>())
            .bind(lines.iter().map(|line| line.source.to_string()).collect::<Vec<_>>())
            .bind(lines.iter().map(|line| plain(&line.text)).collect::<Vec<_>>())
            .execute(self.pool())
            .await
            .map_err(Error::of_write)?;
        Ok(())
    }

    /// Removes the lines of a step that is done again.
    pub async fn clear_build_lines(&self, build: u64, step: u32) -> Result<(), Error> {
        let step = i32::try_from(step).unwrap_or(i32::MAX);
        sqlx::query(CLEAR_LINES).bind(bigint(build)).bind(step).execute(self.pool()).await?;
        Ok(())
    }

    /// Lines of a build after a place.
    pub async fn build_lines(&self, build: u64, after: i64, limit: u32) -> Result<Vec<BuildLineRow>, Error> {
        let read = sqlx::query(READ_LINES).bind(bigint(build)).bind(after).bind(i64::from(limit));
        Ok(read.fetch_all(self.pool()).await?.iter().map(line).collect())
    }

    /// The last lines of a step.
    pub async fn last_build_lines(
        &self,
        build: u64,
        step: u32,
        count: u32,
    ) -> Result<Vec<BuildLineRow>, Error> {
        let step = i32::try_from(step).unwrap_or(i32::MAX);
        let read = sqlx::query(READ_LAST_LINES).bind(bigint(build)).bind(step).bind(i64::from(count));
        let mut lines: Vec<BuildLineRow> = read.fetch_all(self.pool()).await?.iter().map(line).collect();
        lines.reverse();
        Ok(lines)
    }

    /// Remembers the layer that a step made.
    pub async fn put_build_layer(
        &self,
        key: &str,
        repository: &str,
        digest: &str,
        size: u64,
    ) -> Result<(), Error> {
        let put = sqlx::query(PUT_LAYER).bind(key).bind(repository).bind(digest).bind(bigint(size));
        put.execute(self.pool()).await?;
        Ok(())
    }

    /// The layer of this key and its length, and notes that it was used.
    pub async fn use_build_layer(&self, key: &str) -> Result<Option<(String, u64)>, Error> {
        let row = sqlx::query(USE_LAYER).bind(key).fetch_optional(self.pool()).await?;
        Ok(row.map(|row| (row.get(0), row.get::<i64, _>(1).unsigned_abs())))
    }

    /// Forgets a layer whose blob is gone.
    pub async fn drop_build_layer(&self, key: &str) -> Result<(), Error> {
        sqlx::query(DROP_LAYER).bind(key).execute(self.pool()).await?;
        Ok(())
    }

    /// The digests of all layers that are remembered.
    pub async fn build_layers(&self) -> Result<Vec<String>, Error> {
        Ok(sqlx::query(ALL_LAYERS).fetch_all(self.pool()).await?.iter().map(|row| row.get(0)).collect())
    }

    /// Forgets layers by rule.
    pub async fn sweep_build_layers(&self, days: u32, bytes: u64) -> Result<u64, Error> {
        let days = i32::try_from(days).unwrap_or(i32::MAX);
        let sweep = sqlx::query(SWEEP_LAYERS).bind(days).bind(bigint(bytes));
        Ok(sweep.execute(self.pool()).await?.rows_affected())
    }

    /// When the files of a repository's code were seen first.
    pub async fn build_times(&self, repository: &str) -> Result<Option<Value>, Error> {
        let row = sqlx::query(READ_TIMES).bind(repository).fetch_optional(self.pool()).await?;
        Ok(row.map(|row| row.get::<Json<Value>, _>(0).0))
    }

    /// Keeps them.
    pub async fn put_build_times(&self, repository: &str, files: &Value) -> Result<(), Error> {
        let put = sqlx::query(PUT_TIMES).bind(repository).bind(Json(files));
        put.execute(self.pool()).await.map_err(Error::of_write)?;
        Ok(())
    }
}
