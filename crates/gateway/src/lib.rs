//! The gateway: carries requests from outside, and between replicas, to replicas that take them.
//!
//! It serves by a table that control sends and that it keeps on disk, so it goes on while control and the record
//! are down. A table is taken at once by all its threads; after that no new request goes to a replica that left,
//! and control is reported how many are still open. Connections are accepted outside and dialled inside: each worker
//! thread lives in the node's network namespace and accepts on sockets that were opened before it went there.

mod admission;
mod affinity;
mod arrival;
mod authority;
mod authorize;
mod backend;
mod backend_order;
mod body;
mod cache;
mod candidates;
mod certificates;
mod challenges;
mod compress;
mod control_link;
mod cors;
mod counts;
mod delivery;
mod destination;
mod forward;
mod frame_watch;
mod given_again;
mod grpc;
mod grpc_refusals;
mod guess_limit;
mod head_limit;
mod headers;
mod http2;
mod http2_client;
mod http2_websocket;
mod installed_table;
mod internal_listeners;
mod limiter;
mod load;
mod local_executor;
mod outbound;
mod outgoing;
mod pages;
mod passthrough;
mod pool_key;
mod ports;
mod proxy_protocol;
mod redirects;
mod rejections;
mod relay;
mod replica;
mod request_log;
mod request_reports;
mod request_validator;
mod resolver;
mod response_body;
mod responses;
mod route;
mod serve;
mod service;
mod serving;
mod shadow;
mod stream_wrappers;
mod table_store;
mod tls;
mod waiting;
mod waking;
mod worker;
mod write_timeout;

use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;
use std::sync::{Arc, Condvar, Mutex, PoisonError};

use mainyard_certificates::authority::Names;
use mainyard_control_client::Control;
use mainyard_core::address::Range;
use mainyard_core::model::AddressRange;

pub use serving::Serving;

/// Settings that a gateway starts with.
#[derive(Debug)]
pub struct Config {
    /// The user id that it runs as once its threads are where the replicas are; only root can give it one.
    pub account: Option<u32>,
    /// The directory of its table; no other part uses it.
    pub dir: PathBuf,
    /// The directory of the local authority, which all gateways of a machine share.
    pub authority: PathBuf,
    /// The names that it may sign for.
    pub authority_names: Names,
    /// Its name among gateways.
    pub name: String,
    /// Control's URL, such as `http://127.0.0.1:8700`.
    pub control: String,
    /// The token of a part.
    pub token: String,
    /// Takes connections from outside, without TLS.
    pub http: TcpListener,
    /// Takes connections from outside, with TLS.
    pub https: Option<TcpListener>,
    /// The access to the replicas of its node.
    pub network: Network,
    /// Resolvers that are asked for names outside, instead of those that the machine lists.
    pub resolvers: Vec<SocketAddr>,
    /// Proxies in front of it, which say who called in a PROXY protocol header.
    pub proxies: Vec<AddressRange>,
    /// Ports of the machine that the platform listens on: they are never reached from a replica.
    pub own_ports: Vec<u16>,
}

/// The network of a node's replicas.
#[derive(Debug, Clone)]
pub enum Network {
    /// In a network namespace of the node's own, named by this file.
    Private(PathBuf),
    /// In a loopback range of the machine.
    Loopback(Range),
    /// Wherever the table says; nobody calls from inside.
    Elsewhere,
}

impl Network {
    /// Moves the calling thread to where the replicas are.
    pub(crate) fn enter(&self) -> Result<(), mainyard_runtime::Error> {
        match self {
            Network::Private(file) => mainyard_runtime::enter(file),
            Network::Loopback(_) | Network::Elsewhere => Ok(()),
        }
    }
}

/// Threads that are on their way to where the replicas are.
#[derive(Debug, Clone, Default)]
pub(crate) struct Arrivals(Arc<(Mutex<usize>, Condvar)>);

impl Arrivals {
    /// One more is on its way, until what this gives is dropped.
    pub(crate) fn expect(&self) -> OnTheWay {
        *self.0.0.lock().unwrap_or_else(PoisonError::into_inner) += 1;
        OnTheWay(self.clone())
    }

    /// Waits until none is.
    fn all(&self) {
        let mut count = self.0.0.lock().unwrap_or_else(PoisonError::into_inner);
        while *count > 0 {
            count = self.0.1.wait(count).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

/// A thread that has not arrived.
pub(crate) struct OnTheWay(Arrivals);

impl Drop for OnTheWay {
    fn drop(&mut self) {
        let (count, changed) = &*self.0.0;
        *count.lock().unwrap_or_else(PoisonError::into_inner) -= 1;
        changed.notify_all();
    }
}

/// Why the gateway cannot run.
#[derive(Debug, thiserror::Error)]
#[error("cannot {doing}: {source}")]
pub struct Error {
    /// The operation that failed.
    pub doing: String,
    /// Why not.
    pub source: std::io::Error,
}

/// Runs until the process ends.
pub fn run(config: Config) -> Result<(), Error> {
    let io = |doing: &str| {
        let doing = doing.to_owned();
        move |source| Error { doing, source }
    };
    std::fs::create_dir_all(&config.dir).map_err(io("make the gateway's directory"))?;
    let outside = config.http.local_addr().map_err(io("ask where visitors come in"))?.ip();
    let https_port = config.https.as_ref().and_then(|it| it.local_addr().ok()).map(|address| address.port());
    let serving = Serving::new(serve::workers(), https_port).behind(config.proxies.clone());
    let serving = Arc::new(serving);
    let descriptors = admission::raise_descriptor_limit();
    if descriptors < 4096 {
        tracing::warn!(
            descriptors,
            "this account may have few descriptors, so few connections are taken at once"
        );
    }
    serving.bound_connections(descriptors);
    let tls = match &config.https {
        Some(_) => {
            std::fs::create_dir_all(&config.authority).map_err(io("make the authority's directory"))?;
            let authority = authority::Authority::of(&config.authority, config.authority_names.clone())
                .map_err(io("prepare the local authority"))?;
            let trusted = certificates::trusting(&[authority.certificate()]).map_err(std::io::Error::other);
            serving.trust_platform(trusted.map_err(io("trust the local authority"))?);
            Some(tls::TlsDoor::new(Arc::clone(&serving), authority).map_err(io("prepare TLS"))?)
        }
        None => None,
    };
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(io("start"))?;
    runtime.block_on(async {
        let control = Control::at(&config.control, &config.token);
        // Control's word is better than what is on disk; but it is not waited for long.
        let mut kept = table_store::TableStore::at(&config.dir);
        control_link::first_table(&config, &control, &serving, &mut kept).await;
        let arrived = Arrivals::default();
        let ports = serve::start(&config, tls, &serving, &arrived).map_err(io("start the workers"))?;
        let own = [Some(&config.http), config.https.as_ref()].into_iter().flatten();
        let own = own.filter_map(|it| it.local_addr().ok()).map(|address| address.port()).collect();
        tokio::spawn(ports::follow(outside, own, Arc::clone(&serving), ports.clone()));
        if matches!(config.network, Network::Private(_)) {
            let dialler = outgoing::start(config.resolvers.clone(), config.own_ports.clone());
            serving.way_out.dial_by(dialler.map_err(io("start dialling"))?);
        }
        resolver::start(config.network.clone(), Arc::clone(&serving), &arrived)
            .map_err(io("start the resolver"))?;
        internal_listeners::start(config.network.clone(), Arc::clone(&serving), ports, &arrived)
            .map_err(io("listen inside"))?;
        if let Some(account) = config.account {
            // Only root may enter the node's network: from here on nobody needs to.
            arrived.all();
            sandbox::drop_to(account).map_err(io("give up root"))?;
            sandbox::filter::Filter::for_servers().hold().map_err(io("hold to the system call filter"))?;
        }
        tokio::spawn(control_link::report(config.name.clone(), control.clone(), Arc::clone(&serving)));
        control_link::follow(&config, &control, &serving, kept).await;
        Ok(())
    })
}
