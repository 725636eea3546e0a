//! Packing an image from files, the same bytes each time.

use std::io::Write;

use flate2::{Compression, GzBuilder};
use serde_json::json;

use crate::{ContentStore, Digest, Doing, Error};

/// A file, directory or link of a layer. Paths are relative, parents come first.
#[derive(Debug, Clone)]
pub enum FileEntry {
    /// A directory with its mode.
    Dir(String, u32),
    /// A file with its content and mode.
    File(String, Vec<u8>, u32),
    /// A symbolic link to a target.
    Link(String, String),
    /// A further name of an earlier file.
    HardLink(String, String),
}

/// The entries of one layer.
pub type Layer = Vec<FileEntry>;

/// Inputs of a packed image.
#[derive(Debug, Clone, Default)]
pub struct ImageContent {
    /// Layers, the lowest first.
    pub layers: Vec<Layer>,
    /// The command.
    pub entrypoint: Vec<String>,
    /// Environment variables, as `K=V`.
    pub env: Vec<String>,
    /// User and group.
    pub user: String,
    /// Ports it listens on, for the reader.
    pub ports: Vec<u16>,
}

/// Packs an image into the store; gives its manifest's digest.
pub fn pack(store: &ContentStore, content: &ImageContent) -> Result<Digest, Error> {
    let mut diff_ids = Vec::new();
    let mut layers = Vec::new();
    for layer in &content.layers {
        let plain = tar_of(layer)?;
        diff_ids.push(Digest::of(&plain).to_string());
        // No time and no name in the header: the same files make the same digest.
        let mut packed = GzBuilder::new().mtime(0).write(Vec::new(), Compression::fast());
        packed.write_all(&plain).doing("pack a layer")?;
        let packed = packed.finish().doing("pack a layer")?;
        let (digest, size) = store.put(&packed[..], None)?;
        layers.push(json!({
            "mediaType": "application/vnd.oci.image.layer.v1.tar+gzip",
            "digest": digest.to_string(),
            "size": size,
        }));
    }
    let exposed: serde_json::Map<_, _> =
        content.ports.iter().map(|port| (format!("{port}/tcp"), json!({}))).collect();
    let arch = if std::env::consts::ARCH == "aarch64" { "arm64" } else { "amd64" };
    let config = json!({
        "architecture": arch,
        "os": "linux",
        "config": {
            "Entrypoint": content.entrypoint,
            "Env": content.env,
            "User": content.user,
            "WorkingDir": "/",
            "ExposedPorts": exposed,
        },
        "rootfs": { "type": "layers", "diff_ids": diff_ids },
    });
    let config = config.to_string();
    let (config_digest, config_size) = store.put(config.as_bytes(), None)?;
    let manifest = json!({
        "schemaVersion": 2,
        "mediaType": "application/vnd.oci.image.manifest.v1+json",
        "config": {
            "mediaType": "application/vnd.oci.image.config.v1+json",
            "digest": config_digest.to_string(),
            "size": config_size,
        },
        "layers": layers,
    });
    Ok(store.put(manifest.to_string().as_bytes(), None)?.0)
}

pub(crate) fn tar_of(layer: &Layer) -> Result<Vec<u8>, Error> {
    let mut archive = tar::Builder::new(Vec::new());
    for entry in layer {
        let mut header = tar::Header::new_ustar();
        header.set_mtime(0);
        header.set_uid(0);
        header.set_gid(0);
        let (path, mut content): (&str, &[u8]) = match entry {
            FileEntry::Dir(path, mode) => {
                header.set_entry_type(tar::EntryType::Directory);
                header.set_mode(*mode);
                (path, &[])
            }
            FileEntry::File(path, content, mode) => {
                header.set_entry_type(tar::EntryType::Regular);
                header.set_mode(*mode);
                (path, content)
            }
            FileEntry::Link(path, target) => {
                header.set_entry_type(tar::EntryType::Symlink);
                header.set_mode(0o777);
                header.set_link_name(target).doing("pack a link")?;
                (path, &[])
            }
            FileEntry::HardLink(path, target) => {
                header.set_entry_type(tar::EntryType::Link);
                header.set_link_name(target).doing("pack a link")?;
                (path, &[])
            }
        };
        header.set_size(content.len() as u64);
        archive.append_data(&mut header, path, &mut content).doing("pack a layer")?;
    }
    archive.into_inner().doing("pack a layer")
}
