//! Whatever does not answer although it should is on the board with its cause, and what served before serves again.

use std::net::TcpListener;

use crate::common::{Platform, until};
use crate::odd_changes::{Declared, HOST, TARGET, serving, unnoticed};
use crate::programs::program_of;

fn is_up(platform: &Platform) -> bool {
    platform.get(HOST, "/who").status == 200
}

#[test]
fn replicas_that_all_end_are_on_the_board_before_they_are_back() {
    let platform = Platform::start(true);
    let slow = Declared { settings: ", START_MILLIS = \"10000\"".to_owned(), ..Declared::default() };
    assert_eq!(slow.declare(&platform, "staging", &[]).code, 0);
    until("it answers", || is_up(&platform).then_some(()));
    for replica in ["staging.odd.a0", "staging.odd.a1"] {
        let program = program_of(&platform, replica).expect("its program");
        // SAFETY: no memory is involved; the process is a replica of this test's.
        unsafe { libc::kill(program, libc::SIGKILL) };
    }
    until("nobody answers", || (!is_up(&platform)).then_some(()));
    let told = until("it is on the board", || {
        let board = platform.ok(&["board", "staging"]);
        board.lines().find(|line| line.contains("  odd  ") && line.contains("signal 9")).map(str::to_owned)
    });
    assert!(!is_up(&platform), "it was told while nobody answered: {told}");
    until("it answers again", || is_up(&platform).then_some(()));
    platform.workload(TARGET, |w| w["state"] == "steady");
}

#[test]
fn a_slow_start_from_zero_is_reported_and_followed() {
    let platform = Platform::start(true);
    let slow = Declared { settings: ", START_MILLIS = \"10000\"".to_owned(), ..Declared::default() };
    assert_eq!(slow.declare(&platform, "staging", &[]).code, 0);
    platform.ok(&["scale", TARGET, "0"]);
    std::thread::scope(|scope| {
        let scaled = scope.spawn(|| platform.run(&["scale", TARGET, "1"]));
        let told = until("it is on the board", || {
            let board = platform.ok(&["board", "staging"]);
            board
                .lines()
                .find(|line| line.starts_with("▲ too-few") && line.contains("odd"))
                .map(str::to_owned)
        });
        assert!(!is_up(&platform), "it was told while nobody answered: {told}");
        let scaled = scaled.join().expect("it ends");
        assert_eq!(scaled.code, 0, "{scaled:?}");
    });
    assert!(is_up(&platform));
}

#[test]
fn after_a_stop_in_the_middle_of_a_rollout_what_served_before_serves_first() {
    stopped_in_the_middle(|_| {});
}

#[test]
fn and_also_where_the_node_lost_what_it_knew_of_its_replicas() {
    stopped_in_the_middle(|platform| {
        std::fs::remove_dir_all(platform.data().join("node/replicas")).expect("the node's notes");
    });
}

/// Stops in the middle of a rollout that is never ready, and starts after `meanwhile`.
fn stopped_in_the_middle(meanwhile: impl FnOnce(&Platform)) {
    let platform = Platform::start(true);
    let first = serving(&platform);
    let hung = Declared { settings: ", START_MILLIS = \"60000\"".to_owned(), image: "1.5.0", ..first };
    assert_eq!(hung.declare(&platform, "staging", &["--no-wait"]).code, 0);
    until("the new release has a replica", || {
        let shown = platform.ok(&["show", TARGET, "--json"]);
        let shown: serde_json::Value = serde_json::from_str(&shown).expect("JSON");
        let replicas = shown["replicas"].as_array().cloned().unwrap_or_default();
        replicas.iter().any(|it| it["release"] == 2 && it["state"] == "starting").then_some(())
    });
    platform.ok(&["stop"]);
    meanwhile(&platform);
    let said = platform.try_start(false);
    assert_eq!(said.code, 0, "{said:?}");
    until("the first release answers", || is_up(&platform).then_some(()));
    assert_eq!(platform.get(HOST, "/who").json()["version"], "1.4.0");
    let said = platform.run(&["cancel", TARGET]);
    assert_eq!(said.code, 0, "{said:?}");
    platform.workload(TARGET, |w| w["state"] == "steady");
    assert!(is_up(&platform));
}

#[test]
fn versions_of_a_secret_never_return_and_a_release_without_its_value_is_no_way_back() {
    let platform = Platform::start(true);
    platform.ok_with_input(&["secret", "add", "staging/odd-key"], "one");
    let with =
        Declared { settings: ", ODD_KEY = { secret = \"odd-key\" }".to_owned(), ..Declared::default() };
    assert_eq!(with.declare(&platform, "staging", &[]).code, 0);
    until("it answers", || is_up(&platform).then_some(()));
    let said = unnoticed(&platform, "a secret goes and comes back with another value", || {
        assert_eq!(Declared::default().declare(&platform, "staging", &[]).code, 0);
        let gone = platform.ok(&["secret", "remove", "staging/odd-key"]);
        assert!(gone.contains("release staging/odd@1 can no longer be a rollback's target"), "{gone}");
        let added = platform.ok_with_input(&["secret", "add", "staging/odd-key"], "two");
        assert!(added.contains("version 2"), "{added}");
        let said = platform.run(&["rollback", TARGET, "--to", "1"]);
        assert!(said.code == 3 && said.err.contains("odd-key"), "{said:?}");
        platform.run(&["rollback", TARGET])
    });
    assert_eq!(said.code, 3, "{said:?}");
}

#[test]
fn a_port_in_use_is_reported_until_it_is_free() {
    let platform = Platform::start(true);
    serving(&platform);
    let taken = platform.api.port().to_string();
    let said = platform.run(&["add", "route", "staging/odd-port", "--to", "odd", "--port", &taken]);
    assert!(said.code == 3 && said.err.contains("is taken by the API and the console"), "{said:?}");
    let other = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = other.local_addr().expect("its address").port().to_string();
    let sentence = format!("the gateway cannot listen on port {port}: another program has it");
    unnoticed(&platform, "a port that is taken", || {
        let said = platform.run(&["add", "route", "staging/odd-port", "--to", "odd", "--port", &port]);
        until("it is on the board", || platform.ok(&["board", "staging"]).contains(&sentence).then_some(()));
        let why = platform.ok(&["why", "route:staging/odd-port"]);
        assert!(why.contains("does not answer") && why.contains("port-taken"), "{why}");
        said
    });
    drop(other);
    until("it is well", || (!platform.ok(&["board", "staging"]).contains(&sentence)).then_some(()));
    let address = format!("127.0.0.1:{port}").parse().expect("an address");
    let head = format!("GET /who HTTP/1.1\r\nhost: {HOST}\r\nconnection: close\r\n\r\n");
    assert_eq!(crate::common::request(address, HOST, &head, b"").status, 200);
}

#[test]
fn a_process_limit_that_is_hit_is_reported_while_the_replica_is_ready() {
    let platform = Platform::start(true);
    let file = platform.dir.path().join("narrow.toml");
    let text = "application = \"narrow\"\n[workload.narrow]\nimage = \"lockers/locker-api:1.4.0\"\n\
                ports = { http = 8080 }\nlimits = { processes = 4 }\n\
                [route.narrow]\nhost = \"narrow.localhost\"\nto = [{ service = \"narrow\" }]\n";
    std::fs::write(&file, text).expect("written");
    platform.ok(&["declare", &file.display().to_string(), "--in", "staging"]);
    until("it answers", || (platform.get("narrow.localhost", "/who").status == 200).then_some(()));
    std::thread::scope(|scope| {
        // It starts a thread for each connection.
        for _ in 0..8 {
            scope.spawn(|| platform.get("narrow.localhost", "/slow/1500"));
        }
    });
    let told = until("it is on the board", || {
        let board = platform.ok(&["board", "staging"]);
        board.lines().find(|line| line.starts_with("■ failing") && line.contains("narrow")).map(str::to_owned)
    });
    assert!(told.contains("refused it another process or thread") && told.contains("limit is 4"), "{told}");
    let why = platform.ok(&["why", "staging/narrow"]);
    assert!(why.contains("process-limit: "), "{why}");
}

#[test]
fn a_replica_that_fills_its_disk_is_named_with_the_directory_and_others_go_on() {
    let platform = Platform::start(true);
    let archive = platform.dir.path().join("filler.tar");
    testing::image_archive(&testing::probe_image(&["fill"]), "lockers/filler:1.0.0", &archive);
    platform.ok(&["image", "add", &archive.display().to_string()]);
    let file = platform.dir.path().join("filler.toml");
    let text = "application = \"filler\"\n[workload.filler]\nimage = \"lockers/filler:1.0.0\"\nlimits = { disk = \"32 MiB\" }\n";
    std::fs::write(&file, text).expect("written");
    let said = platform.run(&["declare", &file.display().to_string(), "--in", "staging"]);
    assert!(said.code == 1 && said.err.contains("disk-full: wrote"), "{said:?}");
    let told = until("it is on the board", || {
        let board = platform.ok(&["board", "staging"]);
        board.lines().find(|line| line.contains("filler") && line.contains("wrote")).map(str::to_owned)
    });
    assert!(told.contains("of 32 MiB to its root file system, most in /var/cache"), "{told}");
    let why = platform.ok(&["why", "staging/filler"]);
    assert!(why.contains("disk-full: ") && why.contains("limits.disk"), "{why}");
    until("what it wrote is measured", || {
        let stats = platform.ok(&["stats", "staging/filler", "--json"]);
        let stats: serde_json::Value = serde_json::from_str(&stats).expect("JSON");
        let release = &stats["releases"][0];
        let (written, limit) = (release["disk"].as_u64()?, release["disk_limit"].as_u64()?);
        (limit == 32 << 20 && (16 << 20..=32 << 20).contains(&written)).then_some(())
    });
    assert_eq!(platform.get("api.staging.lockers.localhost", "/who").status, 200);
    // What it wrote goes with it.
    platform.ok(&["remove", "staging/filler", "--yes"]);
    until("its scratch is gone", || {
        let names = std::fs::read_dir(platform.data().join("node/scratch")).expect("the scratch").flatten();
        (!names.into_iter().any(|entry| entry.file_name().to_string_lossy().contains("filler"))).then_some(())
    });
}
