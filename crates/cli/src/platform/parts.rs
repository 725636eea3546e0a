//! The parts as processes: how the supervisor starts one, and what one does when started.

use std::fs::OpenOptions;
use std::net::{SocketAddr, TcpListener};
use std::os::fd::{AsRawFd, FromRawFd, RawFd};
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};

use mainyard_control::KeySource;
use mainyard_core::model::Name;
use mainyard_gateway::Network;
use mainyard_runtime::{Isolation, Means};
use serde::{Deserialize, Serialize};

use super::listeners::FIRST_LISTENER;
use super::seat::Seat;
use crate::args::Part;
use crate::place::Place;
use crate::words::Failure;

/// What a part is told, besides its listeners.
const BRIEF: &str = "MAINYARD_BRIEF";

/// The key under which secrets are sealed, where it is not kept in the data directory; control alone gets it.
const SECRETS_KEY: &str = "MAINYARD_SECRETS_KEY";

/// What the supervisor tells every part.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Brief {
    /// Tells this platform from others on the machine.
    pub instance: String,
    /// What replicas are run with.
    pub means: Means,
    /// Where the API is.
    pub api: SocketAddr,
    /// Where the gateway takes requests.
    pub http: SocketAddr,
    /// Where the gateway takes requests over TLS.
    pub https: SocketAddr,
    /// How to connect to the record.
    pub database: String,
    /// The first member's token.
    pub client_token: String,
    /// The parts' token.
    pub part_token: String,
    /// The first member.
    pub member: String,
    /// Folders of this machine that repositories may be followed from.
    #[serde(default)]
    pub allowed_repositories: Vec<PathBuf>,
}

/// Starts a part in a session of its own, with its log in the data directory and its listeners handed down.
pub fn spawn(place: &Place, seat: Seat, brief: &Brief, listeners: &[&TcpListener]) -> Result<Child, Failure> {
    let (part, name) = (seat.part, seat.name());
    let failed = |doing: &str, error: &dyn std::fmt::Display| {
        Failure::failed(format!("cannot {doing} {name}: {error}"))
    };
    let log = place.file("logs").join(format!("{name}.log"));
    let log = OpenOptions::new()
        .create(true)
        .append(true)
        .open(log)
        .map_err(|error| failed("open the log of", &error))?;
    let brief = serde_json::to_string(brief).map_err(|error| failed("brief", &error))?;
    // This very program, also when another one has taken its place on disk.
    let mut command = Command::new("/proc/self/exe");
    command.arg0("mainyard");
    command.arg("serve").arg(part.word()).arg("--data").arg(&place.data);
    command.arg("--number").arg(seat.number.to_string()).env(BRIEF, brief);
    if part != Part::Control {
        command.env_remove(SECRETS_KEY);
    }
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(log);
    let handed: Vec<RawFd> = listeners.iter().map(|listener| listener.as_raw_fd()).collect();
    // SAFETY: only system calls on descriptors, none of which allocates.
    unsafe {
        command.pre_exec(move || {
            libc::setsid();
            // Out of the way first, so that no target is overwritten before it was copied.
            let mut spare = [0; 8];
            for (place, fd) in handed.iter().enumerate() {
                spare[place] = libc::fcntl(*fd, libc::F_DUPFD, 100);
            }
            for (place, fd) in spare.iter().enumerate().take(handed.len()) {
                if libc::dup2(*fd, FIRST_LISTENER + place as RawFd) < 0 {
                    return Err(std::io::Error::last_os_error());
                }
                libc::close(*fd);
            }
            Ok(())
        });
    }
    command.spawn().map_err(|error| failed("start", &error))
}

/// A part's log longer than this is put aside; one older piece is kept.
const LOG_LIMIT: u64 = 8 << 20;

/// Puts logs aside that have grown long. The parts go on writing to the same file, which begins anew.
pub fn rotate_logs(place: &Place) {
    let logs = std::fs::read_dir(place.file("logs")).into_iter().flatten().flatten();
    let mut paths: Vec<_> = logs.map(|entry| entry.path()).collect();
    paths.push(place.file("postgres/log"));
    for path in paths.iter().filter(|path| path.extension().is_none_or(|end| end == "log")) {
        if std::fs::metadata(path).is_ok_and(|found| found.len() > LOG_LIMIT) {
            let rotated = std::fs::copy(path, path.with_extension("old"))
                .and_then(|_| OpenOptions::new().write(true).open(path)?.set_len(0));
            if let Err(error) = rotated {
                eprintln!("{} cannot be put aside: {error}", path.display());
            }
        }
    }
}

fn brief() -> Result<Brief, Failure> {
    let text = std::env::var(BRIEF).map_err(|_| Failure::usage("`serve` is started by `mainyard start`"))?;
    serde_json::from_str(&text).map_err(|error| Failure::failed(format!("the brief cannot be read: {error}")))
}

fn listener(number: RawFd) -> TcpListener {
    // SAFETY: the supervisor handed this descriptor down for this purpose, and nobody else takes it.
    unsafe { TcpListener::from_raw_fd(FIRST_LISTENER + number) }
}

/// Logging of a part, to its standard error; `MAINYARD_LOG` chooses what.
pub fn init_log() {
    let filter = std::env::var("MAINYARD_LOG").unwrap_or_else(|_| "info".to_owned());
    let filter = tracing_subscriber::EnvFilter::new(filter);
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).with_ansi(false).init();
}

fn control_url(brief: &Brief) -> String {
    format!("http://{}", super::listeners::reachable(brief.api))
}

pub fn control(place: &Place) -> Result<(), Failure> {
    let brief = brief()?;
    let config = mainyard_control::Config {
        name: "control-1".to_owned(),
        url: control_url(&brief),
        listener: listener(0),
        database: brief.database,
        images: place.file("images"),
        repositories: place.file("repositories"),
        allowed_repositories: brief.allowed_repositories,
        instance: brief.instance,
        client_token: brief.client_token,
        part_token: brief.part_token,
        secrets_key: std::env::var(SECRETS_KEY)
            .map_or_else(|_| KeySource::File(place.file("secrets-key")), KeySource::Given),
        member: brief.member,
        gateway_http: super::listeners::reachable(brief.http).to_string(),
        gateway_https: super::listeners::reachable(brief.https).to_string(),
        authority: place.file("gateway").join("authority.pem"),
    };
    mainyard_control::run(config).map_err(|error| log_and_fail(&error))
}

/// The name of the one node.
pub fn node_name() -> Name {
    "node-1".parse().expect("a valid name")
}

pub fn node(place: &Place) -> Result<(), Failure> {
    let brief = brief()?;
    let config = mainyard_node::Config {
        dir: place.file("node"),
        name: node_name(),
        means: brief.means.clone(),
        control: control_url(&brief),
        token: brief.part_token,
    };
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
    let runtime = runtime.map_err(|error| log_and_fail(&error))?;
    runtime.block_on(async {
        let mut ends = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())
            .map_err(|error| log_and_fail(&error))?;
        tokio::select! {
            ended = mainyard_node::run(config) => ended.map_err(|error| log_and_fail(&error)),
            _ = ends.recv() => Ok(()),
        }
    })
}

pub fn gateway(place: &Place, number: u32) -> Result<(), Failure> {
    let brief = brief()?;
    let config = mainyard_gateway::Config {
        dir: place.file(&Seat { part: Part::Gateway, number }.name()),
        authority: place.file("gateway"),
        name: format!("gateway-{number}"),
        control: control_url(&brief),
        token: brief.part_token,
        http: listener(0),
        https: Some(listener(1)),
        network: match brief.means {
            Means::Isolated { .. } => Network::Private(Isolation::network_file(&place.file("node"))),
            Means::Plain { range } => Network::Loopback(range),
        },
    };
    mainyard_gateway::run(config).map_err(|error| log_and_fail(&error))
}

fn log_and_fail(error: &dyn std::fmt::Display) -> Failure {
    tracing::error!(%error, "cannot run");
    Failure::failed(error.to_string())
}
