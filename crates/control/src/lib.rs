//! Control: the API, the console, and the one that decides.
//!
//! `leader` holds the cluster and is the only one that changes it; the API asks it, nodes and gateways tell
//! it. It writes what it decides to the record before anything is ordered or answered. Everything else here is
//! about who may ask and how the answer looks.

mod agent_api;
mod api;
mod attachments;
mod authorities;
mod blobs;
mod body_limits;
mod builds;
mod callers;
mod certificates;
mod code;
mod console;
mod credentials;
mod declare;
mod demand_record;
mod fetches;
mod forecast;
mod history;
mod hosts;
mod housekeeping;
mod image_details;
mod images;
mod leader;
mod links;
mod live_files;
mod logs;
mod metrics;
mod open_streams;
mod operations;
mod outgoing;
mod outside_http;
mod paths;
mod problem;
mod pulls;
mod purge;
mod registry;
mod releases;
mod responses;
mod scaling;
mod secret_store;
mod secrets;
mod sessions;
mod sources;
mod stats;
mod storage;
mod stream;
mod tls;
mod tokens;
mod traffic;
mod why;

use std::collections::BTreeMap;
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use actix_web::dev::Server;
use actix_web::{App, HttpServer, web};
use mainyard_certificates::authority::Names;
use mainyard_core::views::GatewayPorts;
use mainyard_git::{Allowed, Fence};
use mainyard_store::Store;

pub use blobs::{BlobError, ObjectStoreAddress};
pub use code::{SshDoor, SshHost, SshSession};
pub use secret_store::KeySource;
pub use sessions::ClientToken;
pub use tls::ApiCertificate;
pub use traffic::Traffic;

/// Settings that control starts with.
pub struct Config {
    /// Its name among the controls on one record.
    pub name: String,
    /// Its address for others.
    pub url: String,
    /// Takes connections for the API and the console.
    pub listener: TcpListener,
    /// How to connect to the record.
    pub database: String,
    /// The directory of images.
    pub images: PathBuf,
    /// The object store behind it.
    pub object_store: Option<ObjectStoreAddress>,
    /// How many builds go on at once.
    pub builds_at_once: usize,
    /// The directory of followed repositories.
    pub repositories: PathBuf,
    /// The directory of repositories of code that are pushed to.
    pub code: PathBuf,
    /// How code is reached over ssh, where it is.
    pub ssh: Option<SshHost>,
    /// Which ones may be reached.
    pub git_allowed: Vec<Allowed>,
    /// The user id that `git` runs as, where this process may give it one.
    pub git_account: Option<u32>,
    /// A short word that tells this platform from others on the machine, used in the cookie's name.
    pub instance: String,
    /// The token of the first member's client.
    pub client_token: ClientToken,
    /// The token of each part, by `node/NAME` or `gateway/NAME`.
    pub part_tokens: Vec<(String, String)>,
    /// Addresses that the API answers at.
    pub addresses: Vec<SocketAddr>,
    /// Names that it has there.
    pub names: Vec<String>,
    /// The platform's keys, under which the values of secrets are sealed.
    pub secrets_key: KeySource,
    /// The first member.
    pub member: String,
    /// The gateway's address without TLS, to show in addresses.
    pub gateway_http: String,
    /// The address for TLS.
    pub gateway_https: String,
    /// The local authority's certificate.
    pub authority: PathBuf,
    /// The names that it may sign for.
    pub authority_names: Names,
    /// The API's address over TLS, and its certificate.
    pub tls: Option<(TcpListener, ApiCertificate)>,
}

/// Why control cannot run.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The record cannot be used.
    #[error(transparent)]
    Store(#[from] mainyard_store::Error),
    /// The image store cannot be used.
    #[error(transparent)]
    Images(#[from] BlobError),
    /// Repositories cannot be kept.
    #[error(transparent)]
    Git(#[from] mainyard_git::Error),
    /// The listener cannot be used.
    #[error("cannot serve: {0}")]
    Io(#[from] std::io::Error),
}

/// The state that every request handler shares.
pub(crate) struct Control {
    pub store: Store,
    pub blobs: blobs::Blobs,
    pub uploads: registry::OpenUploads,
    pub leader: leader::Handle,
    pub links: links::Links,
    pub traffic: Arc<Traffic>,
    pub outgoing: Arc<outgoing::Outgoing>,
    pub pulls: pulls::Pulls,
    pub fetches: fetches::Fetches,
    pub builds: builds::Builds,
    pub vault: secret_store::SecretStore,
    pub follower: sources::Follower,
    pub code: code::CodeHost,
    pub ssh: Option<SshHost>,
    pub open_streams: open_streams::OpenStreams,
    pub instance: String,
    /// Whether people reach the API over TLS.
    pub tls: bool,
    pub hosts: hosts::Hosts,
    pub sign_in_attempts: sessions::SignInAttempts,
    pub gateway_http: String,
    /// The address for TLS.
    pub gateway_https: String,
    /// The local authority's certificate.
    pub authority: PathBuf,
    pub authority_names: Names,
    pub moments: history::Moments,
    /// Ports that the platform itself listens on, and what for.
    pub reserved_ports: BTreeMap<u16, String>,
}

impl Control {
    /// The gateway's ports for visitors; 0 if it has no address.
    pub(crate) fn gateway_ports(&self) -> GatewayPorts {
        let port = |address: &str| address.rsplit(':').next().and_then(|port| port.parse().ok()).unwrap_or(0);
        GatewayPorts { http: port(&self.gateway_http), https: port(&self.gateway_https) }
    }
}

/// An idle connection is kept for so long: longer than our clients keep theirs (90 s), so that none of them sends a request into
/// a connection that is being closed, however long it was held up meanwhile.
const KEPT_OPEN: Duration = Duration::from_secs(120);
/// A request's head is here within this time.
const HEAD_WITHIN: Duration = Duration::from_secs(60);

/// Connections at once, and TLS handshakes at once, that each of the two workers takes.
const CONNECTIONS: usize = 2_000;
const HANDSHAKES: usize = 64;

/// Serves until the process is asked to end.
pub fn run(config: Config) -> Result<(), Error> {
    actix_web::rt::System::new().block_on(serve(config))
}

/// The surroundings in which `git` runs.
fn fence(config: &Config, dir: &Path) -> Result<Fence, Error> {
    let mut fence = match config.git_account {
        Some(account) => Fence::with_account(dir, account)?,
        None => Fence::new(dir)?,
    };
    fence.allowed.allowed = config.git_allowed.clone();
    let gateway = [&config.gateway_http, &config.gateway_https];
    let gateway = gateway.into_iter().filter_map(|address| address.parse().ok());
    fence.allowed.own = config.addresses.iter().copied().chain(gateway).collect();
    Ok(fence)
}

/// Ports that the platform itself listens on: a route that takes one would never answer.
fn reserved_ports(config: &Config) -> BTreeMap<u16, String> {
    let port = |address: &str| address.rsplit(':').next().and_then(|port| port.parse::<u16>().ok());
    let api = config.addresses.iter().map(|address| (address.port(), "the API and the console"));
    let gateway = [&config.gateway_http, &config.gateway_https].into_iter().filter_map(|it| port(it));
    let all = api.chain(gateway.map(|port| (port, "the gateway itself")));
    all.map(|(port, taker)| (port, taker.to_owned())).collect()
}

/// Begins what goes on without being asked.
fn spawn_tasks(control: &web::Data<Control>) {
    actix_web::rt::spawn(housekeeping::keep_house(control.clone()));
    actix_web::rt::spawn(demand_record::keep_demand(control.clone()));
    actix_web::rt::spawn(sources::follow_all(control.clone()));
    actix_web::rt::spawn(pulls::pull_awaited(control.clone()));
    actix_web::rt::spawn(authorities::obtain_certificates(control.clone()));
    actix_web::rt::spawn(builds::carry_out_builds(control.clone()));
    actix_web::rt::spawn(code::deliver_all(control.clone()));
    actix_web::rt::spawn(sources::follow_builds(control.clone()));
    if let Some(host) = control.ssh.clone() {
        actix_web::rt::spawn(code::serve_sessions(control.clone(), host.door));
        actix_web::rt::spawn(code::keep_keys(control.clone()));
    }
}

/// Serves until SIGTERM comes.
async fn until_asked_to_end(server: Server) -> std::io::Result<()> {
    let handle = server.handle();
    let mut ends = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())?;
    actix_web::rt::spawn(async move {
        ends.recv().await;
        handle.stop(false).await;
    });
    server.await
}

async fn serve(config: Config) -> Result<(), Error> {
    let store = Store::connect(&config.database).await?;
    sessions::admit(&store, &config).await?;
    let blobs = blobs::Blobs::open(&config.images, config.object_store.as_ref())?;
    let fence = fence(&config, &config.repositories)?;
    let code_fence = self::fence(&config, &config.code)?;
    let traffic = Arc::new(Traffic::new());
    let outgoing = Arc::new(outgoing::Outgoing::default());
    let links = links::Links::default();
    let reserved_ports = reserved_ports(&config);
    let vault = secret_store::SecretStore::new(store.clone(), config.secrets_key);
    let hosts = hosts::Hosts::of(&config.addresses, &config.names);
    let leader_config = leader::LeaderConfig {
        name: config.name,
        url: config.url,
        store: store.clone(),
        links: links.clone(),
        traffic: Arc::clone(&traffic),
        outgoing: Arc::clone(&outgoing),
        vault: vault.clone(),
        reserved_hosts: hosts.names(),
        reserved_ports: reserved_ports.clone(),
    };
    let leader = leader::start(leader_config).await?;
    let holder = leader.holder.clone();
    let record = store.clone();
    let control = web::Data::new(Control {
        store,
        blobs,
        uploads: registry::OpenUploads::default(),
        leader,
        links,
        traffic,
        outgoing,
        pulls: pulls::Pulls::default(),
        fetches: fetches::Fetches::default(),
        builds: builds::Builds::new(config.builds_at_once),
        vault,
        open_streams: open_streams::OpenStreams::default(),
        follower: sources::Follower::new(fence),
        code: code::CodeHost::new(code_fence),
        ssh: config.ssh,
        instance: config.instance,
        tls: config.tls.is_some(),
        hosts,
        sign_in_attempts: sessions::SignInAttempts::default(),
        gateway_http: config.gateway_http,
        gateway_https: config.gateway_https,
        authority: config.authority,
        authority_names: config.authority_names,
        moments: history::Moments::default(),
        reserved_ports,
    });
    spawn_tasks(&control);
    actix_web::rt::spawn(sessions::follow_client_token(record.clone(), config.client_token, config.member));
    let server = HttpServer::new(move || {
        App::new()
            .app_data(control.clone())
            // Each operation holds its body to its own limit.
            .app_data(web::PayloadConfig::new(usize::MAX))
            .wrap(actix_web::middleware::from_fn(hosts::check))
            .configure(registry::configure)
            .configure(code::configure)
            .configure(|app| api::operations().configure(app))
            .default_service(web::get().to(console::file))
    });
    let server = server.keep_alive(KEPT_OPEN).client_request_timeout(HEAD_WITHIN);
    let server = server.max_connections(CONNECTIONS).max_connection_rate(HANDSHAKES);
    let server = server.workers(2).shutdown_timeout(1).disable_signals().listen(config.listener)?;
    let server = match config.tls {
        Some((listener, certificate)) => server.listen_rustls_0_23(listener, tls::server(certificate)?)?,
        None => server,
    };
    until_asked_to_end(server.run()).await?;
    // A control that waits for the lease need not wait until it runs out.
    let epoch = holder.borrow().epoch;
    if let Some(epoch) = epoch {
        record.release_lease(epoch).await?;
    }
    Ok(())
}
