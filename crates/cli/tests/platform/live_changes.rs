//! Files that are changed in running replicas, without a build.

use std::fs;
use std::path::Path;

use serde_json::{Value, json};

use crate::common::{Platform, mainyard, until};

/// The paths below `/site` that the program makes lead out of the replica, or make a reader wait for ever.
const HOSTILE: &str = r#"
[image]
name = "pages/pages"
user = "0"
command = ["sh", "-c", "ln -s / /site/up; ln -s /proc/1/root /site/magic; ln -s ../../../../../../etc /site/dots; mkfifo /site/pipe; exec python3 -m http.server 8080 --directory /site"]
ports = [8080]
health = "/"

[part.run]
base = "bases/python:3"
steps = [{ take = ["."], to = "/site" }]
"#;

fn platform() -> Platform {
    let platform = Platform::start(false);
    platform.ok(&["environment", "add", "staging"]);
    platform.ok(&["image", "base", "bases/python:3", "--packages", "python3,dash,coreutils"]);
    let mut new = mainyard(&platform.data(), &["new", "pages", "--like", "static-site"]);
    assert!(new.current_dir(platform.dir.path()).output().expect("it runs").status.success());
    platform
}

fn page(platform: &Platform) -> String {
    platform.get("pages.staging.localhost", "/").text()
}

/// How changing files through the API went for the one replica.
fn change(platform: &Platform, path: &str) -> Value {
    let body = json!({ "files": [{ "path": path, "name": "changed-live", "content": "bGl2ZQo=" }] });
    let answer =
        platform.call("POST", "/api/v1/environments/staging/workloads/pages/live-files", &body.to_string());
    assert_eq!(answer.status, 200, "{}", answer.text());
    answer.json()["replicas"][0].clone()
}

#[test]
fn files_are_changed_where_that_is_allowed_and_marked_until_the_next_release() {
    let platform = platform();
    let dir = platform.dir.path().join("pages");
    let folder = dir.display().to_string();
    let send = |more: &[&str]| platform.run(&[&["send", &folder, "--in", "staging"], more].concat());
    assert_eq!(send(&[]).code, 0, "built and rolled out");
    fs::write(dir.join("index.html"), "<p>changed</p>\n").expect("written");
    let refused = send(&["--live"]);
    assert!(refused.err.contains("staging does not allow changes to running replicas"), "{refused:?}");
    assert!(!page(&platform).contains("changed"));
    platform.ok(&["environment", "live-changes", "staging", "on"]);
    let done = send(&["--live"]);
    assert!(done.out.contains("1 file written: /site/index.html"), "{done:?}");
    assert!(page(&platform).contains("changed"));
    assert!(send(&["--live"]).out.contains("every file is the same already"));
    let marks = "1 file was changed live by";
    for words in [&["show", "staging/pages"][..], &["board", "staging"], &["why", "staging/pages"]] {
        let shown = platform.ok(words);
        assert!(shown.contains(marks), "{words:?}: {shown}");
    }
    // What is larger than one change may be is told before it is sent.
    fs::write(dir.join("large"), vec![0; 9 << 20]).expect("written");
    assert!(send(&["--live"]).err.contains("at most 8 MiB are copied live"));
    fs::remove_file(dir.join("large")).expect("removed");
    platform.ok(&["restart", "staging/pages"]);
    assert!(!page(&platform).contains("changed"), "a release has its image's own files");
    let board = platform.ok(&["board", "staging"]);
    assert!(!board.contains("changed live"), "{board}");
}

#[test]
fn no_path_of_a_replica_leads_out_of_it_and_none_is_waited_for() {
    let platform = platform();
    let dir = platform.dir.path().join("pages");
    fs::write(dir.join("recipe.toml"), HOSTILE).expect("written");
    platform.ok(&["environment", "live-changes", "staging", "on"]);
    platform.ok(&["send", &dir.display().to_string(), "--in", "staging"]);
    until("the program made its links", || {
        (platform.get("pages.staging.localhost", "/dots/hostname").status == 200).then_some(())
    });
    for path in ["/site/up/etc/changed-live", "/site/dots/changed-live-too"] {
        let outcome = change(&platform, path);
        assert_eq!((&outcome["failed"], &outcome["written"]), (&Value::Null, &json!([path])), "{outcome}");
    }
    assert_eq!(platform.get("pages.staging.localhost", "/dots/changed-live-too").text(), "live\n");
    assert!(!Path::new("/etc/changed-live").exists() && !Path::new("/etc/changed-live-too").exists());
    for path in
        ["/site/magic/tmp/changed-live", "/proc/changed-live", "/sys/changed-live", "/dev/shm/changed-live"]
    {
        let outcome = change(&platform, path);
        assert!(outcome["failed"].is_string() && outcome["written"] == json!([]), "{path}: {outcome}");
    }
    assert!(!Path::new("/tmp/changed-live").exists() && !Path::new("/dev/shm/changed-live").exists());
    assert_eq!(change(&platform, "/site/pipe")["written"], json!(["/site/pipe"]), "a pipe is not waited for");
    for path in ["site/x", "/site/../x", "/", "/site//x"] {
        let body = json!({ "files": [{ "path": path, "name": "x", "content": "" }] });
        let answer = platform.call(
            "POST",
            "/api/v1/environments/staging/workloads/pages/live-files",
            &body.to_string(),
        );
        assert_eq!(answer.status, 422, "{path}: {}", answer.text());
    }
}
