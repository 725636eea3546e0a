//! One pull: the manifest, then its blobs, several at once, each resumed where it broke off, into the image store.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use futures_util::{StreamExt, TryStreamExt};
use jiff::Timestamp;
use mainyard_api::{PullProgress, PullState};
use mainyard_core::commands::AddImages;
use mainyard_core::model::{ImageRecord, ImageRef, Origin, Registry};
use mainyard_images::{
    ContentStore, Descriptor, Digest, ImageConfiguration, ImageIndex, ImageManifest, runs_here,
};
use mainyard_registry::MANIFEST_LIMIT;
use mainyard_registry::outside::{Named, choose};
use mainyard_registry::signature::{SIGNATURE, SIGNATURE_LIMIT, signer_of};
use tokio::io::AsyncWriteExt;
use tokio::sync::watch;

use super::Trouble;
use super::client::RegistryClient;
use crate::Control;
use crate::blobs::{BlobError, Blobs};
use crate::images::no_room;
use crate::storage::check_limit;

/// Blobs that are fetched at once.
const AT_ONCE: usize = 4;
/// How often a blob is begun, or gone on with, before it is given up.
const TRIES: u32 = 5;
/// The pause before it is gone on with; doubled each time.
const PAUSE: Duration = Duration::from_millis(500);
/// Layers of an image, at most: as many as a replica can have.
const LAYERS: usize = 128;
/// Progress is told this often at most.
const TOLD_EVERY: u64 = 1 << 20;

/// What a tag stood for in a registry.
struct Chosen {
    /// The manifest of the image for this machine.
    manifest: Vec<u8>,
    digest: Digest,
    /// What the tag named: the image, or a list of images.
    named: Digest,
}

/// The client of a registry, with its password opened.
pub(super) async fn client_of(control: &Control, registry: &Registry) -> Result<RegistryClient, Trouble> {
    let here =
        |error: String| Trouble::Here(format!("the password of {} cannot be read: {error}", registry.name));
    let password = match &registry.sealed {
        None => None,
        Some(name) => {
            let mut opened =
                control.vault.open(vec![name.clone()]).await.map_err(|error| here(error.to_string()))?;
            let value =
                opened.remove(name).ok_or_else(|| here("its key is another one by now".to_owned()))?;
            Some(String::from_utf8_lossy(&value.0).trim_end_matches(['\r', '\n']).to_owned())
        }
    };
    RegistryClient::of(registry, password)
}

/// The registry of an image, with its repository there.
pub(super) async fn registry_of(control: &Control, image: &ImageRef) -> Result<(Registry, String), Trouble> {
    let published = control.leader.published.read().await;
    let state = &published.0;
    let registry = state.registry_of(image).cloned();
    let registry = registry.ok_or_else(|| {
        let known: Vec<&str> = state.registries.keys().map(mainyard_core::model::Name::as_str).collect();
        let known = if known.is_empty() {
            "none is known".to_owned()
        } else {
            format!("known are: {}", known.join(", "))
        };
        Trouble::Lacks(format!("{image} begins with no registry's name; {known}"))
    })?;
    let repository = registry.repository_of(image).unwrap_or_default().to_owned();
    Ok((registry, repository))
}

/// The digest that a tag names in its registry now.
pub(super) async fn named_now(control: &Control, image: &ImageRef) -> Result<Digest, Trouble> {
    let (registry, repository) = registry_of(control, image).await?;
    let client = client_of(control, &registry).await?;
    Ok(client.manifest(&repository, &image.tag).await?.digest)
}

/// Pulls an image into the store, and records it: releases may wait for it. Gives its digest.
pub(super) async fn pull_and_record(
    control: &Arc<Control>,
    image: &ImageRef,
    by: &str,
    progress: &watch::Sender<PullProgress>,
) -> Result<String, Trouble> {
    let (registry, repository) = registry_of(control, image).await?;
    let client = client_of(control, &registry).await?;
    let chosen = find(&client, &repository, &image.tag).await?;
    let read: ImageManifest = document(&chosen.manifest, "the manifest")?;
    let layers = read.layers.len();
    if layers > LAYERS {
        return Err(Trouble::Unusable(format!("{image} has {layers} layers; {LAYERS} are the most")));
    }
    let blobs: Vec<&Descriptor> = read.layers.iter().chain([&read.config]).collect();
    let parts: Vec<(String, u64)> = blobs.iter().map(|part| (part.digest.clone(), part.size)).collect();
    let limit = check_limit(control, &image.repository, &parts).await;
    limit.map_err(|problem| Trouble::Here(problem.detail))?;
    fetch_all(control, &client, &repository, &blobs, progress).await?;
    check_configuration(&control.blobs, image, &read).await?;
    control.blobs.put(&chosen.manifest, &chosen.digest).await.map_err(here)?;
    let signed_by = signers(&client, &repository, &chosen.digest).await;
    let record = ImageRecord {
        image: image.clone(),
        digest: chosen.digest.to_string(),
        size: read.layers.iter().map(|layer| layer.size).sum(),
        layers: layers as u32,
        origin: Origin::new(by, "pulled", Timestamp::now()),
        named: Some(chosen.named.to_string()),
        signed_by,
    };
    let command = AddImages { images: vec![record] };
    let recorded = control.leader.carry_out(command, by, "").await;
    recorded.map_err(|error| Trouble::Here(error.to_string()))?;
    Ok(chosen.digest.to_string())
}

/// Signatures that are looked at.
const SIGNATURES: usize = 20;

/// The keys that signed an image, by the signatures that its registry keeps. One that is not right counts for nothing.
async fn signers(client: &RegistryClient, repository: &str, digest: &Digest) -> BTreeSet<String> {
    let mut keys = BTreeSet::new();
    let Some(list) = client.referrers(repository, digest, SIGNATURE).await else { return keys };
    let Ok(list) = serde_json::from_slice::<ImageIndex>(&list) else { return keys };
    for listed in list.manifests.iter().take(SIGNATURES) {
        let Ok(listed) = Digest::parse(&listed.digest) else { continue };
        match signer(client, repository, digest, &listed).await {
            Some(key) => drop(keys.insert(key)),
            None => tracing::info!(%digest, signature = %listed, "a signature is not right, or is none"),
        }
    }
    keys
}

async fn signer(
    client: &RegistryClient,
    repository: &str,
    of: &Digest,
    signature: &Digest,
) -> Option<String> {
    let manifest = client.manifest(repository, &signature.to_string()).await.ok()?;
    let manifest = (manifest.digest == *signature).then_some(manifest.bytes)?;
    let read: ImageManifest = serde_json::from_slice(&manifest).ok()?;
    let [blob] = read.layers.as_slice() else { return None };
    let blob = Digest::parse(&blob.digest).ok()?;
    let bytes = client.short_blob(repository, &blob, SIGNATURE_LIMIT).await?;
    signer_of(&String::from_utf8_lossy(&bytes), of).ok()
}

async fn find(client: &RegistryClient, repository: &str, tag: &str) -> Result<Chosen, Trouble> {
    let first = client.manifest(repository, tag).await?;
    let what = format!("{repository}:{tag}");
    match choose(&first.bytes, &first.media_type)
        .map_err(|error| Trouble::Lacks(format!("{what}: {error}")))?
    {
        Named::Image => {
            Ok(Chosen { manifest: first.bytes, named: first.digest.clone(), digest: first.digest })
        }
        Named::Listed(digest) => {
            let image = client.manifest(repository, &digest.to_string()).await?;
            if image.digest != digest {
                return Err(lying(&what, &digest, &image.digest));
            }
            match choose(&image.bytes, &image.media_type) {
                Ok(Named::Image) => Ok(Chosen { manifest: image.bytes, digest, named: first.digest }),
                Ok(Named::Listed(_)) => {
                    Err(Trouble::Unusable(format!("{what}: its list names another list")))
                }
                Err(error) => Err(Trouble::Unusable(format!("{what}: {error}"))),
            }
        }
    }
}

fn lying(what: &str, expected: &Digest, found: &Digest) -> Trouble {
    Trouble::Unusable(format!(
        "{what}: the registry names {expected} and sent {found}; nothing of it is kept"
    ))
}

fn document<T: serde::de::DeserializeOwned>(bytes: &[u8], what: &str) -> Result<T, Trouble> {
    serde_json::from_slice(bytes).map_err(|error| {
        Trouble::Unusable(format!("{what} does not follow the image specification: {error}"))
    })
}

/// Whether the image can be run here at all, by its configuration.
async fn check_configuration(blobs: &Blobs, image: &ImageRef, read: &ImageManifest) -> Result<(), Trouble> {
    let digest = parsed(&read.config)?;
    let config = blobs.read(&digest, MANIFEST_LIMIT).await.map_err(here)?;
    let config: ImageConfiguration = document(&config, "the configuration")?;
    let (layers, ids) = (read.layers.len(), config.rootfs.diff_ids.len());
    if layers != ids {
        return Err(Trouble::Unusable(format!(
            "{image} has {layers} layers, and its configuration names {ids}"
        )));
    }
    if !runs_here(&config.os, &config.architecture) {
        let made_for = format!("{}/{}", config.os, config.architecture);
        return Err(Trouble::Lacks(format!(
            "{image} is made for {made_for}, not for this machine's processor"
        )));
    }
    Ok(())
}

fn here(error: BlobError) -> Trouble {
    Trouble::Here(error.to_string())
}

fn parsed(descriptor: &Descriptor) -> Result<Digest, Trouble> {
    Digest::parse(&descriptor.digest).map_err(|error| Trouble::Unusable(error.to_string()))
}

/// Fetches what is not there yet, several blobs at once.
async fn fetch_all(
    control: &Control,
    client: &RegistryClient,
    repository: &str,
    wanted: &[&Descriptor],
    progress: &watch::Sender<PullProgress>,
) -> Result<(), Trouble> {
    let blobs = &control.blobs;
    let mut missing: Vec<(Digest, u64)> = Vec::new();
    let mut there = 0;
    for blob in wanted {
        let digest = parsed(blob)?;
        if blobs.keep(&digest).await.map_err(here)? {
            there += blob.size;
        } else if !missing.iter().any(|(known, _)| *known == digest) {
            missing.push((digest, blob.size));
        }
    }
    let total: u64 = missing.iter().fold(0, |sum, (_, size)| sum.saturating_add(*size));
    if let Some(problem) = no_room(blobs.local().root(), total) {
        return Err(Trouble::Here(problem.detail));
    }
    progress.send_modify(|progress| {
        (progress.state, progress.total, progress.there) = (PullState::Fetching, total, there);
        progress.layers = missing.len() as u32;
    });
    let told = Told { fetched: AtomicU64::new(0), began: Timestamp::now(), progress };
    let dir = blobs.local().root().join("pulls");
    tokio::fs::create_dir_all(&dir).await.map_err(|error| Trouble::Here(error.to_string()))?;
    let fetching = missing.into_iter().map(|(digest, size)| {
        let part = Part { path: dir.join(digest.hex()), digest, size };
        let told = &told;
        async move {
            let _turn = control.pulls.turns.at(part.digest.hex()).await;
            // Another image's pull may have fetched it meanwhile.
            if blobs.keep(&part.digest).await.map_err(here)? {
                told.add(part.size);
            } else {
                part.fetch(client, repository, blobs.local(), told).await?;
                blobs.publish(std::slice::from_ref(&part.digest)).await.map_err(here)?;
            }
            told.progress.send_modify(|progress| progress.fetched_layers += 1);
            Ok(())
        }
    });
    futures_util::stream::iter(fetching).buffer_unordered(AT_ONCE).try_collect::<()>().await
}

/// Progress, as it is told.
struct Told<'p> {
    fetched: AtomicU64,
    began: Timestamp,
    progress: &'p watch::Sender<PullProgress>,
}

impl Told<'_> {
    fn add(&self, bytes: u64) {
        let before = self.fetched.fetch_add(bytes, Ordering::Relaxed);
        let now = before + bytes;
        if before / TOLD_EVERY == now / TOLD_EVERY {
            return;
        }
        let took = Timestamp::now().duration_since(self.began).as_secs_f64().max(0.001);
        self.progress.send_modify(|progress| {
            progress.fetched = now;
            progress.rate = now as f64 / took;
        });
    }

    /// What was fetched of a blob is fetched again.
    fn take_back(&self, bytes: u64) {
        let now = self.fetched.fetch_sub(bytes, Ordering::Relaxed) - bytes;
        self.progress.send_modify(|progress| progress.fetched = now);
    }
}

/// A blob on its way, in a file of its own that outlives a fall of control.
struct Part {
    path: PathBuf,
    digest: Digest,
    size: u64,
}

impl Part {
    async fn fetch(
        &self,
        client: &RegistryClient,
        repository: &str,
        store: &ContentStore,
        told: &Told<'_>,
    ) -> Result<(), Trouble> {
        let mut counted = 0;
        for number in 1..=TRIES {
            match self.go_on(client, repository, told, &mut counted).await {
                Ok(()) => break,
                Err(trouble) if number < TRIES && trouble.may_pass() => {
                    tracing::debug!(digest = %self.digest, ?trouble, "a blob is gone on with");
                    tokio::time::sleep(PAUSE * 2u32.pow(number - 1)).await;
                }
                Err(trouble) => return Err(trouble),
            }
        }
        let (store, path, digest) = (store.clone(), self.path.clone(), self.digest.clone());
        let adopted = tokio::task::spawn_blocking(move || store.adopt(&path, &digest));
        let adopted = adopted.await.map_err(|error| Trouble::Here(error.to_string()))?;
        match adopted {
            Ok(()) => Ok(()),
            Err(error @ mainyard_images::Error::DigestMismatch { .. }) => {
                let _ = tokio::fs::remove_file(&self.path).await;
                Err(Trouble::Unusable(format!("{error}; nothing of it is kept")))
            }
            Err(error) => Err(Trouble::Here(error.to_string())),
        }
    }

    /// Fetches what is missing of the blob. `counted` is how much of it is among what was told.
    async fn go_on(
        &self,
        client: &RegistryClient,
        repository: &str,
        told: &Told<'_>,
        counted: &mut u64,
    ) -> Result<(), Trouble> {
        let here = |error: std::io::Error| Trouble::Here(format!("{}: {error}", self.path.display()));
        let mut file = tokio::fs::File::options();
        let mut file = file.create(true).append(true).open(&self.path).await.map_err(here)?;
        let mut length = file.metadata().await.map_err(here)?.len();
        if length > self.size {
            file.set_len(0).await.map_err(here)?;
            length = 0;
        }
        told.add(length.saturating_sub(*counted));
        *counted = (*counted).max(length);
        if length == self.size && self.size > 0 {
            return Ok(());
        }
        let (mut answer, resumed) = client.blob(repository, &self.digest, length).await?;
        if !resumed && length > 0 {
            file.set_len(0).await.map_err(here)?;
            told.take_back(*counted);
            (length, *counted) = (0, 0);
        }
        let ended = loop {
            let piece = match answer.chunk().await {
                Ok(Some(piece)) => piece,
                Ok(None) => break Ok(()),
                Err(error) => break Err(client.silent(&error)),
            };
            length += piece.len() as u64;
            if length > self.size {
                break Err(self.too_long().await);
            }
            file.write_all(&piece).await.map_err(here)?;
            told.add(piece.len() as u64);
            *counted += piece.len() as u64;
        };
        // Also what came before it broke off: the next try begins where the file ends.
        file.flush().await.map_err(here)?;
        ended?;
        if length < self.size {
            let sentence = format!("{} ended after {length} of {} bytes", self.digest, self.size);
            return Err(Trouble::Silent(sentence));
        }
        Ok(())
    }

    /// More came than was named: nothing of it is kept.
    async fn too_long(&self) -> Trouble {
        let _ = tokio::fs::remove_file(&self.path).await;
        Trouble::Unusable(format!("{} is longer than the {} bytes that were named", self.digest, self.size))
    }
}
