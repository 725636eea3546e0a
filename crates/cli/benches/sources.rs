//! Following Git: from being told of a push until what is declared has changed, beside `git fetch` alone; and what 200 sources take.

mod stage;

use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use stage::{Platform, median};
use testing::repository::Repository;

const ROUNDS: usize = 30;
const SOURCES: usize = 200;
const WATCHED: Duration = Duration::from_secs(40);

#[expect(clippy::too_many_lines, reason = "measurements, one after the other")]
fn main() {
    let dir = tempfile::tempdir().expect("a directory");
    std::fs::set_permissions(dir.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))
        .expect("its mode");
    let theirs = Repository::new(&dir.path().join("theirs"));
    let allowed = theirs.dir().display().to_string();
    let platform = Platform::start_with(dir.path(), &["--allow-repositories", &allowed]);
    platform.run(&["environment", "add", "bench"]);
    let secret = "a word that two share";
    platform.call("PUT", "/environments/bench/secrets/hook", secret);
    let manifest = |name: &str, round: usize| {
        format!(
            "application = \"{name}\"\n[workload.{name}]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 0\n\
             labels = {{ round = \"{round}\" }}\n"
        )
    };
    theirs.write("pushed/mainyard.toml", &manifest("pushed", 0));
    theirs.commit("the first");
    let url = theirs.url();
    let words = ["source", "add", "bench/pushed", &url, "--folder", "pushed", "--git-newer", "take"];
    platform.run(&[&words[..], &["--look-every", "24h", "--pushes", "hook"]].concat());
    let beside = dir.path().join("beside.git");
    git(&["clone", "--quiet", "--bare", &url, &beside.display().to_string()]);
    let (mut ours, mut fetches) = (Vec::new(), Vec::new());
    for round in 1..=ROUNDS {
        theirs.write("pushed/mainyard.toml", &manifest("pushed", round));
        let commit = theirs.commit("another");
        let begun = Instant::now();
        git(&["-C", &beside.display().to_string(), "fetch", "--quiet", &url, "+main:refs/fetched"]);
        fetches.push(begun.elapsed());
        let key = ring::hmac::Key::new(ring::hmac::HMAC_SHA256, secret.as_bytes());
        let body = format!("{{\"round\":{round}}}");
        let signed: String = ring::hmac::sign(&key, body.as_bytes())
            .as_ref()
            .iter()
            .map(|byte| format!("{byte:02x}"))
            .collect();
        let headers = format!("x-signature-256: {signed}\r\nx-delivery: {round}\r\n");
        let begun = Instant::now();
        platform.answer("POST", "/pushes/bench/pushed", &body, &headers);
        let label = format!("\"round\":\"{round}\"");
        loop {
            let shown = platform.answer("GET", "/environments/bench/workloads/pushed", "", "");
            if shown.contains(&label) {
                break;
            }
            assert!(begun.elapsed() < Duration::from_secs(20), "{commit} was not declared");
        }
        ours.push(begun.elapsed());
    }
    println!("| what | |\n|---|---|");
    let (fetch, declared) = (median(fetches), median(ours));
    println!("| `git fetch` alone, median of {ROUNDS} | {:.0} ms |", fetch * 1000.0);
    println!(
        "| from being told of the push until it is declared (aim: fetch + 200 ms), median of {ROUNDS} | {:.0} ms |",
        declared * 1000.0
    );

    let control = process(&platform.data, "control");
    let before = pss(control);
    for number in 0..SOURCES {
        theirs.write(&format!("many/s{number}/mainyard.toml"), &manifest(&format!("s{number}"), 0));
    }
    theirs.commit("many");
    for number in 0..SOURCES {
        let (name, folder) = (format!("bench/s{number}"), format!("many/s{number}"));
        let words = ["source", "add", &name, &url, "--folder", &folder, "--git-newer", "take"];
        platform.run(&[&words[..], &["--look-every", "10s"]].concat());
    }
    let (used, begun) = (cpu(control), Instant::now());
    std::thread::sleep(WATCHED);
    let (own, children) = cpu(control);
    let share = |ticks: u64| ticks as f64 / begun.elapsed().as_secs_f64();
    println!(
        "| {SOURCES} sources, each looked at every 10 s: control's own processor time, and that of its `git` | {:.1} %, {:.1} % of one |",
        share(own - used.0),
        share(children - used.1)
    );
    println!(
        "| control's memory (PSS) before them and with them | {:.1} MB, {:.1} MB |",
        before,
        pss(control)
    );
}

fn git(words: &[&str]) {
    let done = Command::new("git").args(words).output().expect("git runs");
    assert!(done.status.success(), "{words:?}: {}", String::from_utf8_lossy(&done.stderr));
}

fn process(data: &Path, part: &str) -> i32 {
    let data = data.display().to_string();
    let all = std::fs::read_dir("/proc").expect("proc").flatten();
    let found = all.filter_map(|entry| {
        let words = std::fs::read(entry.path().join("cmdline")).ok()?;
        let text = String::from_utf8_lossy(&words).replace('\0', " ");
        (text.contains(&format!("serve {part}")) && text.contains(&data)).then_some(entry)
    });
    let pids = found.filter_map(|entry| entry.file_name().to_str()?.parse().ok());
    pids.min().expect("the process")
}

/// Hundredths of a second, of the process and of those that it waited for (proc(5)).
fn cpu(pid: i32) -> (u64, u64) {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).expect("its figures");
    let fields: Vec<&str> = stat.rsplit(") ").next().unwrap_or_default().split(' ').collect();
    let at = |place: usize| fields.get(place).and_then(|text| text.parse::<u64>().ok()).unwrap_or(0);
    (at(11) + at(12), at(13) + at(14))
}

fn pss(pid: i32) -> f64 {
    let text = std::fs::read_to_string(format!("/proc/{pid}/smaps_rollup")).unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix("Pss:")).map(str::to_owned);
    let kib = line.and_then(|rest| rest.split_whitespace().next()?.parse::<f64>().ok()).unwrap_or(0.0);
    kib / 1024.0
}
