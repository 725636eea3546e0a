//! Real software from unmodified packages of Debian, run as workloads: started, asked through the gateway, rolled out under
//! load, stopped. `make real` runs it; it needs root, `mmdebstrap`, `musl-tools` and Debian's packages from the network.
//! What comes of it is printed as the table of `docs/images.md`.

mod code;
#[path = "../platform/common.rs"]
#[expect(dead_code, reason = "only a part of it is needed here")]
mod common;
mod image;
mod software;

use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use common::{Platform, until};
use serde_json::Value;
use software::{ALL, Probe, Software};

/// Start options of the platform.
pub const ISOLATION: &str = "kernel";
/// Ports of the gateway for what does not speak HTTP.
const FIRST_PORT: u16 = 31_000;

/// What came of one.
struct Row {
    ready: Duration,
    asked: u64,
    lost: u64,
    stopped: Duration,
    memory: String,
}

fn manifest(number: usize, of: &Software) -> String {
    let Software { name, port, memory, .. } = of;
    let mut text = format!(
        "application = \"{name}\"\n[workload.{name}]\nimage = \"real/{name}:1\"\nreplicas = 1\n\
         limits = {{ memory = \"{memory} MiB\", cpu = 1, processes = 256 }}\nreserve = {{ memory = \"16 MiB\" }}\n\
         rollout = {{ deadline = \"120s\", settle = \"1s\" }}\n"
    );
    match of.probe {
        Probe::Log(_) => {}
        Probe::Http(_) => text.push_str(&format!(
            "ports = {{ http = {port} }}\nchecks = {{ ready = {{ path = \"/\", within = \"3s\" }} }}\n\
             [route.{name}]\nhost = \"{name}.real.localhost\"\nto = [{{ service = \"{name}\" }}]\n"
        )),
        Probe::Tcp(..) => text.push_str(&format!(
            "ports = {{ main = {port} }}\n[service.{name}]\nselect = {{ workload = \"{name}\" }}\n\
             ports = {{ {port} = {{ port = \"main\", speaks = \"tcp\" }} }}\n\
             [route.{name}]\nport = {}\nto = [{{ service = \"{name}\" }}]\n",
            FIRST_PORT + number as u16
        )),
    }
    text
}

/// Asks once; says what came back where it is not what was expected.
fn ask(platform: &Platform, number: usize, of: &Software) -> Result<(), String> {
    match of.probe {
        Probe::Log(expected) => {
            let log = platform.ok(&["logs", &format!("staging/{}", of.name)]);
            if log.contains(expected) { Ok(()) } else { Err(log) }
        }
        Probe::Http(expected) => {
            let answer = platform.get(&format!("{}.real.localhost", of.name), "/");
            let text = answer.text();
            if answer.status == 200 && text.contains(expected) {
                Ok(())
            } else {
                Err(format!("{}: {text}", answer.status))
            }
        }
        Probe::Tcp(sent, expected) => {
            let told = |error: std::io::Error| error.to_string();
            let mut stream = TcpStream::connect(("127.0.0.1", FIRST_PORT + number as u16)).map_err(told)?;
            stream.set_read_timeout(Some(Duration::from_secs(5))).map_err(told)?;
            stream.write_all(sent).map_err(told)?;
            let mut all = Vec::new();
            let mut piece = [0; 4096];
            while all.is_empty()
                || !all.windows(expected.len().max(1)).any(|part| expected.is_empty() || part == expected)
            {
                match stream.read(&mut piece).map_err(|error| format!("{error}, after {all:?}"))? {
                    0 => return Err(format!("closed after {:?}", String::from_utf8_lossy(&all))),
                    read => all.extend(&piece[..read]),
                }
            }
            Ok(())
        }
    }
}

/// Requests on one connection of a visitor.
const IN_A_ROW: usize = 500;

/// Asks again and again from four threads while `act` goes on, which is told how many were asked so far; gives how many
/// were asked and how many were not answered well. A connection that breaks ends the test.
fn under_load(platform: &Platform, of: &Software, act: impl FnOnce(&AtomicU64)) -> (u64, u64) {
    let (stop, asked, lost) = (AtomicBool::new(false), AtomicU64::new(0), AtomicU64::new(0));
    let host = format!("{}.real.localhost", of.name);
    let count = |status: u16| {
        asked.fetch_add(1, Ordering::Relaxed);
        lost.fetch_add(u64::from(status != 200), Ordering::Relaxed);
    };
    let visit = || {
        while !stop.load(Ordering::Relaxed) {
            platform.in_a_row(&host, "/", IN_A_ROW, |answer| count(answer.status));
        }
    };
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(visit);
        }
        act(&asked);
        stop.store(true, Ordering::Relaxed);
    });
    (asked.into_inner(), lost.into_inner())
}

/// Rolls the software out again and again: three times, or until so many requests were asked as `MAINYARD_REQUESTS` says.
fn roll_out(platform: &Platform, target: &str, asked: &AtomicU64) {
    let wanted: u64 = std::env::var("MAINYARD_REQUESTS").ok().and_then(|text| text.parse().ok()).unwrap_or(0);
    for round in 0.. {
        if round >= 3 && asked.load(Ordering::Relaxed) >= wanted {
            return;
        }
        match round % 2 {
            0 => platform.ok(&["restart", target]),
            _ => platform.ok(&["deploy", target, "--set", &format!("ROUND={round}")]),
        };
        platform.workload(target, |w| w["state"] == "steady");
    }
}

fn run(platform: &Platform, number: usize, of: &Software) -> Result<Row, String> {
    let target = format!("staging/{}", of.name);
    let file = platform.dir.path().join(format!("{}.toml", of.name));
    std::fs::write(&file, manifest(number, of)).expect("a file");
    let begun = Instant::now();
    let said = platform.run(&["declare", &file.display().to_string(), "--in", "staging"]);
    if said.code != 0 {
        let logs = [target.clone(), format!("{target}@1")].map(|of| platform.run(&["logs", &of]));
        platform.run(&["remove", &target, "--yes"]);
        return Err(format!("{}\n{}{}", said.err, logs[0].out, logs[1].out));
    }
    let ready = begun.elapsed();
    until(&format!("{} answers", of.name), || match ask(platform, number, of) {
        Ok(()) => Some(()),
        Err(error) => {
            eprintln!("{}: {error}", of.name);
            std::thread::sleep(Duration::from_millis(500));
            None
        }
    });
    if !of.log.is_empty() {
        until(&format!("the log of {} has {:?}", of.name, of.log), || {
            platform.ok(&["logs", &target]).contains(of.log).then_some(())
        });
    }
    let (mut asked, mut lost) = (0, 0);
    if matches!(of.probe, Probe::Http(_)) {
        platform.ok(&["scale", &target, "2"]);
        (asked, lost) = under_load(platform, of, |asked| roll_out(platform, &target, asked));
    }
    let stats: Value = serde_json::from_str(&platform.ok(&["stats", &target, "--json"])).expect("JSON");
    let memory = stats["releases"][0]["needed"].as_u64().unwrap_or(0) >> 20;
    let begun = Instant::now();
    platform.ok(&["scale", &target, "0"]);
    let stopped = begun.elapsed();
    platform.ok(&["remove", &target, "--yes"]);
    Ok(Row { ready, asked, lost, stopped, memory: format!("{memory} MiB") })
}

#[test]
#[ignore = "needs Debian's packages from the network: make real"]
fn real_software_runs_unmodified() {
    let only = std::env::var("MAINYARD_REAL").unwrap_or_default();
    let dir = image::cache();
    let platform = Platform::start(false);
    platform.run(&["environment", "add", "staging"]);
    println!(
        "| software | package | ready after | asked while it was rolled out | lost | stopped in | memory |"
    );
    println!("|---|---|---|---|---|---|---|");
    let (mut lost_in_all, mut failed) = (0, Vec::new());
    // The first one is what others look up by name: it stays until the end.
    let chosen = ALL.iter().enumerate().filter(|(number, of)| {
        *number == 0 || only.is_empty() || only.split(',').any(|name| name == of.name)
    });
    for (number, of) in chosen {
        let layout = image::build(&dir, of);
        platform.ok(&[
            "image",
            "add",
            &layout.display().to_string(),
            "--name",
            &format!("real/{}:1", of.name),
        ]);
        let row = match run(&platform, number, of) {
            Ok(row) => row,
            Err(error) => {
                println!("| {} | failed: {error}", of.about);
                failed.push(of.name);
                continue;
            }
        };
        lost_in_all += row.lost;
        let package = if of.packages.is_empty() { "-" } else { of.packages };
        println!(
            "| {} | `{package}` | {:.1} s | {} | {} | {:.1} s | {} |",
            of.about,
            row.ready.as_secs_f64(),
            row.asked,
            row.lost,
            row.stopped.as_secs_f64(),
            row.memory
        );
        if number == 0 {
            let file = platform.dir.path().join("web.toml");
            platform.ok(&["declare", &file.display().to_string(), "--in", "staging"]);
            platform.workload("staging/web", |w| w["state"] == "steady");
        }
    }
    assert_eq!(failed, Vec::<&str>::new(), "all of it runs");
    assert_eq!(lost_in_all, 0, "no request is lost while replicas are replaced");
}
