//! What was pushed about an image: signatures, bills of materials and the like.

use mainyard_api::{Attachment, BillOfMaterials, ListedPackage, Problem};
use mainyard_core::model::ImageRecord;
use mainyard_images::{BILL_LIMIT, BILLS, Digest, ImageManifest, Materials};
use mainyard_registry::MANIFEST_LIMIT;
use mainyard_store::ManifestRow;

use crate::Control;
use crate::problem::of_record;

/// Attachments of an image that are shown, the oldest first.
const SHOWN: usize = 100;

/// What is about this image in its repository.
pub(crate) async fn attached(control: &Control, image: &ImageRecord) -> Result<Vec<Attachment>, Problem> {
    let rows = control.store.referrers(&image.image.repository, &image.digest).await.map_err(of_record)?;
    let mut list = Vec::new();
    for row in rows.into_iter().take(SHOWN) {
        let materials = match row.artifact_type.as_deref() {
            Some(kind) if BILLS.contains(&kind) => materials(control, &row).await,
            _ => None,
        };
        list.push(Attachment {
            digest: row.digest,
            kind: row.artifact_type.unwrap_or_default(),
            annotations: row.annotations,
            materials,
        });
    }
    Ok(list)
}

/// What a bill says; nothing where it cannot be read.
async fn materials(control: &Control, row: &ManifestRow) -> Option<BillOfMaterials> {
    let manifest = control.blobs.read(&Digest::parse(&row.digest).ok()?, MANIFEST_LIMIT).await.ok()?;
    let manifest: ImageManifest = serde_json::from_slice(&manifest).ok()?;
    let bill = Digest::parse(&manifest.layers.first()?.digest).ok()?;
    let bill = Materials::read(&control.blobs.read(&bill, BILL_LIMIT).await.ok()?)?;
    let packages = bill.packages.into_iter().map(|it| ListedPackage { name: it.name, version: it.version });
    Some(BillOfMaterials { format: bill.format, packages: packages.collect() })
}
