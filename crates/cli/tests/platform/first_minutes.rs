//! The first steps of a newcomer, and the state after the platform is stopped.

use testing::MachineLists;

use crate::common::{Platform, isolated, shared_snapshots, until};

const API: &str = "api.staging.lockers.localhost";

fn settings() -> insta::Settings {
    let mut settings = shared_snapshots();
    for (pattern, to) in [
        (r"\d\d:\d\d UTC by", "HH:MM UTC by"),
        (r"\d\d:\d\d UTC (declared|added|scaled)", "HH:MM UTC $1"),
        (r"\d+\.\d s\b", "N s"),
        (r"\d+ (s|min) ago", "N ago"),
        (r"(10\.118|127\.\d+)\.\d+\.\d+", "ADDRESS"),
        (r"sha256:[0-9a-f]+", "sha256:DIGEST"),
        (r"\d+(\.\d+)? (KiB|MiB)\b", "SIZE"),
        (r"(\d+\.\d/s|-) +(\d+|-) +([\d.]+ · [\d.]+ · [\d.]+ ms|-)", "ANSWERS"),
        (r"\d+\.\d/s|  +-  ", "RATE"),
        (r"; \d+ requests, \d+ failed", ""),
        (r"  \d+ (s|min)  ", "  AGE  "),
        (r"[ \t]+\n", "\n"),
        (r" {2,}", "  "),
    ] {
        settings.add_filter(pattern, to);
    }
    settings
}

#[test]
fn the_demo_comes_up_answers_and_leaves_nothing() {
    let platform = Platform::new();
    let mark = platform.data().display().to_string();
    let before = MachineLists::read(&mark);
    let said = platform.try_start(true);
    assert_eq!(said.code, 0, "{said:?}");
    assert!(said.out.contains("/sign-in?key="), "{}", said.out);

    for host in [API, "api.lockers.localhost"] {
        platform
            .workload(&format!("{}/locker-api", if host == API { "staging" } else { "production" }), |w| {
                w["state"] == "steady"
            });
        let answer = until("the host answers", || {
            Some(platform.get(host, "/who")).filter(|answer| answer.status == 200)
        });
        assert_eq!(answer.json()["version"], "1.4.0");
        assert!(answer.headers.contains_key("x-request-id"), "{answer:?}");
    }
    // The page calls the API by its service's name.
    let page = until("the page answers", || {
        Some(platform.get("staging.lockers.localhost", "/")).filter(|answer| answer.status == 200)
    });
    assert!(page.text().contains("answered by"), "{}", page.text());

    // Each failing worker fails for its own reason, told by the kernel's count and by the exit code.
    let printer = platform.workload("production/label-printer", |w| w["reason"]["code"] == "keeps-ending");
    let sentence = printer["reason"]["sentence"].as_str().expect("a sentence");
    assert!(sentence.contains("exit code 78") && !sentence.contains("PRINTER is not set"), "{sentence}");
    // What it wrote is not in the record: it is asked of the node.
    let why = platform.run(&["why", "production/label-printer"]).out;
    assert!(why.contains("wrote  PRINTER is not set") || why.contains("       PRINTER is not set"), "{why}");
    let (code, words) = if isolated() {
        ("out-of-memory", "its limit is 64 MiB")
    } else {
        ("keeps-ending", "the last with signal 6")
    };
    let printer = platform.workload("staging/label-printer", |w| w["reason"]["code"] == code);
    let sentence = printer["reason"]["sentence"].as_str().expect("a sentence");
    assert!(sentence.contains(words), "{sentence}");

    let log = platform.ok(&["logs", "staging/locker-api", "--tail", "300"]);
    assert!(log.contains("locker-api 1.4.0 starts") && log.contains("listening on "), "{log}");

    settings().bind(|| {
        insta::assert_snapshot!("environment_list", platform.ok(&["environment", "list"]));
        insta::assert_snapshot!("image_list", platform.ok(&["image", "list"]));
        let shown = platform.tidy(&platform.ok(&["show", "production/courier-web"]));
        let not_isolated = shown.matches(", not isolated").count();
        assert_eq!(not_isolated, if isolated() { 0 } else { 4 }, "{shown}");
        insta::assert_snapshot!("show_courier_web", shown.replace(", not isolated", ""));
    });
    let board = platform.ok(&["board"]);
    assert!(board.contains("production  1 thing needs you  3 workloads"), "{board}");

    assert_eq!(platform.ok(&["stop"]), "stopped; what is declared is kept\n");
    let after = MachineLists::read(&mark);
    assert_eq!((after.mounts, after.links, after.processes), (before.mounts, before.links, before.processes));
    let instance = std::fs::read_to_string(platform.data().join("instance")).expect("the instance");
    let groups: Vec<_> = after.groups.into_iter().filter(|group| group.contains(&instance)).collect();
    assert_eq!(groups, Vec::<String>::new());

    // What was declared is there again, and the demo is not declared again over it.
    assert_eq!(platform.try_start(true).code, 0);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    assert_eq!(
        platform.ok(&["declare", manifest(&platform).as_str(), "--in", "staging"]),
        "staging: everything is as declared; nothing was changed\n"
    );
}

/// The demo's declaration as a file.
fn manifest(platform: &Platform) -> String {
    let path = platform.dir.path().join("mainyard.toml");
    std::fs::write(&path, mainyard_demo::MANIFEST).expect("a file");
    path.display().to_string()
}

#[test]
fn from_nothing_to_an_answer_by_files_and_commands_alone() {
    let platform = Platform::start(false);
    assert!(platform.ok(&["board"]).contains("mainyard environment add staging"));
    // An image as an archive, made by the platform's own code.
    let store = mainyard_images_store(&platform);
    let archive = platform.dir.path().join("locker-api.tar");
    let images = mainyard_demo::pack_images(&store).expect("images");
    let (name, digest) = images.into_iter().find(|(name, _)| name.tag == "1.4.0").expect("the image");
    let file = std::fs::File::create(&archive).expect("a file");
    mainyard_images::write_archive(&store, &digest, &name.to_string(), file).expect("an archive");
    let archive = archive.display().to_string();
    platform.ok(&["environment", "add", "trial"]);
    let early = platform.dir.path().join("early.toml");
    let text = "application = \"early\"\n[workload.early]\nimage = \"lockers/locker-api:1.4.0\"\nports = { http = 8080 }\n";
    std::fs::write(&early, text).expect("a file");
    platform.ok(&["declare", &early.display().to_string(), "--in", "trial", "--no-wait"]);
    let looked = platform.ok(&["image", "add", &archive, "--forecast"]);
    assert!(
        looked.starts_with("forecast, nothing is changed: lockers/locker-api:1.4.0: added")
            && looked.contains("release 1 of trial/early was waiting for it and goes on")
            && looked.contains("trial/early is ready after"),
        "{looked}"
    );
    assert!(platform.ok(&["image", "list"]).contains("no image is in the store"));
    let added = platform.ok(&["image", "add", &archive]);
    assert!(platform.ok(&["image", "add", &archive]).contains("it was there already"));
    platform.workload("trial/early", |w| w["state"] == "steady");
    platform.ok(&["remove", "trial/early", "--yes"]);
    assert!(added.starts_with("lockers/locker-api:1.4.0: added, 2 layers"), "{added}");

    let looked = platform.ok(&["environment", "add", "staging", "--forecast"]);
    assert!(looked.starts_with("forecast, nothing is changed: staging: added"), "{looked}");
    platform.ok(&["environment", "add", "staging"]);
    platform.ok(&["use", "staging"]);
    let text = "application = \"lockers\"\n[workload.locker-api]\nimage = \"lockers/locker-api:1.4.0\"\nports = { http = 8080 }\n\
                [route.api]\nhost = \"api.lockers.localhost\"\nto = [{ service = \"locker-api\" }]\n";
    let file = platform.dir.path().join("app.toml");
    std::fs::write(&file, text).expect("a file");
    let file = file.display().to_string();
    let forecast = platform.ok(&["declare", &file, "--forecast"]);
    assert!(forecast.starts_with("forecast, nothing is changed: staging: 3 changes"), "{forecast}");
    assert!(platform.ok(&["board"]).contains("nothing is declared here"));
    let declared = platform.ok(&["declare", &file]);
    assert!(declared.contains("+ workload locker-api  1 × lockers/locker-api:1.4.0"), "{declared}");
    assert_eq!(
        platform.get("api.lockers.localhost", "/who").status,
        200,
        "it answers as soon as the command is done"
    );
    // A bare name is one of the default environment's.
    assert!(
        platform.ok(&["scale", "locker-api", "4"]).contains("staging/locker-api is steady, 4 of 4 ready")
    );
    let removed = platform.ok(&["remove", "locker-api", "--yes"]);
    assert!(
        removed.contains("- route staging/api: api.lockers.localhost no longer leads anywhere"),
        "{removed}"
    );
    let gone = until("the host leads nowhere", || {
        Some(platform.get("api.lockers.localhost", "/")).filter(|answer| answer.status == 404)
    });
    assert_eq!(gone.json()["code"], "no-such-host");
}

fn mainyard_images_store(platform: &Platform) -> mainyard_images::ContentStore {
    mainyard_images::ContentStore::open(&platform.dir.path().join("packed")).expect("a store")
}
