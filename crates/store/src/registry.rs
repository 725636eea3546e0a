//! What the registry knows beside the blobs themselves: which repository has what, and under which tag.

use std::collections::BTreeMap;

use sqlx::Row;
use sqlx::postgres::PgRow;
use sqlx::types::Json;

use crate::{Error, Store};

/// A manifest of a repository.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ManifestRow {
    /// The repository.
    pub repository: String,
    /// The manifest's digest.
    pub digest: String,
    /// Its media type.
    pub media_type: String,
    /// Its length in bytes.
    pub size: u64,
    /// Blobs and manifests that it names.
    pub needs: Vec<String>,
    /// The manifest that it is about.
    pub subject: Option<String>,
    /// What kind of artifact it is.
    pub artifact_type: Option<String>,
    /// Free text by key.
    pub annotations: BTreeMap<String, String>,
}

/// A tag of a repository.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TagRow {
    /// Its name.
    pub tag: String,
    /// The manifest that it stands for.
    pub digest: String,
    /// The manifest that the platform runs under this name.
    pub image: Option<String>,
}

macro_rules! columns {
    () => {
        "repository, digest, media_type, size, needs, subject, artifact_type, annotations"
    };
}

pub(crate) const LINK_BLOB: &str =
    "INSERT INTO registry_blob (repository, digest) VALUES ($1, $2) ON CONFLICT DO NOTHING";
pub(crate) const HAS_BLOB: &str =
    "SELECT EXISTS (SELECT FROM registry_blob WHERE repository = $1 AND digest = $2)";
pub(crate) const UNLINK_BLOB: &str = "DELETE FROM registry_blob WHERE repository = $1 AND digest = $2";
pub(crate) const NEEDED_BY: &str =
    "SELECT digest FROM registry_manifest WHERE repository = $1 AND $2 = ANY (needs) ORDER BY pushed LIMIT 1";
pub(crate) const PUT_MANIFEST: &str = "INSERT INTO registry_manifest \
    (repository, digest, media_type, size, needs, subject, artifact_type, annotations, by) \
    VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) ON CONFLICT DO NOTHING";
pub(crate) const PUT_TAG: &str = "INSERT INTO registry_tag (repository, tag, digest, image) VALUES ($1, $2, $3, $4) \
    ON CONFLICT (repository, tag) DO UPDATE SET digest = EXCLUDED.digest, image = EXCLUDED.image, moved = now()";
pub(crate) const READ_MANIFEST: &str =
    concat!("SELECT ", columns!(), " FROM registry_manifest WHERE repository = $1 AND digest = $2");
pub(crate) const READ_REFERRERS: &str = concat!(
    "SELECT ",
    columns!(),
    " FROM registry_manifest WHERE repository = $1 AND subject = $2 ORDER BY pushed, digest"
);
pub(crate) const ALL_MANIFESTS: &str = concat!("SELECT ", columns!(), " FROM registry_manifest");
pub(crate) const READ_TAGS: &str =
    "SELECT tag, digest, image FROM registry_tag WHERE repository = $1 ORDER BY tag";
pub(crate) const REMOVE_TAG: &str = "DELETE FROM registry_tag WHERE repository = $1 AND tag = $2";
pub(crate) const REMOVE_MANIFEST: &str =
    "DELETE FROM registry_manifest WHERE repository = $1 AND digest = $2";
pub(crate) const REPOSITORIES: &str = "SELECT DISTINCT repository FROM registry_manifest ORDER BY repository";

impl Store {
    /// Notes that a repository has a blob.
    pub async fn link_blob(&self, repository: &str, digest: &str) -> Result<(), Error> {
        sqlx::query(LINK_BLOB).bind(repository).bind(digest).execute(self.pool()).await?;
        Ok(())
    }

    /// Whether a repository has a blob.
    pub async fn has_blob(&self, repository: &str, digest: &str) -> Result<bool, Error> {
        Ok(sqlx::query(HAS_BLOB).bind(repository).bind(digest).fetch_one(self.pool()).await?.get(0))
    }

    /// Notes that a repository has a blob no more. False where it had none.
    pub async fn unlink_blob(&self, repository: &str, digest: &str) -> Result<bool, Error> {
        let done = sqlx::query(UNLINK_BLOB).bind(repository).bind(digest).execute(self.pool()).await?;
        Ok(done.rows_affected() > 0)
    }

    /// The oldest manifest of the repository that needs this blob or manifest.
    pub async fn needed_by(&self, repository: &str, digest: &str) -> Result<Option<String>, Error> {
        let row = sqlx::query(NEEDED_BY).bind(repository).bind(digest).fetch_optional(self.pool()).await?;
        Ok(row.map(|row| row.get(0)))
    }

    /// Keeps a manifest, and lets a tag stand for it: both or neither.
    pub async fn put_manifest(&self, row: &ManifestRow, tag: Option<&TagRow>, by: &str) -> Result<(), Error> {
        let mut transaction = self.pool().begin().await?;
        sqlx::query(PUT_MANIFEST)
            .bind(&row.repository)
            .bind(&row.digest)
            .bind(&row.media_type)
            .bind(i64::try_from(row.size).unwrap_or(i64::MAX))
            .bind(&row.needs)
            .bind(&row.subject)
            .bind(&row.artifact_type)
            .bind(Json(&row.annotations))
            .bind(by)
            .execute(&mut *transaction)
            .await?;
        if let Some(tag) = tag {
            let put = sqlx::query(PUT_TAG).bind(&row.repository).bind(&tag.tag);
            put.bind(&tag.digest).bind(&tag.image).execute(&mut *transaction).await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// A manifest of a repository.
    pub async fn manifest(&self, repository: &str, digest: &str) -> Result<Option<ManifestRow>, Error> {
        let row =
            sqlx::query(READ_MANIFEST).bind(repository).bind(digest).fetch_optional(self.pool()).await?;
        Ok(row.as_ref().map(read))
    }

    /// The manifests that are about this one, the oldest first.
    pub async fn referrers(&self, repository: &str, subject: &str) -> Result<Vec<ManifestRow>, Error> {
        let rows = sqlx::query(READ_REFERRERS).bind(repository).bind(subject).fetch_all(self.pool()).await?;
        Ok(rows.iter().map(read).collect())
    }

    /// Every manifest of every repository.
    pub async fn manifests(&self) -> Result<Vec<ManifestRow>, Error> {
        Ok(sqlx::query(ALL_MANIFESTS).fetch_all(self.pool()).await?.iter().map(read).collect())
    }

    /// The tags of a repository, by name.
    pub async fn tags(&self, repository: &str) -> Result<Vec<TagRow>, Error> {
        let rows = sqlx::query(READ_TAGS).bind(repository).fetch_all(self.pool()).await?;
        Ok(rows.iter().map(|row| TagRow { tag: row.get(0), digest: row.get(1), image: row.get(2) }).collect())
    }

    /// Removes a tag. False where there is none.
    pub async fn remove_tag(&self, repository: &str, tag: &str) -> Result<bool, Error> {
        let done = sqlx::query(REMOVE_TAG).bind(repository).bind(tag).execute(self.pool()).await?;
        Ok(done.rows_affected() > 0)
    }

    /// Removes a manifest, with the tags that stand for it. False where there is none.
    pub async fn remove_manifest(&self, repository: &str, digest: &str) -> Result<bool, Error> {
        let done = sqlx::query(REMOVE_MANIFEST).bind(repository).bind(digest).execute(self.pool()).await?;
        Ok(done.rows_affected() > 0)
    }

    /// The repositories that have a manifest, by name.
    pub async fn repositories(&self) -> Result<Vec<String>, Error> {
        let rows = sqlx::query(REPOSITORIES).fetch_all(self.pool()).await?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }
}

fn read(row: &PgRow) -> ManifestRow {
    ManifestRow {
        repository: row.get(0),
        digest: row.get(1),
        media_type: row.get(2),
        size: row.get::<i64, _>(3).max(0) as u64,
        needs: row.get(4),
        subject: row.get(5),
        artifact_type: row.get(6),
        annotations: row.get::<Json<BTreeMap<String, String>>, _>(7).0,
    }
}
