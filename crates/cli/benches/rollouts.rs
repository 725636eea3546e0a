//! Rollouts by the hundred under visitors of every kind, with two gateways, one of them killed from time to time: what was
//! lost, and how long a rollback takes beside a deploy.
//!
//! `MAINYARD_ROLLOUTS` says how many (200). Rollouts take turns: a deploy of the other version, then a rollback.

use std::time::{Duration, Instant};

use testing::load::{Death, Load, Shape};

mod stage;

use stage::{Platform, median, steal};

/// A gateway is killed in the middle of each rollout of this number.
const KILL_EVERY: usize = 25;

fn main() {
    let rollouts = std::env::var("MAINYARD_ROLLOUTS").ok().and_then(|text| text.parse().ok()).unwrap_or(200);
    let dir = tempfile::tempdir().expect("a directory");
    std::fs::set_permissions(dir.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))
        .expect("its mode");
    let platform = Platform::start_with(dir.path(), &["--gateways", "2"]);
    let file = dir.path().join("quick.toml");
    // The longest answer may begin just before its replica leaves: the drain is longer than it.
    let quick = mainyard_demo::MANIFEST.replace("may_exceed = 1", "may_exceed = 3");
    let quick = quick.replace("drain = \"30s\"", "drain = \"40s\"");
    std::fs::write(&file, quick).expect("a file");
    platform.run(&["declare", &file.display().to_string(), "--in", "staging", "--no-wait"]);
    platform.run(&["scale", "staging/label-printer", "0", "--no-wait"]);
    platform.run(&["scale", "staging/courier-web", "0", "--no-wait"]);
    platform.run(&["scale", "staging/locker-api", "3"]);
    let shape =
        Shape { getters: 4, body: 100 << 20, slow: Duration::from_secs(30), talk: Duration::from_secs(10) };
    let steal_before = steal();
    let began = Instant::now();
    let load = Load::start(platform.http(), "api.staging.lockers.localhost", shape);
    let (mut deploys, mut rollbacks, mut deaths) = (Vec::new(), Vec::new(), Vec::new());
    for number in 0..rollouts {
        let killer = (number % KILL_EVERY == KILL_EVERY / 2).then(|| {
            let pids = platform.gateways();
            let victim = pids[number / KILL_EVERY % pids.len()];
            std::thread::spawn(move || {
                std::thread::sleep(Duration::from_millis(700));
                Death::of(victim)
            })
        });
        let begun = Instant::now();
        if number % 2 == 0 {
            platform.run(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"]);
            deploys.push(begun.elapsed());
        } else {
            platform.run(&["rollback", "staging/locker-api"]);
            rollbacks.push(begun.elapsed());
        }
        deaths.extend(killer.map(|killer| killer.join().expect("a kill")));
    }
    let tally = load.finish();
    let lost = tally.unexplained(&deaths);
    println!("| what | |");
    println!("|---|---|");
    println!(
        "| rollouts: deploys and rollbacks by turns, {} replicas | {rollouts} in {:.0} s |",
        3,
        began.elapsed().as_secs_f64()
    );
    for (kind, count) in &tally.well {
        println!("| {kind} | {count} |");
    }
    println!("| gateways killed | {} |", deaths.len());
    println!("| broken, open in a gateway as it was killed | {} |", tally.failures.len() - lost.len());
    println!("| **lost otherwise** | **{}** |", lost.len());
    println!("| deploy until done, median | {:.2} s |", median(deploys));
    println!("| rollback until done, median | {:.2} s |", median(rollbacks));
    println!(
        "| time stolen from this machine meanwhile | {:.1} s |",
        (steal() - steal_before) as f64 / 100.0
    );
    for failure in &lost {
        println!("lost: {failure:?}");
    }
    assert!(lost.is_empty(), "something was lost");
}
