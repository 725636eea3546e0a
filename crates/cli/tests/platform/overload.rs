//! More visitors at once than replicas can take, and checks that fail everywhere: the service goes on.

use std::collections::BTreeMap;
use std::sync::Mutex;

use crate::common::{Platform, Visitors, until};

const API: &str = "api.staging.lockers.localhost";

#[test]
fn four_hundred_visitors_at_once_are_served() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let statuses = Mutex::new(BTreeMap::<u16, usize>::new());
    std::thread::scope(|scope| {
        for _ in 0..400 {
            let visit = || {
                platform.in_a_row(API, "/who", 25, |answer| {
                    *statuses.lock().expect("the counts").entry(answer.status).or_default() += 1;
                });
            };
            // Each needs little, and there are many.
            std::thread::Builder::new().stack_size(256 * 1024).spawn_scoped(scope, visit).expect("a thread");
        }
    });
    let statuses = statuses.into_inner().expect("the counts");
    // On a machine that has other things to do, a few wait for too long; nothing fails in another way.
    assert!(statuses.keys().all(|status| [200, 503].contains(status)), "{statuses:?}");
    assert!(statuses[&200] >= 9_700, "{statuses:?}");
    // The state may still tell of a limit that was met; the replicas are ready.
    until("all are ready", || {
        let shown = platform.call("GET", "/api/v1/environments/staging/workloads/locker-api", "").json();
        let replicas = shown["replicas"].as_array()?;
        replicas.iter().all(|replica| replica["state"] == "ready").then_some(())
    });
    assert_eq!(platform.get(API, "/who").status, 200);
}

#[test]
fn where_every_check_fails_those_that_take_connections_serve_on() {
    let platform = Platform::start(true);
    let file = platform.dir.path().join("swaying.toml");
    let declared = "application = \"swaying\"\n[workload.swaying]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 3\n\
        ports = { http = 8080 }\nsettings = { READY_IN_TURNS_MILLIS = \"1500\" }\n\
        checks.ready = { path = \"/ready\", every = \"200ms\", within = \"500ms\", after = 2 }\n\
        [route.swaying]\nto = [{ service = \"swaying\" }]\n";
    std::fs::write(&file, declared).expect("a file");
    platform.run(&["declare", &file.display().to_string(), "--in", "staging", "--no-wait"]);
    let host = "swaying.staging.localhost";
    until("it answers", || (platform.get(host, "/who").status == 200).then_some(()));
    let visitors = Visitors::start(platform.http, host, 2);
    let told = platform.workload("staging/swaying", |w| w["reason"]["code"] == "too-few-ready");
    let sentence = told["reason"]["sentence"].as_str().expect("a sentence");
    assert!(
        sentence.starts_with("fewer than 50 % of the replicas passed their check")
            && sentence.ends_with("GET /ready on 8080 answers 503"),
        "{sentence}"
    );
    let why = platform.ok(&["why", "staging/swaying"]);
    assert!(why.contains("too-few-ready"), "{why}");
    let metrics = platform.call("GET", "/api/v1/metrics", "").text();
    assert!(metrics.contains("mainyard_serves_unready{workload=\"staging/swaying\"} 1"), "{metrics}");
    // It is believed again where they pass.
    platform.workload("staging/swaying", |w| w["reason"]["code"] != "too-few-ready");
    let seen = visitors.finish();
    assert!(seen.keys().all(|kind| !kind.starts_with("failed")), "{seen:?}");
}
