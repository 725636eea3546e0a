//! The parts as processes: how the supervisor starts one, and what one does when started.

use std::fs::{File, OpenOptions};
use std::io::Seek;
use std::net::{SocketAddr, TcpListener};
use std::os::fd::{AsRawFd, FromRawFd, RawFd};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use mainyard_certificates::authority::Names;
use mainyard_control::{ApiCertificate, ClientToken, KeySource, ObjectStoreAddress};
use mainyard_core::model::{AddressRange, Name, Span};
use mainyard_gateway::Network;
use mainyard_runtime::{Isolation, IsolationMode};
use sandbox::filter::Filter;
use sandbox::{Confinement, View, Visible};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use tracing_subscriber::Layer;
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;

use super::accounts::Account;
use super::instances::Instance;
use super::listeners::FIRST_LISTENER;
use super::log_levels::{self, OwnLevels};
use super::ssh;
use crate::args::{LogFormat, Part};
use crate::data_dir::{CLIENT_TOKEN, DataDir};
use crate::terminal::Failure;

/// The key under which secrets are sealed, where it is not kept in the data directory; control alone gets it.
pub(super) const SECRETS_KEY: &str = "MAINYARD_SECRETS_KEY";
/// Environment variables that are removed for every part: credentials of others.
const NOT_HANDED_ON: [&str; 2] = [SECRETS_KEY, "MAINYARD_TOKEN"];

/// Settings that the supervisor gives to every part.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Common {
    /// Tells this platform from others on the machine.
    pub instance: String,
    /// The isolation of replicas.
    pub means: IsolationMode,
    /// The API's address for parts.
    pub api: SocketAddr,
    /// The gateway's address for HTTP.
    pub http: SocketAddr,
    /// The gateway's address for TLS.
    pub https: SocketAddr,
    /// The names that the local authority may sign for.
    pub authority_names: Names,
    /// Ports that the platform listens on.
    #[serde(default)]
    pub ports: Vec<u16>,
    /// Resolvers for names outside, instead of those that the machine lists.
    #[serde(default)]
    pub resolvers: Vec<SocketAddr>,
    /// Proxies in front of the gateway.
    #[serde(default)]
    pub proxies: Vec<AddressRange>,
    /// How often nodes read the layers on their disk again.
    pub verify_images_every: Span,
    /// How logs are written.
    #[serde(default)]
    pub log_format: LogFormat,
}

/// Settings for control alone.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct ForControl {
    /// How to connect to the record.
    pub database: String,
    /// The parts' tokens, by `node/NAME` or `gateway/NAME`.
    pub part_tokens: Vec<(String, String)>,
    /// The first member.
    pub member: String,
    /// The object store that blobs of images are kept in.
    #[serde(default)]
    pub object_store: Option<ObjectStoreAddress>,
    /// How many builds go on at once.
    pub builds_at_once: u32,
    /// Where code is reached over ssh, and the host key's fingerprint.
    #[serde(default)]
    pub ssh: Option<(String, String)>,
    /// Repositories that may be followed, as `--git-allow` has them.
    pub git_allowed: Vec<String>,
    /// The API's address, and its names there.
    pub addresses: Vec<SocketAddr>,
    pub names: Vec<String>,
    /// How it is served over TLS, where it is.
    pub tls: Option<ApiTls>,
    /// The key under which secrets are sealed, where it was given.
    pub secrets_key: Option<String>,
}

/// The source of the API's certificate.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) enum ApiTls {
    /// The local authority signs it.
    LocalAuthority,
    /// From these files.
    Given { chain: PathBuf, key: PathBuf },
}

/// The private settings of one part, sent on its standard input, which nobody else can read.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct PartConfig {
    pub common: Common,
    /// The part's own token; control has none.
    pub token: Option<String>,
    pub control: Option<ForControl>,
}

impl PartConfig {
    /// Tells one configuration from another without showing what is in it.
    pub(super) fn digest(&self) -> Result<String, Failure> {
        let bytes = serde_json::to_vec(self).map_err(|error| Failure::failed(error.to_string()))?;
        Ok(Sha256::digest(bytes).iter().take(8).map(|byte| format!("{byte:02x}")).collect())
    }

    /// A file that only who has its descriptor can read.
    fn sealed(&self) -> std::io::Result<File> {
        // SAFETY: the name is a constant; the descriptor that comes back is new and nobody else's.
        let mut file = unsafe {
            let fd = libc::memfd_create(c"mainyard-part-config".as_ptr(), libc::MFD_CLOEXEC);
            if fd < 0 {
                return Err(std::io::Error::last_os_error());
            }
            File::from_raw_fd(fd)
        };
        serde_json::to_writer(&mut file, self)?;
        file.rewind()?;
        Ok(file)
    }
}

/// Starts a part in a session of its own, with its log in the data directory and its listeners handed down.
pub(super) fn spawn(
    place: &DataDir,
    instance: Instance,
    config: &PartConfig,
    listeners: &[&TcpListener],
) -> Result<Child, Failure> {
    let (part, name) = (instance.part, instance.name());
    let failed = |doing: &str, error: &dyn std::fmt::Display| {
        Failure::failed(format!("cannot {doing} {name}: {error}"))
    };
    let log = place.file("logs").join(format!("{name}.log"));
    let log = OpenOptions::new()
        .create(true)
        .append(true)
        .open(log)
        .map_err(|error| failed("open the log of", &error))?;
    let told = config.sealed().map_err(|error| failed("configure", &error))?;
    // This very program, also when another one has taken its place on disk.
    let mut command = Command::new("/proc/self/exe");
    command.arg0("mainyard");
    command.arg("serve").arg(part.word()).arg("--data").arg(&place.data);
    command.arg("--number").arg(instance.number.to_string()).arg("--config").arg(config.digest()?);
    for name in NOT_HANDED_ON {
        command.env_remove(name);
    }
    command.stdin(told).stdout(Stdio::null()).stderr(log);
    let levels = log_levels::open(place)?;
    let listeners = listeners.iter().enumerate();
    let mut handed: Vec<(RawFd, RawFd)> = listeners
        .map(|(number, listener)| (listener.as_raw_fd(), FIRST_LISTENER + number as RawFd))
        .collect();
    handed.push((levels.as_raw_fd(), log_levels::DESCRIPTOR));
    // SAFETY: only system calls on descriptors; none of them allocates.
    unsafe {
        command.pre_exec(move || {
            libc::setsid();
            // Out of the way first, so that no target is overwritten before it was copied.
            let mut spare = [0; 8];
            for (spare, (from, _)) in spare.iter_mut().zip(&handed) {
                *spare = libc::fcntl(*from, libc::F_DUPFD, 100);
            }
            for (spare, (_, to)) in spare.iter().zip(&handed) {
                if libc::dup2(*spare, *to) < 0 {
                    return Err(std::io::Error::last_os_error());
                }
                libc::close(*spare);
            }
            Ok(())
        });
    }
    command.spawn().map_err(|error| failed("start", &error))
}

/// A part's log longer than this is renamed; one older piece is kept.
const LOG_LIMIT: u64 = 8 << 20;

/// Puts logs aside that have grown long. The parts go on writing to the same file, which begins again.
pub(super) fn rotate_logs(place: &DataDir) {
    let logs = std::fs::read_dir(place.file("logs")).into_iter().flatten().flatten();
    let mut paths: Vec<_> = logs.map(|entry| entry.path()).collect();
    paths.push(place.file("postgres/log"));
    for path in paths.iter().filter(|path| path.extension().is_none_or(|end| end == "log")) {
        if std::fs::metadata(path).is_ok_and(|found| found.len() > LOG_LIMIT) {
            let rotated = std::fs::copy(path, path.with_extension("old"))
                .and_then(|_| OpenOptions::new().write(true).open(path)?.set_len(0));
            if let Err(error) = rotated {
                eprintln!("{} can't be renamed: {error}", path.display());
            }
        }
    }
}

fn config() -> Result<PartConfig, Failure> {
    let told: Result<PartConfig, _> = serde_json::from_reader(std::io::stdin());
    let config = told.map_err(|_| {
        Failure::usage("`serve` is started by `mainyard start`, which gives it its configuration")
    })?;
    init_log(config.common.log_format);
    Ok(config)
}

fn token(config: &PartConfig) -> Result<String, Failure> {
    config.token.clone().ok_or_else(|| Failure::failed("this part was given no token"))
}

fn listener(number: RawFd) -> TcpListener {
    // SAFETY: the supervisor handed this descriptor down for this purpose, and nobody else takes it.
    unsafe { TcpListener::from_raw_fd(FIRST_LISTENER + number) }
}

/// Begins the log of a part, on its standard error.
fn init_log(format: LogFormat) {
    let mut levels = OwnLevels::handed_down();
    let (filter, handle) = tracing_subscriber::reload::Layer::new(levels.first());
    let log = tracing_subscriber::fmt::layer().with_writer(std::io::stderr).with_ansi(false);
    let log = match format {
        LogFormat::Text => log.boxed(),
        LogFormat::Json => log.json().flatten_event(true).boxed(),
    };
    tracing_subscriber::registry().with(log.with_filter(filter)).init();
    levels.follow(move |targets| {
        let shown = targets.to_string();
        match handle.reload(targets) {
            Ok(()) => tracing::info!(levels = shown, "the log has other levels now"),
            Err(error) => tracing::warn!(%error, "the levels of the log cannot be changed"),
        }
    });
}

fn control_url(config: &PartConfig) -> String {
    format!("http://{}", super::listeners::reachable(config.common.api))
}

/// Folders of the data directory that control works with; the others belong to other parts.
const OF_CONTROL: [&str; 4] = ["images", "repositories", "code", "gateway"];

/// Control writes the data directory and temporary files, and sees nothing of what other parts have there.
fn confine_control(place: &DataDir, means: &IsolationMode) -> std::io::Result<()> {
    if !matches!(means, IsolationMode::Isolated { .. }) {
        return Ok(());
    }
    for folder in OF_CONTROL.iter().chain(&["node"]) {
        std::fs::create_dir_all(place.file(folder))?;
    }
    let folders = std::fs::read_dir(&place.data)?.flatten().filter(|entry| entry.path().is_dir());
    let others = folders.filter(|entry| !OF_CONTROL.iter().any(|own| entry.file_name() == *own));
    let hidden = others.map(|entry| entry.path()).collect();
    Confinement { writable: vec![place.data.clone(), std::env::temp_dir()], hidden }.enter()?;
    sandbox::keep_capabilities_for_namespaces()
}

pub(super) fn control(place: &DataDir) -> Result<(), Failure> {
    let config = config()?;
    confine_control(place, &config.common.means).map_err(|error| log_and_fail(&error))?;
    Filter::for_builders_of_namespaces().hold().map_err(|error| log_and_fail(&error))?;
    let url = control_url(&config);
    let PartConfig { common, control, .. } = config;
    let own = control
        .ok_or_else(|| Failure::failed("the configuration of control does not say where the record is"))?;
    let authority = place.file("gateway");
    let certificate = own.tls.map(|given| match given {
        ApiTls::Given { chain, key } => ApiCertificate::Given { chain, key },
        ApiTls::LocalAuthority => ApiCertificate::Signed {
            dir: authority.clone(),
            names: common.authority_names.clone(),
            host: own.names.first().cloned().unwrap_or_else(|| api_host(&own.addresses)),
        },
    });
    let config = mainyard_control::Config {
        name: "control-1".to_owned(),
        url,
        listener: listener(0),
        tls: certificate.map(|certificate| (listener(1), certificate)),
        database: own.database,
        images: place.file("images"),
        object_store: own.object_store,
        builds_at_once: own.builds_at_once as usize,
        repositories: place.file("repositories"),
        code: place.file("code"),
        ssh: own.ssh.map(|(address, host_key)| mainyard_control::SshHost {
            address,
            host_key,
            keys: ssh::keys(place),
            door: mainyard_control::SshDoor {
                socket: ssh::door(place),
                account: ssh::account(&common.instance),
            },
        }),
        git_allowed: own.git_allowed.iter().filter_map(|text| text.parse().ok()).collect(),
        git_account: Account::Git.id(&common.instance),
        instance: common.instance,
        client_token: ClientToken::File(place.file(CLIENT_TOKEN)),
        part_tokens: own.part_tokens,
        addresses: own.addresses,
        names: own.names,
        secrets_key: own
            .secrets_key
            .map_or_else(|| KeySource::File(place.file("secrets-key")), KeySource::Given),
        member: own.member,
        gateway_http: super::listeners::reachable(common.http).to_string(),
        gateway_https: super::listeners::reachable(common.https).to_string(),
        authority: authority.join("authority.pem"),
        authority_names: common.authority_names,
    };
    mainyard_control::run(config).map_err(|error| log_and_fail(&error))
}

/// Names in the API's certificate if none were given.
fn api_host(addresses: &[SocketAddr]) -> String {
    let public =
        addresses.iter().map(|address| address.ip()).find(|ip| !ip.is_loopback() && !ip.is_unspecified());
    public.map_or_else(|| "localhost".to_owned(), |ip| ip.to_string())
}

/// The name of the one node.
pub(super) fn node_name() -> Name {
    "node-1".parse().expect("a valid name")
}

pub(super) fn node(place: &DataDir) -> Result<(), Failure> {
    let config = config()?;
    Filter::for_starters_of_replicas().hold().map_err(|error| log_and_fail(&error))?;
    // Layers are unpacked with the modes that their archives say, whatever the mask; what a replica makes has the usual
    // one.
    // SAFETY: no memory is involved; no other thread writes files yet.
    unsafe { libc::umask(0o022) };
    let config = mainyard_node::Config {
        dir: place.file("node"),
        name: node_name(),
        means: config.common.means.clone(),
        control: control_url(&config),
        token: token(&config)?,
        verify_every: config.common.verify_images_every.duration(),
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

pub(super) fn gateway(place: &DataDir, number: u32) -> Result<(), Failure> {
    let config = config()?;
    let (dir, authority) =
        (place.file(&Instance { part: Part::Gateway, number }.name()), place.file("gateway"));
    let account = Account::Gateway.id(&config.common.instance);
    if let Some(account) = account {
        shut_in(place, account, &[&dir, &authority], &config.common.means)
            .map_err(|error| log_and_fail(&error))?;
    }
    let config = mainyard_gateway::Config {
        account,
        dir,
        authority,
        name: format!("gateway-{number}"),
        authority_names: config.common.authority_names.clone(),
        control: control_url(&config),
        token: token(&config)?,
        http: listener(0),
        https: Some(listener(1)),
        network: match config.common.means {
            IsolationMode::Isolated { .. } => Network::Private(Isolation::network_file(&place.file("node"))),
            IsolationMode::Plain { range } => Network::Loopback(range),
        },
        resolvers: config.common.resolvers,
        proxies: config.common.proxies,
        own_ports: config.common.ports,
    };
    mainyard_gateway::run(config).map_err(|error| log_and_fail(&error))
}

/// The gateway sees its own folders, the node's network and the machine's programs, and nothing else of the machine.
fn shut_in(place: &DataDir, account: u32, own: &[&Path], means: &IsolationMode) -> std::io::Result<()> {
    let stage = place.file("view");
    let view = View::new(&stage, account)?;
    for folder in own {
        std::fs::create_dir_all(folder)?;
        view.own(folder)?;
    }
    let network = Isolation::network_file(&place.file("node"));
    let mut visible = Visible { own: own.to_vec(), network: true, ..Visible::default() };
    if let IsolationMode::Isolated { .. } = means {
        visible.read.push(&network);
    }
    view.plan(&visible, Path::new("/"))?.enter()
}

fn log_and_fail(error: &dyn std::fmt::Display) -> Failure {
    tracing::error!(%error, "cannot run");
    Failure::failed(error.to_string())
}
