//! How the platform itself is started.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, ValueEnum};
use mainyard_control::ObjectStoreAddress;
use mainyard_core::model::{AddressRange, Span};
use mainyard_git::Allowed;

use crate::data_dir::DataDir;

/// How to start.
#[derive(Debug, Clone, Args)]
pub(crate) struct Start {
    /// Bring up Larkfield Lockers, with gentle traffic of its own.
    #[arg(long)]
    pub demo: bool,
    /// With the demo: also declare so many workloads that rest, in an environment `crowd`, to look at a large board.
    #[arg(long, requires = "demo", default_value_t = 0, value_name = "N")]
    pub crowd: usize,
    /// With the demo: also run a database server from the Debian packages that this machine has installed.
    #[arg(long, requires = "demo")]
    pub database: bool,
    /// With the demo: also push the code of a survey form, so that it is built from it. Needs Debian's packages too.
    #[arg(long, requires = "demo")]
    pub code: bool,
    /// A host, or a folder of this machine, whose repositories sources may follow: forge.example, *.forge.example,
    /// forge.example:2222, /srv/git. None is reached otherwise.
    #[arg(long, alias = "allow-repositories", value_name = "HOST|FOLDER")]
    pub git_allow: Vec<Allowed>,
    /// The address of the API and the console.
    #[arg(long, default_value = "127.0.0.1:8700", value_name = "A:P")]
    pub api: SocketAddr,
    /// Serve the API over TLS: with the certificate of this PEM file, or with one that the local authority signs.
    /// Needed where `--api` is not a loopback address.
    #[arg(long, value_name = "FILE", num_args = 0..=1, default_missing_value = LOCAL_AUTHORITY)]
    pub api_tls: Option<PathBuf>,
    /// The key of that certificate, as a PEM file.
    #[arg(long, value_name = "FILE", requires = "api_tls")]
    pub api_tls_key: Option<PathBuf>,
    /// A name that the API is reached by; other names than these and the address are refused.
    #[arg(long, value_name = "NAME")]
    pub api_name: Vec<String>,
    /// A domain that the local authority may sign certificates for, besides `localhost`.
    #[arg(long, value_name = "DOMAIN")]
    pub local_domain: Vec<String>,
    /// Let code be cloned and pushed over ssh too, at this address: 127.0.0.1:8722 where none is given. It takes the
    /// system's ssh server.
    #[arg(long, value_name = "A:P", num_args = 0..=1, default_missing_value = "127.0.0.1:8722")]
    pub ssh: Option<SocketAddr>,
    /// The gateway's address for HTTP.
    #[arg(long, default_value = "127.0.0.1:8780", value_name = "A:P")]
    pub http: SocketAddr,
    /// The gateway's address for TLS.
    #[arg(long, default_value = "127.0.0.1:8743", value_name = "A:P")]
    pub https: SocketAddr,
    /// How many gateways take requests there, beside each other: when one crashes, the others go on.
    #[arg(long, default_value_t = 1, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=8))]
    pub gateways: u32,
    /// How replicas are kept apart. Without root only `none` is possible, and is taken by itself.
    #[arg(long, env = "MAINYARD_ISOLATION", value_name = "KIND")]
    pub isolation: Option<IsolationKind>,
    /// Proxies in front of the gateway, which begin each connection with a PROXY protocol header (version 1 or 2) that says who
    /// called: a range of addresses, or one address. May be given several times. From other addresses no such header is taken.
    #[arg(long, value_name = "RANGE")]
    pub proxy_from: Vec<AddressRange>,
    /// A resolver that is asked for names outside, which replicas may reach, instead of those in the machine's
    /// /etc/resolv.conf.
    #[arg(long, value_name = "A:P")]
    pub resolver: Vec<SocketAddr>,
    /// Keep the blobs of images in this S3-compatible object store, s3://BUCKET/PREFIX, instead of on this machine's disk,
    /// which stays a cache. The access key is taken from AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY.
    #[arg(long, value_name = "URL", value_parser = ObjectStoreAddress::parse)]
    pub blobs: Option<ObjectStoreAddress>,
    /// The URL of that object store, such as `https://objects.example:9000`.
    #[arg(long, value_name = "URL", requires = "blobs")]
    pub blobs_endpoint: Option<String>,
    /// Its region.
    #[arg(long, value_name = "NAME", requires = "blobs", default_value = "us-east-1")]
    pub blobs_region: String,
    /// How often nodes read the unpacked layers on their disk again; a broken one is fetched again.
    #[arg(long, value_name = "SPAN", default_value = "24h")]
    pub verify_images_every: Span,
    /// How many builds go on at once; others wait.
    #[arg(long, value_name = "NUMBER", default_value_t = 2, value_parser = clap::value_parser!(u32).range(1..=15))]
    pub builds_at_once: u32,
    /// Don't wait for the disk when the record is written: for tests. A power failure may then lose the record; a
    /// killed process doesn't.
    #[arg(long, env = "MAINYARD_NO_DISK_SYNC", value_parser = clap::builder::FalseyValueParser::new())]
    pub no_disk_sync: bool,
    /// How the parts write their logs. How much they write is chosen by MAINYARD_LOG
    /// (`info,gateway=debug`), and changed while they run with `mainyard log-level`.
    #[arg(long, env = "MAINYARD_LOG_FORMAT", value_name = "FORMAT", default_value = "text")]
    pub log_format: LogFormat,
    /// Come back when it is ready, and leave it running.
    #[arg(long)]
    pub background: bool,
    #[arg(hide = true)]
    pub workload: Option<String>,
}

/// Stands for a certificate that the local authority signs.
pub(crate) const LOCAL_AUTHORITY: &str = "local-authority";

impl Start {
    /// Repositories that sources may follow: those that were said, and the demo's own.
    pub(crate) fn git_allowed(&self, place: &DataDir) -> Vec<Allowed> {
        let demo = self.demo.then(|| Allowed::Folder(place.file("demo")));
        self.git_allow.iter().cloned().chain(demo).collect()
    }

    /// Where the blobs of images are kept besides this machine's disk, and the key for it.
    pub(crate) fn object_store(&self) -> Option<ObjectStoreAddress> {
        let address = self.blobs.clone()?;
        Some(ObjectStoreAddress {
            endpoint: self.blobs_endpoint.clone(),
            region: self.blobs_region.clone(),
            key_id: std::env::var("AWS_ACCESS_KEY_ID").ok(),
            key: std::env::var("AWS_SECRET_ACCESS_KEY").ok(),
            ..address
        })
    }
}

/// How logs are written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, ValueEnum, serde::Serialize, serde::Deserialize)]
pub(crate) enum LogFormat {
    /// A line for a person.
    #[default]
    Text,
    /// A JSON object a line.
    Json,
}

/// How replicas are kept apart from each other and from the machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum IsolationKind {
    /// By namespaces, control groups and a system call filter; needs root.
    Kernel,
    /// Not at all: ordinary processes with loopback addresses of their own; only the memory limit applies.
    None,
}

impl IsolationKind {
    pub(crate) fn word(self) -> &'static str {
        match self {
            IsolationKind::Kernel => "kernel",
            IsolationKind::None => "none",
        }
    }
}

/// Which part to run.
#[derive(Debug, Args)]
pub(crate) struct Serve {
    /// Which part.
    pub part: Part,
    /// Which one of several.
    #[arg(long, default_value_t = 1)]
    pub number: u32,
    /// The digest of its configuration.
    #[arg(long, default_value = "")]
    pub config: String,
}

/// Parts of the platform.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Part {
    /// The API, the console and the decisions.
    Control,
    /// Runs replicas.
    Node,
    /// Carries requests.
    Gateway,
}
