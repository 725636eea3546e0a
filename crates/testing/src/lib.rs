//! Shared helpers for the tests of several crates. Not part of the product.

pub mod acme_authority;
pub mod code_trees;
pub mod load;
pub mod object_store;
pub mod outside;
pub mod postgres;
pub mod repository;
pub mod smart_http;

use std::path::{Path, PathBuf};

use mainyard_images::{ContentStore, FileEntry, ImageContent};

/// A program that tries, from inside a replica, what a replica must not be able to do.
pub static PROBE: &[u8] = include_bytes!(env!("PROBE"));

/// The content of an image that runs the probe with these arguments.
pub fn probe_image(arguments: &[&str]) -> ImageContent {
    let layer = vec![
        FileEntry::Dir("app/".into(), 0o755),
        FileEntry::File("app/probe".into(), PROBE.to_vec(), 0o755),
        FileEntry::Dir("etc/".into(), 0o755),
        FileEntry::File("etc/passwd".into(), b"root:x:0:0::/:\nlarkfield:x:1000:1000::/:\n".to_vec(), 0o644),
    ];
    let entrypoint = ["/app/probe"].iter().chain(arguments).map(|word| (*word).to_owned()).collect();
    ImageContent { layers: vec![layer], entrypoint, ..ImageContent::default() }
}

/// Unpacks an image of the store below `dir`; gives its layers, the lowest first.
///
/// # Panics
/// When the image is not whole.
pub fn unpack_all(store: &ContentStore, digest: &mainyard_images::Digest, dir: &Path) -> Vec<PathBuf> {
    let manifest: mainyard_images::ImageManifest =
        serde_json_from(&store.read(digest, 1 << 20).expect("a manifest"));
    let config = mainyard_images::Digest::parse(&manifest.config.digest).expect("a digest");
    let config: mainyard_images::ImageConfiguration =
        serde_json_from(&store.read(&config, 1 << 20).expect("a configuration"));
    let pairs = manifest.layers.iter().zip(&config.rootfs.diff_ids);
    let layers = pairs.map(|(layer, id)| {
        let id = mainyard_images::Digest::parse(id).expect("a digest");
        let packed = mainyard_images::Digest::parse(&layer.digest).expect("a digest");
        let target = dir.join(id.hex());
        let blob = store.open_blob(&packed).expect("a layer");
        mainyard_images::unpack_layer(blob, &id, &target).expect("a layer that unpacks");
        target
    });
    layers.collect()
}

fn serde_json_from<T: serde::de::DeserializeOwned>(bytes: &[u8]) -> T {
    serde_json::from_slice(bytes).expect("a document that follows the specification")
}

/// Writes the image as an archive that `image add` takes.
///
/// # Panics
/// When it cannot be packed or written.
pub fn image_archive(content: &ImageContent, name: &str, to: &Path) {
    let dir = tempfile::tempdir().expect("a directory");
    let store = ContentStore::open(dir.path()).expect("a store");
    let digest = mainyard_images::pack(&store, content).expect("an image");
    let file = std::fs::File::create(to).expect("a file");
    mainyard_images::write_archive(&store, &digest, name, file).expect("an archive");
}

/// Ids of the processes that run this program file.
pub fn running(program: &Path) -> Vec<i32> {
    let processes = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let ids = processes.filter_map(|entry| {
        let pid = entry.file_name().to_str()?.parse().ok()?;
        std::fs::read_link(entry.path().join("exe")).is_ok_and(|exe| exe == program).then_some(pid)
    });
    ids.collect()
}

/// The machine's lists that a platform must leave as it found them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MachineLists {
    /// Mounts of the machine's mount namespace.
    pub mounts: Vec<String>,
    /// Network interfaces of the machine's own namespace.
    pub links: Vec<String>,
    /// Control group directories that carry the platform's mark.
    pub groups: Vec<String>,
    /// Process names of the platform that run.
    pub processes: Vec<String>,
    /// Network namespaces.
    pub networks: Vec<String>,
}

impl MachineLists {
    /// Reads the lists as they are now; processes and mounts are those that mention `mark`.
    pub fn read(mark: &str) -> MachineLists {
        let lines = |text: String| text.lines().map(str::to_owned).collect::<Vec<_>>();
        let read = |path: &str| lines(std::fs::read_to_string(path).unwrap_or_default());
        let names = |path: &str| {
            let entries = std::fs::read_dir(path).into_iter().flatten().flatten();
            let mut names: Vec<String> =
                entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
            names.sort();
            names
        };
        let mounts = read("/proc/self/mounts");
        let bases =
            mounts.iter().filter(|line| line.contains(" cgroup ")).filter_map(|line| line.split(' ').nth(1));
        let groups = bases
            .flat_map(|base| names(base).into_iter().map(move |name| format!("{base}/{name}")))
            .filter(|path| path.contains("mainyard"))
            .collect();
        let mut processes = Vec::new();
        let mut networks = std::collections::BTreeSet::new();
        for pid in names("/proc").iter().filter(|name| name.bytes().all(|byte| byte.is_ascii_digit())) {
            let command = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
            let command = String::from_utf8_lossy(&command).replace('\0', " ");
            if command.contains(mark) {
                processes.push(command);
            }
            if let Ok(network) = std::fs::read_link(format!("/proc/{pid}/ns/net")) {
                networks.insert(network.display().to_string());
            }
        }
        MachineLists {
            mounts: mounts.into_iter().filter(|line| line.contains(mark)).collect(),
            links: names("/sys/class/net"),
            groups,
            processes,
            networks: networks.into_iter().collect(),
        }
    }
}
