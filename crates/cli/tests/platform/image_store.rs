//! Where images are kept: in an object store behind the directory, within limits, and whole on the nodes.

use std::path::PathBuf;

use serde_json::{Value, json};
use testing::object_store::ObjectStore;

use crate::common::{Platform, until};
use crate::registry::{Client, MANIFEST, digest, is, refused};

const KEY: [(&str, &str); 2] = [("AWS_ACCESS_KEY_ID", "lark"), ("AWS_SECRET_ACCESS_KEY", "made up")];

fn start_on(store: &ObjectStore, more: &[&str]) -> Platform {
    let platform = Platform::new();
    let endpoint = format!("http://{}", store.address);
    let blobs = ["--blobs", "s3://larkfield/images", "--blobs-endpoint", &endpoint];
    let said = platform.try_start_in(&KEY, &[more, &blobs[..]].concat());
    assert_eq!(said.code, 0, "{said:?}\n{}", platform.logs());
    platform
}

fn files_of(dir: PathBuf) -> Vec<PathBuf> {
    std::fs::read_dir(dir).expect("a directory").flatten().map(|entry| entry.path()).collect()
}

#[tokio::test]
async fn images_live_in_an_object_store_and_what_the_machine_has_of_them_can_be_lost() {
    let store = ObjectStore::start("lark");
    let platform = start_on(&store, &["--demo"]);
    let blobs = platform.data().join("images/blobs/sha256");
    let there = files_of(blobs.clone());
    let kept = store.keys();
    for file in &there {
        let name = file.file_name().expect("a name").to_string_lossy().into_owned();
        assert!(kept.contains(&format!("images/blobs/sha256/{name}")), "{name} is not among {kept:?}");
    }
    // The machine loses all of it: another release is fetched, rolled out and looked at all the same.
    for file in there {
        std::fs::remove_file(file).expect("removed");
    }
    platform.ok(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"]);
    assert!(platform.ok(&["image", "show", "lockers/locker-api:1.6.0"]).contains("LAYER"));
    let compared = platform.ok(&["image", "compare", "lockers/locker-api:1.4.0", "lockers/locker-api:1.5.0"]);
    assert!(compared.contains("app/release"), "{compared}");
    let client = Client::of(&platform);
    let bytes = vec![9; 9 << 20];
    let pushed = client.push("team/large", &bytes).await;
    std::fs::remove_file(blobs.join(pushed.trim_start_matches("sha256:"))).expect("it came in there");
    let path = format!("/v2/team/large/blobs/{pushed}");
    let read = client.send("GET", &path, &[("range", "bytes=5-")], Vec::new()).await;
    assert_eq!((read.status().as_u16(), read.bytes().await.expect("bytes").len()), (206, bytes.len() - 5));

    // Away, it takes nothing in and loses nothing.
    let manifest = client.image_of("team/away", "away", "s390x", "").await;
    store.set_away(true);
    let put = client.put("team/away", "one", MANIFEST, &manifest).await;
    assert_eq!(refused(put).await, is(503, "UNAVAILABLE"));
    store.set_away(false);
    assert_eq!(client.put("team/away", "one", MANIFEST, &manifest).await.status().as_u16(), 201);
}

#[test]
fn what_was_kept_on_the_machine_moves_to_an_object_store_that_is_declared_later() {
    let store = ObjectStore::start("lark");
    let platform = Platform::start(true);
    platform.ok(&["stop"]);
    let endpoint = format!("http://{}", store.address);
    let options = ["--blobs", "s3://larkfield", "--blobs-endpoint", &endpoint];
    let said = platform.try_start_in(&KEY, &options);
    assert_eq!(said.code, 0, "{said:?}");
    let count = files_of(platform.data().join("images/blobs/sha256")).len();
    until("all of it is in the object store", || {
        let kept = store.keys().into_iter().filter(|key| key.starts_with("blobs/sha256/")).count();
        (kept == count).then_some(())
    });
    let wrong = platform.run(&["start", "--blobs", "/srv/images"]);
    assert!(wrong.code == 2 && wrong.err.contains("expected s3://BUCKET or s3://BUCKET/PREFIX"), "{wrong:?}");
}

#[tokio::test]
async fn a_name_keeps_no_more_than_its_rule_allows_however_images_come_in() {
    let platform = Platform::start(false);
    let client = Client::of(&platform);
    platform.ok(&["image", "storage-rule", "team/small", "--limit", "20KiB"]);
    let manifest = client.image_of("team/small", "first", "s390x", "").await;
    assert_eq!(client.put("team/small", "one", MANIFEST, &manifest).await.status().as_u16(), 201);
    // A blob alone, and a manifest that names what another repository has.
    let large = vec![1; 20 << 10];
    let begun = client.send("POST", "/v2/team/small/blobs/uploads/", &[], Vec::new()).await;
    let place = begun.headers()["location"].to_str().expect("text").to_owned();
    let ended = client.send("PUT", &format!("{place}?digest={}", digest(&large)), &[], large.clone()).await;
    let text = ended.text().await.expect("text");
    assert!(
        text.contains("DENIED") && text.contains("of the 20 KiB that it may, and this needs 20 KiB more"),
        "{text}"
    );
    let blob = client.push("team/other", &large).await;
    let mount = format!("/v2/team/small/blobs/uploads/?mount={blob}&from=team/other");
    assert_eq!(client.send("POST", &mount, &[], Vec::new()).await.status().as_u16(), 201);
    let config = client.push("team/small", b"{}").await;
    let artifact = json!({
        "schemaVersion": 2, "mediaType": MANIFEST,
        "config": {"mediaType": "application/vnd.oci.empty.v1+json", "digest": config, "size": 2},
        "layers": [{"mediaType": "application/octet-stream", "digest": blob, "size": large.len()}],
    });
    let put = client.put("team/small", "two", MANIFEST, artifact.to_string().as_bytes()).await;
    assert_eq!(refused(put).await, is(403, "DENIED"));
    assert_eq!(
        client.put("team/other", "two", MANIFEST, artifact.to_string().as_bytes()).await.status().as_u16(),
        404
    );

    // An archive.
    platform.ok(&["image", "storage-rule", "*", "--limit", "1KiB"]);
    let archive = platform.dir.path().join("image.tar");
    testing::image_archive(&testing::probe_image(&["wait"]), "team/added:1", &archive);
    let said = platform.run(&["image", "add", &archive.display().to_string()]);
    assert!(said.code == 3 && said.err.contains("team/added keeps 0 B of the 1 KiB that it may"), "{said:?}");
    assert!(said.err.contains("mainyard image storage-rule team/added"), "{said:?}");
    platform.ok(&["image", "storage-rule", "team/added", "--limit", "100MiB", "--keep", "2"]);
    platform.ok(&["image", "add", &archive.display().to_string()]);
    let listed: Vec<Value> =
        serde_json::from_str(&platform.ok(&["image", "storage", "--json"])).expect("JSON");
    let names: Vec<&str> = listed.iter().filter_map(|row| row["repository"].as_str()).collect();
    assert_eq!(names, ["team/added", "team/small", "*"]);
    platform.ok(&["image", "storage-rule", "*", "--none"]);
    assert!(!platform.ok(&["image", "storage"]).contains("1 KiB"));
}

#[tokio::test]
async fn a_bill_of_materials_is_shown_with_its_image() {
    let platform = Platform::start(true);
    let client = Client::of(&platform);
    let images: Vec<Value> = serde_json::from_str(&platform.ok(&["image", "list", "--json"])).expect("JSON");
    let image = images.iter().find(|it| it["image"] == "lockers/locker-api:1.4.0").expect("an image");
    let (name, subject) = ("lockers/locker-api", image["digest"].as_str().expect("a digest"));
    let bill = br#"{"spdxVersion":"SPDX-2.3","packages":[{"name":"zlib1g","versionInfo":"1.2.13"},{"name":"libc6","versionInfo":"2.36"}]}"#;
    let (blob, config) = (client.push(name, bill).await, client.push(name, b"{}").await);
    let manifest = json!({
        "schemaVersion": 2, "mediaType": MANIFEST, "artifactType": "application/spdx+json",
        "config": {"mediaType": "application/vnd.oci.empty.v1+json", "digest": config, "size": 2},
        "layers": [{"mediaType": "application/spdx+json", "digest": blob, "size": bill.len()}],
        "subject": {"mediaType": MANIFEST, "digest": subject, "size": 1},
    });
    let manifest = manifest.to_string().into_bytes();
    assert_eq!(client.put(name, &digest(&manifest), MANIFEST, &manifest).await.status().as_u16(), 201);
    let shown = platform.ok(&["image", "show", "lockers/locker-api:1.4.0"]);
    for words in ["attached application/spdx+json", "SPDX-2.3, 2 packages", "libc6 2.36", "zlib1g 1.2.13"] {
        assert!(shown.contains(words), "{words}: {shown}");
    }
}

#[test]
fn a_layer_that_the_disk_changed_is_noticed_and_fetched_again() {
    let platform = Platform::start_with(&["--verify-images-every", "1s"]);
    let layers = platform.data().join("node/layers");
    let release = |layer: &PathBuf| layer.join("app/release");
    let with_release = files_of(layers.clone()).into_iter().filter(|layer| release(layer).is_file());
    let layer = with_release.into_iter().next().expect("a layer with a release");
    let before = std::fs::read(release(&layer)).expect("a file");
    let mut spoiled = before.clone();
    spoiled[0] ^= 1;
    std::fs::write(release(&layer), &spoiled).expect("written");
    until("it was fetched again", || (std::fs::read(release(&layer)).ok()? == before).then_some(()));
    let aside: Vec<PathBuf> =
        files_of(layers).into_iter().filter(|path| path.to_string_lossy().ends_with(".broken-0")).collect();
    assert_eq!(aside.len(), 1, "what runs keeps what it has");
    assert_eq!(std::fs::read(release(&aside[0])).expect("a file"), spoiled);
    let log = platform.logs();
    assert!(log.contains("app/release has another content"), "{log}");
    // Replicas that are started now have the right one.
    platform.workload("staging/locker-api", |workload| workload["state"] == "steady");
    platform.ok(&["restart", "staging/locker-api"]);
    assert_eq!(platform.get("api.staging.lockers.localhost", "/who").status, 200);
}
