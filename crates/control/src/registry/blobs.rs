//! Blobs of a repository: read, whole or in part, and removed.

use actix_web::HttpResponse;
use actix_web::body::SizedStream;
use actix_web::http::header::{ACCEPT_RANGES, CONTENT_RANGE, RANGE};
use mainyard_core::model::ImageRecord;
use mainyard_images::{Digest, ImageManifest};
use mainyard_registry::{ByteRange, ErrorCode, MANIFEST_LIMIT, RegistryError, Repository, requested};

use super::{BYTES, Call, DIGEST, of_blobs, of_record};
use crate::blobs::BlobError;

pub(super) fn unknown(repository: &Repository, digest: &Digest) -> RegistryError {
    RegistryError::new(ErrorCode::BlobUnknown, format!("{repository} has no blob {digest}"))
}

/// Whether the repository has the blob: it was pushed or mounted there, or belongs to an image that was added under its name.
pub(super) async fn has(
    call: &Call,
    repository: &Repository,
    digest: &Digest,
) -> Result<bool, RegistryError> {
    if !call.control.blobs.has(digest).await.map_err(|error| of_blobs(&error))? {
        return Ok(false);
    }
    let linked = call.control.store.has_blob(repository.as_str(), &digest.to_string()).await;
    if linked.map_err(|error| of_record(&error))? {
        return Ok(true);
    }
    let images = images_of(call, repository).await;
    for image in &images {
        if parts_of(call, image).await.is_some_and(|parts| parts.contains(&digest.to_string())) {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Images that were added under this name.
pub(super) async fn images_of(call: &Call, repository: &Repository) -> Vec<ImageRecord> {
    let published = call.control.leader.published.read().await;
    let images = published.0.images.values().filter(|image| image.image.repository == repository.as_str());
    images.cloned().collect()
}

async fn parts_of(call: &Call, image: &ImageRecord) -> Option<Vec<String>> {
    let bytes = call.control.blobs.read(&Digest::parse(&image.digest).ok()?, MANIFEST_LIMIT).await.ok()?;
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
    let mut asked = Ok(None);
    let body = call.control.blobs.stream(digest, |length| {
        asked = requested(call.header(RANGE), length);
        asked.clone().ok().flatten()
    });
    let body = match body.await {
        Err(BlobError::Unknown(_)) => return Err(unknown(repository, digest)),
        other => other.map_err(|error| of_blobs(&error))?,
    };
    let (range, length) = (asked?, body.length);
    let mut answer = match range {
        Some(ByteRange { first, last }) => {
            let mut answer = HttpResponse::PartialContent();
            answer.insert_header((CONTENT_RANGE, format!("bytes {first}-{last}/{length}")));
            answer
        }
        None => HttpResponse::Ok(),
    };
    answer.insert_header(BYTES).insert_header((DIGEST, digest.to_string()));
    answer.insert_header((ACCEPT_RANGES, "bytes"));
    Ok(answer.body(SizedStream::new(range.map_or(length, ByteRange::len), body.pieces)))
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
