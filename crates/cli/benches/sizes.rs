//! Costs of the platform: time to start, memory of each process, larger steps, and the API with many workloads.

mod stage;

use std::path::Path;
use std::time::{Duration, Instant};

use stage::{Platform, median};

fn main() {
    let dir = |_| {
        let dir = tempfile::tempdir().expect("a directory");
        std::fs::set_permissions(dir.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))
            .expect("its mode");
        dir
    };
    println!("| what | |\n|---|---|");
    let place = dir(());
    let platform = Platform::start(place.path(), 0);
    let (to_100, _) = platform.scale_up(100);
    println!("| 1 → 100 replicas, ready and in the table | {:.2} s |", to_100.as_secs_f64());
    let (to_300, _) = platform.scale_up(300);
    println!("| 100 → 300 replicas | {:.2} s |", to_300.as_secs_f64());
    memory(&platform);
    platform.scale(20);
    for image in ["1.5.0", "1.4.0"] {
        let begun = Instant::now();
        platform.run(&["deploy", "staging/locker-api", "--image", &format!("lockers/locker-api:{image}")]);
        println!(
            "| `deploy` of 20 replicas to {image}, one more at a time, each settled for 1 s | {:.1} s |",
            begun.elapsed().as_secs_f64()
        );
    }
    platform.scale(1);
    let again: Vec<Duration> = (0..5).map(|_| platform.restart()).collect();
    println!("| `start` to ready, the database already created, median of 5 | {:.2} s |", median(again));
    drop(platform);

    let place = dir(());
    let platform = Platform::start(place.path(), 10_000);
    for (what, path, times) in [
        ("board of an environment of 10,000 workloads", "/environments/crowd/board", 200),
        ("one of 10,000 workloads", "/environments/crowd/workloads/locker-05000", 500),
        ("everything at once, as the console reads it when it is opened", "/snapshot", 20),
    ] {
        let mut times: Vec<(Duration, usize)> = (0..times)
            .map(|_| {
                let begun = Instant::now();
                let length = platform.call("GET", path, "");
                (begun.elapsed(), length)
            })
            .collect();
        times.sort();
        let at = |share: f64| times[((times.len() - 1) as f64 * share) as usize].0.as_secs_f64() * 1000.0;
        println!("| {what}: p50, p99, KiB | {:.1} ms, {:.1} ms, {} |", at(0.5), at(0.99), times[0].1 / 1024);
    }
    memory(&platform);
}

/// PSS of each process, by what it is.
fn memory(platform: &Platform) {
    let pss = |pid: &str| {
        let text = std::fs::read_to_string(format!("/proc/{pid}/smaps_rollup")).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("Pss:")).map(str::to_owned);
        line.and_then(|rest| rest.split_whitespace().next()?.parse::<u64>().ok()).unwrap_or(0)
    };
    let data = platform.data.display().to_string();
    let (mut parts, mut keepers, mut postgres) = (Vec::new(), Vec::new(), 0);
    for entry in std::fs::read_dir("/proc").expect("proc").flatten() {
        let pid = entry.file_name().to_string_lossy().into_owned();
        let words = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let words: Vec<String> =
            words.split(|byte| *byte == 0).map(|word| String::from_utf8_lossy(word).into_owned()).collect();
        let program = std::fs::read_link(entry.path().join("exe")).unwrap_or_default();
        if program == Path::new(&data).join("node/keeper") {
            keepers.push(pss(&pid));
        } else if words.contains(&data) {
            let what =
                if words.get(1).is_some_and(|word| word == "serve") { &words[2] } else { "supervisor" };
            parts.push((what.to_owned(), pss(&pid)));
        } else if std::fs::read_link(entry.path().join("cwd")).is_ok_and(|cwd| cwd.starts_with(&data)) {
            postgres += pss(&pid);
        }
    }
    parts.sort();
    for (part, kib) in parts {
        println!("| memory (PSS) of {part} | {:.1} MB |", kib as f64 / 1024.0);
    }
    println!("| memory (PSS) of PostgreSQL, all its processes | {:.1} MB |", postgres as f64 / 1024.0);
    if !keepers.is_empty() {
        // Of each replica two: the keeper and the init inside.
        let each = keepers.iter().sum::<u64>() as f64 / keepers.len() as f64;
        println!("| memory (PSS) of a keeper or its init, mean of {} | {each:.0} KB |", keepers.len());
    }
}
