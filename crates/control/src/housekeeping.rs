//! What would grow without end is cleared away by rule: old changes in the journal, blobs that no image and no release
//! needs, sealed values that no secret has. Only the control that decides does it.

use std::collections::HashSet;
use std::time::Duration;

use actix_web::web::Data;
use mainyard_core::record::State;
use mainyard_core::retention::Journal;
use mainyard_images::{ContentStore, Digest, Error, ImageManifest};

use crate::Control;

const EVERY: Duration = Duration::from_secs(600);
/// A blob that nobody needs is kept for this long.
const BLOB_KEPT: Duration = Duration::from_secs(3600);
/// A sealed value that no secret names is kept for this long.
const SEALED_KEPT: Duration = Duration::from_secs(3600);
/// Largest manifest that is read.
const MANIFEST_LIMIT: u64 = 4 << 20;

/// Clears away, now and then, for ever.
pub(crate) async fn keep_house(control: Data<Control>) {
    loop {
        actix_web::rt::time::sleep(EVERY).await;
        if control.leader.elsewhere().is_none() {
            clear(&control).await;
        }
    }
}

async fn clear(control: &Data<Control>) {
    let latest = *control.leader.latest.borrow();
    match control.store.prune(&Journal::default(), latest).await {
        Ok(0) => {}
        Ok(gone) => tracing::info!(gone, "old changes were cleared from the journal"),
        Err(error) => tracing::warn!(%error, "the journal could not be cleared"),
    }
    match control.store.sweep_sealed(SEALED_KEPT.as_secs_f64()).await {
        Ok(0) => {}
        Ok(gone) => tracing::info!(gone, "sealed values that no secret has any more were removed"),
        Err(error) => tracing::warn!(%error, "sealed values could not be cleared"),
    }
    if let Err(error) = control.store.sweep_usage().await {
        tracing::warn!(%error, "old figures of what replicas used could not be cleared");
    }
    let manifests = wanted(&control.leader.published.read().await.0);
    let images = control.images.clone();
    let swept = actix_web::web::block(move || {
        // Where one manifest cannot be read, it is not known which blobs it needs: nothing is removed then.
        let keep = with_their_parts(&images, manifests)?;
        images.sweep(&keep, BLOB_KEPT)
    });
    match swept.await {
        Ok(Ok(0)) => {}
        Ok(Ok(freed)) => tracing::info!(freed, "blobs that nobody needs were removed"),
        Ok(Err(error)) => tracing::warn!(%error, "the image store could not be cleared"),
        Err(error) => tracing::warn!(%error, "the image store could not be cleared"),
    }
}

/// The manifests of images that have a name, and of releases.
fn wanted(state: &State) -> Vec<Digest> {
    let named = state.images.values().map(|image| &image.digest);
    let released = state.releases.values().filter_map(|release| release.digest.as_ref());
    named.chain(released).filter_map(|digest| Digest::parse(digest).ok()).collect()
}

fn with_their_parts(images: &ContentStore, manifests: Vec<Digest>) -> Result<HashSet<Digest>, Error> {
    let mut keep = HashSet::new();
    for digest in manifests {
        let manifest: ImageManifest = serde_json::from_slice(&images.read(&digest, MANIFEST_LIMIT)?)
            .map_err(|error| Error::Invalid(format!("the manifest {digest} cannot be read: {error}")))?;
        for part in manifest.layers().iter().chain([manifest.config()]) {
            keep.insert(Digest::parse(part.digest().as_ref())?);
        }
        keep.insert(digest);
    }
    Ok(keep)
}
