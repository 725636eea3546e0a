//! Starting keepers, hearing from them, and watching those that an earlier agent started.

use std::os::fd::{FromRawFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::process::Stdio;

use mainyard_core::address::NODE_ADDRESS;
use mainyard_core::launch_fingerprint::LaunchFingerprint;
use mainyard_core::link::RunOrder;
use mainyard_core::model::{ReleaseSpec, ReplicaId, SecretUse, Setting};
use mainyard_core::replica_lifecycle::{Ended, Event};
use mainyard_core::service_names::resolver_file;
use mainyard_runtime::{Driver, Ending, Progress, Run, last_ending};
use tokio::io::unix::AsyncFd;
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio::sync::mpsc::UnboundedSender;

use crate::events::Message;
use crate::images::Prepared;

/// A keeper that runs.
#[derive(Debug)]
pub(crate) struct Keeper {
    /// Its process id.
    pub pid: u32,
    /// The process id of the replica's init, once it runs.
    pub init: Option<u32>,
}

impl Keeper {
    /// The keeper passes it on, and kills after the grace.
    pub(crate) fn ask_to_stop(&self) {
        // SAFETY: no memory is involved; the keeper is ours and is reaped only after its end was heard.
        unsafe { libc::kill(self.pid as i32, libc::SIGTERM) };
    }
}

/// Everything that a replica is started with.
pub(crate) fn run_of(
    order: &RunOrder,
    image: &Prepared,
    hosts: String,
    run_dir: PathBuf,
    log_dir: PathBuf,
) -> Run {
    let id = &order.id;
    let mut env = image.env.clone();
    let own = [
        ("MAINYARD_ENVIRONMENT", id.workload.environment.to_string()),
        ("MAINYARD_WORKLOAD", id.workload.name.to_string()),
        ("MAINYARD_REPLICA", id.short.clone()),
        ("MAINYARD_RELEASE", order.release.to_string()),
    ];
    // Every value is there: the replica's machine starts nothing without.
    let settings = order.spec.settings.iter().filter_map(|(key, setting)| match setting {
        Setting::Text(text) => Some((key.as_str(), text.clone())),
        Setting::Secret(used) => Some((key.as_str(), order.given(used)?.value.text()?.to_owned())),
    });
    let files = order.spec.files.iter();
    let files = files.filter_map(|(path, used)| Some((path.clone(), order.given(used)?.value.0.clone())));
    if !env.iter().any(|pair| pair.starts_with("HOME=")) {
        env.push(format!("HOME={}", image.user.home));
    }
    for (key, value) in own.into_iter().chain(settings) {
        env.retain(|pair| !pair.starts_with(&format!("{key}=")));
        env.push(format!("{key}={value}"));
    }
    let command =
        if order.once.is_some() { order.spec.run_first.clone() } else { order.spec.command.clone() };
    Run {
        name: id.dotted(),
        hostname: format!("{}-{}", id.workload.name, id.short),
        environment: order.environment,
        layers: image.layers.clone(),
        argv: command.unwrap_or_else(|| image.command.clone()),
        env,
        cwd: image.cwd.clone(),
        user: (image.user.uid, image.user.gid),
        groups: image.user.groups.clone(),
        stop_signal: image.stop_signal,
        limits: order.spec.limits,
        read_only: order.spec.read_only,
        volumes: image.volumes.clone(),
        ptrace: order.spec.ptrace,
        folders: Vec::new(),
        address: Some(order.address),
        port: main_port(&order.spec),
        hosts,
        resolver: resolver_file(NODE_ADDRESS, &id.workload.environment),
        files: files.collect(),
        grace: order.spec.stop.grace.duration(),
        run_dir,
        log_dir,
    }
}

/// The lines of a replica's `/etc/hosts`: itself. All other names are looked up in DNS.
pub(crate) fn own_hosts(order: &RunOrder) -> String {
    let name = format!("{}-{}", order.id.workload.name, order.id.short);
    format!("127.0.0.1 localhost\n::1 localhost\n{} {name}\n", order.address)
}

/// The digest of what is about to be started: read from what the keeper is reported, not from what was ordered.
pub(crate) fn started(order: &RunOrder, run: &Run) -> String {
    let given = |key: &str| {
        let pair = run.env.iter().find_map(|pair| pair.strip_prefix(key)?.strip_prefix('='));
        pair.unwrap_or_default()
    };
    // Of a secret its version is reported, where what is given is the value of that version.
    let of = |used: &SecretUse, given: &[u8]| {
        let given = order.given(used).filter(|known| known.value.0 == given);
        SecretUse { secret: used.secret.clone(), version: given.map(|given| given.version) }
    };
    let settings = order.spec.settings.iter().map(|(key, setting)| match setting {
        Setting::Text(_) => (key.as_str(), Setting::Text(given(key).to_owned())),
        Setting::Secret(used) => (key.as_str(), Setting::Secret(of(used, given(key).as_bytes()))),
    });
    let content = |path: &str| run.files.iter().find(|(known, _)| known == path);
    let files =
        order.spec.files.iter().filter_map(|(path, used)| Some((path.as_str(), of(used, &content(path)?.1))));
    let started = LaunchFingerprint {
        image: &order.digest,
        command: order.spec.command.is_some().then_some(run.argv.as_slice()),
        settings: settings.collect(),
        files: files.collect(),
        limits: &run.limits,
        read_only: run.read_only,
        ptrace: run.ptrace,
    };
    started.digest()
}

/// The port a program is asked to listen on: the one named `http`, otherwise the first by name.
fn main_port(spec: &ReleaseSpec) -> Option<u16> {
    let http = spec.ports.iter().find(|(name, _)| name.as_str() == "http");
    http.or(spec.ports.iter().next()).map(|(_, port)| *port)
}

/// Starts a keeper; what it tells comes as messages. Gives its process id.
pub(crate) fn start(
    driver: &Driver,
    run: &Run,
    id: ReplicaId,
    number: u64,
    inbox: UnboundedSender<Message>,
) -> Result<u32, String> {
    let command = driver.command(run).map_err(|error| error.to_string())?;
    let mut command = tokio::process::Command::from(command);
    let mut child =
        command.stderr(Stdio::null()).spawn().map_err(|error| format!("cannot start the keeper: {error}"))?;
    let pid = child.id().unwrap_or(0);
    let output = child.stdout.take();
    let run_dir = run.run_dir.clone();
    tokio::spawn(async move {
        let mut last = None;
        if let Some(output) = output {
            let mut lines = BufReader::new(output).lines();
            while let Ok(Some(line)) = lines.next_line().await {
                match Progress::parse(&line) {
                    Some(Progress::Running(init)) => {
                        let _ = inbox.send(Message::Started(id.clone(), number, pid, init));
                    }
                    other => last = other,
                }
            }
        }
        let _ = child.wait().await;
        let event = match last {
            Some(Progress::Failed { step, errno }) => {
                Event::CouldNotStart(format!("cannot {step}: {}", std::io::Error::from_raw_os_error(errno)))
            }
            Some(Progress::Ended(ending)) => ended(Some(ending)),
            _ => ended(last_ending(&run_dir)),
        };
        let _ = inbox.send(Message::Event(id, number, event));
    });
    Ok(pid)
}

/// How a run ended that no agent was there to see, where its keeper lived to write it down.
pub(crate) fn unseen_end(run_dir: &Path) -> Option<Ended> {
    last_ending(run_dir).map(|ending| ended_as(Some(ending)))
}

fn ended(ending: Option<Ending>) -> Event {
    Event::Ended(ended_as(ending))
}

fn ended_as(ending: Option<Ending>) -> Ended {
    match ending {
        Some(ending) => {
            Ended { code: ending.code, signal: ending.signal, memory_kills: ending.memory_kills, told: true }
        }
        None => Ended::default(),
    }
}

/// Waits for the end of a keeper that is not this process's child.
pub(crate) fn watch_adopted(
    pid: u32,
    id: ReplicaId,
    number: u64,
    run_dir: PathBuf,
    inbox: UnboundedSender<Message>,
) {
    tokio::spawn(async move {
        until_ended(pid).await;
        let event = ended(last_ending(&run_dir));
        let _ = inbox.send(Message::Event(id, number, event));
    });
}

/// Waits for the end of a process that is not this one's child.
pub(crate) async fn until_ended(pid: u32) {
    // SAFETY: the descriptor is new and owned here.
    let fd = unsafe {
        let fd = libc::syscall(libc::SYS_pidfd_open, pid, 0);
        (fd >= 0).then(|| OwnedFd::from_raw_fd(fd as i32))
    };
    // SAFETY: the descriptor stays open and the same for as long as it is registered: it owns itself.
    if let Some(waiting) = fd.and_then(|fd| unsafe { AsyncFd::register(fd) }.ok()) {
        let _ = waiting.readable().await;
    }
}
