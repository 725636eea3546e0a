//! Images on their way in.

use actix_web::HttpRequest;
use actix_web::http::header::CONTENT_LENGTH;
use actix_web::web::{Bytes, Data, Json, Payload, Query};
use futures_util::StreamExt;
use jiff::Timestamp;
use mainyard_core::cluster::{AddedImage, Cluster};
use mainyard_core::model::{ImageRecord, ImageRef, Origin};
use mainyard_images::{ContentStore, Digest, import_archive};
use serde::Deserialize;
use serde_json::{Value, json};
use tokio_util::io::{StreamReader, SyncIoBridge};

use crate::Control;
use crate::callers::Member;
use crate::forecast::{self, Ask};
use crate::problem::Problem;
use crate::responses::Answer;

/// Largest archive that is taken.
pub const IMAGE_LIMIT: u64 = 16 << 30;

#[utoipa::path(get, path = "/api/v1/images", responses((status = 200)))]
pub async fn list_images(_: Member, control: Data<Control>) -> Json<Value> {
    let published = control.leader.published.read().await;
    Json(json!(published.0.images.values().collect::<Vec<_>>()))
}

#[derive(Deserialize, utoipa::IntoParams)]
pub struct NewImage {
    /// Its name, instead of the one the layout gives it.
    name: Option<String>,
}

/// Room that stays free on the disk, whatever is sent: the record and the logs need some. A twentieth of a small disk.
const KEPT_FREE: u64 = 1 << 30;
/// The disk is looked at again after so many bytes.
const LOOK_EVERY: usize = 64 << 20;

/// Why so many bytes more cannot be staged in a folder, where they cannot.
fn no_room(dir: &std::path::Path, more: u64) -> Option<Problem> {
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

/// Takes in an image layout as a tar archive, plain or compressed.
#[utoipa::path(post, path = "/api/v1/images", params(NewImage, Ask), request_body(content = Vec<u8>, content_type = "application/x-tar"), responses((status = 200), (status = 422, body = Problem)))]
pub async fn add_image(
    member: Member,
    control: Data<Control>,
    query: Query<NewImage>,
    ask: Query<Ask>,
    request: HttpRequest,
    body: Payload,
) -> Answer {
    // To look at it, it is read into a place of its own, which goes when it was looked at.
    let aside = if ask.forecast {
        Some(tempfile::tempdir().map_err(|error| Problem::unavailable(error.to_string()))?)
    } else {
        None
    };
    let staged = aside.as_ref().map_or_else(|| control.images.root().to_owned(), |dir| dir.path().to_owned());
    let length = request.headers().get(CONTENT_LENGTH).and_then(|value| value.to_str().ok()?.parse().ok());
    if let Some(refused) = no_room(&staged, length.unwrap_or(0)) {
        return Err(refused);
    }
    let (to, from) = tokio::sync::mpsc::channel::<Result<Bytes, std::io::Error>>(16);
    let store = match &aside {
        Some(dir) => {
            ContentStore::open(dir.path()).map_err(|error| Problem::unavailable(error.to_string()))?
        }
        None => control.images.clone(),
    };
    let reader =
        futures_util::stream::unfold(from, |mut from| async move { Some((from.recv().await?, from)) });
    let reader = StreamReader::new(Box::pin(reader));
    let imported = tokio::task::spawn_blocking(move || import_archive(&store, SyncIoBridge::new(reader)));
    let mut body = body;
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
    let imported = imported.await.map_err(|error| Problem::unavailable(error.to_string()))?;
    if let Some(refused) = refused {
        return Err(refused);
    }
    let imported = imported.map_err(|error| Problem::invalid(error.to_string()))?;
    let mut records = Vec::new();
    for image in &imported {
        let name = match (&query.name, &image.name) {
            (Some(_), _) if imported.len() > 1 => {
                return Err(Problem::invalid(
                    "the layout holds several images; a name can be given to one only",
                ));
            }
            (Some(name), _) | (None, Some(name)) => name,
            (None, None) => {
                return Err(Problem::invalid(
                    "the layout gives the image no name; give it one with --name lockers/locker-api:1.4.0",
                ));
            }
        };
        let name: ImageRef = name
            .parse()
            .map_err(|error: mainyard_core::model::NameError| Problem::invalid(error.to_string()))?;
        let origin = Origin::new(member.name.clone(), "added", Timestamp::now());
        records.push(ImageRecord {
            image: name,
            digest: image.digest.to_string(),
            size: image.size,
            layers: image.layers as u32,
            origin,
        });
    }
    let watched = |answer: &Value| {
        let outcomes = answer["outcomes"].as_array().cloned().unwrap_or_default();
        let outcomes = outcomes.into_iter().filter_map(|it| serde_json::from_value::<AddedImage>(it).ok());
        outcomes.flat_map(|it| it.begin).map(|begun| begun.workload).collect()
    };
    let act = move |cluster: &mut Cluster, _: &str, _| {
        let outcomes: Vec<AddedImage> =
            records.iter().cloned().map(|record| cluster.add_image(record)).collect();
        Ok(json!({"images": records, "outcomes": outcomes}))
    };
    Ok(Json(forecast::act(&control, member, ask.into_inner(), watched, act).await?))
}

#[derive(Deserialize, utoipa::IntoParams)]
pub struct WhichImage {
    /// The image, as name:tag.
    #[param(value_type = String)]
    image: ImageRef,
}

/// Takes an image's name out of the store. Releases that were made with it keep what it stood for.
#[utoipa::path(delete, path = "/api/v1/images", params(WhichImage, Ask), responses((status = 200), (status = 404, body = Problem)))]
pub async fn remove_image(
    member: Member,
    control: Data<Control>,
    which: Query<WhichImage>,
    ask: Query<Ask>,
) -> Answer {
    let image = which.into_inner().image;
    let act = move |cluster: &mut Cluster, by: &str, now| {
        Ok(json!({"gone": cluster.remove_image(&image, by, now)?}))
    };
    forecast::plain(&control, member, ask, act).await
}

/// What an image says of itself: the ports it exposes and the command it runs (OCI image configuration).
#[utoipa::path(get, path = "/api/v1/images/config", params(WhichImage), responses((status = 200), (status = 404, body = Problem)))]
pub async fn image_config(_: Member, control: Data<Control>, which: Query<WhichImage>) -> Answer {
    let name = which.image.to_string();
    let digest = {
        let published = control.leader.published.read().await;
        let images = &published.0.images;
        let missing = || {
            let near = mainyard_core::suggestions::near(&name, images.keys().map(String::as_str)).join(", ");
            let near = if near.is_empty() { String::new() } else { format!("; there are: {near}") };
            Problem::not_found(format!("the store has no {name}{near}"))
        };
        images.get(&name).ok_or_else(missing)?.digest.clone()
    };
    let about = Digest::parse(&digest).and_then(|digest| mainyard_images::about(&control.images, &digest));
    let about = about.map_err(|error| Problem::invalid(error.to_string()))?;
    Ok(Json(json!({"image": name, "digest": digest, "ports": about.ports, "command": about.command})))
}
