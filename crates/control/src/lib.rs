//! Control: the API, the console, and the one that decides.
//!
//! [`steward`] holds the cluster and is the only one that changes it; the API asks it, nodes and gateways tell
//! it. It writes what it decides to the record before anything is ordered or answered. Everything else here is
//! about who may ask and how the answer looks.

mod access;
mod answers;
mod api;
mod calls;
mod certificates;
mod console;
mod forecast;
mod housekeeping;
mod links;
mod metrics;
mod past;
mod problem;
mod releases;
mod secrets;
mod sources;
mod stats;
mod steward;
mod stream;
mod traffic;
mod transfer;
mod vault;
mod why;

use std::net::TcpListener;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use actix_web::{App, HttpServer, web};
use mainyard_images::ContentStore;
use mainyard_store::Store;

pub use api::openapi;
pub use forecast::Size;
pub use stats::{OfRelease, Stats};
pub use traffic::{Facet, Point, Traffic, TrafficRow, WayFigures};
pub use vault::KeySource;

/// What control is started with.
pub struct Config {
    /// Its name among the controls on one record.
    pub name: String,
    /// Where others reach it.
    pub url: String,
    /// Takes connections for the API and the console.
    pub listener: TcpListener,
    /// How to connect to the record.
    pub database: String,
    /// Where images are kept.
    pub images: PathBuf,
    /// Where repositories that are followed are kept, and folders of this machine that repositories may be in.
    pub repositories: PathBuf,
    pub allowed_repositories: Vec<PathBuf>,
    /// A short word that tells this platform from others on the machine, used in the cookie's name.
    pub instance: String,
    /// The token of the first member's client.
    pub client_token: String,
    /// The token of node agents and gateways.
    pub part_token: String,
    /// The platform's keys, under which the values of secrets are sealed.
    pub secrets_key: KeySource,
    /// The first member.
    pub member: String,
    /// Where the gateway is reached without TLS, for showing addresses.
    pub gateway_http: String,
    /// Where it is reached over TLS.
    pub gateway_https: String,
    /// The local authority's certificate.
    pub authority: PathBuf,
}

/// Why control cannot run.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The record cannot be used.
    #[error(transparent)]
    Store(#[from] mainyard_store::Error),
    /// The image store cannot be used.
    #[error(transparent)]
    Images(#[from] mainyard_images::Error),
    /// Repositories cannot be kept.
    #[error(transparent)]
    Git(#[from] mainyard_git::Error),
    /// The listener cannot be used.
    #[error("cannot serve: {0}")]
    Io(#[from] std::io::Error),
}

/// What every request handler works with.
pub(crate) struct Control {
    pub store: Store,
    pub images: ContentStore,
    pub steward: steward::Handle,
    pub links: links::Links,
    pub traffic: Arc<Traffic>,
    pub vault: vault::Vault,
    pub follower: sources::Follower,
    pub instance: String,
    pub gateway_http: String,
    /// Where it is reached over TLS.
    pub gateway_https: String,
    /// The local authority's certificate.
    pub authority: PathBuf,
    pub moments: past::Moments,
}

/// Largest JSON body of a request.
const JSON_LIMIT: usize = 8 << 20;
/// An idle connection is kept for so long: longer than our clients keep theirs (90 s), so that none of them sends a request into
/// a connection that is being closed, however long it was held up meanwhile.
const KEPT_OPEN: Duration = Duration::from_secs(120);
/// A request's head is here within this time.
const HEAD_WITHIN: Duration = Duration::from_secs(60);
/// Largest report of a node or a gateway.
const REPORT_LIMIT: usize = 64 << 20;

/// Serves until the process is asked to end.
pub fn run(config: Config) -> Result<(), Error> {
    actix_web::rt::System::new().block_on(serve(config))
}

async fn serve(config: Config) -> Result<(), Error> {
    let store = Store::connect(&config.database).await?;
    access::admit(&store, &config).await?;
    let images = ContentStore::open(&config.images)?;
    let mut fence = mainyard_git::Fence::new(&config.repositories)?;
    fence.allowed = config.allowed_repositories;
    let traffic = Arc::new(Traffic::new());
    let links = links::Links::default();
    let vault = vault::Vault::new(store.clone(), config.secrets_key);
    let post = steward::Post {
        name: config.name,
        url: config.url,
        store: store.clone(),
        links: links.clone(),
        traffic: Arc::clone(&traffic),
        vault: vault.clone(),
    };
    let steward = steward::start(post).await?;
    let holder = steward.holder.clone();
    let record = store.clone();
    let control = web::Data::new(Control {
        store,
        images,
        steward,
        links,
        traffic,
        vault,
        follower: sources::Follower::new(fence),
        instance: config.instance,
        gateway_http: config.gateway_http,
        gateway_https: config.gateway_https,
        authority: config.authority,
        moments: past::Moments::default(),
    });
    actix_web::rt::spawn(housekeeping::keep_house(control.clone()));
    actix_web::rt::spawn(sources::follow_all(control.clone()));
    let server = HttpServer::new(move || {
        App::new()
            .app_data(control.clone())
            .app_data(web::JsonConfig::default().limit(REPORT_LIMIT).error_handler(problem::body))
            .app_data(web::PathConfig::default().error_handler(problem::path))
            .app_data(web::QueryConfig::default().error_handler(problem::query))
            .wrap(actix_web::middleware::from_fn(access::check))
            // The narrower path first: the API's scope would take everything below it.
            .configure(calls::routes)
            .configure(api::routes)
            .default_service(web::get().to(console::file))
    });
    let server = server.keep_alive(KEPT_OPEN).client_request_timeout(HEAD_WITHIN);
    let server = server.workers(2).shutdown_timeout(1).disable_signals().listen(config.listener)?.run();
    let handle = server.handle();
    let mut ends = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())?;
    actix_web::rt::spawn(async move {
        ends.recv().await;
        handle.stop(false).await;
    });
    server.await?;
    // Whoever waits for the lease need not wait until it runs out.
    let epoch = holder.borrow().epoch;
    if let Some(epoch) = epoch {
        record.release_lease(epoch).await?;
    }
    Ok(())
}
