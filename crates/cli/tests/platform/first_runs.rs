//! The command that runs once before a release serves.

use std::time::{Duration, Instant};

use crate::common::{Platform, Visitors, until};
use crate::faults::kill;

const API: &str = "api.staging.lockers.localhost";

fn steady() -> Platform {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    platform
}

fn deploy(platform: &Platform, settings: &[&str], more: &[&str]) -> crate::common::Said {
    let set = settings.iter().flat_map(|pair| ["--set", pair]);
    let words: Vec<&str> =
        ["deploy", "staging/locker-api"].into_iter().chain(set).chain(more.iter().copied()).collect();
    platform.run(&words)
}

/// The state of a release's first run.
fn first(platform: &Platform, release: u32) -> String {
    let shown = platform.run(&["show", &format!("staging/locker-api@{release}"), "--json"]);
    let shown: serde_json::Value = serde_json::from_str(&shown.out).unwrap_or_default();
    shown["rollout"]["first"]["state"].as_str().unwrap_or_default().to_owned()
}

/// The keeper of the run.
fn keeper(platform: &Platform, release: u32) -> Option<i32> {
    let dir = platform.data().join(format!("node/replicas/staging.locker-api.first{release}"));
    std::fs::read_to_string(dir.join("pid")).ok()?.split_whitespace().next()?.parse().ok()
}

#[test]
fn it_comes_before_any_replica_and_stops_the_release_with_its_log() {
    let platform = steady();
    let shown = platform.ok(&["show", "staging/locker-api@1"]);
    assert!(
        shown.contains("run_first ended well on node-1")
            && shown.contains("│ 12 tables are as they should be"),
        "{shown}"
    );
    let visitors = Visitors::start(platform.http, API, 2);
    let slow = deploy(&platform, &["MIGRATION_MILLIS=1500"], &[]);
    assert!(
        slow.code == 0 && slow.out.contains("starting: run_first runs on node-1, 0 of 3 ready"),
        "{slow:?}"
    );
    let said = deploy(&platform, &["MIGRATION_CODE=3"], &[]);
    assert_eq!(said.code, 1, "{said:?}");
    assert!(
        said.err.contains(
            "run-first-failed: release 3 went back: run_first (first3) ended with exit code 3; release 2 answers"
        ),
        "{said:?}"
    );
    // Its last lines are read from the node, and the record has none of them.
    assert!(said.err.contains("│ first3: table 7 of 12"), "{said:?}");
    let record = platform.call("GET", "/api/v1/snapshot", "").text();
    assert!(record.contains("run-first-failed") && !record.contains("table 7 of 12"));
    let shown = platform.ok(&["show", "staging/locker-api@3"]);
    assert!(shown.contains("│ the locker map is brought to version 1.4.0"), "{shown}");
    let back = platform.ok(&["rollback", "staging/locker-api", "--to", "1"]);
    assert!(back.contains("release 4 (same as 1)"), "{back}");
    assert_eq!(first(&platform, 4), "", "what ran well once is not run again");
    let seen = visitors.finish();
    assert!(seen.keys().all(|kind| kind == "1.4.0"), "{seen:?}");
    let said = platform.run(&["deploy", "staging/locker-api", "--set", "MIGRATION_CODE=0", "--forecast"]);
    assert!(said.code == 0 && said.out.contains("is ready after"), "{said:?}");
}

#[test]
fn it_goes_on_while_control_and_agent_die_and_is_begun_once() {
    let platform = steady();
    let deployed = deploy(&platform, &["MIGRATION_MILLIS=4000"], &["--no-wait"]);
    assert_eq!(deployed.code, 0, "{deployed:?}");
    let before = until("it runs", || keeper(&platform, 2));
    for part in ["control", "node"] {
        let pid = platform.part(part)[0];
        kill(pid);
        until("it is back", || platform.part(part).first().copied().filter(|now| *now != pid));
    }
    assert_eq!(keeper(&platform, 2), Some(before));
    platform.workload("staging/locker-api", |w| w["state"] == "steady" && w["release"] == 2);
    assert_eq!(first(&platform, 2), "passed");
    let log = platform.ok(&["show", "staging/locker-api@2"]);
    assert_eq!(log.matches("the locker map is brought to version").count(), 1, "{log}");
}

#[test]
fn an_agent_killed_during_a_start_is_followed_by_one_that_adopts_the_replica() {
    let platform = steady();
    for release in 2..6 {
        let agent = until("there is an agent", || platform.part("node").first().copied());
        deploy(&platform, &[&format!("MIGRATION_MILLIS={}", 300 + release)], &["--no-wait"]);
        // As soon as there is a keeper: its program is not yet there.
        let deadline = Instant::now() + Duration::from_secs(60);
        while keeper(&platform, release).is_none() {
            assert!(Instant::now() < deadline, "it was never begun");
        }
        kill(agent);
        platform.workload("staging/locker-api", |w| w["state"] == "steady" && w["release"] == release);
        let log = platform.ok(&["show", &format!("staging/locker-api@{release}")]);
        assert_eq!(log.matches("the locker map is brought to version").count(), 1, "{log}");
    }
}

#[test]
fn an_unknown_end_waits_for_a_person() {
    let platform = steady();
    deploy(&platform, &["MIGRATION_MILLIS=600000"], &["--no-wait"]);
    kill(until("it runs", || keeper(&platform, 2)));
    platform.workload("staging/locker-api", |w| w["reason"]["code"] == "run-first-unknown");
    assert_eq!(platform.get(API, "/who").json()["version"], "1.4.0", "release 1 still answers");
    let shown = platform.ok(&["show", "staging/locker-api"]);
    assert!(shown.contains("may have run; its outcome is unknown"), "{shown}");
    let sent = platform.ok(&["advance", "staging/locker-api"]);
    assert!(
        sent.contains("goes on although its run_first may have run") && sent.contains("done: release 2 runs"),
        "{sent}"
    );

    // Both die together: what the agent finds is a mark and no end.
    deploy(&platform, &["MIGRATION_MILLIS=600001"], &["--no-wait"]);
    let run = until("it runs", || keeper(&platform, 3));
    let agent = platform.part("node")[0];
    kill(agent);
    kill(run);
    platform.workload("staging/locker-api", |w| w["reason"]["code"] == "run-first-unknown");
    let back = platform.ok(&["cancel", "staging/locker-api"]);
    assert!(back.contains("release 3 went back: cancelled by"), "{back}");
    // A person may also stop one that hangs.
    deploy(&platform, &["MIGRATION_MILLIS=600002"], &["--no-wait"]);
    until("it runs", || keeper(&platform, 4));
    platform.ok(&["cancel", "staging/locker-api"]);
    until("nothing is left of it", || keeper(&platform, 4).is_none().then_some(()));
    platform.workload("staging/locker-api", |w| w["state"] == "steady" && w["release"] == 2);
}
