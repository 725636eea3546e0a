//! A base image from the packages that this machine's distribution has installed, with its bill of materials.

use mainyard_api::{ImageDetails, ImageQuery, NoPath, ShowImage};
use mainyard_base_images::{Wanted, gather};
use mainyard_core::model::{Bytes, ImageRef, NameError};
use mainyard_images::{ContentStore, Digest, ImageContent, Package, pack, spdx_of, write_archive};
use serde_json::json;

use super::images;
use super::repository::{MANIFEST, Repository};
use crate::args::Trial;
use crate::client::Client;
use crate::terminal::{Failure, count};

/// What the image is made of.
pub(super) struct Recipe {
    pub packages: Vec<String>,
    pub without: Vec<String>,
    /// `NAME:ID` each.
    pub accounts: Vec<String>,
}

fn account(text: &str) -> Result<(&str, u32), Failure> {
    let read = text.split_once(':').and_then(|(name, id)| Some((name, id.parse().ok()?)));
    read.filter(|(name, id)| !name.is_empty() && (1..60_000).contains(id)).ok_or_else(|| {
        Failure::usage(format!("--account is {text:?}; a name and an id such as app:1000 are expected"))
    })
}

pub(super) async fn make(
    client: &Client,
    image: &str,
    recipe: &Recipe,
    trial: &Trial,
) -> Result<(), Failure> {
    let name: ImageRef = image.parse().map_err(|error: NameError| Failure::usage(error.to_string()))?;
    let failed =
        |error: &dyn std::fmt::Display| Failure::failed(format!("the image cannot be made: {error}"));
    let packages: Vec<&str> = recipe.packages.iter().map(String::as_str).collect();
    let without: Vec<&str> = recipe.without.iter().map(String::as_str).collect();
    let accounts: Vec<(&str, u32)> =
        recipe.accounts.iter().map(|it| account(it)).collect::<Result<_, _>>()?;
    let before = before(client, &name).await?;
    let base = gather(&Wanted { packages: &packages, without: &without, accounts: &accounts })
        .map_err(|error| Failure::refused(error.to_string()))?;
    let dir = tempfile::tempdir().map_err(|error| failed(&error))?;
    let store = ContentStore::open(dir.path()).map_err(|error| failed(&error))?;
    let content = ImageContent {
        layers: vec![base.layer],
        env: vec!["PATH=/usr/sbin:/usr/bin:/sbin:/bin".to_owned()],
        ..ImageContent::default()
    };
    let digest = pack(&store, &content).map_err(|error| failed(&error))?;
    if before.as_ref().is_some_and(|it| it.entry.record.digest == digest.to_string()) {
        println!("{name}: these packages are in it already; nothing is changed");
        return Ok(());
    }
    let archive = dir.path().join("image.tar");
    let to = std::fs::File::create(&archive).map_err(|error| failed(&error))?;
    write_archive(&store, &digest, image, to).map_err(|error| failed(&error))?;
    images::add(client, &archive, None, trial).await?;
    if !trial.forecast {
        attach_bill(client, &name, &digest, &base.packages).await?;
    }
    let size: u64 = std::fs::metadata(&archive).map_or(0, |found| found.len());
    println!("  {} of this machine, {} packed", count(base.packages.len(), "package"), Bytes::new(size));
    let built_on: Vec<String> = before.iter().flat_map(built_on).collect();
    if !built_on.is_empty() {
        println!("  built on the one before, and unchanged: {}", built_on.join(", "));
    }
    Ok(())
}

/// The image that has this name now.
async fn before(client: &Client, name: &ImageRef) -> Result<Option<ImageDetails>, Failure> {
    let known = client.snapshot().await?.state.images.contains_key(&name.to_string());
    if !known {
        return Ok(None);
    }
    client.ask::<ShowImage>(NoPath {}, ImageQuery { image: name.clone() }).await.map(Some)
}

/// Images that begin with its lowest layer.
fn built_on(image: &ImageDetails) -> Vec<String> {
    image.layers_in_order.first().map(|layer| layer.shared_with.clone()).unwrap_or_default()
}

/// Keeps the bill of materials beside the image.
async fn attach_bill(
    client: &Client,
    image: &ImageRef,
    digest: &Digest,
    packages: &[Package],
) -> Result<(), Failure> {
    let repository = Repository { client, name: &image.repository };
    let (media_type, bytes) = repository.manifest(digest).await?;
    let (bill, empty) = (spdx_of(&image.to_string(), packages), b"{}".to_vec());
    let described = |media_type: &str, bytes: &[u8]| json!({"mediaType": media_type, "digest": Digest::of(bytes).to_string(), "size": bytes.len()});
    let manifest = json!({
        "schemaVersion": 2,
        "mediaType": MANIFEST,
        "artifactType": "application/spdx+json",
        "config": described("application/vnd.oci.empty.v1+json", &empty),
        "layers": [described("application/spdx+json", &bill)],
        "subject": described(&media_type, &bytes),
    });
    repository.put_blob(empty).await?;
    repository.put_blob(bill).await?;
    repository.put_manifest(manifest.to_string().into_bytes()).await
}
