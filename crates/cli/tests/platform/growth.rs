//! Workloads whose number of replicas follows their load: from none to many and back, and who keeps them from it.

use std::time::{Duration, Instant};

use crate::common::{Platform, Visitors, until};

const HOST: &str = "growing.staging.localhost";

fn declare(platform: &Platform, replicas: &str, more: &str) {
    let file = platform.dir.path().join("growing.toml");
    let text = format!(
        "application = \"growing\"\n[workload.growing]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = {replicas}\n\
         ports = {{ http = 8080 }}\nchecks = {{ ready = {{ path = \"/ready\" }} }}\nrollout = {{ settle = \"0s\" }}\n{more}\
         [route.growing]\nto = [{{ service = \"growing\" }}]\n"
    );
    std::fs::write(&file, text).expect("a file");
    platform.run(&["declare", &file.display().to_string(), "--in", "staging", "--no-wait"]);
}

#[test]
fn it_sleeps_while_nobody_asks_and_the_first_requests_wake_it_and_are_answered() {
    let platform = Platform::start(true);
    declare(&platform, "{ min = 0, max = 3, each = { open = 10 }, sleep_after = \"2s\" }", "");
    let asleep = || platform.workload("staging/growing", |w| w["state"] == "asleep");
    let told = asleep();
    assert_eq!(told["growing"]["last"]["because"], "nobody asked for 2s");
    let why = platform.ok(&["why", "staging/growing"]);
    assert!(why.contains("the next request wakes it"), "{why}");
    // Many at once, and all are answered.
    let statuses: Vec<u16> = std::thread::scope(|scope| {
        let asking: Vec<_> = (0..50).map(|_| scope.spawn(|| platform.get(HOST, "/who").status)).collect();
        asking.into_iter().map(|it| it.join().expect("it ends")).collect()
    });
    assert_eq!(statuses, [200; 50]);
    asleep();
    let begun = Instant::now();
    assert_eq!(platform.get(HOST, "/who").status, 200);
    assert!(begun.elapsed() < Duration::from_secs(5), "it took {:?} to wake", begun.elapsed());
    let trail = platform.ok(&["trail", "staging/growing", "--platform"]);
    assert!(trail.contains("put to sleep") && trail.contains("woken"), "{trail}");
    assert!(trail.contains("a request came"), "{trail}");
}

#[test]
fn one_that_cannot_wake_says_why_to_the_visitor_and_to_the_engineer() {
    let platform = Platform::start(true);
    declare(
        &platform,
        "{ min = 0, max = 1, sleep_after = \"2s\", wake_within = \"3s\" }",
        "settings = { START_MILLIS = \"60000\" }\n",
    );
    // It never was ready: a person puts it to rest and gives it back to its load.
    platform.ok(&["scale", "staging/growing", "0", "--no-wait"]);
    platform.workload("staging/growing", |w| w["state"] == "off");
    let off = platform.get(HOST, "/who");
    assert_eq!(off.status, 503);
    platform.ok(&["scale", "staging/growing", "--by-load", "--no-wait"]);
    platform.workload("staging/growing", |w| w["state"] == "asleep");
    let begun = Instant::now();
    let late = platform.get(HOST, "/who");
    assert_eq!(late.status, 503);
    assert!(begun.elapsed() >= Duration::from_secs(3), "it waited {:?}", begun.elapsed());
    assert!(late.text().contains("\"wakes-late\""), "{}", late.text());
    let why = platform.ok(&["why", "staging/growing"]);
    assert!(why.contains("not-listening") || why.contains("port-silent"), "{why}");
}

#[test]
fn it_grows_with_what_its_replicas_use() {
    let platform = Platform::start(true);
    declare(
        &platform,
        "{ min = 1, max = 3, each = { cpu = 50 }, up = \"1s\", down = \"1m\" }",
        "limits = { cpu = 0.05 }\nreserve = { cpu = 0.01 }\n",
    );
    platform.workload("staging/growing", |w| w["state"] == "steady");
    // Each answer takes a little of a processor; there is always another to give.
    let visitors = Visitors::start(platform.http, HOST, 2);
    let grown = platform.workload("staging/growing", |w| w["wanted"].as_u64() >= Some(2));
    visitors.finish();
    let because = grown["growing"]["last"]["because"].as_str().expect("a reason");
    assert!(because.contains("% of the processor limit were used, 50 % of each"), "{because}");
}

#[test]
fn it_grows_with_its_load_and_shrinks_after_it_and_no_request_is_lost() {
    let platform = Platform::start(true);
    declare(&platform, "{ min = 1, max = 5, each = { open = 2 }, up = \"1s\", down = \"3s\" }", "");
    platform.workload("staging/growing", |w| w["state"] == "steady");
    let host = HOST;
    let slow = Visitors::start_at(platform.http, host, "/slow/100", 8);
    let grown =
        platform.workload("staging/growing", |w| w["wanted"].as_u64() >= Some(4) && w["state"] == "steady");
    let because = grown["growing"]["last"]["because"].as_str().expect("a reason").to_owned();
    assert!(because.contains("requests were open at once, 2 for each replica"), "{because}");
    let shown = platform.ok(&["show", "staging/growing"]);
    assert!(shown.contains("1 to 5 replicas as the load needs; grown from"), "{shown}");
    let board = platform.ok(&["board", "staging"]);
    assert!(board.contains("(1 to 5)"), "{board}");
    let seen = slow.finish();
    assert!(seen.keys().all(|kind| !kind.starts_with("failed")), "{seen:?}");
    platform.workload("staging/growing", |w| w["wanted"] == 1 && w["state"] == "steady");
    // A person's number holds, and is given back.
    platform.ok(&["scale", "staging/growing", "3"]);
    let shown = platform.ok(&["show", "staging/growing"]);
    assert!(shown.contains("but not now: scaled by") && shown.contains("--by-load"), "{shown}");
    platform.ok(&["scale", "staging/growing", "--by-load"]);
    until("it follows its load again", || {
        platform.workload("staging/growing", |w| w["wanted"] == 1);
        Some(())
    });
}
