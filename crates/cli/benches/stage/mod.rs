//! A platform to measure on, and the machine's own figures.

#![allow(dead_code, reason = "each benchmark uses a part of it")]

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use mainyard_core::routing::Table;

pub(crate) fn median(mut times: Vec<Duration>) -> f64 {
    times.sort();
    times[times.len() / 2].as_secs_f64()
}

/// Hundredths of a second that the machine below took away.
pub(crate) fn steal() -> u64 {
    let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    stat.lines().next().and_then(|line| line.split_whitespace().nth(8)?.parse().ok()).unwrap_or(0)
}

/// A platform in a directory; stopped when dropped.
pub(crate) struct Platform {
    pub data: PathBuf,
    pub api: SocketAddr,
    http: SocketAddr,
    https: SocketAddr,
}

const TARGET: &str = "staging/locker-api";

impl Platform {
    /// Starts the demo, with so many workloads more that rest; nothing moves any more when it returns.
    pub(crate) fn start(dir: &Path, crowd: usize) -> Platform {
        Platform::start_with(dir, &["--crowd", &crowd.to_string()])
    }

    /// The same with options of its own.
    pub(crate) fn start_with(dir: &Path, options: &[&str]) -> Platform {
        let free = || TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a free port");
        let platform = Platform { data: dir.join("data"), api: free(), http: free(), https: free() };
        let (api, http, https) =
            (platform.api.to_string(), platform.http.to_string(), platform.https.to_string());
        let words = ["start", "--demo", "--background", "--api", &api, "--http", &http, "--https", &https];
        platform.run(&[&words[..], options].concat());
        // Nothing else moves while it is measured.
        for other in [
            "staging/label-printer",
            "staging/courier-web",
            "production/label-printer",
            "production/courier-web",
            "production/locker-api",
        ] {
            platform.run(&["scale", other, "0", "--no-wait"]);
        }
        platform.scale(1);
        platform
    }

    /// The gateways' addresses.
    pub(crate) fn http(&self) -> SocketAddr {
        self.http
    }

    /// Process ids of the gateways.
    pub(crate) fn gateways(&self) -> Vec<i32> {
        let data = self.data.display().to_string();
        let processes = std::fs::read_dir("/proc").expect("proc").flatten();
        let pids = processes.filter_map(|entry| {
            let pid = entry.file_name().to_str()?.parse().ok()?;
            let words = std::fs::read_to_string(entry.path().join("cmdline")).ok()?;
            (words.contains("\0serve\0gateway\0") && words.contains(&data)).then_some(pid)
        });
        pids.collect()
    }

    pub(crate) fn run(&self, words: &[&str]) {
        let mut command = Command::new(env!("CARGO_BIN_EXE_mainyard"));
        let status = command.args(words).env("MAINYARD_DATA", &self.data).stdout(Stdio::null()).status();
        assert!(status.expect("it runs").success(), "{words:?}");
    }

    pub(crate) fn scale(&self, replicas: usize) {
        self.run(&["scale", TARGET, &replicas.to_string()]);
        while self.in_table() != replicas {
            std::thread::sleep(Duration::from_millis(5));
        }
        // What leaves is gone before the next round.
        while std::fs::read_dir(self.data.join("node/replicas")).map_or(0, Iterator::count) > replicas {
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// From the wish to the gateway's table, and how much of it was the answer to the wish.
    pub(crate) fn scale_up(&self, replicas: usize) -> (Duration, Duration) {
        let begun = Instant::now();
        let path = "/environments/staging/workloads/locker-api/scale";
        self.call("POST", path, &format!("{{\"replicas\":{replicas}}}"));
        let answered = begun.elapsed();
        while self.in_table() < replicas {
            std::thread::sleep(Duration::from_millis(1));
        }
        (begun.elapsed(), answered)
    }

    /// Stops it and starts it again; gives the time of the start.
    pub(crate) fn restart(&self) -> Duration {
        self.run(&["stop"]);
        let begun = Instant::now();
        let (api, http, https) = (self.api.to_string(), self.http.to_string(), self.https.to_string());
        self.run(&["start", "--background", "--api", &api, "--http", &http, "--https", &https]);
        begun.elapsed()
    }

    /// One call of the API, on a connection of its own; gives the answer's length.
    pub(crate) fn call(&self, method: &str, path: &str, body: &str) -> usize {
        self.answer(method, path, body, "").len()
    }

    /// The same with headers of its own; gives the whole answer.
    pub(crate) fn answer(&self, method: &str, path: &str, body: &str, headers: &str) -> String {
        let token = std::fs::read_to_string(self.data.join("client-token")).expect("a token");
        let mut stream = TcpStream::connect(self.api).expect("control");
        let head = format!(
            "{method} /api/v1{path} HTTP/1.1\r\nhost: {}\r\nauthorization: Bearer {token}\r\n\
             content-type: application/json\r\ncontent-length: {}\r\nconnection: close\r\n{headers}\r\n{body}",
            self.api,
            body.len()
        );
        stream.write_all(head.as_bytes()).expect("sent");
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).expect("an answer");
        let start = String::from_utf8_lossy(&answer[..answer.len().min(400)]).into_owned();
        assert!(start.starts_with("HTTP/1.1 20"), "{start}");
        String::from_utf8_lossy(&answer).into_owned()
    }

    /// Replicas of the workload in the gateway's table on disk.
    fn in_table(&self) -> usize {
        let kept = self.data.join("gateway");
        let whole = std::fs::read(kept.join("table.json")).unwrap_or_default();
        let mut table: Table = serde_json::from_slice(&whole).unwrap_or_default();
        let changes = std::fs::read_to_string(kept.join("table-changes.jsonl")).unwrap_or_default();
        for change in changes.lines().filter_map(|line| serde_json::from_str(line).ok()) {
            table.apply(&change);
        }
        let ports = table.services.get(TARGET).into_iter().flat_map(|service| service.ports.values());
        ports.map(Vec::len).max().unwrap_or(0)
    }

    /// How many of so many requests each replica answered.
    pub(crate) fn spread(&self, requests: usize) -> BTreeMap<String, usize> {
        let mut seen = BTreeMap::new();
        let stream = TcpStream::connect(self.http).expect("the gateway");
        let mut reader = BufReader::new(stream);
        for _ in 0..requests {
            reader
                .get_mut()
                .write_all(b"GET /who HTTP/1.1\r\nhost: api.staging.lockers.localhost\r\n\r\n")
                .expect("sent");
            let mut length = 0;
            loop {
                let mut line = String::new();
                reader.read_line(&mut line).expect("a line");
                if let Some(value) = line.to_ascii_lowercase().strip_prefix("content-length:") {
                    length = value.trim().parse().expect("a length");
                }
                if line == "\r\n" {
                    break;
                }
            }
            let mut body = vec![0; length];
            reader.read_exact(&mut body).expect("a body");
            let text = String::from_utf8_lossy(&body).into_owned();
            let replica = text.split('"').nth(3).unwrap_or("?").to_owned();
            *seen.entry(replica).or_insert(0) += 1;
        }
        seen
    }
}

impl Drop for Platform {
    fn drop(&mut self) {
        let stopped = Command::new(env!("CARGO_BIN_EXE_mainyard"))
            .arg("stop")
            .env("MAINYARD_DATA", &self.data)
            .stdout(Stdio::null())
            .status();
        if !stopped.is_ok_and(|status| status.success()) {
            eprintln!("the platform in {} was not stopped", self.data.display());
        }
    }
}
