//! Commands about things of their own: images, secrets, environments.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use mainyard_core::model::{Bytes, Span};

use super::{Output, Trial, Wait};

/// Commands for images.
#[derive(Debug, Subcommand)]
pub(crate) enum Image {
    /// Add an image: an image layout as a directory or a tar archive.
    #[command(
        after_help = "Example:\n  mainyard image add locker-api-1.5.0.tar\n  mainyard image add ./layout --name lockers/locker-api:1.5.0"
    )]
    Add {
        /// The archive or directory.
        path: PathBuf,
        /// Its name, instead of the one the layout gives it.
        #[arg(long)]
        name: Option<String>,
        #[command(flatten)]
        trial: Trial,
    },
    /// List the images.
    #[command(after_help = "Example:\n  mainyard image list")]
    List {
        #[command(flatten)]
        output: Output,
    },
    /// Show an image: how it is run, how it was made, its layers, who runs it, and what is left out of it.
    #[command(after_help = "Example:\n  mainyard image show lockers/locker-api:1.5.0")]
    Show {
        /// The image, as name:tag.
        image: String,
        #[command(flatten)]
        output: Output,
    },
    /// Compare two images: how they are run, and the files that differ.
    #[command(
        after_help = "Example:\n  mainyard image compare lockers/locker-api:1.4.0 lockers/locker-api:1.5.0"
    )]
    Compare {
        /// The image, as name:tag.
        image: String,
        /// The other image, as name:tag.
        other: String,
        #[command(flatten)]
        output: Output,
    },
    /// Remove old images by rule. What runs, is kept, or may be gone back to stays.
    #[command(
        after_help = "Example:\n  mainyard image prune --keep 10 --older-than 30d --forecast\n  mainyard image prune --keep 3 --of lockers/locker-api"
    )]
    Prune {
        /// How many of each name stay, the newest first.
        #[arg(long)]
        keep: u32,
        /// Only images that were added longer ago than this, in days, such as 30d.
        #[arg(long, default_value = "0d")]
        older_than: String,
        /// Only images of this name.
        #[arg(long)]
        of: Option<String>,
        /// Change nothing; say what would go, and how much that frees.
        #[arg(long)]
        forecast: bool,
        #[command(flatten)]
        output: Output,
    },
    /// List what each name keeps in the store, with the rule that holds for it.
    #[command(after_help = "Example:\n  mainyard image storage")]
    Storage {
        #[command(flatten)]
        output: Output,
    },
    /// Declare how much a name may keep in the store, and which of its images go by themselves.
    #[command(
        after_help = "Example:\n  mainyard image storage-rule lockers/locker-api --limit 20GiB --keep 10 --older-than 30d\n  mainyard image storage-rule '*' --limit 5GiB\n  mainyard image storage-rule lockers/locker-api --none"
    )]
    StorageRule {
        /// The name without a tag, such as lockers/locker-api; * for all that have no rule of their own.
        name: String,
        /// The bytes that its images may take up; what is past it is refused.
        #[arg(long, value_name = "BYTES", conflicts_with = "none")]
        limit: Option<Bytes>,
        /// How many images stay, the newest first; older ones that nothing needs go.
        #[arg(long, conflicts_with = "none")]
        keep: Option<u32>,
        /// Only images that were added longer ago than this go, in days, such as 30d.
        #[arg(long, default_value = "0d", requires = "keep")]
        older_than: String,
        /// How often its images are looked through.
        #[arg(long, value_name = "SPAN", default_value = "24h", requires = "keep")]
        every: Span,
        /// Take the rule back.
        #[arg(long)]
        none: bool,
        #[command(flatten)]
        trial: Trial,
    },
    /// Make a key that signs images, and print its public part.
    #[command(after_help = "Example:\n  mainyard image signing-key release.pem")]
    SigningKey {
        /// The file to write it to (PKCS #8, PEM); nobody else may read it. One that is there is read.
        file: PathBuf,
    },
    /// Sign an image, so that environments run it that ask for the key.
    #[command(after_help = "Example:\n  mainyard image sign lockers/locker-api:1.5.0 --key release.pem")]
    Sign {
        /// The image, as name:tag.
        image: String,
        /// The private key (Ed25519, PKCS #8, PEM).
        #[arg(long, value_name = "FILE")]
        key: PathBuf,
    },
    /// Make a base image from packages that this machine's distribution has installed, with all that they depend on, and a
    /// bill of materials. The same packages make the same image; the same name again updates it.
    #[command(
        after_help = "Example:\n  mainyard image base debian/shell:12 --packages dash,coreutils\n  mainyard image base debian/git:12 --packages git,dash --without 'perl*' --account app:1000"
    )]
    Base {
        /// Its name, as name:tag.
        image: String,
        /// The packages.
        #[arg(long, value_delimiter = ',', required = true, value_name = "NAMES")]
        packages: Vec<String>,
        /// Packages that stay out, with what only they need; perl* stands for all whose name begins so.
        #[arg(long, value_delimiter = ',', value_name = "NAMES")]
        without: Vec<String>,
        /// An account besides root, with its id.
        #[arg(long = "account", value_name = "NAME:ID")]
        accounts: Vec<String>,
        #[command(flatten)]
        trial: Trial,
    },
    /// Pull an image from the registry that its name begins with. It goes on when this is interrupted.
    #[command(after_help = "Example:\n  mainyard image pull forge/team/api:1.4.0")]
    Pull {
        /// The image, as registry/name:tag.
        image: String,
    },
    /// See how far images are that are being pulled, and what became of others.
    #[command(after_help = "Example:\n  mainyard image pulls")]
    Pulls {
        #[command(flatten)]
        output: Output,
    },
    /// Take an image's name out of the store. Releases that were made with it keep its content.
    #[command(after_help = "Example:\n  mainyard image remove lockers/locker-api:1.4.0")]
    Remove {
        /// The image, as name:tag.
        image: String,
        #[command(flatten)]
        trial: Trial,
    },
}

/// Commands for tokens.
#[derive(Debug, Subcommand)]
pub(crate) enum Token {
    /// Make a token. It is printed once and never shown again.
    #[command(
        after_help = "Example:\n  mainyard token add deploys --lasts 30d\n  mainyard token add second-node --part node/node-2"
    )]
    Add {
        /// A name for it.
        name: String,
        /// For a part of the platform instead of a client: node/NAME or gateway/NAME.
        #[arg(long)]
        part: Option<String>,
        /// How long it is good, such as 12h or 30d; 366d at most.
        #[arg(long, default_value = "90d")]
        lasts: String,
        #[command(flatten)]
        output: Output,
    },
    /// List tokens and sessions: whose they are, when they end, when they were last used.
    #[command(after_help = "Example:\n  mainyard token list")]
    List {
        #[command(flatten)]
        output: Output,
    },
    /// End a token or a session. It is refused from then on.
    #[command(after_help = "Example:\n  mainyard token remove deploys")]
    Remove {
        /// Its name or id, as `mainyard token list` shows it.
        token: String,
    },
}

/// Commands for secrets.
#[derive(Debug, Subcommand)]
pub(crate) enum Secret {
    /// Add a secret, or a new version of one; who follows it gets a release. The value comes from standard input.
    #[command(
        after_help = "Example:\n  mainyard secret add staging/db-password < password.txt\n  printf %s \"$NEW\" | mainyard secret add staging/db-password --forecast"
    )]
    Add {
        /// The secret, as environment/name.
        secret: String,
        /// Keep the line end at the end of the value; otherwise one is taken off.
        #[arg(long)]
        keep_newline: bool,
        #[command(flatten)]
        wait: Wait,
    },
    /// List the secrets, their versions and who uses them.
    #[command(after_help = "Example:\n  mainyard secret list staging")]
    List {
        /// One environment only.
        environment: Option<String>,
        #[command(flatten)]
        output: Output,
    },
    /// See the versions of a secret and the releases they are in. No value is shown.
    #[command(after_help = "Example:\n  mainyard secret show staging/db-password")]
    Show {
        /// The secret, as environment/name.
        secret: String,
        #[command(flatten)]
        output: Output,
    },
    /// Remove a secret that nothing uses.
    #[command(after_help = "Example:\n  mainyard secret remove staging/db-password")]
    Remove {
        /// The secret, as environment/name.
        secret: String,
        #[command(flatten)]
        trial: Trial,
    },
    /// Print the key to which values for an environment can be encrypted into files in Git (age format).
    #[command(
        after_help = "Example:\n  mainyard secret public-key staging\n  printf %s \"$NEW\" | age -a -r $(mainyard secret public-key staging)"
    )]
    PublicKey {
        /// The environment.
        environment: Option<String>,
    },
    /// Encrypt a value for a file in Git; prints what to put there. The value comes from standard input.
    #[command(
        after_help = "Example:\n  printf %s \"$NEW\" | mainyard secret encrypt staging/db-password >> mainyard.toml"
    )]
    Encrypt {
        /// The secret, as environment/name.
        secret: String,
        /// Keep the line end at the end of the value; otherwise one is taken off.
        #[arg(long)]
        keep_newline: bool,
    },
    /// Make a new platform key and seal all values again under it.
    #[command(after_help = "Example:\n  mainyard secret rotate-key")]
    RotateKey {
        #[command(flatten)]
        trial: Trial,
    },
}

/// Commands for certificates.
#[derive(Debug, Subcommand)]
pub(crate) enum Certificate {
    /// Add a certificate with its key, or put one in the place of its predecessor; nothing is interrupted.
    #[command(
        after_help = "Example:\n  mainyard certificate add production/lockers --chain lockers.pem --key lockers.key\n  mainyard certificate add production/replicas --chain authority.pem"
    )]
    Add {
        /// The certificate, as environment/name.
        certificate: String,
        /// The chain as PEM, the host's own certificate first.
        #[arg(long, value_name = "FILE")]
        chain: PathBuf,
        /// The private key as PEM. Without it, the certificate only says whom to trust.
        #[arg(long, value_name = "FILE")]
        key: Option<PathBuf>,
        #[command(flatten)]
        trial: Trial,
    },
    /// List the certificates, the hosts they cover and how long they last.
    #[command(after_help = "Example:\n  mainyard certificate list")]
    List {
        #[command(flatten)]
        output: Output,
    },
    /// See one certificate.
    #[command(after_help = "Example:\n  mainyard certificate show production/lockers")]
    Show {
        /// The certificate, as environment/name.
        certificate: String,
        #[command(flatten)]
        output: Output,
    },
    /// Remove a certificate that no route names.
    #[command(after_help = "Example:\n  mainyard certificate remove production/lockers")]
    Remove {
        /// The certificate, as environment/name.
        certificate: String,
        #[command(flatten)]
        trial: Trial,
    },
    /// Have the local authority issue a certificate for a service's name inside, for replicas that speak TLS themselves.
    #[command(after_help = "Example:\n  mainyard certificate issue staging/locker-api")]
    Issue {
        /// The service, as environment/name.
        service: String,
        #[command(flatten)]
        trial: Trial,
    },
    /// Print the local authority's certificate: what to trust for hosts without one of their own.
    #[command(
        after_help = "Example:\n  mainyard certificate show-authority > yard.pem\n  curl --cacert yard.pem https://api.lockers.localhost:8743/who"
    )]
    ShowAuthority,
}

/// Things that can be added without a file.
#[derive(Debug, Subcommand)]
pub(crate) enum Add {
    /// Run an image: its port and command are the image's own where nothing else is said.
    #[command(
        after_help = "Example:\n  mainyard add workload staging/kiosk --image lockers/courier-web:2.3.0\n  mainyard add workload staging/kiosk --image lockers/courier-web:2.3.0 --open --print"
    )]
    Workload {
        /// The workload, as environment/name.
        workload: String,
        /// The image, as name:tag.
        #[arg(long)]
        image: String,
        /// How many replicas.
        #[arg(long, default_value_t = 1)]
        replicas: u32,
        /// A port that the process listens on; may be given several times.
        #[arg(long = "port", value_name = "NAME=NUMBER")]
        ports: Vec<String>,
        /// A setting; may be given several times.
        #[arg(long = "set", value_name = "K=V")]
        settings: Vec<String>,
        /// A label; may be given several times.
        #[arg(long = "label", value_name = "K=V")]
        labels: Vec<String>,
        /// The path of the ready check.
        #[arg(long, value_name = "PATH")]
        ready: Option<String>,
        /// The memory limit, such as 128MiB.
        #[arg(long, value_name = "SIZE")]
        memory: Option<String>,
        /// Also let visitors in, by a route of the same name.
        #[arg(long)]
        open: bool,
        /// Program and arguments, instead of the image's own.
        #[arg(last = true, value_name = "COMMAND")]
        command: Vec<String>,
        #[command(flatten)]
        made: Made,
    },
    /// Put a stable name and address in front of replicas.
    #[command(
        after_help = "Example:\n  mainyard add service staging/desks --select tier=api --port 80=http\n  mainyard add service staging/lockers-db --select workload=lockers-db --port 5432=db,tcp"
    )]
    Service {
        /// The service, as environment/name.
        service: String,
        /// A label that workloads must carry; may be given several times. By default the workload of the same name.
        #[arg(long = "select", value_name = "K=V")]
        select: Vec<String>,
        /// A port: the service's number, the workload's port by name, and `tcp` where it speaks something else than HTTP.
        #[arg(long = "port", value_name = "NUMBER=NAME[,tcp]", required = true)]
        ports: Vec<String>,
        /// Another environment whose replicas may call it; may be given several times.
        #[arg(long = "open-to", value_name = "ENVIRONMENT")]
        open_to: Vec<String>,
        #[command(flatten)]
        made: Made,
    },
    /// Let visitors in from outside, at a host; by default the route's name under the environment's domain.
    #[command(
        after_help = "Example:\n  mainyard add route staging/kiosk --to kiosk\n  mainyard add route staging/kiosk --host kiosk.lockers.localhost --to kiosk=90 --to courier-web=10"
    )]
    Route {
        /// The route, as environment/name.
        route: String,
        /// A service, with its port and share where they are not the first and all; may be given several times.
        #[arg(long = "to", value_name = "SERVICE[:PORT][=SHARE]", required = true)]
        to: Vec<String>,
        /// The host.
        #[arg(long)]
        host: Option<String>,
        /// The path it takes, with everything below it.
        #[arg(long)]
        path: Option<String>,
        /// Instead of a host: a port of the gateway, whose connections are passed on as they are.
        #[arg(long, conflicts_with_all = ["host", "path"])]
        port: Option<u16>,
        #[command(flatten)]
        made: Made,
    },
}

/// How a thing is made without a file.
#[derive(Debug, Clone, Args)]
pub(crate) struct Made {
    /// The application it belongs to; by default its service's, or its own name.
    #[arg(long, value_name = "NAME")]
    pub application: Option<String>,
    /// Change nothing; print the file that would be declared.
    #[arg(long)]
    pub print: bool,
    #[command(flatten)]
    pub wait: Wait,
}

/// Commands for applications.
#[derive(Debug, Subcommand)]
pub(crate) enum Application {
    /// Show the workloads, services and routes that were declared together.
    #[command(after_help = "Example:\n  mainyard application show staging/lockers")]
    Show {
        /// The application, as environment/name.
        application: String,
        #[command(flatten)]
        output: Output,
    },
    /// Remove all that an application declared.
    #[command(
        after_help = "Example:\n  mainyard application remove staging/lockers --forecast\n  mainyard application remove staging/lockers"
    )]
    Remove {
        /// The application, as environment/name.
        application: String,
        /// Don't ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        trial: Trial,
    },
}

/// Filters of the trail.
#[derive(Debug, Args)]
pub(crate) struct Trail {
    /// One object only, as environment/name.
    pub target: Option<String>,
    /// One environment only.
    #[arg(long = "in", value_name = "ENVIRONMENT", conflicts_with = "target")]
    pub environment: Option<String>,
    /// By one member only.
    #[arg(long, value_name = "MEMBER")]
    pub by: Option<String>,
    /// One act only, such as scaled or deployed.
    #[arg(long, value_name = "ACT")]
    pub act: Option<String>,
    /// Not before this time.
    #[arg(long, value_name = "TIME")]
    pub from: Option<String>,
    /// Not after this time.
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// Show the platform's own decisions too.
    #[arg(long)]
    pub platform: bool,
    /// How many entries at most.
    #[arg(long, value_name = "N", default_value_t = 200, value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub limit: u32,
    #[command(flatten)]
    pub output: Output,
}

/// By what traffic is grouped.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TrafficBy {
    /// The way in.
    Route,
    /// The service.
    Service,
    /// The release.
    Release,
    /// The replica.
    Replica,
}
