//! Images of Debian's packages: a root as `mmdebstrap` makes it, device files and all, as one layer; what is added as another.

use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::json;
use sha2::{Digest, Sha256};

use crate::software::{MUSL, Software};

/// Where roots are kept between runs.
pub(crate) fn cache() -> PathBuf {
    let dir = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join("real");
    std::fs::create_dir_all(&dir).expect("a directory");
    dir
}

fn must(command: &mut Command) {
    let done = command.status().unwrap_or_else(|error| panic!("{command:?}: {error}"));
    assert!(done.success(), "{command:?}");
}

/// A file's digest and length.
fn measure(path: &Path) -> (String, u64) {
    let mut file = std::fs::File::open(path).expect("a file");
    let mut hash = Sha256::new();
    let (mut length, mut piece) = (0, vec![0; 1 << 20]);
    loop {
        let read = file.read(&mut piece).expect("read");
        if read == 0 {
            break;
        }
        hash.update(&piece[..read]);
        length += read as u64;
    }
    let hex: String = hash.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
    (hex, length)
}

/// The layers of an image, as plain tar archives.
fn layers(dir: &Path, of: &Software) -> Vec<PathBuf> {
    let mut layers = Vec::new();
    if !of.packages.is_empty() {
        let root = dir.join(format!("{}.tar", of.name));
        if !root.exists() {
            let partial = dir.join("partial.tar");
            must(
                Command::new("mmdebstrap")
                    .args(["--quiet", "--mode=root", "--variant=minbase", "--format=tar"])
                    .arg(format!("--include={}", of.packages))
                    .arg("bookworm")
                    .arg(&partial)
                    .arg("deb http://deb.debian.org/debian bookworm main"),
            );
            std::fs::rename(partial, &root).expect("kept");
        }
        layers.push(root);
    }
    let own = dir.join(format!("{}-own.tar", of.name));
    let mut archive = tar::Builder::new(std::fs::File::create(&own).expect("a file"));
    for (path, content) in of.files {
        let mut header = tar::Header::new_gnu();
        header.set_mode(0o644);
        header.set_uid(0);
        header.set_gid(0);
        header.set_mtime(0);
        match content.strip_prefix("->") {
            Some(target) => {
                header.set_entry_type(tar::EntryType::Symlink);
                header.set_size(0);
                archive.append_link(&mut header, path, target).expect("a link");
            }
            None => {
                header.set_size(content.len() as u64);
                archive.append_data(&mut header, path, content.as_bytes()).expect("a file");
            }
        }
    }
    if of.packages.is_empty() {
        let (source, program) = (dir.join("server.c"), dir.join("server"));
        std::fs::write(&source, MUSL).expect("a file");
        must(Command::new("musl-gcc").args(["-static", "-O2", "-o"]).arg(&program).arg(&source));
        archive.append_path_with_name(&program, "server").expect("a program");
    }
    archive.into_inner().and_then(|mut file| file.flush()).expect("an archive");
    layers.push(own);
    layers
}

/// Makes an image layout; gives its directory.
pub(crate) fn build(dir: &Path, of: &Software) -> PathBuf {
    let layout = dir.join(format!("{}-layout", of.name));
    let _ = std::fs::remove_dir_all(&layout);
    let blobs = layout.join("blobs/sha256");
    std::fs::create_dir_all(&blobs).expect("a directory");
    let mut described = Vec::new();
    let mut diff_ids = Vec::new();
    for layer in layers(dir, of) {
        let (hex, size) = measure(&layer);
        std::fs::hard_link(&layer, blobs.join(&hex)).expect("a link");
        diff_ids.push(format!("sha256:{hex}"));
        described.push(json!({"mediaType": "application/vnd.oci.image.layer.v1.tar", "digest": format!("sha256:{hex}"), "size": size}));
    }
    let put = |document: serde_json::Value| {
        let bytes = document.to_string().into_bytes();
        let hex: String = Sha256::digest(&bytes).iter().map(|byte| format!("{byte:02x}")).collect();
        std::fs::write(blobs.join(&hex), &bytes).expect("a blob");
        (format!("sha256:{hex}"), bytes.len())
    };
    let processor = if std::env::consts::ARCH == "aarch64" { "arm64" } else { "amd64" };
    let (config, config_size) = put(json!({
        "os": "linux", "architecture": processor, "rootfs": {"type": "layers", "diff_ids": diff_ids},
        "config": {"Cmd": of.command, "Env": ["PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"]},
    }));
    let (manifest, manifest_size) = put(json!({
        "schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json", "layers": described,
        "config": {"mediaType": "application/vnd.oci.image.config.v1+json", "digest": config, "size": config_size},
    }));
    let index = json!({"schemaVersion": 2, "manifests": [
        {"mediaType": "application/vnd.oci.image.manifest.v1+json", "digest": manifest, "size": manifest_size},
    ]});
    std::fs::write(layout.join("index.json"), index.to_string()).expect("the index");
    std::fs::write(layout.join("oci-layout"), r#"{"imageLayoutVersion":"1.0.0"}"#).expect("the marker");
    layout
}
