//! Repositories as the record has them, and made like it on this machine.

use futures_util::TryStreamExt;
use jiff::Timestamp;
use mainyard_api::Problem;
use mainyard_builds::{CodeRepository, USUAL_BRANCH};
use mainyard_core::model::Target;
use mainyard_core::suggestions::did_you_mean;
use mainyard_git::hosting::Repository;
use mainyard_images::Digest;
use mainyard_store::{CodeRow, Store};
use tokio_util::io::StreamReader;

use crate::Control;
use crate::problem::{of_blobs, of_record};

/// A repository of the record.
#[derive(Debug, Clone)]
pub(super) struct Kept {
    /// How often it was written; 0 where it is not there yet.
    pub version: i64,
    /// The file with its objects.
    pub bundle: Option<String>,
    /// All else.
    pub code: CodeRepository,
}

fn kept(row: CodeRow) -> Option<Kept> {
    let read = serde_json::from_value(row.body);
    let code = read.inspect_err(|error| tracing::error!(%error, "a repository of the record cannot be read"));
    Some(Kept { version: row.version, bundle: row.bundle, code: code.ok()? })
}

/// All repositories.
pub(super) async fn all(store: &Store) -> Result<Vec<Kept>, mainyard_store::Error> {
    Ok(store.all_code().await?.into_iter().filter_map(kept).collect())
}

/// The repositories with a commit on its way.
pub(super) async fn under_way(store: &Store) -> Result<Vec<Kept>, mainyard_store::Error> {
    Ok(store.code_under_way().await?.into_iter().filter_map(kept).collect())
}

/// One repository, where it is there.
pub(super) async fn find(store: &Store, target: &Target) -> Result<Option<Kept>, mainyard_store::Error> {
    let row = store.code(target.environment.as_str(), target.name.as_str()).await?;
    Ok(row.and_then(kept))
}

/// One repository.
///
/// # Errors
/// When there is none, with the nearest name.
pub(super) async fn known(store: &Store, target: &Target) -> Result<Kept, Problem> {
    if let Some(found) = find(store, target).await.map_err(of_record)? {
        return Ok(found);
    }
    let all = all(store).await.map_err(of_record)?;
    let names: Vec<String> = all.iter().map(|kept| kept.code.target.to_string()).collect();
    let near = did_you_mean(&target.to_string(), names.iter().map(String::as_str));
    Err(Problem::not_found(format!("there is no code at {target}{near}; a first push makes it")))
}

/// A repository that a first push makes.
pub(super) fn new(target: &Target, by: &str) -> Kept {
    let now = Timestamp::now();
    let code = CodeRepository {
        target: target.clone(),
        branch: USUAL_BRANCH.to_owned(),
        refs: std::collections::BTreeMap::new(),
        made: now,
        pushed: now,
        by: by.to_owned(),
        delivery: None,
    };
    Kept { version: 0, bundle: None, code }
}

/// Writes a repository, if nobody wrote it since it was read.
///
/// # Errors
/// When somebody did, or the record cannot be written.
pub(super) async fn save(store: &Store, kept: &Kept) -> Result<(), Problem> {
    let row = CodeRow {
        environment: kept.code.target.environment.to_string(),
        name: kept.code.target.name.to_string(),
        version: kept.version,
        bundle: kept.bundle.clone(),
        body: serde_json::to_value(&kept.code).unwrap_or_default(),
    };
    match store.put_code(&row).await.map_err(of_record)? {
        true => Ok(()),
        false => Err(Problem::conflict(format!("{} was changed meanwhile; try again", kept.code.target))),
    }
}

fn of_git(error: mainyard_git::Error) -> Problem {
    Problem::unavailable(error.to_string())
}

/// The repository on this machine, made as the record has it.
///
/// # Errors
/// When it cannot be made so.
pub(super) async fn opened<'c>(control: &'c Control, kept: &Kept) -> Result<Repository<'c>, Problem> {
    let name = kept.code.target.to_string();
    let repository = Repository::open(&control.code.fence, &name).await.map_err(of_git)?;
    if repository.refs().await.map_err(of_git)? == kept.code.refs {
        return Ok(repository);
    }
    let has_all = repository.has(kept.code.refs.values().map(String::as_str)).await.map_err(of_git)?;
    if let (false, Some(bundle)) = (has_all, &kept.bundle) {
        let digest = Digest::parse(bundle).map_err(|error| Problem::unavailable(error.to_string()))?;
        let body = control.blobs.stream(&digest, |_| None).await.map_err(of_blobs)?;
        let mut reader = StreamReader::new(body.pieces.map_err(std::io::Error::other));
        repository.restore(&mut reader).await.map_err(of_git)?;
        tracing::info!(repository = name, "restored from the image store");
    }
    repository.set_refs(&kept.code.refs, &kept.code.branch).await.map_err(of_git)?;
    Ok(repository)
}

/// Keeps all objects of a repository where they last; gives the digest of the file.
pub(super) async fn publish(control: &Control, repository: &Repository<'_>) -> Result<Digest, Problem> {
    let unavailable = |error: std::io::Error| Problem::unavailable(error.to_string());
    let local = control.blobs.local().clone();
    let part = tempfile::NamedTempFile::new_in(local.root().join("incoming")).map_err(unavailable)?;
    let mut file = tokio::fs::File::from_std(part.reopen().map_err(unavailable)?);
    repository.bundle(&mut file).await.map_err(of_git)?;
    let whole = part.reopen().map_err(unavailable)?;
    let put = tokio::task::spawn_blocking(move || local.put(whole, None));
    let (digest, _) = put
        .await
        .map_err(|error| Problem::unavailable(error.to_string()))?
        .map_err(|error| Problem::unavailable(error.to_string()))?;
    control.blobs.publish(std::slice::from_ref(&digest)).await.map_err(of_blobs)?;
    Ok(digest)
}
