//! Getting images from control's store onto the node: each layer once, anyone who asks for it.

mod progress;
mod transfer;
mod verify;

use std::collections::{BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use futures_util::{StreamExt, TryStreamExt, stream};
use mainyard_control_client::{Control, Failed};
use mainyard_core::link::StepLayer;
use mainyard_core::model::{Reason, ReasonCode};
use mainyard_images::{
    Digest, ImageConfiguration, ImageManifest, Turns, User, merge_layer, resolve_user, sums_of_layer,
    unpack_layer,
};
use tokio::sync::RwLock;

use crate::Config;
pub(crate) use progress::{Progress, tell_progress};

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

/// A layer in control's store.
#[derive(Debug, Clone)]
struct LayerSource {
    /// The digest of the blob.
    packed: String,
    /// Its length.
    size: u64,
    /// The digest of what it unpacks to.
    diff_id: String,
}

/// The node's images.
#[derive(Clone)]
pub(crate) struct Images {
    dir: PathBuf,
    /// Layers are merged into one directory an image, for want of overlayfs.
    merged: bool,
    control: Control,
    prepared: Arc<Mutex<HashMap<String, Arc<Prepared>>>>,
    /// One fetches an image, or a layer that several images have; the others wait for it.
    turns: Turns,
    /// Nothing is fetched while layers are removed.
    sweeping: Arc<RwLock<()>>,
    /// Packed layers on their way.
    parts: PathBuf,
    /// Layers that steps of builds stand on, by the step.
    held: Arc<Mutex<HashMap<String, Vec<PathBuf>>>>,
    /// How far the images are that are being fetched.
    pub progress: Progress,
}

impl Images {
    pub(crate) fn new(config: &Config, merged: bool, control: Control) -> Images {
        Images {
            dir: config.dir.join(if merged { "trees" } else { "layers" }),
            merged,
            control,
            prepared: Arc::default(),
            turns: Turns::default(),
            sweeping: Arc::default(),
            parts: config.dir.join("parts"),
            held: Arc::default(),
            progress: Progress::default(),
        }
    }

    /// The image, where it is prepared already.
    pub(crate) fn prepared(&self, digest: &str) -> Option<Arc<Prepared>> {
        self.prepared.lock().unwrap_or_else(PoisonError::into_inner).get(digest).cloned()
    }

    /// Forgets images that no replica here has, and removes layers and documents that only they had.
    pub(crate) async fn sweep(&self, in_use: Vec<String>, running: BTreeSet<String>) {
        let _nobody_fetches = self.sweeping.write().await;
        let (layers, documents) = {
            let mut prepared = self.prepared.lock().unwrap_or_else(PoisonError::into_inner);
            prepared.retain(|digest, _| in_use.contains(digest));
            // One that is in use and was not prepared by this agent: its layers are not known, nothing is removed.
            if !in_use.iter().all(|digest| prepared.contains_key(digest)) {
                return;
            }
            let held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
            let layers = prepared.values().flat_map(|image| image.layers.clone());
            let layers: Vec<PathBuf> = layers.chain(held.values().flatten().cloned()).collect();
            let documents: Vec<PathBuf> =
                prepared.values().flat_map(|image| image.documents.clone()).collect();
            (layers, documents)
        };
        let (dir, parts) = (self.dir.clone(), self.parts.clone());
        let sums: Vec<PathBuf> = layers.iter().map(|layer| sums_of_layer(layer)).collect();
        let cleared = tokio::task::spawn_blocking(move || {
            // Nothing is on its way: what lies there was given up.
            for part in std::fs::read_dir(&parts).into_iter().flatten().flatten() {
                if let Err(error) = std::fs::remove_file(part.path()) {
                    tracing::warn!(path = %part.path().display(), %error, "a packed layer cannot be removed");
                }
            }
            for entry in std::fs::read_dir(&dir).into_iter().flatten().flatten() {
                let path = entry.path();
                if sums.contains(&path) || verify::is_mounted(&path, &running) {
                    continue;
                }
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
        let _nobody_sweeps = self.sweeping.read().await;
        let _turn = self.turns.at(digest).await;
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
        self.progress.end(digest);
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
        let sources: Vec<LayerSource> = both
            .map(|(layer, id)| LayerSource {
                packed: layer.digest.clone(),
                size: layer.size,
                diff_id: id.clone(),
            })
            .collect();
        let missing = sources.iter().filter(|source| self.merged || !self.has_layer(source));
        self.progress.begin(digest, missing.map(|source| source.size).sum());
        let layers = if self.merged {
            vec![self.tree(digest, &sources).await?]
        } else {
            let fetched = sources.into_iter().map(|source| {
                let images = self.clone();
                async move { images.layer(digest, &source).await }
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
                let answer = self.control.get(&transfer::blob_path(digest)).await;
                let answer = answered(digest, answer)?.bytes().await;
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
    async fn tree(&self, digest: &str, sources: &[LayerSource]) -> Result<PathBuf, FetchError> {
        let target = self.dir.join(Digest::parse(digest)?.hex());
        if target.is_dir() {
            return Ok(target);
        }
        let partial = tempfile::Builder::new().prefix("unpacking-").tempdir_in(&self.dir)?;
        let root = partial.path().join("root");
        std::fs::create_dir(&root)?;
        for source in sources {
            let (id, root) = (Digest::parse(&source.diff_id)?, root.clone());
            self.fetch(digest, source, move |layer| merge_layer(layer, &id, &root)).await?;
        }
        std::fs::rename(&root, &target)?;
        Ok(target)
    }

    async fn layer(&self, image: &str, source: &LayerSource) -> Result<PathBuf, FetchError> {
        let id = Digest::parse(&source.diff_id)?;
        let dir = self.dir.join(id.hex());
        let _turn = self.turns.at(&source.diff_id).await;
        if dir.is_dir() {
            return Ok(dir);
        }
        let target = dir.clone();
        self.fetch(image, source, move |layer| unpack_layer(layer, &id, &target)).await?;
        Ok(dir)
    }

    /// Unpacks layers for something that is no image, and keeps them until it is released.
    pub(crate) async fn hold_layers(
        &self,
        holder: &str,
        layers: &[StepLayer],
    ) -> Result<Vec<PathBuf>, String> {
        let _nobody_sweeps = self.sweeping.read().await;
        let sources: Vec<LayerSource> = layers
            .iter()
            .map(|layer| LayerSource {
                packed: layer.digest.clone(),
                size: layer.size,
                diff_id: layer.diff_id.clone(),
            })
            .collect();
        let fetched = sources.into_iter().map(|source| {
            let (images, holder) = (self.clone(), holder.to_owned());
            async move { images.layer_patiently(&holder, &source).await }
        });
        let fetched: Result<Vec<PathBuf>, FetchError> =
            stream::iter(fetched).buffered(AT_ONCE).try_collect().await;
        let fetched = fetched.map_err(|error| error.to_string())?;
        let mut held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        held.insert(holder.to_owned(), fetched.clone());
        Ok(fetched)
    }

    /// Nothing stands on these layers any more.
    pub(crate) fn release(&self, holder: &str) {
        self.held.lock().unwrap_or_else(PoisonError::into_inner).remove(holder);
    }

    /// A packed layer that lies on this node's disk: it is moved to where a fetch looks first.
    pub(crate) fn offer_part(&self, digest: &Digest, file: &Path) {
        if std::fs::metadata(file).is_ok_and(|found| found.len() < transfer::KEPT_FROM) {
            return;
        }
        if let Err(error) = std::fs::rename(file, self.parts.join(digest.hex())) {
            tracing::debug!(%digest, %error, "a layer that was made here is fetched all the same");
        }
    }

    /// A layer; control is waited for.
    async fn layer_patiently(&self, holder: &str, source: &LayerSource) -> Result<PathBuf, FetchError> {
        for _ in 0..TRIES {
            match self.layer(holder, source).await {
                Err(FetchError::Away(_)) => tokio::time::sleep(PAUSE).await,
                other => return other,
            }
        }
        self.layer(holder, source).await
    }

    fn has_layer(&self, source: &LayerSource) -> bool {
        Digest::parse(&source.diff_id).is_ok_and(|id| self.dir.join(id.hex()).is_dir())
    }

    async fn fetch(
        &self,
        image: &str,
        source: &LayerSource,
        unpack: impl FnOnce(&mut dyn std::io::Read) -> Result<(), mainyard_images::Error> + Send + 'static,
    ) -> Result<(), FetchError> {
        let part = self.parts.join(Digest::parse(&source.packed)?.hex());
        // Two layers with other diff ids may be one blob.
        let _turn = self.turns.at(&format!("part {}", source.packed)).await;
        let counter = self.progress.of_layer(image, &source.packed);
        transfer::fetch(&self.control, source, &part, counter, unpack).await
    }

    /// Reads the layers of prepared images again. A broken one is moved aside and fetched again.
    pub(crate) async fn verify(&self, running: BTreeSet<String>) {
        let layers: BTreeSet<PathBuf> = {
            let prepared = self.prepared.lock().unwrap_or_else(PoisonError::into_inner);
            prepared.values().flat_map(|image| image.layers.clone()).collect()
        };
        for layer in layers {
            let path = layer.clone();
            match tokio::task::spawn_blocking(move || verify::fault_of(&path)).await {
                Ok(Some(fault)) => self.replace(&layer, &fault, &running).await,
                Ok(None) => {}
                Err(error) => tracing::warn!(%error, "a layer could not be read again"),
            }
        }
    }

    /// Fetches the images that have a broken layer again; replicas that run keep what they have.
    async fn replace(&self, layer: &Path, fault: &str, running: &BTreeSet<String>) {
        let nobody_fetches = self.sweeping.write().await;
        tracing::error!(
            layer = %layer.display(),
            fault,
            "an unpacked layer was changed on disk: it is fetched again; restart the workloads that run from it"
        );
        if let Err(error) = verify::move_aside(layer, running) {
            return tracing::error!(layer = %layer.display(), %error, "the broken layer cannot be moved aside");
        }
        let broken: Vec<String> = {
            let mut prepared = self.prepared.lock().unwrap_or_else(PoisonError::into_inner);
            let has_it = prepared.iter().filter(|(_, image)| image.layers.iter().any(|it| it == layer));
            let broken: Vec<String> = has_it.map(|(digest, _)| digest.clone()).collect();
            prepared.retain(|digest, _| !broken.contains(digest));
            broken
        };
        drop(nobody_fetches);
        for digest in broken {
            if let Err(reason) = self.prepare(&digest).await {
                tracing::error!(digest, %reason, "the image cannot be fetched again");
            }
        }
    }
}

/// Control's answer, told apart from its silence.
fn answered(
    digest: &str,
    answer: Result<reqwest::Response, Failed>,
) -> Result<reqwest::Response, FetchError> {
    match answer {
        Err(Failed::Unreachable(_) | Failed::NotTheLeader(_)) => Err(FetchError::Away(digest.to_owned())),
        other => other.map_err(|error| FetchError::Refused(digest.to_owned(), error)),
    }
}
