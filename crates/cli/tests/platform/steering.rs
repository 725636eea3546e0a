//! How a workload moves to a release: by steps, by a swap, by a person's decision; and how it comes back.

use std::collections::BTreeSet;

use crate::common::{Platform, Visitors, until};

const API: &str = "api.staging.lockers.localhost";

/// The demo's locker-api with another manner of moving.
fn moving(platform: &Platform, manner: &str) {
    let text = format!(
        "application = \"lockers\"\n[workload.locker-api]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 4\n\
         ports = {{ http = 8080 }}\nlabels = {{ tier = \"api\" }}\nsettings = {{ LOG_LEVEL = \"info\", DB_PASSWORD = {{ secret = \"lockers-db-password\" }} }}\n\
         run_first = [\"/app/locker-api\", \"migrate\"]\n\
         limits = {{ cpu = 0.5, memory = \"64 MiB\", processes = 64 }}\nreserve = {{ cpu = 0.005, memory = \"8 MiB\" }}\n\
         stop = {{ drain = \"30s\", grace = \"5s\" }}\n\
         checks = {{ ready = {{ path = \"/ready\", port = \"http\", every = \"1s\", within = \"500ms\" }}, start_within = \"3s\" }}\n\
         [workload.locker-api.rollout]\nsettle = \"300ms\"\ndeadline = \"30s\"\n{manner}\n"
    );
    let file = platform.dir.path().join("moving.toml");
    std::fs::write(&file, text).expect("a file");
    platform.ok(&["declare", &file.display().to_string(), "--in", "staging"]);
}

fn failed(seen: &std::collections::BTreeMap<String, usize>) -> usize {
    seen.iter().filter(|(kind, _)| kind.starts_with("failed")).map(|(_, count)| count).sum()
}

#[test]
fn a_release_that_fails_its_visitors_is_sent_back_at_its_first_share() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    moving(&platform, "style = \"stepped\"\nsteps = [{ share = 10, watch = \"20s\" }]");
    let visitors = Visitors::start(platform.http, API, 2);
    let said = platform.run(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.8.0"]);
    let seen = visitors.finish();
    assert_eq!(said.code, 1, "{said:?}");
    assert!(
        said.err.contains("more-errors: release 2 went back: ")
            && said.err.contains("of release 1 in the same time 0 of"),
        "{said:?}"
    );
    let (failed, all) = (failed(&seen), seen.values().sum::<usize>());
    println!("{failed} of {all} visitors saw an error before release 2 went back");
    assert!(failed > 0 && failed * 50 < all, "a tenth of a tenth at most: {failed} of {all}");
    let workload = platform.workload("staging/locker-api", |w| w["state"] == "steady");
    assert_eq!(workload["release"], 1);
    let shown = platform.ok(&["show", "staging/locker-api@2"]);
    assert!(shown.contains("▲ went-back") && shown.contains("95 OF 100 WITHIN"), "{shown}");
}

#[test]
fn a_person_steers_and_the_second_is_told_what_the_first_did() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    moving(&platform, "style = \"stepped\"\nsteps = [{ share = 25, then = \"ask\" }]");
    let visitors = Visitors::start(platform.http, API, 2);
    let deploy = |image: &str, more: &[&str]| {
        let image = format!("lockers/locker-api:{image}");
        platform.run(&[&["deploy", "staging/locker-api", "--image", &image][..], more].concat())
    };
    let asks = deploy("1.5.0", &[]);
    assert!(
        asks.code == 0 && asks.out.contains("waits for your decision: step 1 of 1 is there (25 %, then ask)"),
        "{asks:?}"
    );
    // Other visitors' requests lie between these, so the share of these alone is near, not exact.
    let mut versions = std::collections::BTreeMap::new();
    platform.in_a_row(API, "/who", 1000, |answer| {
        *versions.entry(answer.json()["version"].as_str().unwrap_or("?").to_owned()).or_insert(0) += 1;
    });
    assert!((100..=400).contains(&versions["1.5.0"]), "{versions:?}");

    let second = deploy("1.8.0", &["--no-wait"]);
    assert!(second.out.contains("this replaces release 2 (deployed by "), "{second:?}");
    platform.ok(&["hold", "staging/locker-api", "--because", "the couriers count parcels"]);
    let refused = deploy("1.5.0", &[]);
    assert!(refused.code == 3 && refused.err.contains("because the couriers count parcels"), "{refused:?}");
    assert!(platform.ok(&["show", "staging/locker-api"]).contains("▲ held  the couriers count parcels"));
    platform.ok(&["resume", "staging/locker-api", "--no-wait"]);
    let back = platform.ok(&["cancel", "staging/locker-api"]);
    assert!(back.contains("release 3 went back: cancelled by "), "{back}");

    deploy("1.5.0", &[]);
    let done = platform.ok(&["advance", "staging/locker-api"]);
    assert!(done.contains("done: release 4 runs with 4 replicas ready"), "{done}");
    let before = platform.get(API, "/who").json()["replica"].to_string();
    let fresh = platform.ok(&["restart", "staging/locker-api"]);
    assert!(fresh.contains("release 5 (same as 4), with new replicas"), "{fresh}");
    let shown = platform.ok(&["show", "staging/locker-api", "--json"]);
    let shown: serde_json::Value = serde_json::from_str(&shown).expect("JSON");
    let replicas = shown["replicas"].as_array().expect("replicas").iter().map(|it| it["id"].to_string());
    assert!(replicas.collect::<Vec<_>>().iter().all(|id| *id != before));
    let seen = visitors.finish();
    let lost = seen.keys().filter(|kind| kind.starts_with("failed") && !kind.contains("500"));
    assert_eq!(lost.collect::<Vec<_>>(), Vec::<&String>::new());

    assert!(platform.ok(&["keep", "staging/locker-api@1"]).contains("kept however old"));
    let at = platform.run(&["rollback", "staging/locker-api", "--at", "2020-01-01 10:00"]);
    assert!(at.code == 3 && at.err.contains("the oldest kept release is from"), "{at:?}");
    let list = platform.tidy(&platform.ok(&["releases", "staging/locker-api"]));
    assert!(list.contains("5 (same as 4)  now") && list.contains("1  kept"), "{list}");
}

#[test]
fn a_swap_takes_all_requests_at_once_and_goes_back_at_once() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    moving(&platform, "style = \"swap\"\nwatch = \"500ms\"\nkeep_old = \"10m\"");
    let visitors = Visitors::start(platform.http, API, 4);
    platform.ok(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"]);
    assert_eq!(platform.get(API, "/who").json()["version"], "1.5.0");
    let replicas = || {
        let shown = platform.ok(&["show", "staging/locker-api", "--json"]);
        let shown: serde_json::Value = serde_json::from_str(&shown).expect("JSON");
        let all = shown["replicas"].as_array().cloned().unwrap_or_default();
        all.iter().map(|it| it["id"].to_string()).collect::<BTreeSet<_>>()
    };
    let before = replicas();
    platform.ok(&["rollback", "staging/locker-api"]);
    // The verdict and the gateway's table leave control at the same moment, on different ways.
    until("visitors are back at 1.4.0", || {
        (platform.get(API, "/who").json()["version"] == "1.4.0").then_some(())
    });
    let after = replicas();
    assert!(
        after.is_subset(&before),
        "the old set is still there, and none is started: {before:?} {after:?}"
    );
    assert_eq!(failed(&visitors.finish()), 0);
}

#[test]
fn a_forecast_changes_nothing_and_comes_true() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    // The demo's other workloads go on changing by themselves.
    let objects = || {
        let snapshot = platform.call("GET", "/api/v1/snapshot", "").json();
        let of = |kind: &str| {
            let all = snapshot["objects"][kind].as_object().cloned().unwrap_or_default();
            all.into_iter().filter(|(key, _)| key.starts_with("staging/locker-api")).collect::<Vec<_>>()
        };
        [of("workload"), of("release"), of("rollout"), of("replica"), of("service")]
    };
    let before = objects();
    let deploy = ["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"];
    let shown = platform.ok(&[&deploy[..], &["--forecast"]].concat());
    assert!(
        shown.starts_with("forecast, nothing is changed: staging/locker-api: release 2, image 1.4.0 → 1.5.0"),
        "{shown}"
    );
    assert!(
        shown.contains("● staging/locker-api is ready after ")
            && shown.contains("never fewer than 3 ready, at most 4 replicas"),
        "{shown}"
    );
    let lost = platform.ok(&[&deploy[..], &["--forecast", "--lose-node", "node-1"]].concat());
    assert!(
        lost.contains("would no longer answer: ") && lost.contains("api.staging.lockers.localhost"),
        "{lost}"
    );
    let large = platform.ok(&["scale", "staging/locker-api", "9000", "--forecast"]);
    assert!(large.contains("does not become ready: no-room: "), "{large}");
    let gone = platform.ok(&["remove", "staging/locker-api", "--forecast"]);
    assert!(gone.contains("would no longer answer: api.staging.lockers.localhost"), "{gone}");
    assert_eq!(objects(), before);
    platform.ok(&deploy);
    assert_ne!(objects(), before);
}

#[test]
fn a_release_that_fails_shadow_copies_goes_back_and_no_visitor_notices() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    moving(&platform, "shadow = { copies = 200, within = \"30s\" }");
    let visitors = Visitors::start(platform.http, API, 2);
    let said = platform.run(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.8.0"]);
    assert_eq!(said.code, 1, "{said:?}");
    assert!(
        said.err.contains("copied requests") && said.err.contains("; no visitor was touched"),
        "{said:?}"
    );
    let good = platform.ok(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"]);
    assert!(good.contains("done: release 3 runs with 4 replicas ready"), "{good}");
    let seen = visitors.finish();
    assert_eq!(failed(&seen), 0, "{seen:?}");
    let shown = platform.ok(&["show", "staging/locker-api@3"]);
    assert!(shown.contains("copies, before any visitor"), "{shown}");
}
