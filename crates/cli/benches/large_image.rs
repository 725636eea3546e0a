//! A large image on its way to a node: from `deploy` to the first ready replica, beside `cp` and `tar` of the same bytes.

mod stage;

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use mainyard_images::{ContentStore, Digest, write_archive};
use serde_json::json;
use stage::Platform;

/// Layers of the image, and files of a layer.
const LAYERS: u64 = 40;
const FILES: u64 = 100;
/// Bytes of a file: 2 GiB together.
const FILE: usize = (2 << 30) / (LAYERS * FILES) as usize;

/// Bytes that nothing makes shorter.
fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut state = seed | 1;
    let mut bytes = Vec::with_capacity(length + 8);
    while bytes.len() < length {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        bytes.extend(state.to_le_bytes());
    }
    bytes.truncate(length);
    bytes
}

fn layer(round: u64, number: u64) -> Vec<u8> {
    let mut archive = tar::Builder::new(Vec::new());
    for file in 0..FILES {
        let content = noise((round * LAYERS + number) * FILES + file + 1, FILE);
        let mut header = tar::Header::new_ustar();
        header.set_mode(0o644);
        header.set_size(content.len() as u64);
        header.set_uid(0);
        header.set_gid(0);
        header.set_mtime(0);
        archive.append_data(&mut header, format!("data/{number}/{file}"), &content[..]).expect("a layer");
    }
    archive.into_inner().expect("a layer")
}

/// Puts the demo's image with all these layers on top into a store; gives its manifest's digest.
fn large_image(store: &ContentStore, round: u64) -> Digest {
    let images = mainyard_demo::pack_images(store).expect("the demo's images");
    let (_, base) =
        images.iter().find(|(name, _)| name.to_string() == "lockers/locker-api:1.5.0").expect("it");
    let read = |digest: &Digest| -> serde_json::Value {
        serde_json::from_slice(&store.read(digest, 1 << 20).expect("a document")).expect("JSON")
    };
    let mut manifest = read(base);
    let config = Digest::parse(manifest["config"]["digest"].as_str().expect("a digest")).expect("a digest");
    let mut config = read(&config);
    for number in 0..LAYERS {
        let bytes = layer(round, number);
        let (digest, size) = store.put(&bytes[..], None).expect("a layer");
        let digest = digest.to_string();
        config["rootfs"]["diff_ids"].as_array_mut().expect("a list").push(json!(digest));
        let layers = manifest["layers"].as_array_mut().expect("a list");
        layers.push(
            json!({"mediaType": "application/vnd.oci.image.layer.v1.tar", "digest": digest, "size": size}),
        );
    }
    let config = config.to_string();
    let (digest, size) = store.put(config.as_bytes(), None).expect("a configuration");
    manifest["config"]["digest"] = json!(digest.to_string());
    manifest["config"]["size"] = json!(size);
    store.put(manifest.to_string().as_bytes(), None).expect("a manifest").0
}

fn must(command: &mut Command) {
    let done = command.status().unwrap_or_else(|error| panic!("{command:?}: {error}"));
    assert!(done.success(), "{command:?}");
}

/// Writes the image as an archive; gives the digests of its large layers.
fn write_image(round: u64, name: &str, to: &Path) -> Vec<String> {
    let dir = tempfile::tempdir().expect("a directory");
    let store = ContentStore::open(dir.path()).expect("a store");
    let digest = large_image(&store, round);
    write_archive(&store, &digest, name, std::fs::File::create(to).expect("a file")).expect("an archive");
    let blobs = std::fs::read_dir(dir.path().join("blobs/sha256")).expect("blobs").flatten();
    let large = blobs.filter(|blob| blob.metadata().is_ok_and(|found| found.len() > 10 << 20));
    large.map(|blob| blob.file_name().to_string_lossy().into_owned()).collect()
}

/// The same layers, copied and unpacked one after the other.
fn bare(layers: &[PathBuf], to: &Path) -> Duration {
    std::fs::create_dir(to).expect("a directory");
    let begun = Instant::now();
    for layer in layers {
        let copy = to.join("copy.tar");
        must(Command::new("cp").arg(layer).arg(&copy));
        let dir = to.join(layer.file_name().expect("a name"));
        std::fs::create_dir(&dir).expect("a directory");
        must(Command::new("tar").arg("-xf").arg(&copy).arg("-C").arg(&dir));
    }
    let took = begun.elapsed();
    std::fs::remove_dir_all(to).expect("removed");
    took
}

/// Waits until a replica of this release is ready.
fn until_ready(platform: &Platform, release: u64) {
    loop {
        let answer = platform.answer("GET", "/environments/staging/workloads/locker-api", "", "");
        let body = answer.split("\r\n\r\n").last().unwrap_or_default();
        let shown: serde_json::Value = serde_json::from_str(body.trim()).unwrap_or_default();
        let of_release = |it: &&serde_json::Value, key: &str| it[key] == release;
        let replicas = shown["replicas"].as_array().into_iter().flatten();
        if replicas.filter(|it| of_release(it, "release")).any(|it| it["state"] == "ready") {
            return;
        }
        let rollouts = shown["rollouts"].as_array().into_iter().flatten();
        let back = rollouts.filter(|it| of_release(it, "to")).find(|it| it["state"] == "went-back");
        assert!(back.is_none(), "the release went back: {back:?}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

fn main() {
    let place = tempfile::tempdir().expect("a directory");
    std::fs::set_permissions(place.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))
        .expect("its mode");
    let platform = Platform::start(place.path(), 0);
    let archive = place.path().join("large.tar");
    let (mut added, mut ours, mut theirs) = (Vec::new(), Vec::new(), Vec::new());
    for round in 0..3_usize {
        // Each round has bytes of its own: nothing of it is on the node.
        let name = format!("lockers/locker-api:9.0.{round}");
        let layers = write_image(round as u64, &name, &archive);
        assert_eq!(layers.len() as u64, LAYERS);
        let begun = Instant::now();
        platform.run(&["image", "add", &archive.display().to_string()]);
        added.push(begun.elapsed());
        std::fs::remove_file(&archive).expect("removed");
        let blobs = platform.data.join("images/blobs/sha256");
        let layers: Vec<PathBuf> = layers.iter().map(|layer| blobs.join(layer)).collect();
        theirs.push(bare(&layers, &place.path().join("bare")));
        let begun = Instant::now();
        platform.run(&["deploy", "staging/locker-api", "--image", &name, "--no-wait"]);
        until_ready(&platform, round as u64 + 2);
        ours.push(begun.elapsed());
        println!(
            "round {}: added in {:.1?}, cp and tar {:.1?}, ready after {:.1?}",
            round + 1,
            added[round],
            theirs[round],
            ours[round]
        );
        // The one before has left, and its rollout has ended.
        platform.run(&["scale", "staging/locker-api", "1"]);
    }
    let [added, ours, theirs] = [added, ours, theirs].map(stage::median);
    println!("| what, median of 3 | |\n|---|---|");
    println!("| `image add` of 2 GiB in 40 layers | {added:.1} s |");
    println!("| `cp` and `tar` of the same layers | {theirs:.1} s |");
    println!("| from `deploy` to the first ready replica | {ours:.1} s |");
    println!("| ratio | {:.2} |", ours / theirs);
}
