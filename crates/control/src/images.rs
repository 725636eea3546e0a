//! Images on their way in.

use std::path::PathBuf;

use actix_web::dev::Payload;
use actix_web::http::header::CONTENT_LENGTH;
use actix_web::web::Bytes;
use futures_util::StreamExt;
use jiff::Timestamp;
use mainyard_api::{AddImage, ImageConfig, Problem, RemoveImage, ShowImageConfig, Trial};
use mainyard_core::commands::{self, AddImages, ImagesAdded, Removed};
use mainyard_core::model::{ImageRecord, ImageRef, NameError, Origin};
use mainyard_core::suggestions::near;
use mainyard_images::{About, ContentStore, Digest, Imported, import_archive};
use tokio_util::io::{StreamReader, SyncIoBridge};

use crate::forecast::{Acted, By, act};
use crate::housekeeping::blobs_of;
use crate::operations::{Call, Operations};
use crate::problem::of_blobs;
use crate::storage::{check_limit, parts_of};

pub(crate) fn operations(to: &mut Operations) {
    to.mount(add).mount(remove).mount(config);
}

/// Room that stays free on the disk, whatever is sent: the record and the logs need some. A twentieth of a small disk.
const KEPT_FREE: u64 = 1 << 30;
/// The disk is looked at again after so many bytes.
const LOOK_EVERY: usize = 64 << 20;

/// Why so many bytes more cannot be staged in a folder, where they cannot.
pub(crate) fn no_room(dir: &std::path::Path, more: u64) -> Option<Problem> {
    let path = std::ffi::CString::new(dir.as_os_str().as_encoded_bytes()).ok()?;
    // SAFETY: the structure is plain data that the call fills; the string lives across it.
    let (free, all) = unsafe {
        let mut found: libc::statvfs = std::mem::zeroed();
        let known = libc::statvfs(path.as_ptr(), &mut found) == 0;
        known.then(|| (found.f_bavail * found.f_frsize, found.f_blocks * found.f_frsize))?
    };
    let kept = KEPT_FREE.min(all / 20);
    (free < more.saturating_add(kept)).then(|| {
        let [free, more, kept] = [free, more, kept].map(mainyard_core::model::Bytes::new);
        let needed = if more.bytes() > 0 { format!("{more} are sent, ") } else { String::new() };
        Problem::no_space(format!(
            "No space left on device: {needed}{free} are free, and {kept} of them stay free"
        ))
    })
}

fn unavailable(error: impl ToString) -> Problem {
    Problem::unavailable(error.to_string())
}

async fn add(mut call: Call<AddImage>) -> Acted<ImagesAdded> {
    // To look at it, it is read into a place of its own, which goes when it was looked at.
    let aside = if call.query.forecast { Some(tempfile::tempdir().map_err(unavailable)?) } else { None };
    let store = match &aside {
        Some(dir) => ContentStore::open(dir.path()).map_err(unavailable)?,
        None => call.control.blobs.local().clone(),
    };
    let said = call.request.headers().get(CONTENT_LENGTH);
    let length = said.and_then(|value| value.to_str().ok()?.parse().ok());
    if let Some(refused) = no_room(store.root(), length.unwrap_or(0)) {
        return Err(refused);
    }
    let imported = import(store.clone(), &mut call.body).await?;
    let by = call.caller.name.clone();
    let images = records(&imported, call.query.name.as_deref(), &by)?;
    for image in &images {
        let parts = parts_of(&store, &image.digest);
        check_limit(&call.control, &image.image.repository, &parts).await?;
    }
    if !call.query.forecast {
        publish(&call, &imported).await?;
    }
    let trial = Trial { forecast: call.query.forecast, lose_node: None };
    let by = By { member: &by, request: &call.request_id };
    act(&call.control, by, &trial, AddImages { images }).await
}

/// Unpacks an archive into the store as it comes, for as long as there is room.
async fn import(store: ContentStore, body: &mut Payload) -> Result<Vec<Imported>, Problem> {
    let staged: PathBuf = store.root().to_owned();
    let (to, from) = tokio::sync::mpsc::channel::<Result<Bytes, std::io::Error>>(16);
    let reader =
        futures_util::stream::unfold(from, |mut from| async move { Some((from.recv().await?, from)) });
    let reader = StreamReader::new(Box::pin(reader));
    let imported = tokio::task::spawn_blocking(move || import_archive(&store, SyncIoBridge::new(reader)));
    let (mut since_looked, mut refused) = (0, None);
    while let Some(chunk) = body.next().await {
        since_looked += chunk.as_ref().map_or(0, Bytes::len);
        if since_looked > LOOK_EVERY {
            since_looked = 0;
            refused = no_room(&staged, 0);
        }
        let chunk = match &refused {
            Some(_) => Err(std::io::Error::from(std::io::ErrorKind::StorageFull)),
            None => chunk.map_err(std::io::Error::other),
        };
        if to.send(chunk).await.is_err() || refused.is_some() {
            break; // refused already; the reason comes below
        }
    }
    drop(to);
    let imported = imported.await.map_err(unavailable)?;
    match refused {
        Some(refused) => Err(refused),
        None => imported.map_err(|error| Problem::invalid(error.to_string())),
    }
}

/// Sends all of what was imported to the object store, before it is recorded.
async fn publish(call: &Call<AddImage>, imported: &[Imported]) -> Result<(), Problem> {
    let blobs = &call.control.blobs;
    let parts = imported.iter().flat_map(|image| blobs_of(blobs.local(), &image.digest.to_string()));
    let parts: Vec<Digest> = parts.filter_map(|digest| Digest::parse(&digest).ok()).collect();
    blobs.publish(&parts).await.map_err(of_blobs)
}

/// Images as they are recorded, under the name that was given or the layout's own.
fn records(imported: &[Imported], name: Option<&str>, by: &str) -> Result<Vec<ImageRecord>, Problem> {
    if name.is_some() && imported.len() > 1 {
        return Err(Problem::invalid("the layout holds several images; a name can be given to one only"));
    }
    let record = |image: &Imported| {
        let name = name.or(image.name.as_deref()).ok_or_else(|| {
            Problem::invalid(
                "the layout gives the image no name; give it one with --name lockers/locker-api:1.4.0",
            )
        })?;
        let name: ImageRef = name.parse().map_err(|error: NameError| Problem::invalid(error.to_string()))?;
        Ok(ImageRecord {
            image: name,
            digest: image.digest.to_string(),
            size: image.size,
            layers: image.layers as u32,
            origin: Origin::new(by, "added", Timestamp::now()),
            named: None,
            signed_by: Default::default(),
        })
    };
    imported.iter().map(record).collect()
}

async fn remove(call: Call<RemoveImage>) -> Acted<Removed> {
    let trial = Trial { forecast: call.query.forecast, lose_node: None };
    let command = commands::RemoveImage { image: call.query.image };
    let by = By { member: &call.caller.name, request: &call.request_id };
    act(&call.control, by, &trial, command).await
}

async fn config(call: Call<ShowImageConfig>) -> Result<ImageConfig, Problem> {
    let image = call.query.image.to_string();
    let digest = {
        let published = call.control.leader.published.read().await;
        let images = &published.0.images;
        let missing = || {
            let near = near(&image, images.keys().map(String::as_str)).join(", ");
            let near = if near.is_empty() { String::new() } else { format!("; there are: {near}") };
            Problem::not_found(format!("the store has no {image}{near}"))
        };
        images.get(&image).ok_or_else(missing)?.digest.clone()
    };
    let blobs = &call.control.blobs;
    blobs.bring_documents(vec![digest.clone()]).await;
    let about = Digest::parse(&digest).and_then(|digest| mainyard_images::about(blobs.local(), &digest));
    let about = about.map_err(|error| Problem::invalid(error.to_string()))?;
    let About { ports, command, health_check, ready_path } = about;
    Ok(ImageConfig { image, digest, ports, command, health_check, ready_path })
}
