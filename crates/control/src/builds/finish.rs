//! Putting the image together: its documents, its name, and its bill of materials.

use jiff::Timestamp;
use mainyard_builds::image::Ingredients;
use mainyard_builds::materials::{LOCK_FILES, dependencies};
use mainyard_builds::recipe::Part;
use mainyard_builds::{Build, Fault, FaultKind};
use mainyard_core::commands::AddImages;
use mainyard_core::model::{ImageRecord, Origin};
use mainyard_images::{Digest, Package, spdx_of};
use mainyard_store::ManifestRow;
use serde_json::json;

use super::Shared;
use super::faults::of_platform;
use super::layers::{PartDone, TreeSource};
use super::tree;
use crate::storage::{check_limit, parts_of};

const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
const BILL: &str = "application/spdx+json";

/// Puts the image together and records it; gives its digest.
pub(super) async fn put_together(
    control: &Shared,
    build: &Build,
    part: &Part,
    made: &PartDone,
    tree: &TreeSource,
) -> Result<String, Fault> {
    let ingredients = Ingredients {
        base_config: made.base_config.clone(),
        base_layers: made.base_layers.clone(),
        base_digest: made.base_digest.clone(),
        layers: &made.made,
        image: &build.recipe.image,
        part: (&part.user, &part.folder),
        commit: build.commit.as_ref(),
        architecture: mainyard_images::architecture(),
    };
    let config = ingredients.configuration().to_string().into_bytes();
    let config_digest = Digest::of(&config);
    let manifest = ingredients.manifest((&config_digest.to_string(), config.len() as u64));
    let manifest = manifest.to_string().into_bytes();
    let digest = Digest::of(&manifest);
    control.blobs.put(&config, &config_digest).await.map_err(of_platform)?;
    control.blobs.put(&manifest, &digest).await.map_err(of_platform)?;
    let parts = parts_of(control.blobs.local(), &digest.to_string());
    for (blob, _) in &parts {
        let blob = Digest::parse(blob).map_err(of_platform)?;
        control.blobs.keep(&blob).await.map_err(of_platform)?;
    }
    let limit = check_limit(control, &build.image.repository, &parts).await;
    limit.map_err(|problem| Fault::new(FaultKind::Platform, problem.detail, "mainyard image prune"))?;
    let record = ImageRecord {
        image: build.image.clone(),
        digest: digest.to_string(),
        size: parts.iter().map(|(_, size)| size).sum(),
        layers: (made.base_layers.len() + made.made.len()) as u32,
        origin: Origin::new(build.by.clone(), "built", Timestamp::now()),
        named: None,
        signed_by: Default::default(),
    };
    let added = control.leader.carry_out(AddImages { images: vec![record] }, &build.by, "").await;
    added.map_err(of_platform)?;
    if let Err(fault) = attach_bill(control, build, made, tree, (&digest, manifest.len() as u64)).await {
        tracing::warn!(build = build.number, why = fault.sentence, "the bill of materials could not be kept");
    }
    Ok(digest.to_string())
}

/// Keeps what the image is made of beside it: the packages of its base, and what the code depends on.
async fn attach_bill(
    control: &Shared,
    build: &Build,
    made: &PartDone,
    tree: &TreeSource,
    (subject, subject_size): (&Digest, u64),
) -> Result<(), Fault> {
    let mut packages = of_base(control, made).await?;
    for file in LOCK_FILES {
        let path = tree::in_folder(&tree.folder, file);
        let Ok(Some(text)) = tree::file_of(&tree.archive, &path) else { continue };
        let own = dependencies(file, &text).into_iter();
        packages.extend(own.map(|(name, version)| Package { name, version }));
    }
    packages.sort();
    packages.dedup();
    if packages.is_empty() {
        return Ok(());
    }
    let (bill, empty) = (spdx_of(&build.image.to_string(), &packages), b"{}".to_vec());
    let described = |media_type: &str, digest: &Digest, size: u64| json!({"mediaType": media_type, "digest": digest.to_string(), "size": size});
    let (bill_digest, empty_digest) = (Digest::of(&bill), Digest::of(&empty));
    let manifest = json!({
        "schemaVersion": 2,
        "mediaType": MANIFEST,
        "artifactType": BILL,
        "config": described("application/vnd.oci.empty.v1+json", &empty_digest, empty.len() as u64),
        "layers": [described(BILL, &bill_digest, bill.len() as u64)],
        "subject": described(MANIFEST, subject, subject_size),
    });
    let manifest = manifest.to_string().into_bytes();
    let digest = Digest::of(&manifest);
    let repository = &build.image.repository;
    for (bytes, digest) in [(&bill, &bill_digest), (&empty, &empty_digest), (&manifest, &digest)] {
        control.blobs.put(bytes, digest).await.map_err(of_platform)?;
    }
    for blob in [&bill_digest, &empty_digest] {
        control.store.link_blob(repository, &blob.to_string()).await.map_err(of_platform)?;
    }
    let row = ManifestRow {
        repository: repository.clone(),
        digest: digest.to_string(),
        media_type: MANIFEST.to_owned(),
        size: manifest.len() as u64,
        needs: vec![bill_digest.to_string(), empty_digest.to_string()],
        subject: Some(subject.to_string()),
        artifact_type: Some(BILL.to_owned()),
        annotations: Default::default(),
    };
    control.store.put_manifest(&row, None, &build.by).await.map_err(of_platform)
}

/// The packages that the base says it is made of.
async fn of_base(control: &Shared, made: &PartDone) -> Result<Vec<Package>, Fault> {
    let Some(base) = &made.base else { return Ok(Vec::new()) };
    let record = control.leader.published.read().await.0.images.get(&base.to_string()).cloned();
    let Some(record) = record else { return Ok(Vec::new()) };
    let attached = crate::attachments::attached(control, &record).await;
    let attached = attached.map_err(|problem| of_platform(problem.detail))?;
    let materials = attached.into_iter().filter_map(|it| it.materials).flat_map(|it| it.packages);
    Ok(materials.map(|it| Package { name: it.name, version: it.version }).collect())
}
