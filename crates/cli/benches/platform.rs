//! 1 → 100 replicas through the whole platform, beside the bare work for the same 100 processes; then how evenly
//! requests spread. Both ways take turns in one run, because the machine's speed changes from minute to minute.
//!
//! "Bare" is a keeper for each process and nothing else: the same namespaces, layered root, link, limits and
//! filter, started in a loop and asked until each answered 200. What the platform adds is a decision, a commit,
//! orders, probes, reports and the gateway's table.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::path::{Path, PathBuf};
use std::process::Child;
use std::time::{Duration, Instant};

use mainyard_core::address;
use mainyard_core::model::{Bytes, Cpu, EnvironmentIndex, Limits};
use mainyard_images::ContentStore;
use mainyard_runtime::{DiskScratch, Isolation, Progress, Run, enter};

mod stage;

use stage::{Platform, median, steal};

const REPLICAS: usize = 100;
const ROUNDS: usize = 7;

fn main() {
    let dir = tempfile::tempdir().expect("a directory");
    std::fs::set_permissions(dir.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))
        .expect("its mode");
    let bare = Bare::new(dir.path());
    let platform = Platform::start(dir.path(), 0);
    let steal_before = steal();
    let (mut bare_times, mut platform_times, mut stages) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        bare_times.push(bare.round());
        let (total, answered) = platform.scale_up(REPLICAS);
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
            groups: Vec::new(),
            stop_signal: libc::SIGTERM,
            limits: Limits {
                cpu: Cpu::from_milli(500),
                memory: Bytes::mib(64),
                processes: 64,
                ..Limits::default()
            },
            read_only: false,
            volumes: Vec::new(),
            ptrace: false,
            folders: Vec::new(),
            address: Some(address_of(number)),
            port: None,
            hosts: String::new(),
            resolver: String::new(),
            files: Vec::new(),
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
        DiskScratch::close(&self.dir);
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
