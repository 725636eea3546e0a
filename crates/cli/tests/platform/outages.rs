//! Outages: control with the record, or room on a disk. Reported clearly, survived, and over by themselves.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Instant;

use crate::common::{Platform, Visitors, until};
use crate::faults::kill;
use crate::programs::program_of;

const API: &str = "api.staging.lockers.localhost";

fn seconds() -> u64 {
    std::env::var("MAINYARD_OUTAGE").ok().and_then(|text| text.parse().ok()).unwrap_or(8)
}

#[test]
fn traffic_continues_without_control_and_record() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    // The record is away, so that neither the server nor control can come back.
    let (data, away) = (platform.data().join("postgres/data"), platform.data().join("postgres/away"));
    std::fs::rename(&data, &away).expect("moved away");
    let server = std::fs::read_to_string(away.join("postmaster.pid")).expect("its id");
    kill(server.lines().next().and_then(|line| line.parse().ok()).expect("a pid"));
    kill(platform.part("control")[0]);
    let begun = Instant::now();
    let visitors = Visitors::start(platform.http, API, 3);

    let gateway = platform.part("gateway")[0];
    kill(gateway);
    until("another gateway runs", || platform.part("gateway").first().copied().filter(|now| *now != gateway));
    let agent = platform.part("node")[0];
    kill(agent);
    until("another agent runs", || platform.part("node").first().copied().filter(|now| *now != agent));
    let replica = "staging.locker-api.a1";
    let program = program_of(&platform, replica).expect("its program");
    kill(program);
    until("it is started again, with nobody to ask", || {
        program_of(&platform, replica).filter(|now| *now != program)
    });
    let said = platform.run(&["scale", "staging/locker-api", "4"]);
    assert!(said.code == 4 && said.err.contains("has lost the record"), "nobody can take it: {said:?}");
    while begun.elapsed().as_secs() < seconds() {
        std::thread::sleep(std::time::Duration::from_millis(100));
    }

    std::fs::rename(&away, &data).expect("moved back");
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let seen = visitors.finish();
    let failed: usize = seen.iter().filter(|(kind, _)| kind.starts_with("failed")).map(|(_, n)| n).sum();
    // One that was open at each of the two that were killed, for each visitor.
    assert!(failed <= 6 && seen["1.4.0"] > 100, "{seen:?}");
    until("the crash is told", || {
        let shown = platform.ok(&["show", "staging/locker-api", "--json"]);
        let shown: serde_json::Value = serde_json::from_str(&shown).ok()?;
        let restarts: Vec<u64> =
            shown["replicas"].as_array()?.iter().filter_map(|replica| replica["restarts"].as_u64()).collect();
        (restarts == [0, 1, 0]).then_some(())
    });
    platform.ok(&["scale", "staging/locker-api", "4"]);
    println!(
        "| control and record away, {} s; gateway, agent and a replica killed meanwhile | 1 | {} requests, {failed} broken (open in what was killed) | – | repaired locally, told after | – |",
        seconds(),
        seen.values().sum::<usize>(),
    );
}

/// A small disk of its own under a directory; gone when dropped.
struct SmallDisk(PathBuf);

impl SmallDisk {
    fn at(dir: &Path, size: &str) -> SmallDisk {
        std::fs::create_dir_all(dir).expect("a directory");
        let options = format!("size={size},mode=0755");
        let words = ["-t", "tmpfs", "-o", &options, "small"];
        let mounted = Command::new("mount").args(words).arg(dir).status().expect("mount runs");
        assert!(mounted.success());
        SmallDisk(dir.to_owned())
    }

    fn fill(&self) {
        use std::io::Write;
        let mut file = std::fs::File::create(self.0.join("filler")).expect("a file");
        for chunk in [1 << 20, 4096, 1] {
            while file.write_all(&vec![7; chunk]).is_ok() {}
        }
    }

    fn make_room(&self) {
        std::fs::remove_file(self.0.join("filler")).expect("removed");
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("--lazy").arg(&self.0).status();
    }
}

#[test]
fn a_full_disk_of_the_record_is_reported_and_recovers() {
    let platform = Platform::new();
    assert_eq!(platform.try_start(false).code, 0);
    platform.ok(&["stop"]);
    // Its files on a disk of their own, the write-ahead log included.
    let (dir, kept) = (platform.data().join("postgres"), platform.data().join("kept"));
    std::fs::rename(&dir, &kept).expect("moved");
    let disk = SmallDisk::at(&dir, "160M");
    let copied = Command::new("cp").arg("-a").arg(format!("{}/.", kept.display())).arg(&dir).status();
    assert!(copied.expect("cp runs").success());
    assert_eq!(platform.try_start(true).code, 0, "{}", platform.logs());
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let visitors = Visitors::start(platform.http, API, 2);

    disk.fill();
    // Each try changes something, so that each must be written; the first may find room in what is open already.
    let mut wanted = 3;
    until("it is said that nothing can be written", || {
        wanted = if wanted == 4 { 6 } else { 4 };
        let said = platform.run(&["scale", "staging/locker-api", &wanted.to_string(), "--no-wait"]);
        // PostgreSQL may stop at once where it cannot write; until it is back, that is said instead.
        (said.code != 0 && said.err.contains("No space left on device")).then_some(())
    });
    disk.make_room();
    until("it is taken again", || {
        (platform.run(&["scale", "staging/locker-api", "5"]).code == 0).then_some(())
    });
    let seen = visitors.finish();
    assert_eq!(seen.keys().collect::<Vec<_>>(), ["1.4.0"], "{seen:?}");
    platform.ok(&["stop"]);
    drop(disk);
    println!(
        "| disk full for the record | 1 | {} requests, 0 failed | refused and said | taken again when there is room | – |",
        seen["1.4.0"]
    );
}

#[test]
fn a_full_disk_for_logs_or_images_is_reported_and_recovers() {
    let platform = Platform::new();
    assert_eq!(platform.try_start(false).code, 0);
    let logs = SmallDisk::at(&platform.data().join("node/logs"), "1M");
    let layers = SmallDisk::at(&platform.data().join("node/layers"), "16M");
    let store = SmallDisk::at(&platform.data().join("images"), "24M");
    for dir in ["blobs/sha256", "incoming"] {
        std::fs::create_dir_all(store.0.join(dir)).expect("a directory");
    }
    // Control sees disks that were there when it was started, and later ones where the machine shares its mounts.
    for pid in platform.part("control") {
        // SAFETY: no memory is involved; the process is the platform's own.
        unsafe { libc::kill(pid, libc::SIGKILL) };
    }
    until("control is there again", || (platform.run(&["board"]).code == 0).then_some(()));
    let chatty = platform.dir.path().join("chatty.tar");
    let content = testing::probe_image(&["talk", "20"]);
    testing::image_archive(&content, "tools/chatty:1", &chatty);
    let add = ["image", "add", &chatty.display().to_string()];

    // The image store.
    store.fill();
    let said = platform.run(&add);
    assert!(said.code != 0 && said.err.contains("No space left on device"), "{said:?}");
    store.make_room();
    platform.ok(&add);

    // The node's layers: the replica says why it cannot run, and runs when there is room.
    layers.fill();
    platform.ok(&["environment", "add", "staging"]);
    let text = "application = \"tools\"\n[workload.chatty]\nimage = \"tools/chatty:1\"\n";
    let file = platform.dir.path().join("chatty.toml");
    std::fs::write(&file, text).expect("a file");
    platform.run(&["declare", &file.display().to_string(), "--in", "staging", "--no-wait"]);
    let workload = platform.workload("staging/chatty", |w| w["reason"]["code"] == "image-unusable");
    let sentence = workload["reason"]["sentence"].as_str().expect("a sentence");
    assert!(sentence.contains("No space left on device"), "{sentence}");
    layers.make_room();
    platform.workload("staging/chatty", |w| w["state"] == "steady");

    // Logs: the replica goes on; what is lost is counted.
    logs.fill();
    let log = logs.0.join("staging.chatty.a0/current");
    let length = || std::fs::metadata(&log).map_or(0, |found| found.len());
    until("nothing more is written", || {
        let before = length();
        std::thread::sleep(std::time::Duration::from_millis(300));
        (length() == before).then_some(())
    });
    let said = until("it is said", || {
        let said = platform.ok(&["logs", "staging/chatty", "--tail", "2"]);
        said.contains("the node's disk has no room").then_some(said)
    });
    assert!(said.contains("what is written now is lost"), "{said}");
    logs.make_room();
    until("it is counted", || {
        let lines = platform.ok(&["logs", "staging/chatty", "--tail", "2000"]);
        lines.contains("lines before this were lost: the disk had no room").then_some(())
    });
    platform.workload("staging/chatty", |w| w["state"] == "steady");
    platform.ok(&["stop"]);
    drop((logs, layers, store));
    println!(
        "| disk full for the image store, for layers, for logs | 1 | – | said each time | over by itself when there is room | – |"
    );
}
