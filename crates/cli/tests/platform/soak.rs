//! Over thousands of scales and deploys nothing grows: memory, descriptors and threads of every process, files, table.
//!
//! `MAINYARD_SOAK` says for how many minutes; a few seconds of it run with every test. What was read is printed as a
//! table for `docs/benchmarks.md`.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::{Duration, Instant};

use crate::common::{Platform, until};

/// The figures, by their subject.
type Reading = BTreeMap<String, u64>;

fn span() -> Duration {
    let minutes = std::env::var("MAINYARD_SOAK").ok().and_then(|text| text.parse().ok());
    minutes.map_or(Duration::from_secs(20), |minutes: f64| Duration::from_secs_f64(minutes * 60.0))
}

fn read(platform: &Platform) -> Reading {
    let mut reading = Reading::new();
    for part in ["supervisor", "control", "node", "gateway"] {
        let pid = platform.part(part)[0];
        let count = |what: &str| {
            std::fs::read_dir(format!("/proc/{pid}/{what}")).map_or(0, |entries| entries.count() as u64)
        };
        let status = std::fs::read_to_string(format!("/proc/{pid}/smaps_rollup")).expect("its memory");
        // Its own alone: what other tests' platforms share with it comes and goes with them.
        let own = status.lines().find_map(|line| line.strip_prefix("Anonymous:"));
        let own = own.and_then(|rest| rest.split_whitespace().next()?.parse::<u64>().ok()).expect("a number");
        reading.insert(format!("{part}: memory, KiB"), own);
        reading.insert(format!("{part}: descriptors"), count("fd"));
        reading.insert(format!("{part}: threads"), count("task"));
    }
    let node = platform.data().join("node");
    let scratch = node.join("scratch");
    let (files, _) = below(&node);
    // What replicas wrote is theirs: each has a few files there, for as long as the node keeps it.
    reading.insert("files of the node".to_owned(), files - below(&scratch).0);
    let scratches = std::fs::read_dir(&scratch).map_or(0, Iterator::count);
    reading.insert("scratch of replicas".to_owned(), scratches as u64);
    let (files, _) = below(&platform.data().join("images"));
    reading.insert("files of the image store".to_owned(), files);
    let (_, bytes) = below(&platform.data().join("postgres/data/base"));
    reading.insert("tables, KiB".to_owned(), bytes / 1024);
    let groups = testing::MachineLists::read("-").groups;
    let instance = std::fs::read_to_string(platform.data().join("instance")).expect("the instance");
    let own = groups.into_iter().filter(|group| group.contains(instance.trim()));
    let below = own.filter_map(|group| {
        Some(std::fs::read_dir(group).ok()?.flatten().filter(|e| e.path().is_dir()).count())
    });
    reading.insert("control groups".to_owned(), below.sum::<usize>() as u64);
    reading
}

/// How many files there are below a directory, and their bytes.
fn below(dir: &Path) -> (u64, u64) {
    let (mut files, mut bytes) = (0, 0);
    for entry in std::fs::read_dir(dir).into_iter().flatten().flatten() {
        let Ok(kind) = entry.file_type() else { continue };
        if kind.is_dir() {
            let (more, length) = below(&entry.path());
            (files, bytes) = (files + more, bytes + length);
        } else {
            (files, bytes) = (files + 1, bytes + entry.metadata().map_or(0, |found| found.len()));
        }
    }
    (files, bytes)
}

const DECLARED: &str = "application = \"soak\"\n[workload.worker]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 2\n\
    ports = { http = 8080 }\nstop = { drain = \"1s\", grace = \"1s\" }\nreserve = { cpu = 0.001, memory = \"4 MiB\" }\n\
    checks = { ready = { path = \"/ready\" } }\nrollout = { settle = \"0s\", may_exceed = 2 }\n";

fn call(platform: &Platform, act: &str, body: &str) {
    let path = format!("/api/v1/environments/staging/workloads/worker/{act}");
    let answer = platform.call("POST", &path, body);
    assert_eq!(answer.status, 200, "{}", answer.text());
    until("it is steady", || {
        let shown = platform.call("GET", "/api/v1/environments/staging/workloads/worker", "").json();
        let leaving = shown["replicas"].as_array()?.iter().any(|replica| replica["state"] != "ready");
        (shown["workload"]["state"] == "steady" && !leaving).then_some(())
    });
}

#[test]
fn nothing_grows() {
    let platform = Platform::start(true);
    let file = platform.dir.path().join("soak.toml");
    std::fs::write(&file, DECLARED).expect("a file");
    platform.ok(&["declare", &file.display().to_string(), "--in", "staging"]);
    let (begun, span) = (Instant::now(), span());
    let (mut scales, mut deploys) = (0u64, 0u64);
    let mut readings: Vec<Reading> = Vec::new();
    while begun.elapsed() < span {
        call(&platform, "scale", "{\"replicas\":4}");
        let image = if deploys.is_multiple_of(2) { "1.5.0" } else { "1.4.0" };
        call(&platform, "deploy", &format!("{{\"image\":\"lockers/locker-api:{image}\"}}"));
        call(&platform, "scale", "{\"replicas\":2}");
        (scales, deploys) = (scales + 2, deploys + 1);
        // A reading is of the same moment of each round: two replicas, nothing under way.
        if begun.elapsed() >= span / 10 * readings.len() as u32 {
            readings.push(read(&platform));
        }
    }
    readings.push(read(&platform));
    let [early, late] = [&readings[readings.len() / 3], &readings[readings.len() - 1]];
    println!("{scales} scales, {deploys} deploys in {:.0} s", begun.elapsed().as_secs_f64());
    println!("| what | first | a third on | two thirds on | last |\n|---|---|---|---|---|");
    for (what, last) in late {
        let [first, third, second] = [0, 1, 2].map(|part| readings[(readings.len() - 1) * part / 3][what]);
        println!("| {what} | {first} | {third} | {second} | {last} |");
    }
    for (what, late) in late {
        let early = early[what];
        // The journal fills up to what it keeps, and what is freed is used again only after a while.
        let room = match what.as_str() {
            "tables, KiB" => early + 96 * 1024,
            // A replica has one in each of up to five hierarchies, and one of the demo's ends and starts again all the time.
            "control groups" => early + 10,
            what if what.ends_with("KiB") => early + early / 4 + 6 * 1024,
            what if what.ends_with("descriptors") => early + 12,
            _ => early + 4,
        };
        assert!(
            *late <= room,
            "{what} grew from {early} to {late} over {scales} scales and {deploys} deploys"
        );
    }
}
