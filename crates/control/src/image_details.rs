//! All about an image, read from the content store: how it is run, what is in it, how two of them differ.

use std::collections::{BTreeMap, BTreeSet};

use actix_web::web;
use jiff::{SignedDuration, Timestamp};
use mainyard_api::{
    Attachment, CompareImages, FileDifference, FileSums, ImageComparison, ImageDetails, ImageEntry, ImageRun,
    ImagesPruned, LayerDetails, ListImages, Problem, PruneImages, ShowImage,
};
use mainyard_core::commands;
use mainyard_core::difference::Difference;
use mainyard_core::model::{ImageRecord, ImageRef};
use mainyard_core::record::State;
use mainyard_core::retention::{ImageRule, needed_manifests, superfluous_images};
use mainyard_core::suggestions::near;
use mainyard_core::views::{kept_by, uses_of};
use mainyard_images::{
    ContentStore, Digest, Error, ImageConfiguration, ImageManifest, LayerListing, ListedFile, changes, merge,
};
use mainyard_registry::MANIFEST_LIMIT;

use crate::Control;
use crate::attachments::attached;
use crate::history::view;
use crate::housekeeping::blobs_of;
use crate::operations::{Call, Operations};
use crate::problem::{of_blobs, of_record};

/// The annotations that say where an image comes from (OCI image specification, "Pre-Defined Annotation Keys").
const SOURCE: &str = "org.opencontainers.image.source";
const COMMIT: &str = "org.opencontainers.image.revision";
/// Files of a comparison that are listed; all are counted.
const LISTED: usize = 10_000;

pub(crate) fn operations(to: &mut Operations) {
    to.mount(list).mount(show).mount(compare).mount(prune);
}

/// The documents of an image.
struct Documents {
    manifest: ImageManifest,
    config: ImageConfiguration,
}

impl Documents {
    fn read(images: &ContentStore, digest: &str) -> Result<Documents, Error> {
        let document = |digest: &str| images.read(&Digest::parse(digest)?, MANIFEST_LIMIT);
        let invalid = |error: serde_json::Error| Error::Invalid(format!("{digest} cannot be read: {error}"));
        let manifest: ImageManifest = serde_json::from_slice(&document(digest)?).map_err(invalid)?;
        let config = serde_json::from_slice(&document(&manifest.config.digest)?).map_err(invalid)?;
        Ok(Documents { manifest, config })
    }

    /// Labels of the configuration, and annotations of the manifest.
    fn labels(&self) -> BTreeMap<String, String> {
        self.config.config.labels.clone().into_iter().chain(self.manifest.annotations.clone()).collect()
    }

    fn run(&self) -> ImageRun {
        let run = &self.config.config;
        let tcp = |port: &String| port.strip_suffix("/tcp").unwrap_or(port).parse().ok();
        let mut ports: Vec<u16> = run.exposed_ports.keys().filter_map(tcp).collect();
        ports.sort_unstable();
        ImageRun {
            command: run.command(),
            user: run.user.clone(),
            directory: run.working_dir.clone(),
            env: run.env.clone(),
            ports,
            volumes: run.volumes(),
            stop_signal: run.stop_signal.clone(),
            health_check: run.healthcheck.line(),
        }
    }

    fn listings(&self, images: &ContentStore) -> Result<Vec<LayerListing>, Error> {
        let layers = self.manifest.layers.iter();
        layers.map(|layer| LayerListing::read(images.open_blob(&Digest::parse(&layer.digest)?)?)).collect()
    }
}

/// The directory, with the documents of all images of this state.
async fn documents_of(control: &Control, state: &State) -> ContentStore {
    let manifests = state.images.values().map(|image| image.digest.clone()).collect();
    control.blobs.bring_documents(manifests).await;
    control.blobs.local().clone()
}

fn find<'a>(state: &'a State, image: &ImageRef) -> Result<&'a ImageRecord, Problem> {
    let name = image.to_string();
    let missing = || {
        let near = near(&name, state.images.keys().map(String::as_str)).join(", ");
        let near = if near.is_empty() { String::new() } else { format!("; there are: {near}") };
        Problem::not_found(format!("the store has no {name}{near}"))
    };
    state.images.get(&name).ok_or_else(missing)
}

fn entry(state: &State, images: &ContentStore, record: &ImageRecord) -> ImageEntry {
    let labels =
        Documents::read(images, &record.digest).map(|documents| documents.labels()).unwrap_or_default();
    ImageEntry {
        record: record.clone(),
        uses: uses_of(state, &record.digest),
        source: labels.get(SOURCE).cloned(),
        commit: labels.get(COMMIT).cloned(),
    }
}

async fn list(call: Call<ListImages>) -> Result<Vec<ImageEntry>, Problem> {
    let state = view(&call.control, call.query.as_of).await?.state().clone();
    let images = documents_of(&call.control, &state).await;
    let listed = web::block(move || {
        let mut all: Vec<&ImageRecord> = state.images.values().collect();
        all.sort_by(|a, b| {
            b.origin.at.cmp(&a.origin.at).then_with(|| a.image.to_string().cmp(&b.image.to_string()))
        });
        all.into_iter().map(|record| entry(&state, &images, record)).collect()
    });
    listed.await.map_err(|error| Problem::unavailable(error.to_string()))
}

async fn show(call: Call<ShowImage>) -> Result<ImageDetails, Problem> {
    let state = call.control.leader.published.read().await.0.clone();
    let record = find(&state, &call.query.image)?.clone();
    let images = documents_of(&call.control, &state).await;
    call.control.blobs.bring_image(&record.digest).await.map_err(of_blobs)?;
    let attached = attached(&call.control, &record).await?;
    let built = call.control.store.build_of_image(&record.digest).await.map_err(of_record)?;
    let build = built.and_then(|build| build["number"].as_u64());
    let details = web::block(move || {
        let details = details(&state, &images, &record, attached)?;
        Ok::<_, Error>(ImageDetails { build, ..details })
    });
    let details = details.await;
    let details = details.map_err(|error| Problem::unavailable(error.to_string()))?;
    details.map_err(|error| Problem::invalid(error.to_string()))
}

fn details(
    state: &State,
    images: &ContentStore,
    record: &ImageRecord,
    attached: Vec<Attachment>,
) -> Result<ImageDetails, Error> {
    let documents = Documents::read(images, &record.digest)?;
    let others: Vec<(String, BTreeSet<String>)> = state
        .images
        .values()
        .filter(|other| other.digest != record.digest)
        .filter_map(|other| {
            let layers = Documents::read(images, &other.digest).ok()?.manifest.layers;
            Some((other.image.to_string(), layers.into_iter().map(|layer| layer.digest).collect()))
        })
        .collect();
    let listings = documents.listings(images)?;
    let layers = documents.manifest.layers.iter().zip(&listings).map(|(layer, listing)| LayerDetails {
        digest: layer.digest.clone(),
        size: layer.size,
        files: listing.files.len() as u64,
        skipped_devices: listing.devices,
        foreign_owners: listing.foreign_owners,
        shared_with: others
            .iter()
            .filter(|(_, has)| has.contains(&layer.digest))
            .map(|(name, _)| name.clone())
            .collect(),
    });
    let named = |text: &str| if text.is_empty() { "unknown".to_owned() } else { text.to_owned() };
    Ok(ImageDetails {
        entry: entry(state, images, record),
        platform: format!("{}/{}", named(&documents.config.os), named(&documents.config.architecture)),
        created: documents.config.created.clone(),
        run: documents.run(),
        layers_in_order: layers.collect(),
        history: documents.config.history.iter().map(|step| step.created_by.clone()).collect(),
        labels: documents.labels(),
        kept_by: kept_by(state, &record.digest),
        attached,
        build: None,
    })
}

async fn compare(call: Call<CompareImages>) -> Result<ImageComparison, Problem> {
    let state = call.control.leader.published.read().await.0.clone();
    let digests =
        [&call.query.image, &call.query.other].map(|image| find(&state, image).map(|it| it.digest.clone()));
    let [digest, other_digest] = digests;
    let (digest, other_digest) = (digest?, other_digest?);
    let images = call.control.blobs.local().clone();
    for image in [&digest, &other_digest] {
        call.control.blobs.bring_image(image).await.map_err(of_blobs)?;
    }
    let compared = web::block(move || comparison(&images, digest, other_digest)).await;
    let compared = compared.map_err(|error| Problem::unavailable(error.to_string()))?;
    compared.map_err(|error| Problem::invalid(error.to_string()))
}

fn comparison(images: &ContentStore, digest: String, other_digest: String) -> Result<ImageComparison, Error> {
    let (one, other) = (Documents::read(images, &digest)?, Documents::read(images, &other_digest)?);
    let files = |of: &Documents| Ok::<_, Error>(merge(&of.listings(images)?));
    let changed = changes(&files(&one)?, &files(&other)?);
    let mut sums = FileSums::default();
    for change in &changed {
        match (&change.before, &change.after) {
            (None, _) => sums.added += 1,
            (_, None) => sums.removed += 1,
            _ => sums.changed += 1,
        }
        sums.bytes += change.after.as_ref().map_or(0, |file| file.size);
    }
    let size = |file: Option<ListedFile>| file.map(|file| file.size);
    let files = changed.into_iter().take(LISTED).map(|change| FileDifference {
        path: change.path,
        before: size(change.before),
        after: size(change.after),
    });
    Ok(ImageComparison {
        digest,
        other_digest,
        run: run_differences(&one.run(), &other.run()),
        files: files.collect(),
        sums,
    })
}

fn run_differences(before: &ImageRun, after: &ImageRun) -> Vec<Difference> {
    let ports = |run: &ImageRun| run.ports.iter().map(u16::to_string).collect::<Vec<_>>().join(", ");
    let fields = |run: &ImageRun| {
        [
            ("command", run.command.join(" ")),
            ("user", run.user.clone()),
            ("working directory", run.directory.clone()),
            ("ports", ports(run)),
            ("volumes", run.volumes.join(", ")),
            ("stop signal", run.stop_signal.clone()),
            ("health check", run.health_check.clone().unwrap_or_default()),
        ]
    };
    let is_set = |text: String| Some(text).filter(|text| !text.is_empty());
    let both = fields(before).into_iter().zip(fields(after));
    let mut list: Vec<Difference> = both
        .filter(|((_, was), (_, is))| was != is)
        .map(|((field, was), (_, is))| Difference {
            field: field.to_owned(),
            before: is_set(was),
            after: is_set(is),
        })
        .collect();
    let variables = |run: &ImageRun| -> BTreeMap<String, String> {
        let pair = |pair: &String| {
            let (key, value) = pair.split_once('=').unwrap_or((pair, ""));
            (key.to_owned(), value.to_owned())
        };
        run.env.iter().map(pair).collect()
    };
    let (was, is) = (variables(before), variables(after));
    let keys: BTreeSet<&String> = was.keys().chain(is.keys()).collect();
    list.extend(keys.into_iter().filter(|key| was.get(*key) != is.get(*key)).map(|key| Difference {
        field: format!("variable {key}"),
        before: was.get(key).cloned(),
        after: is.get(key).cloned(),
    }));
    list
}

async fn prune(call: Call<PruneImages>) -> Result<ImagesPruned, Problem> {
    let query = &call.query;
    let rule = ImageRule {
        keep: query.keep as usize,
        older_than: SignedDuration::from_hours(24 * i64::from(query.older_than)),
        repository: query.repository.clone(),
    };
    let state = call.control.leader.published.read().await.0.clone();
    let forecast = query.forecast;
    let gone = if forecast {
        superfluous_images(&state, &rule, Timestamp::now())
    } else {
        let command = commands::PruneImages { rule };
        call.control.leader.carry_out(command, &call.caller.name, &call.request_id).await?.images
    };
    let pushed = call.control.store.manifests().await.map_err(of_record)?;
    let images = documents_of(&call.control, &state).await;
    let names: BTreeSet<String> = gone.iter().map(ImageRef::to_string).collect();
    let stay = (state.images.len() - names.len()) as u64;
    let of_gone = names.clone();
    let freed = web::block(move || freed(&images, &state, &pushed, &of_gone)).await;
    let mut frees = 0;
    for digest in freed.map_err(|error| Problem::unavailable(error.to_string()))? {
        frees += call.control.blobs.length(&digest).await.map_err(of_blobs)?.unwrap_or(0);
    }
    Ok(ImagesPruned { frees, stay, images: names.into_iter().collect(), forecast })
}

/// The blobs that nothing needs once these images are gone.
fn freed(
    images: &ContentStore,
    state: &State,
    pushed: &[mainyard_store::ManifestRow],
    gone: &BTreeSet<String>,
) -> Vec<Digest> {
    let mut rest = state.clone();
    rest.images.retain(|name, _| !gone.contains(name));
    let pushed: BTreeSet<String> = pushed.iter().map(|row| row.digest.clone()).collect();
    let blobs = |state: &State| -> BTreeSet<String> {
        let manifests = needed_manifests(state).into_iter().chain(pushed.clone());
        manifests.flat_map(|digest| blobs_of(images, &digest)).collect()
    };
    let stays = blobs(&rest);
    let freed = blobs(state).into_iter().filter(|digest| !stays.contains(digest));
    freed.filter_map(|digest| Digest::parse(&digest).ok()).collect()
}
