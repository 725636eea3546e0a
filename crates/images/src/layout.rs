//! Taking in an image layout: a directory, or the same as a tar archive.

use std::fs::{self, File};
use std::io::{Read, Seek, Write};
use std::path::{Path, PathBuf};

use crate::documents::{Descriptor, ImageConfiguration, ImageIndex, ImageManifest};
use crate::{ContentStore, Digest, Doing, Error};

/// Longest index, manifest or configuration.
const DOCUMENT_LIMIT: u64 = 4 << 20;
/// Most entries and most bytes of an archive.
const ARCHIVE_ENTRIES: usize = 10_000;
const ARCHIVE_BYTES: u64 = 16 << 30;
/// Most layers of an image.
const LAYERS: usize = 128;

const NAME_ANNOTATION: &str = "org.opencontainers.image.ref.name";

/// An image that is now in the content store.
#[derive(Debug, Clone)]
pub struct Imported {
    /// The name the layout gives it, if any.
    pub name: Option<String>,
    /// The digest of its manifest.
    pub digest: Digest,
    /// Its configuration.
    pub config: ImageConfiguration,
    /// Its layers' length as stored.
    pub size: u64,
    /// How many layers it has.
    pub layers: usize,
}

/// Takes in all images of the layout in a directory that are for this machine.
pub fn import_dir(store: &ContentStore, dir: &Path) -> Result<Vec<Imported>, Error> {
    let marker = fs::read_to_string(dir.join("oci-layout"));
    if !marker.is_ok_and(|text| text.contains("imageLayoutVersion")) {
        let message = "not an image layout: a file `oci-layout` with an imageLayoutVersion is expected beside `index.json`";
        return Err(Error::Invalid(message.to_owned()));
    }
    let index: ImageIndex = document(&read_limited(&dir.join("index.json"))?, "index.json")?;
    let mut manifests = Vec::new();
    for descriptor in &index.manifests {
        find_manifests(dir, descriptor, name_of(descriptor), 0, &mut manifests)?;
    }
    if manifests.is_empty() {
        let platform = format!("linux/{}", architecture());
        let others = platforms(dir, &index.manifests, 0);
        let others =
            if others.is_empty() { String::new() } else { format!("; it has {}", others.join(", ")) };
        return Err(Error::Invalid(format!("the layout holds no image for {platform}{others}")));
    }
    manifests.into_iter().map(|(name, digest)| import_manifest(store, dir, name, &digest)).collect()
}

/// Takes in a layout as a tar archive, plain or compressed with gzip or zstd.
pub fn import_archive(store: &ContentStore, archive: impl Read) -> Result<Vec<Imported>, Error> {
    // On the store's own disk, whose room is looked at; the store clears it away where it is left behind.
    let dir = tempfile::tempdir_in(store.root().join("incoming")).doing("make a temporary directory")?;
    let mut total = 0;
    let mut archive = tar::Archive::new(decompressed(archive)?);
    let entries = archive.entries().doing("read the archive")?;
    for (count, entry) in entries.enumerate() {
        let mut entry = entry.doing("read the archive: it is cut short, or no tar archive")?;
        let name = String::from_utf8_lossy(&entry.path_bytes()).trim_start_matches("./").to_owned();
        total += entry.size();
        if count >= ARCHIVE_ENTRIES || total > ARCHIVE_BYTES {
            return Err(Error::TooLarge("the archive has more than 10,000 entries or 16 GiB".to_owned()));
        }
        // Only what a layout may hold is taken; nothing else of the archive ever touches the disk.
        let Some(path) = layout_path(&name) else { continue };
        if !entry.header().entry_type().is_file() {
            continue;
        }
        let path = dir.path().join(path);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent).doing("unpack the archive")?;
        }
        let mut file = File::create(&path).doing("unpack the archive")?;
        std::io::copy(&mut entry, &mut file).doing("unpack the archive")?;
    }
    import_dir(store, dir.path())
}

fn layout_path(name: &str) -> Option<PathBuf> {
    match name {
        "oci-layout" | "index.json" => Some(name.into()),
        _ => {
            let hex = name.strip_prefix("blobs/sha256/")?;
            Digest::parse(&format!("sha256:{hex}"))
                .ok()
                .map(|digest| Path::new("blobs/sha256").join(digest.hex()))
        }
    }
}

/// A reader of the plain bytes, whatever they are compressed with: told by their first bytes.
pub(crate) fn decompressed<'a>(mut from: impl Read + 'a) -> Result<Box<dyn Read + 'a>, Error> {
    let mut head = Vec::new();
    (&mut from).take(4).read_to_end(&mut head).doing("read the archive")?;
    let whole = std::io::Cursor::new(head.clone()).chain(from);
    Ok(match head[..] {
        [0x1f, 0x8b, ..] => Box::new(flate2::read::MultiGzDecoder::new(whole)),
        [0x28, 0xb5, 0x2f, 0xfd] => Box::new(zstd::Decoder::new(whole).doing("read the archive")?),
        _ => Box::new(whole),
    })
}

/// Whether an image for this operating system and processor runs on this machine. One that does not say may.
pub fn runs_here(os: &str, processor: &str) -> bool {
    (os.is_empty() || os == "linux") && (processor.is_empty() || processor == architecture())
}

/// This machine's processor, as the specification names it.
pub fn architecture() -> &'static str {
    match std::env::consts::ARCH {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        other => other,
    }
}

fn name_of(descriptor: &Descriptor) -> Option<String> {
    descriptor.annotations.get(NAME_ANNOTATION).cloned()
}

fn blob_path(dir: &Path, digest: &Digest) -> PathBuf {
    dir.join("blobs/sha256").join(digest.hex())
}

fn digest_of(descriptor: &Descriptor) -> Result<Digest, Error> {
    Digest::parse(&descriptor.digest)
}

/// Manifests for this machine, through nested indexes.
fn find_manifests(
    dir: &Path,
    descriptor: &Descriptor,
    name: Option<String>,
    depth: usize,
    found: &mut Vec<(Option<String>, Digest)>,
) -> Result<(), Error> {
    let fits =
        descriptor.platform.as_ref().is_none_or(|platform| runs_here(&platform.os, &platform.architecture));
    if !fits {
        return Ok(());
    }
    let digest = digest_of(descriptor)?;
    if !descriptor.is_index() {
        found.push((name, digest));
        return Ok(());
    }
    if depth > 3 {
        return Err(Error::Invalid("indexes are nested more than three deep".to_owned()));
    }
    let index: ImageIndex = document(&verified(dir, &digest)?, "an index")?;
    for inner in &index.manifests {
        find_manifests(dir, inner, name_of(inner).or(name.clone()), depth + 1, found)?;
    }
    Ok(())
}

/// The platforms that an index has images for, through nested ones.
fn platforms(dir: &Path, manifests: &[Descriptor], depth: usize) -> Vec<String> {
    let inner = |descriptor: &Descriptor| -> Option<Vec<String>> {
        if !descriptor.is_index() || depth > 3 {
            let platform = descriptor.platform.as_ref()?;
            return Some(vec![format!("{}/{}", platform.os, platform.architecture)]);
        }
        let index: ImageIndex =
            document(&verified(dir, &digest_of(descriptor).ok()?).ok()?, "an index").ok()?;
        Some(platforms(dir, &index.manifests, depth + 1))
    };
    let mut all: Vec<String> = manifests.iter().filter_map(inner).flatten().take(20).collect();
    all.sort();
    all.dedup();
    all
}

fn import_manifest(
    store: &ContentStore,
    dir: &Path,
    name: Option<String>,
    digest: &Digest,
) -> Result<Imported, Error> {
    let bytes = verified(dir, digest)?;
    let manifest: ImageManifest = document(&bytes, "the manifest")?;
    let config_digest = digest_of(&manifest.config)?;
    let config_bytes = verified(dir, &config_digest)?;
    let config: ImageConfiguration = document(&config_bytes, "the configuration")?;
    let (layers, ids) = (manifest.layers.len(), config.rootfs.diff_ids.len());
    if layers != ids || layers == 0 || layers > LAYERS {
        let message = format!(
            "the manifest names {layers} layers and the configuration {ids}; 1 to {LAYERS} of both are expected"
        );
        return Err(Error::Invalid(message));
    }
    let mut size = 0;
    for layer in &manifest.layers {
        let digest = digest_of(layer)?;
        let file = File::open(blob_path(dir, &digest)).doing(format!("open the layer {digest}"))?;
        size += store.put(file, Some(&digest))?.1;
    }
    store.put(&config_bytes[..], Some(&config_digest))?;
    // The manifest last: anyone who finds it finds all it names.
    store.put(&bytes[..], Some(digest))?;
    Ok(Imported { name, digest: digest.clone(), config, size, layers })
}

fn read_limited(path: &Path) -> Result<Vec<u8>, Error> {
    let shown = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let file = File::open(path).doing(format!("open {shown}"))?;
    let mut bytes = Vec::new();
    file.take(DOCUMENT_LIMIT + 1).read_to_end(&mut bytes).doing(format!("read {shown}"))?;
    if bytes.len() as u64 > DOCUMENT_LIMIT {
        return Err(Error::TooLarge(format!("{shown} is longer than 4 MiB")));
    }
    Ok(bytes)
}

fn verified(dir: &Path, digest: &Digest) -> Result<Vec<u8>, Error> {
    let bytes = read_limited(&blob_path(dir, digest))?;
    let found = Digest::of(&bytes);
    if found == *digest {
        return Ok(bytes);
    }
    Err(Error::DigestMismatch {
        what: "a blob".to_owned(),
        expected: digest.to_string(),
        found: found.to_string(),
    })
}

pub(crate) fn document<T: serde::de::DeserializeOwned>(bytes: &[u8], what: &str) -> Result<T, Error> {
    serde_json::from_slice(bytes)
        .map_err(|error| Error::Invalid(format!("{what} does not follow the image specification: {error}")))
}

/// Writes one image of the store as a layout archive: what [`import_archive`] reads.
pub fn write_archive(store: &ContentStore, digest: &Digest, name: &str, to: impl Write) -> Result<(), Error> {
    let mut archive = tar::Builder::new(to);
    let manifest_bytes = store.read(digest, DOCUMENT_LIMIT)?;
    let manifest: ImageManifest = document(&manifest_bytes, "the manifest")?;
    let index = serde_json::json!({
        "schemaVersion": 2,
        "manifests": [{
            "mediaType": "application/vnd.oci.image.manifest.v1+json",
            "digest": digest.to_string(),
            "size": manifest_bytes.len(),
            "annotations": { NAME_ANNOTATION: name },
        }],
    });
    let mut add = |path: &str, mut content: &mut dyn Read, size: u64| {
        let mut header = tar::Header::new_ustar();
        header.set_size(size);
        header.set_mode(0o644);
        archive.append_data(&mut header, path, &mut content).doing("write the archive")
    };
    let marker = br#"{"imageLayoutVersion":"1.0.0"}"#;
    add("oci-layout", &mut &marker[..], marker.len() as u64)?;
    let index = index.to_string();
    add("index.json", &mut index.as_bytes(), index.len() as u64)?;
    let mut blobs = vec![digest.clone(), digest_of(&manifest.config)?];
    for layer in &manifest.layers {
        blobs.push(digest_of(layer)?);
    }
    for blob in blobs {
        let mut file = store.open_blob(&blob)?;
        let size = file.seek(std::io::SeekFrom::End(0)).doing("measure a blob")?;
        file.rewind().doing("measure a blob")?;
        add(&format!("blobs/sha256/{}", blob.hex()), &mut file, size)?;
    }
    archive.finish().doing("write the archive")
}
