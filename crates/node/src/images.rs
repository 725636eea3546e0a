//! Getting images from control's store onto the node: each layer once, anyone who asks for it.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use futures_util::TryStreamExt;
use mainyard_control_client::Control;
use mainyard_core::model::{Reason, ReasonCode};
use mainyard_images::{
    Digest, ImageConfiguration, ImageManifest, User, merge_layer, resolve_user, unpack_layer,
};
use tokio_util::io::{StreamReader, SyncIoBridge};

use crate::Config;

/// How often a blob is asked for again where control does not answer, and how long is waited before each time.
const TRIES: u32 = 40;
const PAUSE: std::time::Duration = std::time::Duration::from_millis(250);
/// Part of the error when control goes away before or while it sends a blob.
const AWAY: [&str; 3] =
    ["error sending request", "error decoding response body", "request or response body error"];

/// An image that is unpacked on this node, and what its configuration says.
#[derive(Debug)]
pub(crate) struct Prepared {
    /// Unpacked layers, the lowest first.
    pub layers: Vec<PathBuf>,
    /// Program and arguments.
    pub command: Vec<String>,
    /// `KEY=value` pairs.
    pub env: Vec<String>,
    /// Working directory.
    pub cwd: String,
    /// User and group.
    pub user: User,
    /// The signal that asks its program to end.
    pub stop_signal: i32,
    /// Its documents on disk.
    documents: Vec<PathBuf>,
}

/// The node's images.
#[derive(Clone)]
pub(crate) struct Images {
    dir: PathBuf,
    /// Layers are merged into one directory an image, for want of overlayfs.
    merged: bool,
    control: Control,
    prepared: Arc<Mutex<HashMap<String, Arc<Prepared>>>>,
    one_at_a_time: Arc<tokio::sync::Mutex<()>>,
}

impl Images {
    pub(crate) fn new(config: &Config, merged: bool, control: Control) -> Images {
        Images {
            dir: config.dir.join(if merged { "trees" } else { "layers" }),
            merged,
            control,
            prepared: Arc::default(),
            one_at_a_time: Arc::default(),
        }
    }

    /// The image, where it is prepared already.
    pub(crate) fn prepared(&self, digest: &str) -> Option<Arc<Prepared>> {
        self.prepared.lock().unwrap_or_else(PoisonError::into_inner).get(digest).cloned()
    }

    /// Forgets images that no replica here has, and removes layers and documents that only they had.
    pub(crate) async fn sweep(&self, in_use: Vec<String>) {
        let _turn = self.one_at_a_time.lock().await;
        let (layers, documents) = {
            let mut prepared = self.prepared.lock().unwrap_or_else(PoisonError::into_inner);
            prepared.retain(|digest, _| in_use.contains(digest));
            // One that is in use and was not prepared by this agent: its layers are not known, nothing is removed.
            if !in_use.iter().all(|digest| prepared.contains_key(digest)) {
                return;
            }
            let layers: Vec<PathBuf> = prepared.values().flat_map(|image| image.layers.clone()).collect();
            let documents: Vec<PathBuf> =
                prepared.values().flat_map(|image| image.documents.clone()).collect();
            (layers, documents)
        };
        let dir = self.dir.clone();
        let cleared = tokio::task::spawn_blocking(move || {
            for entry in std::fs::read_dir(&dir).into_iter().flatten().flatten() {
                let path = entry.path();
                let removed = if path.is_dir() {
                    (!layers.contains(&path)).then(|| std::fs::remove_dir_all(&path))
                } else {
                    (!documents.contains(&path)).then(|| std::fs::remove_file(&path))
                };
                if let Some(Err(error)) = removed {
                    tracing::warn!(path = %path.display(), %error, "what no image needs could not be removed");
                }
            }
        });
        if let Err(error) = cleared.await {
            tracing::warn!(%error, "the layers could not be cleared");
        }
    }

    /// Gets and unpacks what is missing of an image.
    pub(crate) async fn prepare(&self, digest: &str) -> Result<Arc<Prepared>, Reason> {
        let _turn = self.one_at_a_time.lock().await;
        if let Some(image) = self.prepared(digest) {
            return Ok(image);
        }
        let mut got = self.get(digest).await;
        for _ in 0..TRIES {
            // Control may be away for a moment, which says nothing of the image.
            if !got.as_ref().is_err_and(|message| AWAY.iter().any(|words| message.contains(words))) {
                break;
            }
            tokio::time::sleep(PAUSE).await;
            got = self.get(digest).await;
        }
        let image = Arc::new(got.map_err(|message| Reason::new(ReasonCode::ImageUnusable, message))?);
        self.prepared
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .insert(digest.to_owned(), Arc::clone(&image));
        Ok(image)
    }

    async fn get(&self, digest: &str) -> Result<Prepared, String> {
        let manifest: ImageManifest = self.document(digest).await?;
        let documents = [digest, manifest.config.digest.as_str()]
            .into_iter()
            .map(|digest| self.document_file(digest))
            .collect::<Result<_, _>>()?;
        let config: ImageConfiguration = self.document(&manifest.config.digest).await?;
        let both = manifest.layers.iter().zip(&config.rootfs.diff_ids);
        let parts: Vec<(&str, &str)> = both.map(|(layer, id)| (layer.digest.as_str(), id.as_str())).collect();
        let mut layers = Vec::new();
        if self.merged {
            layers.push(self.tree(digest, &parts).await?);
        } else {
            for (packed, diff_id) in parts {
                layers.push(self.layer(packed, diff_id).await?);
            }
        }
        let run = config.config;
        let user = resolve_user(&run.user, &layers).map_err(|error| error.to_string())?;
        let (command, stop_signal) = (run.command(), run.stop_signal());
        Ok(Prepared { layers, command, stop_signal, env: run.env, cwd: run.working_dir, user, documents })
    }

    async fn blob(&self, digest: &str) -> Result<reqwest::Response, String> {
        let answer = self.control.get(&format!("/link/blobs/{digest}")).await;
        answer.map_err(|error| format!("the image's blob {digest} can't be fetched: {error}"))
    }

    fn document_file(&self, digest: &str) -> Result<PathBuf, String> {
        let id = Digest::parse(digest).map_err(|error| error.to_string())?;
        Ok(self.dir.join(format!("{}.json", id.hex())))
    }

    /// A manifest or configuration; kept on disk, so that a replica can be started while control is away.
    async fn document<T: serde::de::DeserializeOwned>(&self, digest: &str) -> Result<T, String> {
        let id = Digest::parse(digest).map_err(|error| error.to_string())?;
        let kept = self.document_file(digest)?;
        let is_it = |bytes: &Vec<u8>| Digest::of(bytes) == id;
        let bytes = match std::fs::read(&kept).ok().filter(is_it) {
            Some(bytes) => bytes,
            None => {
                let bytes =
                    self.blob(digest).await?.bytes().await.map_err(|error| error.to_string())?.to_vec();
                if !is_it(&bytes) {
                    return Err(format!("the blob {digest} was changed on the way"));
                }
                std::fs::write(&kept, &bytes)
                    .map_err(|error| format!("cannot keep the blob {digest}: {error}"))?;
                bytes
            }
        };
        serde_json::from_slice(&bytes).map_err(|error| error.to_string())
    }

    /// All layers of an image in one directory, which appears only when it is whole.
    async fn tree(&self, digest: &str, parts: &[(&str, &str)]) -> Result<PathBuf, String> {
        let text = |error: std::io::Error| format!("cannot unpack the image: {error}");
        let target = self.dir.join(Digest::parse(digest).map_err(|error| error.to_string())?.hex());
        if target.is_dir() {
            return Ok(target);
        }
        let partial = tempfile::Builder::new().prefix("unpacking-").tempdir_in(&self.dir).map_err(text)?;
        let root = partial.path().join("root");
        std::fs::create_dir(&root).map_err(text)?;
        for (packed, diff_id) in parts {
            let id = Digest::parse(diff_id).map_err(|error| error.to_string())?;
            let body = self.blob(packed).await?.bytes_stream().map_err(std::io::Error::other);
            let root = root.clone();
            let merged = tokio::task::spawn_blocking(move || {
                merge_layer(SyncIoBridge::new(StreamReader::new(body)), &id, &root)
            });
            merged.await.map_err(|error| error.to_string())?.map_err(|error| error.to_string())?;
        }
        std::fs::rename(&root, &target).map_err(text)?;
        Ok(target)
    }

    async fn layer(&self, packed: &str, diff_id: &str) -> Result<PathBuf, String> {
        let id = Digest::parse(diff_id).map_err(|error| error.to_string())?;
        let dir = self.dir.join(id.hex());
        if dir.is_dir() {
            return Ok(dir);
        }
        let body = self.blob(packed).await?.bytes_stream().map_err(std::io::Error::other);
        let target = dir.clone();
        let unpacked = tokio::task::spawn_blocking(move || {
            let reader = SyncIoBridge::new(StreamReader::new(body));
            unpack_layer(reader, &id, &target)
        });
        unpacked.await.map_err(|error| error.to_string())?.map_err(|error| error.to_string())?;
        Ok(dir)
    }
}
