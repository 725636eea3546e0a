//! A node in a temporary directory, with the demo's and the probe's images unpacked.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader};
use std::net::Ipv4Addr;
use std::path::PathBuf;
use std::process::{Child, ChildStdout};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use mainyard_core::address;
use mainyard_core::model::{Bytes, Cpu, EnvironmentIndex, Limits};
use mainyard_images::{ContentStore, ImageContent, pack};
use mainyard_runtime::{DiskScratch, Ending, Isolation, Progress, Run, enter};

/// A node of this test alone; everything goes when it is dropped, also after a failure.
pub(crate) struct Bench {
    pub isolation: Isolation,
    store: ContentStore,
    demo: OnceLock<BTreeMap<String, Vec<PathBuf>>>,
    dir: tempfile::TempDir,
}

/// Waits for a condition; the limit is there only so that a failure ends.
pub(crate) fn until<T>(what: &str, mut condition: impl FnMut() -> Option<T>) -> T {
    let deadline = Instant::now() + Duration::from_secs(60);
    loop {
        if let Some(value) = condition() {
            return value;
        }
        assert!(Instant::now() < deadline, "waited too long until {what}");
        std::thread::sleep(Duration::from_millis(5));
    }
}

pub(crate) struct Replica {
    pub keeper: Child,
    pub init: u32,
    pub address: Ipv4Addr,
    log: PathBuf,
    lines: BufReader<ChildStdout>,
}

impl Bench {
    pub(crate) fn new(name: &str) -> Bench {
        let dir = tempfile::tempdir().expect("a directory");
        let name = format!("mainyard-test-{name}-{}", std::process::id());
        let isolation = Isolation::open(&dir.path().join("node"), &name)
            .expect("root, with namespaces and control groups");
        let store = ContentStore::open(&dir.path().join("images")).expect("a store");
        Bench { isolation, store, demo: OnceLock::new(), dir }
    }

    pub(crate) fn start(&self, image: &ImageContent, number: u16, change: impl FnOnce(&mut Run)) -> Replica {
        self.try_start(image, number, change).unwrap_or_else(|progress| panic!("{progress}"))
    }

    /// The demo's API in this version.
    pub(crate) fn start_api(&self, version: &str, number: u16, change: impl FnOnce(&mut Run)) -> Replica {
        let demo = self.demo.get_or_init(|| {
            let images = mainyard_demo::pack_images(&self.store).expect("the demo's images");
            let unpacked = |digest| testing::unpack_all(&self.store, &digest, self.dir.path());
            images.into_iter().map(|(name, digest)| (name.to_string(), unpacked(digest))).collect()
        });
        let layers = demo[&format!("lockers/locker-api:{version}")].clone();
        let argv = vec!["/app/locker-api".to_owned()];
        self.launch(layers, argv, number, change).unwrap_or_else(|progress| panic!("{progress}"))
    }

    pub(crate) fn try_start(
        &self,
        image: &ImageContent,
        number: u16,
        change: impl FnOnce(&mut Run),
    ) -> Result<Replica, Progress> {
        let digest = pack(&self.store, image).expect("an image");
        let layers = testing::unpack_all(&self.store, &digest, self.dir.path());
        self.launch(layers, image.entrypoint.clone(), number, change)
    }

    fn launch(
        &self,
        layers: Vec<PathBuf>,
        argv: Vec<String>,
        number: u16,
        change: impl FnOnce(&mut Run),
    ) -> Result<Replica, Progress> {
        let environment = EnvironmentIndex::new(1).expect("in range");
        let run_dir = self.dir.path().join(format!("run-{number}"));
        std::fs::create_dir_all(&run_dir).expect("a directory");
        let address = address::replica(environment, number).expect("in range");
        let mut run = Run {
            name: format!("staging.locker-api.{number}"),
            hostname: format!("locker-api-{number}"),
            environment,
            layers,
            argv,
            env: vec!["PATH=/app".into()],
            cwd: "/".into(),
            user: (1000, 1000),
            groups: Vec::new(),
            stop_signal: libc::SIGTERM,
            limits: Limits {
                cpu: Cpu::from_milli(1000),
                memory: Bytes::mib(48),
                processes: 64,
                ..Limits::default()
            },
            read_only: false,
            volumes: Vec::new(),
            ptrace: false,
            folders: Vec::new(),
            address: Some(address),
            port: None,
            hosts: "127.0.0.1 localhost\n".into(),
            resolver: "nameserver 10.118.0.1\n".into(),
            files: Vec::new(),
            grace: Duration::from_secs(5),
            log_dir: run_dir.clone(),
            run_dir,
        };
        change(&mut run);
        let mut keeper = self.isolation.command(&run).expect("a command").spawn().expect("a keeper");
        let mut lines = BufReader::new(keeper.stdout.take().expect("its output"));
        match next(&mut lines) {
            Some(Progress::Running(init)) => {
                Ok(Replica { keeper, init, address, log: run.log_dir.join("current"), lines })
            }
            other => {
                let _ = keeper.wait();
                Err(other.expect("a word from the keeper"))
            }
        }
    }

    /// Files of the node, on disk, that hold this.
    pub(crate) fn files_with(&self, content: &[u8]) -> Vec<PathBuf> {
        let (mut found, mut look) = (Vec::new(), vec![self.dir.path().to_owned()]);
        while let Some(dir) = look.pop() {
            for entry in std::fs::read_dir(dir).into_iter().flatten().flatten() {
                match entry.file_type() {
                    Ok(kind) if kind.is_dir() => look.push(entry.path()),
                    // What is in it is found where it is mounted.
                    Ok(_) if entry.file_name() == "scratch.btrfs" => {}
                    Ok(kind) if kind.is_file() => {
                        // That of the network namespace is no file of bytes.
                        let bytes = std::fs::read(entry.path()).unwrap_or_default();
                        let holds = bytes.windows(content.len()).any(|part| part == content);
                        found.extend(holds.then(|| entry.path()));
                    }
                    _ => {}
                }
            }
        }
        found
    }

    /// Runs `act` inside the node's network.
    pub(crate) fn in_network<T: Send + 'static>(&self, act: impl FnOnce() -> T + Send + 'static) -> T {
        let file = self.isolation.network().file().to_owned();
        let thread = std::thread::spawn(move || {
            enter(&file).expect("the node's network");
            act()
        });
        thread.join().expect("a thread that ends well")
    }
}

fn next(lines: &mut BufReader<ChildStdout>) -> Option<Progress> {
    let mut line = String::new();
    lines.read_line(&mut line).ok()?;
    Progress::parse(line.trim_end())
}

impl Replica {
    pub(crate) fn log(&self) -> String {
        let text = std::fs::read_to_string(&self.log).unwrap_or_default();
        text.lines().filter_map(|line| line.splitn(3, ' ').nth(2)).collect::<Vec<_>>().join("\n")
    }

    pub(crate) fn stop(&mut self) -> Ending {
        // SAFETY: the keeper is this test's own child and was not waited for.
        unsafe { libc::kill(self.keeper.id() as i32, libc::SIGTERM) };
        self.wait_for_end()
    }

    pub(crate) fn wait_for_end(&mut self) -> Ending {
        let Some(Progress::Ended(ending)) = next(&mut self.lines) else { panic!("no ending was told") };
        let _ = self.keeper.wait();
        ending
    }
}

impl Drop for Replica {
    fn drop(&mut self) {
        let _ = self.keeper.kill();
        let _ = self.keeper.wait();
    }
}

impl Drop for Bench {
    fn drop(&mut self) {
        let _ = self.isolation.groups().remove();
        let _ = self.isolation.network().remove();
        DiskScratch::close(&self.dir.path().join("node"));
    }
}
