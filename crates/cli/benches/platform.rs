//! 1 → 100 replicas through the whole platform, beside the bare work for the same 100 processes; then how evenly
//! requests spread. Both ways take turns in one run, because the machine's speed changes from minute to minute.
//!
//! "Bare" is a keeper for each process and nothing else: the same namespaces, layered root, link, limits and
//! filter, started in a loop and asked until each answered 200. What the platform adds is a decision, a commit,
//! orders, probes, reports and the gateway's table.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use mainyard_core::address;
use mainyard_core::model::{Bytes, Cpu, EnvironmentIndex, Limits};
use mainyard_images::ContentStore;
use mainyard_runtime::{Isolation, Progress, Run, enter};

const REPLICAS: usize = 100;
const ROUNDS: usize = 7;

fn main() {
    let dir = tempfile::tempdir().expect("a directory");
    std::fs::set_permissions(dir.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))
        .expect("its mode");
    let bare = Bare::new(dir.path());
    let platform = Platform::start(dir.path());
    let steal_before = steal();
    let (mut bare_times, mut platform_times, mut stages) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        bare_times.push(bare.round());
        let (total, answered) = platform.scale_up();
        platform_times.push(total);
        stages.push(answered);
        if platform_times.len() < ROUNDS {
            platform.scale(1);
        }
    }
    let spread = platform.spread(5000);
    let (quietest, busiest) =
        (spread.values().min().copied().unwrap_or(0), spread.values().max().copied().unwrap_or(0));
    let (bare, whole, acknowledged) = (median(bare_times), median(platform_times), median(stages));
    println!("| what | median of {ROUNDS} |");
    println!("|---|---|");
    println!("| bare: {REPLICAS} isolated processes, each answered 200 | {bare:.3} s |");
    println!("| platform: 1 → {REPLICAS}, all ready and in the gateway's table on disk | {whole:.3} s |");
    println!("| ratio | {:.2} |", whole / bare);
    println!("| of that, until the wish was recorded and answered | {acknowledged:.3} s |");
    println!("| replicas that answered 5,000 requests | {} |", spread.len());
    println!(
        "| busiest to quietest | {busiest} to {quietest}, {:.2} |",
        busiest as f64 / quietest.max(1) as f64
    );
    println!(
        "| time stolen from this machine meanwhile | {:.1} s |",
        (steal() - steal_before) as f64 / 100.0
    );
}

fn median(mut times: Vec<Duration>) -> f64 {
    times.sort();
    times[times.len() / 2].as_secs_f64()
}

/// Hundredths of a second that the machine below took away.
fn steal() -> u64 {
    let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    stat.lines().next().and_then(|line| line.split_whitespace().nth(8)?.parse().ok()).unwrap_or(0)
}

struct Bare {
    isolation: Isolation,
    layers: Vec<PathBuf>,
    dir: PathBuf,
}

impl Bare {
    fn new(dir: &Path) -> Bare {
        let store = ContentStore::open(&dir.join("packed")).expect("a store");
        let images = mainyard_demo::pack_images(&store).expect("images");
        let (_, digest) =
            images.into_iter().find(|(name, _)| name.to_string() == "lockers/locker-api:1.4.0").expect("it");
        let layers = testing::unpack_all(&store, &digest, dir);
        let name = format!("mainyard-bench-{}", std::process::id());
        Bare {
            isolation: Isolation::open(&dir.join("bare"), &name).expect("root"),
            layers,
            dir: dir.join("bare"),
        }
    }

    fn round(&self) -> Duration {
        let begun = Instant::now();
        let mut keepers: Vec<Child> = (0..REPLICAS).map(|number| self.start(number as u16)).collect();
        let file = self.isolation.network().file().to_owned();
        let asked = std::thread::spawn(move || {
            enter(&file).expect("the node's network");
            (0..REPLICAS as u16).for_each(|number| until_ready(address_of(number)));
        });
        asked.join().expect("all answered");
        let took = begun.elapsed();
        for keeper in &keepers {
            // SAFETY: keepers are this process's own children.
            unsafe { libc::kill(keeper.id() as i32, libc::SIGTERM) };
        }
        keepers.iter_mut().for_each(|keeper| drop(keeper.wait()));
        took
    }

    fn start(&self, number: u16) -> Child {
        let run_dir = self.dir.join(format!("run-{number}"));
        std::fs::create_dir_all(&run_dir).expect("a directory");
        let run = Run {
            name: format!("bare.{number}"),
            hostname: format!("bare-{number}"),
            environment: EnvironmentIndex::new(1).expect("in range"),
            layers: self.layers.clone(),
            argv: vec!["/app/locker-api".into()],
            env: vec![],
            cwd: "/".into(),
            user: (1000, 1000),
            limits: Limits { cpu: Cpu::from_milli(500), memory: Bytes::mib(64), processes: 64 },
            address: address_of(number),
            hosts: String::new(),
            grace: Duration::from_secs(5),
            log_dir: run_dir.clone(),
            run_dir,
        };
        let mut keeper = self.isolation.command(&run).expect("a command").spawn().expect("a keeper");
        let output = keeper.stdout.take().expect("its output");
        // The line is read when all have been started; the pipe keeps it.
        std::thread::spawn(move || {
            let mut line = String::new();
            let _ = BufReader::new(output).read_line(&mut line);
            if let Some(Progress::Failed { step, errno }) = Progress::parse(line.trim_end()) {
                panic!("{step}: {errno}");
            }
        });
        keeper
    }
}

impl Drop for Bare {
    fn drop(&mut self) {
        let _ = self.isolation.groups().remove();
        let _ = self.isolation.network().remove();
    }
}

fn address_of(number: u16) -> Ipv4Addr {
    address::replica(EnvironmentIndex::new(1).expect("in range"), number).expect("in range")
}

fn until_ready(address: Ipv4Addr) {
    let to = SocketAddr::from((address, 8080));
    loop {
        let answered = TcpStream::connect_timeout(&to, Duration::from_millis(200)).and_then(|mut stream| {
            stream.write_all(b"GET /ready HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n")?;
            let mut head = [0; 12];
            stream.read_exact(&mut head)?;
            Ok(head.ends_with(b"200"))
        });
        if answered.unwrap_or(false) {
            return;
        }
        std::thread::sleep(Duration::from_millis(1));
    }
}

struct Platform {
    data: PathBuf,
    api: SocketAddr,
    http: SocketAddr,
}

const TARGET: &str = "staging/locker-api";

impl Platform {
    fn start(dir: &Path) -> Platform {
        let free = || TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a free port");
        let platform = Platform { data: dir.join("data"), api: free(), http: free() };
        let (api, http, https) = (platform.api.to_string(), platform.http.to_string(), free().to_string());
        platform.run(&["start", "--demo", "--background", "--api", &api, "--http", &http, "--https", &https]);
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

    fn run(&self, words: &[&str]) {
        let mut command = Command::new(env!("CARGO_BIN_EXE_mainyard"));
        let status = command.args(words).env("MAINYARD_DATA", &self.data).stdout(Stdio::null()).status();
        assert!(status.expect("it runs").success(), "{words:?}");
    }

    fn scale(&self, replicas: usize) {
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
    fn scale_up(&self) -> (Duration, Duration) {
        let begun = Instant::now();
        let token = std::fs::read_to_string(self.data.join("client-token")).expect("a token");
        let body = format!("{{\"replicas\":{REPLICAS}}}");
        let mut stream = TcpStream::connect(self.api).expect("control");
        let head = format!(
            "POST /api/v1/environments/staging/workloads/locker-api/scale HTTP/1.1\r\nhost: {}\r\nauthorization: Bearer {token}\r\n\
             content-type: application/json\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{body}",
            self.api,
            body.len()
        );
        stream.write_all(head.as_bytes()).expect("sent");
        let mut answer = String::new();
        stream.read_to_string(&mut answer).expect("an answer");
        assert!(answer.starts_with("HTTP/1.1 200"), "{answer}");
        let answered = begun.elapsed();
        while self.in_table() < REPLICAS {
            std::thread::sleep(Duration::from_millis(1));
        }
        (begun.elapsed(), answered)
    }

    /// Replicas of the workload in the gateway's table on disk.
    fn in_table(&self) -> usize {
        let table = std::fs::read_to_string(self.data.join("gateway/table.json")).unwrap_or_default();
        table.matches("\"replica\":\"staging/locker-api/").count()
    }

    /// How many of so many requests each replica answered.
    fn spread(&self, requests: usize) -> BTreeMap<String, usize> {
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
