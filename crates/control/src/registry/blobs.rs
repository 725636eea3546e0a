//! Blobs of a repository: read, whole or in part, and removed.

use std::io::SeekFrom;

use actix_web::HttpResponse;
use actix_web::body::SizedStream;
use actix_web::http::header::{ACCEPT_RANGES, CONTENT_RANGE, RANGE};
use mainyard_core::model::ImageRecord;
use mainyard_images::{Digest, ImageManifest};
use mainyard_registry::{ByteRange, ErrorCode, MANIFEST_LIMIT, RegistryError, Repository, requested};
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use tokio_util::io::ReaderStream;

use super::{BYTES, Call, DIGEST, of_disk, of_record};

/// How much is read from the disk at once.
const PIECE: usize = 64 << 10;

pub(super) fn unknown(repository: &Repository, digest: &Digest) -> RegistryError {
    RegistryError::new(ErrorCode::BlobUnknown, format!("{repository} has no blob {digest}"))
}

/// Whether the repository has the blob: it was pushed or mounted there, or belongs to an image that was added under its name.
pub(super) async fn has(
    call: &Call,
    repository: &Repository,
    digest: &Digest,
) -> Result<bool, RegistryError> {
    if !call.control.images.has(digest) {
        return Ok(false);
    }
    let linked = call.control.store.has_blob(repository.as_str(), &digest.to_string()).await;
    if linked.map_err(|error| of_record(&error))? {
        return Ok(true);
    }
    let images = images_of(call, repository).await;
    Ok(images
        .iter()
        .any(|image| parts_of(call, image).is_some_and(|parts| parts.contains(&digest.to_string()))))
}

/// Images that were added under this name.
pub(super) async fn images_of(call: &Call, repository: &Repository) -> Vec<ImageRecord> {
    let published = call.control.leader.published.read().await;
    let images = published.0.images.values().filter(|image| image.image.repository == repository.as_str());
    images.cloned().collect()
}

fn parts_of(call: &Call, image: &ImageRecord) -> Option<Vec<String>> {
    let bytes = call.control.images.read(&Digest::parse(&image.digest).ok()?, MANIFEST_LIMIT).ok()?;
    let manifest: ImageManifest = serde_json::from_slice(&bytes).ok()?;
    Some(manifest.layers.iter().chain([&manifest.config]).map(|part| part.digest.clone()).collect())
}

pub(super) async fn read(
    call: &Call,
    repository: &Repository,
    digest: &Digest,
) -> Result<HttpResponse, RegistryError> {
    if !has(call, repository, digest).await? {
        return Err(unknown(repository, digest));
    }
    let file = tokio::fs::File::open(call.control.images.path(digest)).await;
    let mut file = file.map_err(|_| unknown(repository, digest))?;
    let length = file.metadata().await.map_err(|error| of_disk(&error))?.len();
    let range = requested(call.header(RANGE), length)?;
    let mut answer = match range {
        Some(ByteRange { first, last }) => {
            file.seek(SeekFrom::Start(first)).await.map_err(|error| of_disk(&error))?;
            let mut answer = HttpResponse::PartialContent();
            answer.insert_header((CONTENT_RANGE, format!("bytes {first}-{last}/{length}")));
            answer
        }
        None => HttpResponse::Ok(),
    };
    let count = range.map_or(length, ByteRange::len);
    answer.insert_header(BYTES).insert_header((DIGEST, digest.to_string()));
    answer.insert_header((ACCEPT_RANGES, "bytes"));
    let pieces = ReaderStream::with_capacity(file.take(count), PIECE);
    Ok(answer.body(SizedStream::new(count, pieces)))
}

pub(super) async fn remove(
    call: &Call,
    repository: &Repository,
    digest: &Digest,
) -> Result<HttpResponse, RegistryError> {
    let (name, text) = (repository.as_str(), digest.to_string());
    let needed = call.control.store.needed_by(name, &text).await.map_err(|error| of_record(&error))?;
    if let Some(manifest) = needed {
        let message = format!("the manifest {manifest} needs this blob; remove that first");
        return Err(RegistryError::new(ErrorCode::Conflict, message));
    }
    let gone = call.control.store.unlink_blob(name, &text).await.map_err(|error| of_record(&error))?;
    if gone { Ok(HttpResponse::Accepted().finish()) } else { Err(unknown(repository, digest)) }
}
