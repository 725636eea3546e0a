//! Obstacles are reported with their fix, and nobody misses parts that are killed.

use std::net::TcpListener;

use crate::common::{Platform, Visitors, mainyard, passable_dir, shared_snapshots, until};

const API: &str = "api.staging.lockers.localhost";

#[test]
fn a_failed_start_of_the_platform_names_the_fix() {
    let _shared = shared_snapshots().bind_to_scope();
    let platform = Platform::new();
    let shown = |said: crate::common::Said| {
        let text = said.shown(&platform);
        let text = text.replace(&format!("127.0.0.1:{}", platform.http.port() + 10), "ANOTHER");
        text.replace(&format!("(process {})", std::process::id()), "(process PID)")
    };
    let taken = TcpListener::bind(platform.http).expect("the port");
    let text = shown(platform.try_start(false));
    let holder = std::fs::read_to_string("/proc/self/comm").expect("its name");
    insta::assert_snapshot!("a_port_is_taken", text.replace(holder.trim(), "NAME"));
    drop(taken);

    std::fs::write(platform.data().join("layout"), "99").expect("a file");
    insta::assert_snapshot!("a_data_directory_of_another_version", shown(platform.try_start(false)));
    std::fs::remove_dir_all(platform.data()).expect("removed");

    std::fs::create_dir(platform.data()).expect("a directory");
    std::fs::write(platform.data().join("holiday.jpg"), "").expect("a file");
    insta::assert_snapshot!("a_directory_with_other_things", shown(platform.try_start(false)));
    std::fs::remove_dir_all(platform.data()).expect("removed");

    let closed = std::os::unix::fs::PermissionsExt::from_mode(0o700);
    std::fs::set_permissions(platform.dir.path(), closed).expect("closed");
    insta::assert_snapshot!("a_directory_that_shuts_the_account_out", shown(platform.try_start(false)));
    let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(platform.dir.path(), open).expect("open");

    assert_eq!(platform.try_start(false).code, 0, "after all that it starts");
    let again = platform.try_start(false);
    assert_eq!(again.code, 3);
    assert!(again.err.contains("runs already at http://"), "{again:?}");
}

#[test]
fn mistakes_on_the_command_line_get_a_suggestion() {
    let _shared = shared_snapshots().bind_to_scope();
    let empty = passable_dir();
    let nowhere = |words: &[&str]| {
        let said = mainyard(empty.path(), words).output().expect("it runs");
        let text =
            format!("exit {}\n{}", said.status.code().unwrap_or(-1), String::from_utf8_lossy(&said.stderr));
        text.replace(&empty.path().display().to_string(), "DIR")
    };
    let texts = [
        nowhere(&["board"]),
        nowhere(&["stop", "staging/locker-api"]),
        nowhere(&["start", "staging/locker-api"]),
        nowhere(&["stop"]),
        nowhere(&["validate", "nothing.toml"]),
        nowhere(&["boart"]),
    ];
    insta::assert_snapshot!("without_a_platform", texts.join("\n"));

    let platform = Platform::start(true);
    let bad = platform.dir.path().join("bad.toml");
    std::fs::write(&bad, "application = \"lockers\"\n[workload.locker-api]\nimgae = \"x\"\n")
        .expect("a file");
    let bad = bad.display().to_string();
    let asked: [&[&str]; 9] = [
        &["show", "staging/loker-api"],
        &["show", "stagin/locker-api"],
        &["show", "locker-api"],
        &["scale", "staging/locker-api", "20000"],
        &["rollback", "staging/courier-web"],
        &["rollback", "staging/courier-web", "--to", "staging/courier-web@7"],
        &["declare", &bad, "--in", "staging"],
        &["environment", "add", "Staging"],
        &["deploy", "staging/locker-api"],
    ];
    let texts: Vec<String> = asked
        .iter()
        .map(|words| format!("{}\n{}", words.join(" "), platform.run(words).shown(&platform)))
        .collect();
    insta::assert_snapshot!("with_a_platform", platform.tidy(&texts.join("\n")));
}

#[test]
fn killed_parts_restart_without_a_failed_request() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let replicas = || platform.ok(&["show", "staging/locker-api", "--json"]);
    let ages = |text: &str| {
        let value: serde_json::Value = serde_json::from_str(text).expect("JSON");
        let list = value["replicas"].as_array().expect("replicas").clone();
        list.into_iter().map(|r| (r["id"].to_string(), r["restarts"].to_string())).collect::<Vec<_>>()
    };
    let before = ages(&replicas());
    let visitors = Visitors::start(platform.http, API, 3);
    for part in ["node", "control"] {
        let [pid] = platform.part(part)[..] else { panic!("one {part}") };
        // SAFETY: the process belongs to this test's own platform.
        unsafe { libc::kill(pid, libc::SIGKILL) };
        until("it is started again", || platform.part(part).first().copied().filter(|now| *now != pid));
        until("the platform answers", || Some(platform.run(&["board"])).filter(|said| said.code == 0));
    }
    // A change after it all: the node was found again, with its replicas.
    platform.ok(&["scale", "staging/locker-api", "5"]);
    platform.ok(&["scale", "staging/locker-api", "3"]);
    let seen = visitors.finish();
    assert_eq!(seen.keys().collect::<Vec<_>>(), ["1.4.0"], "{seen:?}");
    assert_eq!(ages(&replicas()), before, "no replica was stopped or started again");

    // Even the supervisor may be killed: `stop` finds everything.
    let [supervisor] = platform.part("supervisor")[..] else { panic!("one supervisor") };
    // SAFETY: as above.
    unsafe { libc::kill(supervisor, libc::SIGKILL) };
    until("it is gone", || platform.part("supervisor").is_empty().then_some(()));
    assert_eq!(platform.ok(&["stop"]), "it was not running; everything is cleared away\n");
    for part in ["control", "node", "gateway"] {
        assert_eq!(platform.part(part), Vec::<i32>::new());
    }
}
