//! Getting images from control's store onto the node: each layer once, anyone who asks for it.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use futures_util::{StreamExt, TryStreamExt, stream};
use mainyard_control_client::{Control, Failed};
use mainyard_core::model::{Reason, ReasonCode};
use mainyard_images::{
    Digest, ImageConfiguration, ImageManifest, User, merge_layer, resolve_user, unpack_layer,
};
use tokio_util::io::{StreamReader, SyncIoBridge};

use crate::Config;

/// How often a blob is asked for again where control does not answer, and how long is waited before each time.
const TRIES: u32 = 40;
const PAUSE: std::time::Duration = std::time::Duration::from_millis(250);
/// Layers of an image that are fetched and unpacked at once.
const AT_ONCE: usize = 4;

/// Why an image could not be prepared.
#[derive(Debug, thiserror::Error)]
enum FetchError {
    /// Control went away before or while it sent a blob, which says nothing of the image.
    #[error("the blob {0} did not come: control is away")]
    Away(String),
    /// Control refused a blob.
    #[error("the image's blob {0} can't be fetched: {1}")]
    Refused(String, Failed),
    /// What came is not what its digest says.
    #[error("the blob {0} was changed on the way")]
    Changed(String),
    /// A document is none of the image specification.
    #[error("the document {0} cannot be read: {1}")]
    Document(String, serde_json::Error),
    /// The image was refused.
    #[error(transparent)]
    Image(#[from] mainyard_images::Error),
    /// The node's disk refused.
    #[error("cannot keep the image: {0}")]
    Disk(#[from] std::io::Error),
    /// The thread that unpacked ended early.
    #[error("cannot unpack the image: {0}")]
    Thread(#[from] tokio::task::JoinError),
}

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
    /// Directories that it says are written to.
    pub volumes: Vec<String>,
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
            if !matches!(got, Err(FetchError::Away(_))) {
                break;
            }
            tokio::time::sleep(PAUSE).await;
            got = self.get(digest).await;
        }
        let image = Arc::new(got.map_err(|error| Reason::new(ReasonCode::ImageUnusable, error.to_string()))?);
        self.prepared
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .insert(digest.to_owned(), Arc::clone(&image));
        Ok(image)
    }

    async fn get(&self, digest: &str) -> Result<Prepared, FetchError> {
        let manifest: ImageManifest = self.document(digest).await?;
        let documents = [digest, manifest.config.digest.as_str()]
            .into_iter()
            .map(|digest| self.document_file(digest))
            .collect::<Result<_, _>>()?;
        let config: ImageConfiguration = self.document(&manifest.config.digest).await?;
        let both = manifest.layers.iter().zip(&config.rootfs.diff_ids);
        let parts: Vec<(String, String)> =
            both.map(|(layer, id)| (layer.digest.clone(), id.clone())).collect();
        let layers = if self.merged {
            vec![self.tree(digest, &parts).await?]
        } else {
            let fetched = parts.into_iter().map(|(packed, diff_id)| {
                let images = self.clone();
                async move { images.layer(&packed, &diff_id).await }
            });
            stream::iter(fetched).buffered(AT_ONCE).try_collect().await?
        };
        let run = config.config;
        let user = resolve_user(&run.user, &layers)?;
        Ok(Prepared {
            layers,
            command: run.command(),
            stop_signal: run.stop_signal(),
            volumes: run.volumes(),
            env: run.env,
            cwd: run.working_dir,
            user,
            documents,
        })
    }

    async fn blob(&self, digest: &str) -> Result<reqwest::Response, FetchError> {
        match self.control.get(&format!("/link/blobs/{digest}")).await {
            Err(Failed::Unreachable(_) | Failed::NotTheLeader(_)) => Err(FetchError::Away(digest.to_owned())),
            other => other.map_err(|error| FetchError::Refused(digest.to_owned(), error)),
        }
    }

    /// Fetches a layer and has it unpacked as it comes, on a thread of its own.
    async fn unpack_with(
        &self,
        packed: &str,
        unpack: impl FnOnce(&mut dyn std::io::Read) -> Result<(), mainyard_images::Error> + Send + 'static,
    ) -> Result<(), FetchError> {
        let broken = Arc::new(AtomicBool::new(false));
        let breaks = Arc::clone(&broken);
        let body = self.blob(packed).await?.bytes_stream().map_err(move |error| {
            breaks.store(true, Ordering::Relaxed);
            std::io::Error::other(error)
        });
        let unpacked =
            tokio::task::spawn_blocking(move || unpack(&mut SyncIoBridge::new(StreamReader::new(body))));
        match unpacked.await? {
            // The error is that of the stream, whatever it was wrapped in on the way.
            Err(_) if broken.load(Ordering::Relaxed) => Err(FetchError::Away(packed.to_owned())),
            other => Ok(other?),
        }
    }

    fn document_file(&self, digest: &str) -> Result<PathBuf, FetchError> {
        Ok(self.dir.join(format!("{}.json", Digest::parse(digest)?.hex())))
    }

    /// A manifest or configuration; kept on disk, so that a replica can be started while control is away.
    async fn document<T: serde::de::DeserializeOwned>(&self, digest: &str) -> Result<T, FetchError> {
        let id = Digest::parse(digest)?;
        let kept = self.document_file(digest)?;
        let is_it = |bytes: &Vec<u8>| Digest::of(bytes) == id;
        let bytes = match std::fs::read(&kept).ok().filter(is_it) {
            Some(bytes) => bytes,
            None => {
                let answer = self.blob(digest).await?.bytes().await;
                let bytes = answer.map_err(|_| FetchError::Away(digest.to_owned()))?.to_vec();
                if !is_it(&bytes) {
                    return Err(FetchError::Changed(digest.to_owned()));
                }
                std::fs::write(&kept, &bytes)?;
                bytes
            }
        };
        serde_json::from_slice(&bytes).map_err(|error| FetchError::Document(digest.to_owned(), error))
    }

    /// All layers of an image in one directory, which appears only when it is whole.
    async fn tree(&self, digest: &str, parts: &[(String, String)]) -> Result<PathBuf, FetchError> {
        let target = self.dir.join(Digest::parse(digest)?.hex());
        if target.is_dir() {
            return Ok(target);
        }
        let partial = tempfile::Builder::new().prefix("unpacking-").tempdir_in(&self.dir)?;
        let root = partial.path().join("root");
        std::fs::create_dir(&root)?;
        for (packed, diff_id) in parts {
            let (id, root) = (Digest::parse(diff_id)?, root.clone());
            self.unpack_with(packed, move |layer| merge_layer(layer, &id, &root)).await?;
        }
        std::fs::rename(&root, &target)?;
        Ok(target)
    }

    async fn layer(&self, packed: &str, diff_id: &str) -> Result<PathBuf, FetchError> {
        let id = Digest::parse(diff_id)?;
        let dir = self.dir.join(id.hex());
        if dir.is_dir() {
            return Ok(dir);
        }
        let target = dir.clone();
        self.unpack_with(packed, move |layer| unpack_layer(layer, &id, &target)).await?;
        Ok(dir)
    }
}
