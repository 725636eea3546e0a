//! Two gateways, visitors of every kind, everything that moves replicas, and a gateway killed in the middle of it.

use std::time::Duration;

use testing::load::{Death, Load, Shape};

use crate::common::{Platform, until};

const API: &str = "api.staging.lockers.localhost";

#[test]
fn a_killed_gateway_loses_only_its_open_requests() {
    let platform = Platform::start_with(&["--gateways", "2"]);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    until("both gateways serve", || (platform.part("gateway").len() == 2).then_some(()));
    let shape =
        Shape { getters: 3, body: 8 << 20, slow: Duration::from_secs(3), talk: Duration::from_secs(2) };
    let load = Load::start(platform.http, API, shape);
    let ok = |words: &[&str]| platform.ok(&[&[words[0], "staging/locker-api"], &words[1..]].concat());
    ok(&["deploy", "--image", "lockers/locker-api:1.5.0"]);
    ok(&["deploy", "--image", "lockers/locker-api:1.4.0", "--no-wait"]);
    let victim = platform.part("gateway")[0];
    let death = Death::of(victim);
    until("it is back", || (platform.part("gateway").len() == 2).then_some(()));
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    ok(&["rollback"]);
    ok(&["scale", "6"]);
    ok(&["restart"]);
    ok(&["scale", "2"]);
    let tally = load.finish();
    println!("{:?}, {} broken with the gateway", tally.well, tally.failures.len());
    assert_eq!(tally.well.len(), 6, "every kind was there: {:?}", tally.well);
    let lost = tally.unexplained(&[death]);
    assert!(lost.is_empty(), "{lost:#?}");
}

#[test]
fn requests_that_outlive_the_drain_limit_are_cut_and_counted() {
    let platform = Platform::start(true);
    let file = platform.dir.path().join("short.toml");
    let text = mainyard_demo::MANIFEST.replace("drain = \"30s\"", "drain = \"1s\"");
    std::fs::write(&file, text).expect("a file");
    platform.ok(&["declare", &file.display().to_string(), "--in", "staging"]);
    // The one that answers is the one that is replaced.
    platform.ok(&["scale", "staging/locker-api", "1"]);
    let slow = std::thread::spawn({
        let http = platform.http;
        move || {
            // A GET might be asked of another replica, on a connection that was kept; this one never is.
            let head = format!(
                "POST /slow/55000 HTTP/1.1\r\nhost: {API}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n"
            );
            crate::common::request(http, API, &head, b"").status
        }
    });
    until("it is open", || {
        platform.ok(&["logs", "staging/locker-api"]).contains("/slow/55000 begins").then_some(())
    });
    platform.ok(&["restart", "staging/locker-api"]);
    assert_eq!(slow.join().expect("a visitor"), 502);
    let number = platform.workload("staging/locker-api", |_| true)["release"].to_string();
    let mut before = String::new();
    until("it is named", || {
        let shown = platform.ok(&["show", &format!("staging/locker-api@{number}")]);
        if shown != before {
            eprintln!("{shown}");
        }
        let is_named = shown.contains("outlived its drain limit and were cut");
        before = shown;
        is_named.then_some(())
    });
}
