//! Images from registries outside: another platform's registry, and a small one that fails in every way.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex};

use mainyard_images::{ContentStore, Digest, FileEntry, ImageContent, pack};
use serde_json::Value;
use sha2::Digest as _;

use crate::common::{Chance, Platform, Said};

/// What the small registry does with a request for a path.
type Handler = dyn Fn(&str, &BTreeMap<String, String>) -> Answer + Send + Sync;

struct Answer {
    status: u16,
    headers: Vec<(&'static str, String)>,
    body: Vec<u8>,
    /// Only so much of the body is sent; then the connection ends.
    cut: Option<usize>,
}

impl Answer {
    fn of(status: u16, body: impl Into<Vec<u8>>) -> Answer {
        Answer { status, headers: Vec::new(), body: body.into(), cut: None }
    }
}

/// A registry of a few lines.
fn serve(handle: Arc<Handler>) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let at = listener.local_addr().expect("its address");
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let handle = Arc::clone(&handle);
            std::thread::spawn(move || talk(stream, &*handle));
        }
    });
    at
}

fn talk(stream: TcpStream, handle: &Handler) -> Option<()> {
    let mut reader = BufReader::new(stream);
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).ok().filter(|length| *length > 0)?;
        let path = line.split(' ').nth(1)?.to_owned();
        let mut headers = BTreeMap::new();
        loop {
            let mut header = String::new();
            reader.read_line(&mut header).ok()?;
            let Some((name, value)) = header.trim_end().split_once(':') else { break };
            headers.insert(name.to_ascii_lowercase(), value.trim().to_owned());
        }
        let answer = handle(&path, &headers);
        let mut head = format!("HTTP/1.1 {} X\r\ncontent-length: {}\r\n", answer.status, answer.body.len());
        for (name, value) in &answer.headers {
            head.push_str(&format!("{name}: {value}\r\n"));
        }
        let stream = reader.get_mut();
        stream.write_all(format!("{head}\r\n").as_bytes()).ok()?;
        stream.write_all(&answer.body[..answer.cut.unwrap_or(answer.body.len())]).ok()?;
        if answer.cut.is_some() {
            return None;
        }
    }
}

/// An image with a layer of some size, as a registry has it: its manifest, and blobs by digest.
fn image() -> (Vec<u8>, BTreeMap<String, Vec<u8>>) {
    let dir = tempfile::tempdir().expect("a directory");
    let store = ContentStore::open(dir.path()).expect("a store");
    // What no packing makes shorter.
    let mut chance = Chance::of("noise");
    let noise: Vec<u8> = (0..3_000_000).map(|_| chance.below(256) as u8).collect();
    let layer =
        vec![FileEntry::Dir("data/".into(), 0o755), FileEntry::File("data/noise".into(), noise, 0o644)];
    let content =
        ImageContent { layers: vec![layer], entrypoint: vec!["/none".into()], ..ImageContent::default() };
    let digest = pack(&store, &content).expect("packed");
    let manifest = store.read(&digest, 1 << 20).expect("a manifest");
    let read: Value = serde_json::from_slice(&manifest).expect("JSON");
    let layers = read["layers"].as_array().expect("layers").iter().chain([&read["config"]]);
    let blobs = layers.map(|blob| {
        let digest = blob["digest"].as_str().expect("a digest").to_owned();
        let bytes = store.read(&Digest::parse(&digest).expect("a digest"), 1 << 30).expect("a blob");
        (digest, bytes)
    });
    (manifest, blobs.collect())
}

fn add(platform: &Platform, name: &str, host: SocketAddr, more: &[&str]) {
    let host = host.to_string();
    platform.run(&[&["registry", "add", name, "--host", &host, "--plain"][..], more].concat());
}

pub(crate) fn add_as_mira(platform: &Platform, host: SocketAddr, password: &str) -> Said {
    let host = host.to_string();
    let words = ["registry", "add", "forge", "--host", &host, "--plain", "--user", "mira"];
    platform.run_with_input(&words, password)
}

fn pull(platform: &Platform, image: &str) -> Said {
    platform.run(&["image", "pull", image])
}

/// The code of a refusal.
fn code(said: &Said) -> String {
    assert_eq!(said.code, 1, "{said:?}");
    said.err.split(": ").nth(2).unwrap_or_default().to_owned()
}

#[test]
fn an_image_of_another_platforms_registry_is_pulled_and_runs() {
    let (there, here) = (Platform::start(true), Platform::start(false));
    let host = there.api;
    // Nobody, then somebody with a wrong password, then the right one.
    add(&here, "forge", host, &[]);
    assert_eq!(code(&pull(&here, "forge/lockers/locker-api:1.4.0")), "registry-refuses");
    let wrong = add_as_mira(&here, host, "not the token");
    assert!(wrong.code == 1 && wrong.err.contains("registry-refuses"), "{wrong:?}");
    let right = add_as_mira(&here, host, &there.token());
    assert!(right.code == 0 && right.out.contains("lets the platform in"), "{right:?}");
    assert!(
        !here.ok(&["registry", "list", "--json"]).contains(there.token().trim()),
        "no answer holds the password"
    );
    assert!(!here.call("GET", "/api/v1/snapshot", "").text().contains(there.token().trim()));
    assert_eq!(code(&pull(&here, "forge/lockers/locker-api:9.9.9")), "registry-lacks");
    let pulled = pull(&here, "forge/lockers/locker-api:1.4.0");
    assert_eq!(pulled.code, 0, "{pulled:?}");
    let again = pull(&here, "forge/lockers/locker-api:1.4.0");
    assert!(again.code == 0 && again.out.contains(" 0 B fetched"), "everything was there: {again:?}");

    // A declaration names an image that is not there yet: it is pulled, and the release goes on.
    here.ok(&["environment", "add", "staging"]);
    let text = "application = \"lockers\"\n[workload.courier-web]\nimage = \"forge/lockers/courier-web:2.3.0\"\n\
                ports = { http = 8080 }\nchecks = { ready = { path = \"/ready\" } }\n\
                [workload.gone]\nimage = \"forge/lockers/gone:1\"\n";
    let file = here.dir.path().join("mainyard.toml");
    std::fs::write(&file, text).expect("a file");
    here.run(&["declare", &file.display().to_string(), "--in", "staging", "--no-wait"]);
    here.workload("staging/courier-web", |workload| workload["state"] == "steady");
    let gone = here.workload("staging/gone", |workload| workload["reason"]["code"] == "registry-lacks");
    assert!(gone["reason"]["sentence"].as_str().expect("words").contains("lockers/gone:1"), "{gone}");
    let refused = here.run(&["registry", "remove", "forge"]);
    assert!(
        refused.code == 3 && refused.err.contains("releases wait for forge/lockers/gone:1"),
        "{refused:?}"
    );
    // What a tag named stays on record, and who runs the image is shown.
    let images: Value = serde_json::from_str(&here.ok(&["image", "list", "--json"])).expect("JSON");
    let web =
        images.as_array().expect("rows").iter().find(|it| it["image"] == "forge/lockers/courier-web:2.3.0");
    assert!(web.expect("it is listed")["named"].is_string(), "{images}");
}

#[test]
fn a_pull_goes_on_where_it_broke_off_and_lies_are_not_kept() {
    let platform = Platform::start(false);
    let (manifest, blobs) = image();
    let layer = blobs.iter().max_by_key(|(_, bytes)| bytes.len()).expect("a layer").0.clone();
    let asked: Arc<Mutex<Vec<String>>> = Arc::default();
    let (requests, kept, bytes) = (AtomicU32::new(0), Arc::clone(&asked), blobs.clone());
    let of_manifest = manifest.clone();
    let registry = serve(Arc::new(move |path, headers| {
        if path.ends_with("/manifests/1") {
            return Answer::of(200, of_manifest.clone());
        }
        if path.ends_with("/manifests/lying") {
            let text = String::from_utf8(of_manifest.clone()).expect("text");
            // Another layer's digest, and the same bytes.
            return Answer::of(200, text.replace(&layer, &format!("sha256:{}", "0".repeat(64))));
        }
        if path.ends_with("/manifests/slow") {
            let mut answer =
                Answer::of(429, "{\"errors\":[{\"code\":\"TOOMANYREQUESTS\",\"message\":\"later\"}]}");
            answer.headers.push(("retry-after", "60".to_owned()));
            return answer;
        }
        if path.ends_with("/manifests/broken") {
            return Answer::of(500, "out of order");
        }
        if path == "/v2/" {
            return Answer::of(200, "{}");
        }
        if path.contains("/referrers/") {
            return Answer::of(404, "{}");
        }
        let digest = path.rsplit('/').next().unwrap_or_default();
        let whole = bytes.get(digest).or_else(|| bytes.get(&layer)).cloned().unwrap_or_default();
        kept.lock().expect("a list").push(headers.get("range").cloned().unwrap_or_default());
        let from = headers
            .get("range")
            .and_then(|range| range.strip_prefix("bytes=")?.strip_suffix('-')?.parse().ok());
        let from: usize = from.unwrap_or(0);
        let mut answer =
            Answer::of(if from > 0 { 206 } else { 200 }, whole[from.min(whole.len())..].to_vec());
        // The first two answers with a layer end in the middle.
        if whole.len() > 1_000_000 && requests.fetch_add(1, Ordering::SeqCst) < 2 {
            answer.cut = Some(1_000_000);
        }
        answer
    }));
    add(&platform, "forge", registry, &[]);
    // Two images with the same blobs at once: each blob is fetched by one of them.
    let (pulled, other) = std::thread::scope(|scope| {
        let other = scope.spawn(|| pull(&platform, "forge/lockers/other:1"));
        (pull(&platform, "forge/lockers/noise:1"), other.join().expect("it ends"))
    });
    assert_eq!((pulled.code, other.code), (0, 0), "{pulled:?} {other:?}");
    let ranges = asked.lock().expect("a list").clone();
    assert_eq!(ranges.len(), 4, "the configuration once, the layer in three parts: {ranges:?}");
    assert!(
        ranges.contains(&"bytes=1000000-".to_owned()) && ranges.contains(&"bytes=2000000-".to_owned()),
        "{ranges:?}"
    );
    let digest: String = sha2::Sha256::digest(&manifest).iter().map(|byte| format!("{byte:02x}")).collect();
    assert!(pulled.out.contains(&digest), "{pulled:?}");
    for (tag, expected) in
        [("lying", "image-unusable"), ("slow", "registry-limits"), ("broken", "registry-silent")]
    {
        assert_eq!(code(&pull(&platform, &format!("forge/lockers/noise:{tag}"))), expected, "{tag}");
    }
    assert!(!platform.data().join(format!("images/blobs/sha256/{}", "0".repeat(64))).exists());
    assert!(
        std::fs::read_dir(platform.data().join("images/pulls")).expect("a folder").next().is_none(),
        "nothing half-done stays"
    );
    add(&platform, "nobody", "127.0.0.1:1".parse().expect("an address"), &[]);
    assert_eq!(code(&pull(&platform, "nobody/x/y:1")), "registry-silent");
    let unknown = pull(&platform, "elsewhere/x:1");
    assert!(unknown.code == 3 && unknown.err.contains("known are: forge, nobody"), "{unknown:?}");
    let pulls = platform.ok(&["image", "pulls"]);
    assert!(pulls.contains("forge/lockers/noise:1") && pulls.contains("registry-limits"), "{pulls}");
}

#[test]
fn a_followed_tag_makes_a_release_when_it_names_another_image() {
    let (there, here) = (Platform::start(true), Platform::start(false));
    assert_eq!(add_as_mira(&here, there.api, &there.token()).code, 0);
    // The tag `latest` there, first of one image and then of another.
    let base = format!("http://{}", there.api);
    let token = there.token();
    let tag = |from: &str| {
        let there = &base;
        let read = |path: &str| curl(&token, &["-s", &format!("{there}/v2/lockers/locker-api/{path}")]);
        let manifest = read(&format!("manifests/{from}"));
        let file = here.dir.path().join("manifest.json");
        std::fs::write(&file, manifest).expect("a file");
        let put = format!("{there}/v2/lockers/locker-api/manifests/latest");
        let kind = "content-type: application/vnd.oci.image.manifest.v1+json";
        curl(
            &token,
            &["-s", "-f", "-X", "PUT", "-H", kind, "--data-binary", &format!("@{}", file.display()), &put],
        );
    };
    tag("1.4.0");
    here.ok(&["environment", "add", "staging"]);
    let text = "application = \"lockers\"\n[workload.locker-api]\nimage = \"forge/lockers/locker-api:latest\"\nfollow_tag = \"1s\"\n\
                ports = { http = 8080 }\nchecks = { ready = { path = \"/ready\" } }\nrollout = { settle = \"100ms\" }\n";
    let file = here.dir.path().join("mainyard.toml");
    std::fs::write(&file, text).expect("a file");
    here.run(&["declare", &file.display().to_string(), "--in", "staging", "--no-wait"]);
    here.workload("staging/locker-api", |workload| workload["state"] == "steady");
    tag("1.5.0");
    let moved = here.workload("staging/locker-api", |it| it["release"] == 2 && it["state"] == "steady");
    assert_eq!(moved["last_change"]["by"], "platform", "{moved}");
    let compared = here.ok(&["compare", "staging/locker-api@1", "staging/locker-api@2"]);
    assert!(compared.contains("image digest"), "{compared}");
}

/// A general client of HTTP.
pub(crate) fn curl(token: &str, words: &[&str]) -> Vec<u8> {
    let mut command = std::process::Command::new("curl");
    let output =
        command.args(["-u", &format!("mira:{}", token.trim())]).args(words).output().expect("curl runs");
    assert!(output.status.success(), "{words:?}: {output:?}");
    output.stdout
}
