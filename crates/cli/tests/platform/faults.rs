//! Every process may die, at any moment and again and again; what each death costs is counted.
//!
//! `MAINYARD_FAULTS` says how often each fault is tried: a few times in every run of the tests, twenty times and
//! more by `make soak`. What was counted is printed as a row for `docs/reliability.md`.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use testing::MachineLists;

use crate::common::{Chance, Platform, Visitors, mainyard, until};

const API: &str = "api.staging.lockers.localhost";

fn times() -> usize {
    std::env::var("MAINYARD_FAULTS").ok().and_then(|text| text.parse().ok()).unwrap_or(4)
}

pub(crate) fn kill(pid: i32) {
    // SAFETY: the process belongs to this test's own platform.
    unsafe { libc::kill(pid, libc::SIGKILL) };
}

/// Ids and restarts of a workload's replicas, and the ids of their processes.
fn replicas(platform: &Platform) -> Vec<(String, String)> {
    let value: serde_json::Value =
        serde_json::from_str(&platform.ok(&["show", "staging/locker-api", "--json"])).expect("JSON");
    let list = value["replicas"].as_array().expect("replicas").clone();
    let mut list: Vec<_> =
        list.into_iter().map(|r| (r["id"].to_string(), r["restarts"].to_string())).collect();
    list.sort();
    list
}

fn steady(platform: &Platform) {
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
}

/// Declares a workload that rests with ever new settings, and remembers which were acknowledged.
struct Declarer {
    stop: Arc<AtomicBool>,
    thread: std::thread::JoinHandle<Vec<String>>,
}

impl Declarer {
    fn start(platform: &Platform) -> Declarer {
        let stop = Arc::new(AtomicBool::new(false));
        let (flag, data) = (Arc::clone(&stop), platform.data());
        let file = platform.dir.path().join("notes.toml");
        let thread = std::thread::spawn(move || {
            let mut acknowledged = Vec::new();
            for number in 0.. {
                if flag.load(Ordering::SeqCst) {
                    break;
                }
                let text = format!(
                    "application = \"notes\"\n[workload.notes]\nimage = \"lockers/courier-web:2.3.0\"\nreplicas = 0\nsettings = {{ NUMBER = \"n{number}\" }}\n"
                );
                std::fs::write(&file, text).expect("a file");
                let words = ["declare", &file.display().to_string(), "--in", "staging", "--no-wait"];
                let said = mainyard(&data, &words).output().expect("the client runs");
                if said.status.success() {
                    acknowledged.push(format!("n{number}"));
                }
                std::thread::sleep(Duration::from_millis(50));
            }
            acknowledged
        });
        Declarer { stop, thread }
    }

    fn finish(self) -> Vec<String> {
        self.stop.store(true, Ordering::SeqCst);
        self.thread.join().expect("the declarer")
    }
}

/// Kills one kind of process again and again under load. Anyone who visits notices nothing, no replica is touched,
/// and all that was acknowledged is there.
fn visitors_do_not_notice(part: &str) {
    let platform = Platform::start(true);
    steady(&platform);
    let before = replicas(&platform);
    let visitors = Visitors::start(platform.http, API, 3);
    let declarer = Declarer::start(&platform);
    let mut chance = Chance::of(part);
    let mut slowest = Duration::ZERO;
    for _ in 0..times() {
        std::thread::sleep(Duration::from_millis(chance.below(400)));
        let pid = until("there is one", || platform.part(part).first().copied());
        kill(pid);
        let dead = Instant::now();
        if part == "supervisor" {
            until("it is gone", || platform.part(part).is_empty().then_some(()));
            let said = platform.try_start(false);
            assert_eq!(said.code, 0, "{said:?}\n{}", platform.logs());
        }
        until("another one runs", || platform.part(part).first().copied().filter(|now| *now != pid));
        until("the platform answers", || {
            Some(platform.run(&["environment", "list"])).filter(|s| s.code == 0)
        });
        slowest = slowest.max(dead.elapsed());
    }
    let acknowledged = declarer.finish();
    // A change after it all is carried out.
    platform.ok(&["scale", "staging/locker-api", "5"]);
    platform.ok(&["scale", "staging/locker-api", "3"]);
    let seen = visitors.finish();
    assert_eq!(seen.keys().collect::<Vec<_>>(), ["1.4.0"], "{seen:?}");
    assert_eq!(replicas(&platform), before, "no replica was stopped or started again");
    let snapshot = platform.call("GET", "/api/v1/snapshot", "").text();
    // A fast machine makes more releases than are kept; the older ones go by rule, so the newest are looked for.
    let kept = acknowledged.len().saturating_sub(mainyard_core::retention::KEPT / 2);
    let lost: Vec<&String> =
        acknowledged[kept..].iter().filter(|number| !snapshot.contains(&format!("\"{number}\""))).collect();
    assert!(lost.is_empty() && !acknowledged.is_empty(), "acknowledged and lost: {lost:?}");
    let shown: serde_json::Value =
        serde_json::from_str(&platform.ok(&["show", "staging/notes", "--json"])).expect("JSON");
    let current = shown["workload"]["release"].as_u64();
    assert!(current >= Some(acknowledged.len() as u64), "each makes a release: {current:?} {acknowledged:?}");
    println!(
        "| {part} | {} | {} requests, 0 failed | {} declarations acknowledged, 0 lost | no replica touched | {:.1} s |",
        times(),
        seen.values().sum::<usize>(),
        acknowledged.len(),
        slowest.as_secs_f64()
    );
}

#[test]
fn control_may_die() {
    visitors_do_not_notice("control");
}

#[test]
fn the_node_agent_may_die() {
    visitors_do_not_notice("node");
}

#[test]
fn postgres_may_die() {
    visitors_do_not_notice("postgres");
}

#[test]
fn the_supervisor_may_die() {
    visitors_do_not_notice("supervisor");
}

#[test]
fn a_gateway_that_dies_breaks_open_requests_only() {
    let platform = Platform::start(true);
    steady(&platform);
    let before = replicas(&platform);
    let (visitors, mut chance) = (3, Chance::of("gateway"));
    let load = Visitors::start(platform.http, API, visitors);
    for _ in 0..times() {
        std::thread::sleep(Duration::from_millis(chance.below(400)));
        let pid = until("there is one", || platform.part("gateway").first().copied());
        kill(pid);
        // A new connection waits in the listening socket, which the supervisor holds.
        assert_eq!(platform.get(API, "/who").status, 200);
        until("another one runs", || platform.part("gateway").first().copied().filter(|now| *now != pid));
    }
    let seen = load.finish();
    let broken: usize = seen.iter().filter(|(kind, _)| kind.starts_with("failed")).map(|(_, n)| n).sum();
    assert!(broken <= visitors * times(), "{broken} broken: {seen:?}");
    assert!(seen.keys().all(|kind| !kind.contains("refused") && !kind.contains("50")), "{seen:?}");
    assert_eq!(replicas(&platform), before);
    println!(
        "| gateway | {} | {} requests, {broken} open ones broken (at most {}), 0 refused | – | no replica touched | – |",
        times(),
        seen.values().sum::<usize>(),
        visitors * times(),
    );
}

#[test]
fn a_keeper_that_dies_takes_its_replica_alone_and_says_so() {
    let platform = Platform::start(true);
    steady(&platform);
    let mut chance = Chance::of("keeper");
    for _ in 0..times() {
        let before = replicas(&platform);
        let runs = platform.data().join("node/replicas");
        let victim = before[chance.below(before.len() as u64) as usize].0.replace('"', "");
        let pid = std::fs::read_to_string(runs.join(victim.replace('/', ".")).join("pid")).expect("its pid");
        kill(pid.split(' ').next().and_then(|pid| pid.parse().ok()).expect("a pid"));
        let trouble = until("the end is told and fixed", || {
            let shown = platform.ok(&["show", "staging/locker-api", "--json"]);
            let value: serde_json::Value = serde_json::from_str(&shown).ok()?;
            let replica = value["replicas"].as_array()?.iter().find(|r| r["id"] == victim.as_str())?.clone();
            let restarts = before.iter().find(|(id, _)| id.contains(&victim))?.1.parse::<u64>().ok()?;
            (replica["restarts"].as_u64()? > restarts).then_some(replica)
        });
        assert!(trouble["reason"].to_string().contains("keeper"), "{trouble}");
        steady(&platform);
        let after = replicas(&platform);
        let changed = before.iter().filter(|one| !after.contains(one)).count();
        assert_eq!(changed, 1, "{before:?} {after:?}");
    }
    println!("| keeper | {} | – | – | that replica only, started again, reason told | – |", times());
}

/// Everything that belongs to the platform, in no order.
pub(crate) fn kill_all(platform: &Platform) {
    let keeper = platform.data().join("node/keeper");
    let mut pids: Vec<i32> = ["supervisor", "control", "node", "gateway", "postgres"]
        .iter()
        .flat_map(|part| platform.part(part))
        .collect();
    pids.extend(testing::running(&keeper));
    pids.into_iter().for_each(kill);
}

#[test]
fn everything_may_die_at_once_also_in_mid_start_mid_stop_and_mid_declare() {
    let platform = Platform::new();
    let mark = platform.data().display().to_string();
    let before = MachineLists::read(&mark);
    assert_eq!(platform.try_start(true).code, 0);
    steady(&platform);
    let (api, http, https) =
        (platform.api.to_string(), platform.http.to_string(), platform.https.to_string());
    let starting: &[&str] = &["start", "--background", "--api", &api, "--http", &http, "--https", &https];
    let mut chance = Chance::of("everything");
    for round in 0..times() {
        let manifest = platform.dir.path().join("more.toml");
        std::fs::write(&manifest, more(round)).expect("a file");
        let declaring = ["declare", &manifest.display().to_string(), "--in", "staging", "--no-wait"];
        for words in [starting, &["stop"], starting, &declaring] {
            let mut command = mainyard(&platform.data(), words);
            command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
            let mut doing = command.spawn().expect("it runs");
            let longest = if words[0] == "start" { 2500 } else { 300 };
            std::thread::sleep(Duration::from_millis(chance.below(longest)));
            kill_all(&platform);
            let _ = doing.kill();
            let said = doing.wait_with_output().expect("it ended");
            if words[0] == "declare" && said.status.success() {
                let said = platform.try_start(false);
                assert_eq!(said.code, 0, "{said:?}\n{}", platform.logs());
                let shown = platform.ok(&["show", &format!("staging/extra-{round}")]);
                assert!(shown.contains("extra"), "{shown}");
            }
        }
        let said = platform.try_start(false);
        assert_eq!(said.code, 0, "round {round}: {said:?}\n{}", platform.logs());
        steady(&platform);
        let answer = until("it is reached", || Some(platform.get(API, "/who")).filter(|a| a.status == 200));
        assert_eq!(answer.json()["version"], "1.4.0");
        // All of a declaration or nothing of it: the workload never without its service.
        let snapshot = platform.call("GET", "/api/v1/snapshot", "").json();
        let has = |kind: &str| snapshot["objects"][kind].get(format!("staging/extra-{round}")).is_some();
        assert_eq!(has("workload"), has("service"), "{snapshot}");
    }
    platform.ok(&["stop"]);
    let after = MachineLists::read(&mark);
    assert_eq!((after.mounts, after.links, after.processes), (before.mounts, before.links, before.processes));
    let instance = std::fs::read_to_string(platform.data().join("instance")).expect("the instance");
    assert_eq!(after.groups.into_iter().find(|group| group.contains(&instance)), None);
    println!(
        "| everything at once, in mid-start, mid-stop, mid-declare | {} | – | declarations whole or not at all | back to the declared state | – |",
        times() * 4
    );
}

fn more(round: usize) -> String {
    format!(
        "application = \"extra-{round}\"\n[workload.extra-{round}]\nimage = \"lockers/courier-web:2.3.0\"\nports = {{ http = 8080 }}\nreplicas = 1\n"
    )
}
