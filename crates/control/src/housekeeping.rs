//! Housekeeping: removes by rule what would grow without end: old changes in the journal, blobs that no image and no release
//! needs, sealed values that no secret has. Only the control that decides does it.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::time::Duration;

use actix_web::web::Data;
use mainyard_core::retention::{BLOB_KEPT, Journal, SEALED_KEPT, needed_blobs, needed_manifests};
use mainyard_images::{ContentStore, Digest, Error};
use mainyard_registry::Manifest;

use crate::Control;
use crate::blobs::{BlobError, Blobs};
use crate::builds::sweep_builds;
use crate::registry::clear_uploads;
use crate::storage::prune_by_rules;

const EVERY: Duration = Duration::from_secs(600);
/// Largest manifest that is read.
const MANIFEST_LIMIT: u64 = 4 << 20;

/// Clears away, from time to time, forever.
pub(crate) async fn keep_house(control: Data<Control>) {
    if control.blobs.has_object_store()
        && let Err(error) = move_to_object_store(&control).await
    {
        tracing::warn!(%error, "images could not be moved to the object store");
    }
    loop {
        actix_web::rt::time::sleep(EVERY).await;
        if control.leader.elsewhere().is_none() {
            clear(&control).await;
        }
    }
}

async fn clear(control: &Data<Control>) {
    prune_by_rules(control).await;
    sweep_builds(control).await;
    let latest = *control.leader.latest.borrow();
    match control.store.prune(&Journal::default(), latest).await {
        Ok(0) => {}
        Ok(gone) => tracing::info!(gone, "old changes were cleared from the journal"),
        Err(error) => tracing::warn!(%error, "the journal could not be cleared"),
    }
    match control.store.sweep_sealed(SEALED_KEPT.duration().as_secs_f64()).await {
        Ok(0) => {}
        Ok(gone) => tracing::info!(gone, "sealed values that no secret uses were removed"),
        Err(error) => tracing::warn!(%error, "sealed values could not be cleared"),
    }
    if let Err(error) = control.store.sweep_usage().await {
        tracing::warn!(%error, "old figures of what replicas used could not be cleared");
    }
    if let Err(error) = control.store.sweep_demand().await {
        tracing::warn!(%error, "old figures of what was asked of workloads could not be cleared");
    }
    let mut needed = {
        let published = control.leader.published.read().await;
        control.outgoing.keep_only(|workload| published.0.workloads.contains_key(workload));
        needed_manifests(&published.0)
    };
    match control.store.manifests().await {
        Ok(pushed) => needed.extend(pushed.into_iter().map(|manifest| manifest.digest)),
        Err(error) => return tracing::warn!(%error, "the image store could not be cleared"),
    }
    let images = control.blobs.local().clone();
    let cleared = actix_web::web::block(move || {
        clear_uploads(&images);
        clear_pulls(&images);
    });
    if let Err(error) = cleared.await {
        tracing::warn!(%error, "uploads and pulls that were given up could not be cleared");
    }
    let of_builds = match blobs_of_builds(control).await {
        Ok(blobs) => blobs,
        Err(error) => return tracing::warn!(%error, "the image store could not be cleared"),
    };
    match sweep_images(&control.blobs, needed, of_builds).await {
        Ok(0) => {}
        Ok(freed) => tracing::info!(freed, "blobs that nothing needs were removed"),
        Err(error) => tracing::warn!(%error, "the image store could not be cleared"),
    }
}

/// Parts of blobs that no pull went on with for a day are removed.
const PULL_KEPT: Duration = Duration::from_secs(24 * 3600);

fn clear_pulls(images: &ContentStore) {
    for part in std::fs::read_dir(images.root().join("pulls")).into_iter().flatten().flatten() {
        let changed = part.metadata().and_then(|found| found.modified());
        let is_old = changed.is_ok_and(|at| at.elapsed().is_ok_and(|age| age > PULL_KEPT));
        if is_old && let Err(error) = std::fs::remove_file(part.path()) {
            tracing::warn!(%error, part = %part.path().display(), "a part of a blob could not be removed");
        }
    }
}

/// What builds need: the code of those that have not ended, the layers that their steps made, and the code that is kept.
async fn blobs_of_builds(control: &Control) -> Result<Vec<Digest>, mainyard_store::Error> {
    let trees = control.store.open_builds().await?.into_iter();
    let trees = trees.filter_map(|build| build["tree"].as_str().map(str::to_owned));
    let kept = control.store.build_layers().await?.into_iter().chain(control.store.code_bundles().await?);
    let all: Vec<String> = trees.chain(kept).collect();
    Ok(all.iter().filter_map(|digest| Digest::parse(digest).ok()).collect())
}

/// Removes the blobs that neither these manifests nor others need; gives their size in bytes.
async fn sweep_images(
    blobs: &Blobs,
    manifests: BTreeSet<String>,
    others: Vec<Digest>,
) -> Result<u64, BlobError> {
    let mut needed = needed_by(blobs, manifests).await?;
    needed.extend(others);
    blobs.sweep(needed, BLOB_KEPT.duration()).await
}

/// All that these manifests need, themselves among it.
async fn needed_by(blobs: &Blobs, manifests: BTreeSet<String>) -> Result<HashSet<Digest>, BlobError> {
    blobs.bring_documents(manifests.iter().cloned().collect()).await;
    let images = blobs.local().clone();
    let needed = actix_web::web::block(move || {
        let mut parts = BTreeMap::new();
        for digest in &manifests {
            parts.insert(digest.clone(), parts_of(&images, digest)?);
        }
        let needed = needed_blobs(&manifests, &parts)
            .map_err(|digest| Error::Invalid(format!("it is not known what the manifest {digest} needs")))?;
        needed.into_iter().map(Digest::parse).collect::<Result<HashSet<_>, _>>()
    });
    Ok(needed.await.map_err(std::io::Error::other)??)
}

/// What was kept in the directory alone goes to the object store, once one was declared.
async fn move_to_object_store(control: &Data<Control>) -> Result<(), BlobError> {
    let mut manifests = needed_manifests(&control.leader.published.read().await.0);
    let pushed = control.store.manifests().await.map_err(std::io::Error::other)?;
    manifests.extend(pushed.into_iter().map(|manifest| manifest.digest));
    let needed = needed_by(&control.blobs, manifests).await?;
    let here: Vec<Digest> = needed.into_iter().filter(|digest| control.blobs.local().has(digest)).collect();
    control.blobs.publish(&here).await
}

/// A manifest and all that it names; the manifest alone where it cannot be read.
pub(crate) fn blobs_of(images: &ContentStore, digest: &str) -> Vec<String> {
    let parts = parts_of(images, digest).unwrap_or_default();
    parts.into_iter().chain([digest.to_owned()]).collect()
}

/// The blobs and manifests that a manifest names.
fn parts_of(images: &ContentStore, digest: &str) -> Result<Vec<String>, Error> {
    let manifest = manifest(images, &Digest::parse(digest)?)?;
    Ok(manifest.blobs.iter().chain(&manifest.manifests).map(Digest::to_string).collect())
}

/// A manifest that was taken in.
pub(crate) fn manifest(images: &ContentStore, digest: &Digest) -> Result<Manifest, Error> {
    let manifest = Manifest::stored(&images.read(digest, MANIFEST_LIMIT)?);
    manifest.map_err(|error| Error::Invalid(format!("the manifest {digest} cannot be read: {error}")))
}

#[cfg(test)]
mod tests {
    use std::fs::File;
    use std::time::SystemTime;

    use super::*;

    #[test]
    fn parts_of_pulls_go_a_day_after_the_last_byte_came() {
        let dir = tempfile::tempdir().expect("a directory");
        let images = ContentStore::open(dir.path()).expect("a store");
        let pulls = dir.path().join("pulls");
        std::fs::create_dir(&pulls).expect("a directory");
        for (name, hours) in [("fresh", 1), ("old", 25)] {
            let file = File::create(pulls.join(name)).expect("a part");
            let at = SystemTime::now() - Duration::from_secs(hours * 3600);
            file.set_modified(at).expect("its time");
        }
        clear_pulls(&images);
        let left: Vec<_> = std::fs::read_dir(&pulls).expect("a directory").flatten().collect();
        assert_eq!(left.len(), 1);
        assert_eq!(left[0].file_name(), "fresh");
    }
}
