//! The layers that the steps of a part stand on, and those that are made of files.

use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use mainyard_builds::recipe::{Part, Take};
use mainyard_builds::{Fault, FaultKind, LayerMade};
use mainyard_core::link::StepLayer;
use mainyard_core::model::{ImageRef, Name};
use mainyard_core::suggestions::did_you_mean;
use mainyard_images::{
    ContentStore, Digest, ImageConfiguration, ImageManifest, ImageOutline, LayerOutline, Placing, TakeError,
    TakenFrom, write_taken,
};
use mainyard_registry::MANIFEST_LIMIT;
use serde_json::Value;

use super::faults::of_platform;
use super::tree::{Times, in_folder};
use crate::Control;

/// Outlines that are remembered.
const REMEMBERED: usize = 256;

/// Outlines of layers, by digest: most layers of bases are looked at again and again.
#[derive(Default)]
pub(super) struct Outlines(Mutex<HashMap<String, Arc<LayerOutline>>>);

impl Outlines {
    fn get(&self, digest: &str) -> Option<Arc<LayerOutline>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(digest).cloned()
    }

    fn put(&self, digest: &str, outline: &Arc<LayerOutline>) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= REMEMBERED {
            all.clear();
        }
        all.insert(digest.to_owned(), Arc::clone(outline));
    }
}

/// A part, as far as it was done.
pub(super) struct PartDone {
    /// The base's configuration and layers, as its documents have them, and the digest of its manifest.
    pub base_config: Value,
    pub base_layers: Vec<Value>,
    pub base_digest: Option<String>,
    /// The base's name and digest, to look up what is attached to it.
    pub base: Option<ImageRef>,
    /// All layers, as a node mounts them.
    pub below: Vec<StepLayer>,
    /// The digests of what they unpack to.
    pub diff_ids: Vec<String>,
    /// Layers of its steps, with their words.
    pub made: Vec<(LayerMade, String)>,
    /// Environment variables and user of the base.
    pub env: Vec<String>,
    pub user: String,
    /// What is at which path.
    outline: ImageOutline,
    /// Blobs by the outline's numbers.
    blobs: Vec<Digest>,
}

impl PartDone {
    /// A part that begins with nothing.
    fn empty() -> PartDone {
        PartDone {
            base_config: Value::Null,
            base_layers: Vec::new(),
            base_digest: None,
            base: None,
            below: Vec::new(),
            diff_ids: Vec::new(),
            made: Vec::new(),
            env: Vec::new(),
            user: String::new(),
            outline: ImageOutline::default(),
            blobs: Vec::new(),
        }
    }

    /// A part that begins with its base.
    pub(super) async fn begin(control: &Arc<Control>, part: &Part, by: &str) -> Result<PartDone, Fault> {
        let mut done = PartDone::empty();
        let Some(base) = &part.base else { return Ok(done) };
        let digest = base_digest(control, base, part.digest.as_deref(), by).await?;
        control.blobs.bring_image(&digest).await.map_err(of_platform)?;
        let read = async |digest: &str| -> Result<Vec<u8>, Fault> {
            let digest = Digest::parse(digest).map_err(of_platform)?;
            control.blobs.read(&digest, MANIFEST_LIMIT).await.map_err(of_platform)
        };
        let manifest_bytes = read(&digest).await?;
        let manifest: ImageManifest = serde_json::from_slice(&manifest_bytes).map_err(of_platform)?;
        let document: Value = serde_json::from_slice(&manifest_bytes).map_err(of_platform)?;
        let config_bytes = read(&manifest.config.digest).await?;
        let config: ImageConfiguration = serde_json::from_slice(&config_bytes).map_err(of_platform)?;
        done.base_config = serde_json::from_slice(&config_bytes).map_err(of_platform)?;
        done.base_layers = document["layers"].as_array().cloned().unwrap_or_default();
        (done.base_digest, done.base) = (Some(digest), Some(base.clone()));
        (done.env, done.user) = (config.config.env.clone(), config.config.user.clone());
        for (layer, diff_id) in manifest.layers.iter().zip(&config.rootfs.diff_ids) {
            let below =
                StepLayer { digest: layer.digest.clone(), size: layer.size, diff_id: diff_id.clone() };
            done.push(control, below).await?;
        }
        Ok(done)
    }

    /// Puts a layer on top.
    async fn push(&mut self, control: &Control, layer: StepLayer) -> Result<(), Fault> {
        let digest = Digest::parse(&layer.digest).map_err(of_platform)?;
        let outline = outline_of(control, &digest).await?;
        self.outline.push(self.blobs.len(), &outline);
        self.blobs.push(digest);
        self.diff_ids.push(layer.diff_id.clone());
        self.below.push(layer);
        Ok(())
    }

    /// Puts the layer of a step on top. `mounted` is what a node mounts in its place.
    pub(super) async fn add(
        &mut self,
        control: &Control,
        layer: &LayerMade,
        words: String,
        mounted: Option<LayerMade>,
    ) -> Result<(), Fault> {
        let of = |layer: &LayerMade| StepLayer {
            digest: layer.digest.clone(),
            size: layer.size,
            diff_id: layer.digest.clone(),
        };
        self.push(control, of(layer)).await?;
        if let (Some(mounted), Some(last)) = (mounted, self.below.last_mut()) {
            *last = of(&mounted);
        }
        self.made.push((layer.clone(), words));
        Ok(())
    }
}

/// The digest of a base; it is pulled where it is of a registry outside.
async fn base_digest(
    control: &Arc<Control>,
    base: &ImageRef,
    wanted: Option<&str>,
    by: &str,
) -> Result<String, Fault> {
    let mut pulled = false;
    loop {
        let (found, hint, outside) = {
            let published = control.leader.published.read().await;
            let state = &published.0;
            let found = match wanted {
                Some(digest) => state.images.values().find(|it| it.digest == digest),
                None => state.images.get(&base.to_string()),
            };
            let hint = did_you_mean(&base.to_string(), state.images.keys().map(String::as_str));
            (found.map(|it| it.digest.clone()), hint, state.registry_of(base).is_some())
        };
        match (found, wanted) {
            (Some(digest), _) => return Ok(digest),
            (None, _) if outside && !pulled => {
                pulled = true;
                let ended = crate::pulls::pull_now(control, base, by).await;
                ended.map_err(|reason| {
                    Fault::new(FaultKind::NoBase, reason.sentence, "mainyard registry check")
                })?;
            }
            (None, Some(digest)) => {
                let sentence = format!("the base {base} with the digest {digest} is not in the image store");
                return Err(Fault::new(
                    FaultKind::NoBase,
                    sentence,
                    "leave `digest` out, or add the image again",
                ));
            }
            (None, None) => {
                let sentence = format!("the base {base} is not in the image store{hint}");
                let fix = format!(
                    "add it with `mainyard image add`, or make it of this machine's packages: mainyard image base {base} --packages …"
                );
                return Err(Fault::new(FaultKind::NoBase, sentence, fix));
            }
        }
    }
}

async fn outline_of(control: &Control, digest: &Digest) -> Result<Arc<LayerOutline>, Fault> {
    let key = digest.to_string();
    if let Some(known) = control.builds.outlines.get(&key) {
        return Ok(known);
    }
    control.blobs.bring(digest).await.map_err(of_platform)?;
    let (local, digest) = (control.blobs.local().clone(), digest.clone());
    let read = tokio::task::spawn_blocking(move || LayerOutline::read(local.open_blob(&digest)?));
    let outline = Arc::new(read.await.map_err(of_platform)?.map_err(of_platform)?);
    control.builds.outlines.put(&key, &outline);
    Ok(outline)
}

/// A tree of code, to take from.
#[derive(Clone)]
pub(super) struct TreeSource {
    /// The path of its archive.
    pub archive: PathBuf,
    /// The folder that paths are relative to.
    pub folder: String,
    pub outline: Arc<ImageOutline>,
    pub times: Arc<Times>,
}

/// Makes the layer of a step that takes files. The second one is the same with the times of the tree's files, for a compiler
/// that runs on top of it.
pub(super) async fn take(
    control: &Control,
    step: &Take,
    into: &PartDone,
    parts: &BTreeMap<Name, PartDone>,
    tree: &TreeSource,
) -> Result<(LayerMade, Option<LayerMade>), Fault> {
    let local = control.blobs.local().clone();
    let target = into.outline.clone();
    let work = match step.from.as_ref().and_then(|from| parts.get(from)) {
        Some(part) => {
            for blob in &part.blobs {
                control.blobs.bring(blob).await.map_err(of_platform)?;
            }
            let opened = part.blobs.iter().map(|blob| local.open_blob(blob)).collect::<Result<Vec<_>, _>>();
            let layers = opened.map_err(of_platform)?;
            Work {
                local,
                target,
                outline: Arc::new(part.outline.clone()),
                layers,
                paths: step.paths.clone(),
                to: step.to.clone(),
                times: None,
            }
        }
        None => {
            let layers = vec![File::open(&tree.archive).map_err(of_platform)?];
            let paths = step.paths.iter().map(|path| match path.as_str() {
                "." | "./" => in_folder(&tree.folder, ""),
                path => in_folder(&tree.folder, path.strip_prefix("./").unwrap_or(path)),
            });
            let paths = paths.map(|path| if path.is_empty() { ".".to_owned() } else { path }).collect();
            let (outline, times) = (Arc::clone(&tree.outline), Some(Arc::clone(&tree.times)));
            Work { local, target, outline, layers, paths, to: step.to.clone(), times }
        }
    };
    let outline = Arc::clone(&work.outline);
    let made = tokio::task::spawn_blocking(move || work.carry_out()).await.map_err(of_platform)?;
    let (layer, timed) = made.map_err(|error| fault_of(error, step, &outline))?;
    let digests: Vec<Digest> = [Some(&layer), timed.as_ref()]
        .into_iter()
        .flatten()
        .filter_map(|it| Digest::parse(&it.digest).ok())
        .collect();
    control.blobs.publish(&digests).await.map_err(of_platform)?;
    Ok((layer, timed))
}

fn fault_of(error: TakeError, step: &Take, outline: &ImageOutline) -> Fault {
    let place = step.from.as_ref().map_or_else(|| "the code".to_owned(), |part| format!("part {part}"));
    match &error {
        TakeError::Missing(path) => {
            let near = did_you_mean(path.trim_start_matches('/'), outline.paths());
            Fault::new(
                FaultKind::NoFile,
                format!("{path} is not in {place}{near}"),
                "name a path that is there; what `ignore` or .gitignore names is left out",
            )
        }
        TakeError::InAFile { .. } => {
            Fault::new(FaultKind::NoFile, error.to_string(), "take it to another place")
        }
        TakeError::Layer(error) => of_platform(error),
    }
}

/// Files to take, for a thread of its own.
struct Work {
    local: ContentStore,
    target: ImageOutline,
    outline: Arc<ImageOutline>,
    layers: Vec<File>,
    paths: Vec<String>,
    to: String,
    /// The times of a tree's files; nothing where files of a part are taken.
    times: Option<Arc<Times>>,
}

impl Work {
    fn carry_out(self) -> Result<(LayerMade, Option<LayerMade>), TakeError> {
        let placing = Placing::new(&self.outline, &self.paths, &self.target, &self.to)?;
        let layer = self.write(&placing, &|_| 0)?;
        let Some(times) = &self.times else { return Ok((layer, None)) };
        let timed = self.write(&placing, &|path| times.get(path).map_or(0, |(_, at)| *at))?;
        Ok((layer, Some(timed)))
    }

    fn write(&self, placing: &Placing, time_of: &dyn Fn(&str) -> u64) -> Result<LayerMade, TakeError> {
        let io = |source| {
            TakeError::Layer(mainyard_images::Error::Io { doing: "write a layer".to_owned(), source })
        };
        let part = tempfile::NamedTempFile::new_in(self.local.root().join("incoming")).map_err(io)?;
        let layers = self.layers.iter().map(|layer| {
            let mut again = layer.try_clone()?;
            std::io::Seek::rewind(&mut again)?;
            Ok(again)
        });
        let layers = layers.collect::<std::io::Result<Vec<File>>>().map_err(io)?;
        let plain = self.times.is_some();
        let mut from = TakenFrom { outline: &self.outline, layers, plain };
        let to = std::io::BufWriter::with_capacity(1 << 18, part.as_file());
        write_taken(&mut from, placing, &self.target, time_of, to)?;
        let opened = File::open(part.path()).map_err(io)?;
        let (digest, size) = self.local.put(opened, None)?;
        Ok(LayerMade { digest: digest.to_string(), size })
    }
}
