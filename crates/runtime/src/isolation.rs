//! Turning a run into a keeper's command.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::fs::{self, File};
use std::net::Ipv4Addr;
use std::os::fd::AsRawFd;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Mutex;
use std::time::Duration;

use mainyard_core::address::NODE_ADDRESS;
use mainyard_core::model::{Bytes, Cpu, EnvironmentIndex, Limits};
use mainyard_keeper::Spec;

use crate::keepers::{keeper_command, write_keeper};
use crate::network::link_index;
use crate::{DiskScratch, Doing, Error, Groups, NodeNetwork, users};

/// The first id of the first environment's map; the next environments follow, 65,536 apart.
const FIRST_ID: u32 = 1_000_000;

/// The first of an environment's ids on this machine.
pub fn first_id(environment: EnvironmentIndex) -> u32 {
    FIRST_ID + u32::from(environment.get()) * 65_536
}

/// The most that a replica may write to its root file system where that is memory, unless half of its memory limit is less:
/// it must run out of room before the process runs out of memory.
const SCRATCH: Bytes = Bytes::mib(64);

/// How much of a replica's output is kept in each of the two log files.
pub(crate) const LOG_LIMIT: Bytes = Bytes::mib(8);

/// One run of one replica.
#[derive(Clone)]
pub struct Run {
    /// A name that is unique on the node, such as `staging.locker-api.a0`.
    pub name: String,
    /// The host name inside the replica.
    pub hostname: String,
    /// The environment, whose id map is used.
    pub environment: EnvironmentIndex,
    /// Unpacked layers, the lowest first.
    pub layers: Vec<PathBuf>,
    /// Program and arguments.
    pub argv: Vec<String>,
    /// `KEY=value` pairs.
    pub env: Vec<String>,
    /// Working directory inside.
    pub cwd: String,
    /// User and group inside.
    pub user: (u32, u32),
    /// Further groups inside.
    pub groups: Vec<u32>,
    /// The signal that asks the program to end.
    pub stop_signal: i32,
    /// The limits that the kernel enforces.
    pub limits: Limits,
    /// Its root file system can only be read, but for `/tmp`, `/run` and `volumes`.
    pub read_only: bool,
    /// Directories that the image says are written to.
    pub volumes: Vec<String>,
    /// Its processes may trace each other.
    pub ptrace: bool,
    /// Folders of the node that it may write to: where they are, and where they go.
    pub folders: Vec<(PathBuf, String)>,
    /// Its address; `None` for one without a network.
    pub address: Option<Ipv4Addr>,
    /// The port it is asked to listen on, where it has any.
    pub port: Option<u16>,
    /// Content of `/etc/hosts`.
    pub hosts: String,
    /// Content of `/etc/resolv.conf`.
    pub resolver: String,
    /// Files put into its root: absolute paths and contents. They are never on disk.
    pub files: Vec<(String, Vec<u8>)>,
    /// From the stop signal to the kill.
    pub grace: Duration,
    /// The directory of the keeper's files; the caller makes it.
    pub run_dir: PathBuf,
    /// The directory of the log; the caller makes it.
    pub log_dir: PathBuf,
}

/// A node's means of isolation.
pub struct Isolation {
    dir: PathBuf,
    keeper: PathBuf,
    network: NodeNetwork,
    groups: Groups,
    /// Scratch on disk; `None` where the machine has no means for it, and scratch is memory.
    scratch: Option<DiskScratch>,
    filter: Vec<u8>,
    tracing_filter: Vec<u8>,
    processors: u32,
    id_maps: Mutex<BTreeMap<u32, File>>,
}

impl Isolation {
    /// Prepares the node in `dir`: writes out the keeper, opens or makes the network namespace and the groups.
    /// `name` tells this node's control groups from those of others on the machine.
    ///
    /// # Errors
    /// When the machine does not have what isolation needs; the error says what was being done.
    pub fn open(dir: &Path, name: &str) -> Result<Isolation, Error> {
        fs::create_dir_all(dir.join("stage")).doing(format!("make {}", dir.display()))?;
        let keeper = write_keeper(dir)?;
        let scratch = DiskScratch::open(dir).inspect_err(|error| {
            tracing::warn!(%error, "replicas' files are kept in memory: there is no scratch on disk");
        });
        let filter = |ptrace| sandbox::filter::Filter::for_replicas(ptrace).bytes();
        let processors = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
        Ok(Isolation {
            network: NodeNetwork::open(&Isolation::network_file(dir))?,
            groups: Groups::open(name)?,
            dir: dir.to_owned(),
            keeper,
            scratch: scratch.ok(),
            filter: filter(false),
            tracing_filter: filter(true),
            processors: u32::try_from(processors).unwrap_or(1),
            id_maps: Mutex::default(),
        })
    }

    /// The file that keeps the network namespace of the node in `dir`.
    pub fn network_file(dir: &Path) -> PathBuf {
        dir.join("network")
    }

    /// The node's control groups.
    pub fn groups(&self) -> &Groups {
        &self.groups
    }

    /// The node's network namespace.
    pub fn network(&self) -> &NodeNetwork {
        &self.network
    }

    /// The scratch on disk, where the node has one.
    pub fn scratch(&self) -> Option<&DiskScratch> {
        self.scratch.as_ref()
    }

    /// The command that starts a keeper for this run: it reads its specification from standard input, which is
    /// set, and tells its [`crate::Progress`] on standard output, which the caller takes.
    pub fn command(&self, run: &Run) -> Result<Command, Error> {
        keeper_command(&self.keeper, &self.spec(run)?)
    }

    fn spec(&self, run: &Run) -> Result<Spec, Error> {
        let text = |path: &Path| path.display().to_string();
        let id_base = first_id(run.environment);
        let limits = &run.limits;
        let scratch_dir = match &self.scratch {
            Some(scratch) => text(&scratch.prepare(&run.name, limits.disk)?),
            None => String::new(),
        };
        Ok(Spec {
            hostname: run.hostname.clone(),
            run_dir: text(&run.run_dir),
            log_dir: text(&run.log_dir),
            log_limit: LOG_LIMIT.bytes(),
            log_lines: run.limits.log_lines,
            stage: text(&self.dir.join("stage")),
            node_net: text(self.network.file()),
            id_map: self.id_map(id_base)?,
            id_base,
            plain: false,
            memory: 0,
            layers: run.layers.iter().map(|layer| text(layer)).collect(),
            scratch_dir,
            scratch: SCRATCH.bytes().min(limits.memory.bytes() / 2),
            shared_memory: limits.shared_memory.bytes().min(limits.memory.bytes()),
            tmp: limits.tmp.map_or(0, Bytes::bytes),
            read_only: run.read_only,
            volumes: run.volumes.clone(),
            processors: processors(limits.cpu, self.processors),
            hosts: run.hosts.clone(),
            resolver: run.resolver.clone(),
            files: run.files.clone(),
            meminfo: meminfo(run.limits.memory),
            groups: self.groups.of_replica(&run.name, &run.limits),
            folders: run.folders.iter().map(|(outside, inside)| (text(outside), inside.clone())).collect(),
            address: run.address.map_or([0; 4], |address| address.octets()),
            neighbour: NODE_ADDRESS.octets(),
            link: run.address.map_or(0, link_index),
            argv: run.argv.clone(),
            env: self.environment(run),
            cwd: run.cwd.clone(),
            uid: run.user.0,
            gid: run.user.1,
            member_of: run.groups.clone(),
            stop_signal: run.stop_signal,
            watches: 8192,
            open_files: limits.open_files.into(),
            inodes: INODES,
            terminals: 64,
            filter: if run.ptrace { self.tracing_filter.clone() } else { self.filter.clone() },
            grace_ms: run.grace.as_millis() as u64,
        })
    }

    /// What the process is given, and how many threads are of use: libraries and `nproc` read it (OpenMP 5.2, section 21.1.2).
    fn environment(&self, run: &Run) -> Vec<String> {
        let mut env = run.env.clone();
        if !env.iter().any(|pair| pair.starts_with("OMP_NUM_THREADS=")) {
            env.push(format!("OMP_NUM_THREADS={}", processors(run.limits.cpu, self.processors)));
        }
        env
    }

    /// A path by which a keeper opens the environment's id map, through this process's open descriptor.
    fn id_map(&self, base: u32) -> Result<String, Error> {
        let mut maps = self.id_maps.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let file = match maps.entry(base) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(new) => new.insert(users::id_map(base)?),
        };
        Ok(format!("/proc/{}/fd/{}", std::process::id(), file.as_raw_fd()))
    }
}

/// How many processors a program is told of: as many as its limit fills, and no more than there are.
pub(crate) fn processors(limit: Cpu, machine: u32) -> u32 {
    u32::try_from(limit.milli().div_ceil(1000)).unwrap_or(u32::MAX).clamp(1, machine)
}

/// Files and directories in a replica's scratch in memory: each takes kernel memory, whatever is in it.
const INODES: u64 = 65_536;

/// The files that programs read to find their memory limit.
fn meminfo(limit: Bytes) -> String {
    let kib = limit.bytes() / 1024;
    format!(
        "MemTotal: {kib:>15} kB\nMemFree: {kib:>16} kB\nMemAvailable: {kib:>11} kB\nSwapTotal: {:>14} kB\nSwapFree: {:>15} kB\n",
        0, 0
    )
}
