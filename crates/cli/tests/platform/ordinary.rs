//! An account without any rights: the platform comes up by itself without isolation, and says so.

use std::os::unix::fs::chown;
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::Command;

use crate::browser::{Browser, wait_for_text};
use crate::common::{Platform, until};

/// An account that owns nothing.
const NOBODY: u32 = 65_534;

/// The program's own place may be closed to the account.
fn program(platform: &Platform) -> PathBuf {
    let program = platform.dir.path().join("mainyard");
    if !program.exists() {
        std::fs::copy(env!("CARGO_BIN_EXE_mainyard"), &program).expect("a copy");
    }
    program
}

fn as_nobody(platform: &Platform, words: &[&str]) -> Command {
    let mut command = Command::new(program(platform));
    command.args(words).env("MAINYARD_DATA", platform.data()).env("HOME", platform.dir.path());
    command.uid(NOBODY).gid(NOBODY).env_remove("MAINYARD_ISOLATION").env_remove("SUDO_USER");
    command
}

#[test]
fn an_ordinary_account_can_run_it_and_is_warned() {
    let platform = Platform::new();
    chown(platform.dir.path(), Some(NOBODY), Some(NOBODY)).expect("handed over");
    let (api, http, https) =
        (platform.api.to_string(), platform.http.to_string(), platform.https.to_string());
    let words = ["start", "--demo", "--background", "--api", &api, "--http", &http, "--https", &https];

    let refused =
        as_nobody(&platform, &[&words[..], &["--isolation", "kernel"]].concat()).output().expect("it runs");
    let text = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert_eq!(refused.status.code(), Some(3), "{text}");
    assert!(text.contains("needs root") && text.contains("--isolation none"), "{text}");

    let started = as_nobody(&platform, &words).output().expect("it runs");
    let text = String::from_utf8_lossy(&started.stdout).into_owned();
    assert!(started.status.success(), "{text} {started:?}");
    assert!(text.contains("not isolated: replicas are ordinary processes at 127."), "{text}");

    platform.workload("staging/courier-web", |w| w["state"] == "steady");
    let page = until("a caller inside is answered", || {
        Some(platform.get("staging.lockers.localhost", "/")).filter(|answer| answer.status == 200)
    });
    assert!(page.text().contains("answered by"), "{}", page.text());
    let shown = platform.ok(&["show", "staging/courier-web"]);
    assert_eq!(shown.matches("node-1, not isolated").count(), 2, "{shown}");
    assert!(platform.ok(&["board", "staging"]).contains("not isolated  replicas on node-1"));
    let replicas = platform.ok(&["show", "staging/courier-web", "--json"]);
    assert_eq!(replicas.matches("\"isolated\": false").count(), 2, "{replicas}");

    let stats = as_nobody(&platform, &["stats", "staging/courier-web"]).output().expect("it runs");
    let text = String::from_utf8_lossy(&stats.stdout).into_owned();
    assert!(stats.status.success(), "{stats:?}");
    assert!(text.contains("nothing is measured: its replicas are not isolated"), "{text}");

    let browser = Browser::start();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let client = browser.open().await;
        client.goto(platform.ok(&["sign-in"]).trim()).await.expect("opened");
        wait_for_text(&client, "Replicas on node-1 are ordinary processes").await;
        let page = format!("http://{}/staging/courier-web?tab=replicas", platform.api);
        client.goto(&page).await.expect("opened");
        wait_for_text(&client, "node-1, not isolated").await;
        client.close().await.expect("closed");
    });

    let other = as_nobody(&platform, &["stop"]).output().expect("it runs");
    assert!(other.status.success(), "{other:?}");
    let left = std::fs::read_dir("/proc").expect("proc").flatten().filter(|entry| {
        let mark = platform.data().display().to_string();
        std::fs::read(entry.path().join("environ"))
            .is_ok_and(|environ| String::from_utf8_lossy(&environ).contains(&mark))
    });
    assert_eq!(left.count(), 0, "processes are left");
}
