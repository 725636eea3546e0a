//! Manifests and tags: read, written and removed; and what is about a manifest.
//!
//! A tag of an image for this platform's processors is an image of the platform under the same name: it can be deployed. The
//! image is the record's; the tag says in addition which list of manifests a client gets.

use actix_web::HttpResponse;
use actix_web::body::SizedStream;
use actix_web::dev::Payload;
use actix_web::http::header::{CONTENT_TYPE, LOCATION};
use actix_web::web::{Bytes, BytesMut};
use futures_util::StreamExt;
use jiff::Timestamp;
use mainyard_core::commands::{AddImages, NoteSignature, RemoveImage};
use mainyard_core::model::{ImageRecord, ImageRef, Origin};
use mainyard_images::{Digest, ImageConfiguration, ImageIndex, ImageManifest, runs_here};
use mainyard_registry::signature::{SIGNATURE, SIGNATURE_LIMIT, signer_of as signer};
use mainyard_registry::{
    ErrorCode, MANIFEST_LIMIT, Manifest, ManifestKind, Page, Reference, RegistryError, Repository, Tag,
};
use mainyard_store::{ManifestRow, TagRow};
use serde_json::json;

use super::{Call, DIGEST, blobs, listed, of_blobs, of_disk, of_problem, of_record, within_limit};
use crate::blobs::BlobError;
use crate::body_limits::of_payload;

/// The media type of an image that was added without one.
const IMAGE: &str = "application/vnd.oci.image.manifest.v1+json";
const INDEX: &str = "application/vnd.oci.image.index.v1+json";

fn unknown(repository: &Repository, reference: &Reference) -> RegistryError {
    let (kind, name) = match reference {
        Reference::Tag(tag) => ("tag", tag.to_string()),
        Reference::Digest(digest) => ("manifest", digest.to_string()),
    };
    RegistryError::new(ErrorCode::ManifestUnknown, format!("{repository} has no {kind} {name}"))
}

/// The image of the platform that has this name.
async fn image(call: &Call, repository: &Repository, tag: &Tag) -> Option<ImageRecord> {
    let name = format!("{repository}:{tag}");
    call.control.leader.published.read().await.0.images.get(&name).cloned()
}

async fn tag_rows(call: &Call, repository: &Repository) -> Result<Vec<TagRow>, RegistryError> {
    call.control.store.tags(repository.as_str()).await.map_err(|error| of_record(&error))
}

/// What a tag stands for. An image that was added, moved or removed under the same name since goes before what was pushed.
fn stands_for(row: Option<&TagRow>, image: Option<&ImageRecord>) -> Option<String> {
    match (row, image) {
        (Some(TagRow { digest, image: None, .. }), None) => Some(digest.clone()),
        (Some(TagRow { digest, image: Some(pushed), .. }), Some(image)) if *pushed == image.digest => {
            Some(digest.clone())
        }
        (_, image) => image.map(|image| image.digest.clone()),
    }
}

async fn digest_of(
    call: &Call,
    repository: &Repository,
    reference: &Reference,
) -> Result<Digest, RegistryError> {
    let digest = match reference {
        Reference::Digest(digest) => return Ok(digest.clone()),
        Reference::Tag(tag) => {
            let rows = tag_rows(call, repository).await?;
            let row = rows.iter().find(|row| row.tag == tag.as_str());
            stands_for(row, image(call, repository, tag).await.as_ref())
        }
    };
    let digest = digest.ok_or_else(|| unknown(repository, reference))?;
    Digest::parse(&digest).map_err(|error| of_disk(&error))
}

async fn row_of(
    call: &Call,
    repository: &Repository,
    digest: &Digest,
) -> Result<Option<ManifestRow>, RegistryError> {
    let row = call.control.store.manifest(repository.as_str(), &digest.to_string()).await;
    row.map_err(|error| of_record(&error))
}

pub(super) async fn read(
    call: &Call,
    repository: &Repository,
    reference: &Reference,
) -> Result<HttpResponse, RegistryError> {
    let digest = digest_of(call, repository, reference).await?;
    let row = row_of(call, repository, &digest).await?;
    let added = blobs::images_of(call, repository).await;
    if row.is_none() && !added.iter().any(|image| image.digest == digest.to_string()) {
        return Err(unknown(repository, reference));
    }
    let bytes = call.control.blobs.read(&digest, MANIFEST_LIMIT).await.map_err(|error| match error {
        BlobError::Away(..) => of_blobs(&error),
        _ => unknown(repository, reference),
    })?;
    let said =
        || serde_json::from_slice::<serde_json::Value>(&bytes).ok()?["mediaType"].as_str().map(str::to_owned);
    let media_type = row.map(|row| row.media_type).or_else(said).unwrap_or_else(|| IMAGE.to_owned());
    let length = bytes.len() as u64;
    let body = futures_util::stream::iter([Ok::<_, std::convert::Infallible>(Bytes::from(bytes))]);
    let mut answer = HttpResponse::Ok();
    answer.insert_header((CONTENT_TYPE, media_type)).insert_header((DIGEST, digest.to_string()));
    Ok(answer.body(SizedStream::new(length, body)))
}

pub(super) async fn tags(call: &Call, repository: &Repository) -> Result<HttpResponse, RegistryError> {
    let page = Page::of(call.query.n.as_deref(), call.query.last.as_deref())?;
    let rows = tag_rows(call, repository).await?;
    let images = blobs::images_of(call, repository).await;
    if rows.is_empty() && images.is_empty() {
        let known = call.control.store.repositories().await.map_err(|error| of_record(&error))?;
        if !known.iter().any(|name| name == repository.as_str()) {
            let message = format!("there is no repository {repository}");
            return Err(RegistryError::new(ErrorCode::NameUnknown, message));
        }
    }
    let of = |tag: &str| images.iter().find(|image| image.image.tag == tag);
    let pushed =
        rows.iter().filter(|row| stands_for(Some(row), of(&row.tag)).is_some()).map(|row| row.tag.clone());
    let mut names: Vec<String> = pushed.chain(images.iter().map(|image| image.image.tag.clone())).collect();
    names.sort();
    names.dedup();
    let (names, more) = page.cut(names);
    let path = format!("/v2/{repository}/tags/list");
    let body = json!({ "name": repository.as_str(), "tags": names });
    Ok(listed(&path, &page, more, &names, body))
}

pub(super) async fn write(
    call: &Call,
    repository: &Repository,
    reference: &Reference,
    payload: Payload,
) -> Result<HttpResponse, RegistryError> {
    let bytes = read_all(payload).await?;
    let manifest = Manifest::read(&bytes, call.header(CONTENT_TYPE).unwrap_or_default())?;
    if let Reference::Digest(digest) = reference
        && *digest != manifest.digest
    {
        let message = format!("the manifest has the digest {}, not {digest}", manifest.digest);
        return Err(RegistryError::new(ErrorCode::DigestInvalid, message));
    }
    check_parts(call, repository, &manifest, &bytes).await?;
    let image = runnable(call, &manifest, &bytes).await?;
    call.control.blobs.put(&bytes, &manifest.digest).await.map_err(|error| of_blobs(&error))?;
    let tag = match reference {
        Reference::Tag(tag) => Some(TagRow {
            tag: tag.to_string(),
            digest: manifest.digest.to_string(),
            image: image.as_ref().map(|(digest, ..)| digest.to_string()),
        }),
        Reference::Digest(_) => None,
    };
    let row = ManifestRow {
        repository: repository.to_string(),
        digest: manifest.digest.to_string(),
        media_type: manifest.media_type.clone(),
        size: bytes.len() as u64,
        needs: manifest.blobs.iter().chain(&manifest.manifests).map(Digest::to_string).collect(),
        subject: manifest.subject.as_ref().map(Digest::to_string),
        artifact_type: manifest.artifact_type.clone(),
        annotations: manifest.annotations.clone(),
    };
    let signer = signer_of(call, &manifest).await?;
    let put = call.control.store.put_manifest(&row, tag.as_ref(), &call.caller.member).await;
    put.map_err(|error| of_record(&error))?;
    if let (Reference::Tag(tag), Some((digest, size, layers))) = (reference, image) {
        record(call, repository, tag, &digest, size, layers).await?;
    }
    if let Some((digest, key)) = signer {
        let noted =
            call.control.leader.carry_out(NoteSignature { digest, key }, &call.caller.member, "").await;
        noted.map_err(|error| of_problem(&error.into()))?;
    }
    let mut answer = HttpResponse::Created();
    answer.insert_header((LOCATION, format!("/v2/{repository}/manifests/{}", manifest.digest)));
    answer.insert_header((DIGEST, manifest.digest.to_string()));
    if let Some(subject) = manifest.subject {
        answer.insert_header(("OCI-Subject", subject.to_string()));
    }
    Ok(answer.finish())
}

/// The image that a signature is of, and the key that made it; nothing of what is no signature.
async fn signer_of(call: &Call, manifest: &Manifest) -> Result<Option<(String, String)>, RegistryError> {
    let invalid =
        |why: String| RegistryError::new(ErrorCode::ManifestInvalid, format!("the signature: {why}"));
    let (Some(subject), Some(SIGNATURE)) = (&manifest.subject, manifest.artifact_type.as_deref()) else {
        return Ok(None);
    };
    let own = manifest.blobs.iter().filter(|blob| Some(*blob) != manifest.config.as_ref());
    let [blob] = own.collect::<Vec<_>>()[..] else {
        return Err(invalid("its manifest names more or less than one blob".to_owned()));
    };
    let bytes = call.control.blobs.read(blob, SIGNATURE_LIMIT).await;
    let bytes = bytes.map_err(|error| invalid(error.to_string()))?;
    let key = signer(&String::from_utf8_lossy(&bytes), subject).map_err(invalid)?;
    Ok(Some((subject.to_string(), key)))
}

/// Everything that a manifest names must be in the repository before it. It stays from here on, however old it is.
async fn check_parts(
    call: &Call,
    repository: &Repository,
    manifest: &Manifest,
    bytes: &[u8],
) -> Result<(), RegistryError> {
    let mut parts = vec![(manifest.digest.to_string(), bytes.len() as u64)];
    for blob in &manifest.blobs {
        let kept = async || call.control.blobs.keep(blob).await.map_err(|error| of_blobs(&error));
        if !blobs::has(call, repository, blob).await? || !kept().await? {
            let message = format!("{repository} has no blob {blob}, which the manifest names; push it first");
            return Err(RegistryError::new(ErrorCode::ManifestBlobUnknown, message));
        }
    }
    for (blob, said) in &manifest.sizes {
        let length = call.control.blobs.length(blob).await.map_err(|error| of_blobs(&error))?.unwrap_or(0);
        if length != *said {
            let message = format!("the manifest says that {blob} has {said} bytes; it has {length}");
            return Err(RegistryError::new(ErrorCode::ManifestInvalid, message));
        }
        parts.push((blob.to_string(), length));
    }
    within_limit(call, repository, &parts).await?;
    for inner in &manifest.manifests {
        if row_of(call, repository, inner).await?.is_none() {
            let message =
                format!("{repository} has no manifest {inner}, which the index names; push it first");
            return Err(RegistryError::new(ErrorCode::ManifestBlobUnknown, message));
        }
    }
    Ok(())
}

/// The manifest that this platform runs of an image or an index, with the size and number of its layers; nothing for what is
/// no image, or for other processors.
async fn runnable(
    call: &Call,
    manifest: &Manifest,
    bytes: &[u8],
) -> Result<Option<(Digest, u64, u32)>, RegistryError> {
    let invalid = |message: String| RegistryError::new(ErrorCode::ManifestInvalid, message);
    match manifest.kind {
        ManifestKind::Artifact => Ok(None),
        ManifestKind::Index => {
            let index: ImageIndex =
                serde_json::from_slice(bytes).map_err(|error| invalid(error.to_string()))?;
            let here = index.manifests.iter().filter(|inner| !inner.is_index());
            let mut here = here.filter(|inner| {
                inner.platform.as_ref().is_some_and(|of| runs_here(&of.os, &of.architecture))
            });
            let Some(inner) = here.next() else { return Ok(None) };
            let digest = Digest::parse(&inner.digest).map_err(|error| invalid(error.to_string()))?;
            let bytes = call.control.blobs.read(&digest, MANIFEST_LIMIT).await;
            let bytes = bytes.map_err(|error| of_blobs(&error))?;
            let found = Manifest::stored(&bytes)?;
            if found.kind == ManifestKind::Image { image_here(call, &found, &bytes).await } else { Ok(None) }
        }
        ManifestKind::Image => image_here(call, manifest, bytes).await,
    }
}

/// An image's own digest, size and number of layers; nothing for one that is made for other processors.
async fn image_here(
    call: &Call,
    manifest: &Manifest,
    bytes: &[u8],
) -> Result<Option<(Digest, u64, u32)>, RegistryError> {
    let invalid = |message: String| RegistryError::new(ErrorCode::ManifestInvalid, message);
    let read: ImageManifest = serde_json::from_slice(bytes).map_err(|error| invalid(error.to_string()))?;
    let config = manifest.config.as_ref().ok_or_else(|| invalid("it has no configuration".to_owned()))?;
    let config = call.control.blobs.read(config, MANIFEST_LIMIT).await;
    let config = config.map_err(|error| invalid(format!("the configuration cannot be read: {error}")))?;
    let config: ImageConfiguration = serde_json::from_slice(&config).map_err(|error| {
        invalid(format!("the configuration does not follow the image specification: {error}"))
    })?;
    let (layers, ids) = (read.layers.len(), config.rootfs.diff_ids.len());
    if layers != ids {
        return Err(invalid(format!("the manifest names {layers} layers, its configuration {ids}")));
    }
    let mut size = 0;
    for layer in read.layers.iter().filter_map(|layer| Digest::parse(&layer.digest).ok()) {
        size += call.control.blobs.length(&layer).await.map_err(|error| of_blobs(&error))?.unwrap_or(0);
    }
    let image = (manifest.digest.clone(), size, u32::try_from(layers).unwrap_or(u32::MAX));
    Ok(runs_here(&config.os, &config.architecture).then_some(image))
}

/// Records an image under its name: releases may wait for it.
async fn record(
    call: &Call,
    repository: &Repository,
    tag: &Tag,
    digest: &Digest,
    size: u64,
    layers: u32,
) -> Result<(), RegistryError> {
    let image = ImageRef { repository: repository.to_string(), tag: tag.to_string() };
    let origin = Origin::new(&call.caller.member, "added", Timestamp::now());
    let record = ImageRecord {
        image,
        digest: digest.to_string(),
        size,
        layers,
        origin,
        named: None,
        signed_by: Default::default(),
    };
    let known = super::manifests::image(call, repository, tag).await;
    if known.is_some_and(|known| known.digest == record.digest) {
        return Ok(()); // pushed again: nothing to tell
    }
    let added =
        call.control.leader.carry_out(AddImages { images: vec![record] }, &call.caller.member, "").await;
    added.map(drop).map_err(|error| of_problem(&error.into()))
}

pub(super) async fn remove(
    call: &Call,
    repository: &Repository,
    reference: &Reference,
) -> Result<HttpResponse, RegistryError> {
    let digest = digest_of(call, repository, reference).await?.to_string();
    let (name, store) = (repository.as_str(), &call.control.store);
    let rows = tag_rows(call, repository).await?;
    let gone = match reference {
        Reference::Tag(tag) => {
            store.remove_tag(name, tag.as_str()).await.map_err(|error| of_record(&error))?;
            vec![tag.to_string()]
        }
        Reference::Digest(_) => {
            let needed = store.needed_by(name, &digest).await.map_err(|error| of_record(&error))?;
            if let Some(index) = needed {
                let message = format!("the index {index} needs this manifest; remove that first");
                return Err(RegistryError::new(ErrorCode::Conflict, message));
            }
            let known = store.remove_manifest(name, &digest).await.map_err(|error| of_record(&error))?;
            let images = blobs::images_of(call, repository).await;
            let is_pushed = |tag: &str| rows.iter().any(|row| row.tag == tag && row.digest == digest);
            let gone = images.iter().filter(|image| image.digest == digest || is_pushed(&image.image.tag));
            let gone: Vec<String> = gone.map(|image| image.image.tag.clone()).collect();
            if !known && gone.is_empty() {
                return Err(unknown(repository, reference));
            }
            gone
        }
    };
    for tag in gone {
        let tag = Tag::parse(&tag)?;
        if let Some(image) = image(call, repository, &tag).await {
            let command = RemoveImage { image: image.image };
            let removed = call.control.leader.carry_out(command, &call.caller.member, "").await;
            removed.map(drop).map_err(|error| of_problem(&error.into()))?;
        }
    }
    Ok(HttpResponse::Accepted().finish())
}

pub(super) async fn referrers(
    call: &Call,
    repository: &Repository,
    digest: &Digest,
) -> Result<HttpResponse, RegistryError> {
    let rows = call.control.store.referrers(repository.as_str(), &digest.to_string()).await;
    let rows = rows.map_err(|error| of_record(&error))?;
    let kind = call.query.artifact_type.as_deref();
    let fits = |row: &&ManifestRow| kind.is_none_or(|kind| row.artifact_type.as_deref() == Some(kind));
    let descriptors = rows.iter().filter(fits).map(|row| {
        json!({
            "mediaType": row.media_type,
            "digest": row.digest,
            "size": row.size,
            "artifactType": row.artifact_type,
            "annotations": row.annotations,
        })
    });
    let descriptors: Vec<_> = descriptors.collect();
    let mut answer = HttpResponse::Ok();
    answer.insert_header((CONTENT_TYPE, INDEX));
    if kind.is_some() {
        answer.insert_header(("OCI-Filters-Applied", "artifactType"));
    }
    let index = json!({ "schemaVersion": 2, "mediaType": INDEX, "manifests": descriptors });
    Ok(answer.body(index.to_string()))
}

async fn read_all(mut payload: Payload) -> Result<Bytes, RegistryError> {
    let mut all = BytesMut::new();
    while let Some(piece) = payload.next().await {
        all.extend_from_slice(&piece.map_err(|error| of_problem(&of_payload(&error)))?);
    }
    Ok(all.freeze())
}
