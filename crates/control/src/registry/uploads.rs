//! Uploads of blobs: as a whole, in parts, and from another repository.
//!
//! An upload is a directory with the bytes that have come so far; their number is where it goes on, also after control was
//! killed. A blob appears in the store only when it is whole and has its digest. Uploads that nobody goes on with are cleared
//! after a day.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use actix_web::HttpResponse;
use actix_web::dev::Payload;
use actix_web::http::header::{CONTENT_RANGE, LOCATION, RANGE};
use actix_web::web::{self, BytesMut};
use futures_util::StreamExt;
use mainyard_images::{ContentStore, Digest};
use mainyard_registry::{ErrorCode, RegistryError, Repository, chunk_of};

use super::{Call, DIGEST, blobs, of_blobs, of_disk, of_problem, of_record, within_limit};
use crate::body_limits::of_payload;
use crate::images::no_room;

/// How long an upload may rest.
const KEPT: Duration = Duration::from_secs(24 * 3600);
/// So much is gathered before it is written.
const GATHERED: usize = 1 << 20;
/// Uploads that one platform has at once, and of these one member's.
const MOST: usize = 1000;
const MOST_OF_ONE: usize = 250;

/// Uploads that a request writes to: no two write to the same.
#[derive(Debug, Default)]
pub(crate) struct OpenUploads(Mutex<HashSet<String>>);

/// One upload, as long as a request writes to it.
struct Writing<'a> {
    open: &'a OpenUploads,
    id: &'a str,
}

impl OpenUploads {
    fn open<'a>(&'a self, id: &'a str) -> Result<Writing<'a>, RegistryError> {
        let fresh = self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(id.to_owned());
        let busy =
            || RegistryError::new(ErrorCode::BlobUploadInvalid, "another request writes to this upload now");
        fresh.then_some(Writing { open: self, id }).ok_or_else(busy)
    }
}

impl Drop for Writing<'_> {
    fn drop(&mut self) {
        self.open.0.lock().unwrap_or_else(PoisonError::into_inner).remove(self.id);
    }
}

/// Removes uploads that rested for too long.
pub(crate) fn clear(images: &ContentStore) {
    for entry in fs::read_dir(images.root().join("uploads")).into_iter().flatten().flatten() {
        let data = fs::metadata(entry.path().join("data")).and_then(|found| found.modified());
        let rests = data.is_ok_and(|at| at.elapsed().is_ok_and(|elapsed| elapsed >= KEPT));
        if rests && let Err(error) = fs::remove_dir_all(entry.path()) {
            tracing::warn!(%error, "an upload that nobody goes on with cannot be removed");
        }
    }
}

fn unknown() -> RegistryError {
    RegistryError::new(ErrorCode::BlobUploadUnknown, "there is no such upload, or it has ended")
}

fn dir_of(call: &Call, id: &str) -> PathBuf {
    call.control.blobs.local().root().join("uploads").join(id)
}

/// The directory of an upload of this repository, and how many bytes have come.
fn find(call: &Call, repository: &Repository, id: &str) -> Result<(PathBuf, u64), RegistryError> {
    let dir = dir_of(call, id);
    let of = fs::read_to_string(dir.join("repository")).map_err(|_| unknown())?;
    if of != repository.as_str() {
        return Err(unknown());
    }
    let length = fs::metadata(dir.join("data")).map_err(|_| unknown())?.len();
    Ok((dir, length))
}

fn location(repository: &Repository, id: &str) -> String {
    format!("/v2/{repository}/blobs/uploads/{id}")
}

/// The bytes that have come, as the specification writes them: `0-` and the last one's place.
fn range(length: u64) -> String {
    format!("0-{}", length.saturating_sub(1))
}

fn accepted(repository: &Repository, id: &str, length: u64) -> HttpResponse {
    let mut answer = HttpResponse::Accepted();
    answer.insert_header((LOCATION, location(repository, id)));
    answer.insert_header((RANGE, range(length)));
    answer.finish()
}

fn created(repository: &Repository, digest: &Digest) -> HttpResponse {
    let mut answer = HttpResponse::Created();
    answer.insert_header((LOCATION, format!("/v2/{repository}/blobs/{digest}")));
    answer.insert_header((DIGEST, digest.to_string())).finish()
}

pub(super) async fn begin(
    call: &Call,
    repository: &Repository,
    payload: Payload,
) -> Result<HttpResponse, RegistryError> {
    if let Some(mounted) = mount(call, repository).await? {
        return Ok(mounted);
    }
    let id = format!("{:032x}", fastrand::u128(..));
    let uploads = call.control.blobs.local().root().join("uploads");
    check_count(&uploads, &call.caller.member)?;
    let dir = uploads.join(&id);
    let make = || -> std::io::Result<()> {
        fs::create_dir_all(&dir)?;
        File::create(dir.join("data"))?;
        fs::write(dir.join("member"), &call.caller.member)?;
        fs::write(dir.join("repository"), repository.as_str())
    };
    make().map_err(|error| of_disk(&error))?;
    match call.query.digest.as_deref() {
        // All of it comes with this one request.
        Some(_) => end(call, repository, &id, payload).await,
        None => Ok(accepted(repository, &id, 0)),
    }
}

/// Whether a member may begin one upload more.
fn check_count(uploads: &Path, member: &str) -> Result<(), RegistryError> {
    let too_many = |sentence: &str| Err(RegistryError::new(ErrorCode::TooManyRequests, sentence));
    let open: Vec<PathBuf> =
        fs::read_dir(uploads).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    if open.len() >= MOST {
        return too_many("there are 1,000 uploads already; end some first");
    }
    let is_own = |dir: &&PathBuf| fs::read_to_string(dir.join("member")).is_ok_and(|name| name == member);
    if open.len() >= MOST_OF_ONE && open.iter().filter(is_own).count() >= MOST_OF_ONE {
        return too_many("you have 250 uploads already; end some first");
    }
    Ok(())
}

/// A blob that another repository has already; `None` where it has to be uploaded after all.
async fn mount(call: &Call, repository: &Repository) -> Result<Option<HttpResponse>, RegistryError> {
    let (Some(digest), Some(from)) = (&call.query.mount, &call.query.from) else { return Ok(None) };
    let (Ok(digest), Ok(from)) = (Digest::parse(digest), Repository::parse(from)) else { return Ok(None) };
    if !blobs::has(call, &from, &digest).await? {
        return Ok(None);
    }
    let linked = call.control.store.link_blob(repository.as_str(), &digest.to_string()).await;
    linked.map_err(|error| of_record(&error))?;
    Ok(Some(created(repository, &digest)))
}

pub(super) fn progress(
    call: &Call,
    repository: &Repository,
    id: &str,
) -> Result<HttpResponse, RegistryError> {
    let (_, length) = find(call, repository, id)?;
    let mut answer = HttpResponse::NoContent();
    answer.insert_header((LOCATION, location(repository, id)));
    Ok(answer.insert_header((RANGE, range(length))).finish())
}

pub(super) async fn write(
    call: &Call,
    repository: &Repository,
    id: &str,
    payload: Payload,
) -> Result<HttpResponse, RegistryError> {
    let _writing = call.control.uploads.open(id)?;
    let (dir, length) = find(call, repository, id)?;
    chunk_of(call.header(CONTENT_RANGE), length, call.length())?;
    let length = append(call, &dir, length, payload).await?;
    Ok(accepted(repository, id, length))
}

pub(super) async fn end(
    call: &Call,
    repository: &Repository,
    id: &str,
    payload: Payload,
) -> Result<HttpResponse, RegistryError> {
    let _writing = call.control.uploads.open(id)?;
    let missing = || RegistryError::new(ErrorCode::DigestInvalid, "say the blob's digest: ?digest=sha256:…");
    let expected = call.query.digest.as_deref().ok_or_else(missing)?;
    let expected = Digest::parse(expected)
        .map_err(|error| RegistryError::new(ErrorCode::DigestInvalid, error.to_string()))?;
    let (dir, length) = find(call, repository, id)?;
    chunk_of(call.header(CONTENT_RANGE), length, call.length())?;
    let length = append(call, &dir, length, payload).await?;
    if let Err(past) = within_limit(call, repository, &[(expected.to_string(), length)]).await {
        let _ = fs::remove_dir_all(&dir);
        return Err(past);
    }
    let (images, data, digest) = (call.control.blobs.local().clone(), dir.join("data"), expected.clone());
    let adopted = web::block(move || images.adopt(&data, &digest)).await.map_err(|error| of_disk(&error))?;
    match adopted {
        Ok(()) => {}
        Err(error @ mainyard_images::Error::DigestMismatch { .. }) => {
            // What came is of no use: the client begins again.
            let _ = fs::remove_dir_all(&dir);
            return Err(RegistryError::new(ErrorCode::DigestInvalid, error.to_string()));
        }
        // It was given up meanwhile.
        Err(_) if !dir.exists() => return Err(unknown()),
        Err(error) => return Err(of_disk(&error)),
    }
    // Where the object store is away, the client sends it again: a blob that came twice is one.
    let published = call.control.blobs.publish(std::slice::from_ref(&expected)).await;
    if let Err(error) = published {
        let _ = fs::remove_dir_all(&dir);
        return Err(of_blobs(&error));
    }
    let linked = call.control.store.link_blob(repository.as_str(), &expected.to_string()).await;
    linked.map_err(|error| of_record(&error))?;
    let _ = fs::remove_dir_all(&dir);
    Ok(created(repository, &expected))
}

pub(super) fn abort(call: &Call, repository: &Repository, id: &str) -> Result<HttpResponse, RegistryError> {
    let (dir, _) = find(call, repository, id)?;
    fs::remove_dir_all(dir).map_err(|error| of_disk(&error))?;
    Ok(HttpResponse::NoContent().finish())
}

/// Writes a body behind what has come so far, in memory that does not grow with it; gives the new length.
async fn append(
    call: &Call,
    dir: &Path,
    mut length: u64,
    mut payload: Payload,
) -> Result<u64, RegistryError> {
    if let Some(refused) = no_room(call.control.blobs.local().root(), call.length().unwrap_or(0)) {
        return Err(of_problem(&refused));
    }
    let file = File::options().append(true).open(dir.join("data")).map_err(|_| unknown())?;
    let mut gathered = BytesMut::new();
    let mut written_since = 0;
    loop {
        let piece = payload.next().await;
        let ended = piece.is_none();
        if let Some(piece) = piece {
            gathered.extend_from_slice(&piece.map_err(|error| of_problem(&of_payload(&error)))?);
        }
        if gathered.len() >= GATHERED || ended && !gathered.is_empty() {
            let bytes = gathered.split().freeze();
            (length, written_since) = (length + bytes.len() as u64, written_since + bytes.len());
            let mut file = file.try_clone().map_err(|error| of_disk(&error))?;
            let written =
                web::block(move || file.write_all(&bytes)).await.map_err(|error| of_disk(&error))?;
            written.map_err(|error| of_disk(&error))?;
        }
        if written_since > 64 * GATHERED {
            written_since = 0;
            if let Some(refused) = no_room(call.control.blobs.local().root(), 0) {
                return Err(of_problem(&refused));
            }
        }
        if ended {
            return Ok(length);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_member_leaves_room_for_the_uploads_of_others() {
        let dir = tempfile::tempdir().expect("a directory");
        for number in 0..MOST_OF_ONE {
            let upload = dir.path().join(number.to_string());
            fs::create_dir(&upload).expect("a directory");
            fs::write(upload.join("member"), "noor").expect("a file");
        }
        let refused = check_count(dir.path(), "noor").expect_err("too many");
        assert_eq!(refused.code, ErrorCode::TooManyRequests);
        check_count(dir.path(), "mira").expect("there is room");
        check_count(&dir.path().join("none"), "noor").expect("there is none yet");
    }
}
