//! The demo: Larkfield Lockers, a made-up company that runs parcel lockers in a made-up town. Its small programs
//! are packed into images here, and its declaration is `mainyard.toml` beside this crate.

mod code;
mod debian;

use mainyard_core::model::ImageRef;
use mainyard_images::{ContentStore, Digest, Error, FileEntry, ImageContent, pack};

pub use code::{CODE, CodeChapter, bases, code_history};
pub use debian::{DebianError, database};

static PROGRAM: &[u8] = include_bytes!(env!("LARKFIELD"));

/// The demo's declaration.
pub const MANIFEST: &str = include_str!("../mainyard.toml");

/// The environment of [`crowd`].
pub const CROWD: &str = "crowd";

/// Of the crowd, so many are reached through a service and a route; more do not fit the range of services' addresses.
const REACHED: usize = 3000;

/// A declaration of so many workloads that rest, for looking at large boards.
pub fn crowd(workloads: usize) -> Vec<String> {
    let one = |number: usize| {
        let name = format!("locker-{number:05}");
        let workload = format!("[workload.{name}]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 0\n");
        if number > REACHED {
            return workload;
        }
        format!(
            "{workload}ports = {{ http = 8080 }}\n\
             [route.{name}]\nhost = \"{name}.crowd.localhost\"\nto = [{{ service = \"{name}\" }}]\n"
        )
    };
    // A file may have a mebibyte.
    let numbers: Vec<usize> = (1..=workloads).collect();
    let file = |numbers: &[usize]| {
        let all: String = numbers.iter().copied().map(one).collect();
        format!("application = \"crowd\"\n{all}")
    };
    numbers.chunks(3000).map(file).collect()
}

/// The demo's environments, in the order in which they are made.
pub const ENVIRONMENTS: [&str; 2] = ["staging", "production"];

/// Secrets of each of these environments, with values that are as made up as all the rest.
pub const SECRETS: [(&str, &str); 1] = [("lockers-db-password", "heron-by-the-old-canal")];

/// Hosts that get gentle traffic, and the paths visitors ask for.
pub const VISITS: [(&str, &[&str]); 4] = [
    ("api.lockers.localhost", &["/lockers/17/compartments", "/lockers/4/compartments", "/who"]),
    ("lockers.localhost", &["/"]),
    ("api.staging.lockers.localhost", &["/lockers/3/compartments", "/who"]),
    ("staging.lockers.localhost", &["/"]),
];

/// Every image of the demo: repository, tag, and the fault it is made with.
const IMAGES: [(&str, &str, &str); 10] = [
    ("locker-api", "1.4.0", ""),
    ("locker-api", "1.5.0", ""),
    ("locker-api", "1.6.0", "never-ready"),
    ("locker-api", "1.6.1", "other-port"),
    ("locker-api", "1.7.0", "memory"),
    ("locker-api", "1.8.0", "errors"),
    ("courier-web", "2.3.0", ""),
    ("courier-web", "2.3.1", ""),
    ("label-printer", "0.9.3", ""),
    ("label-printer", "0.9.4", "memory"),
];

/// Packs all images of the demo into a store; no network is needed.
pub fn pack_images(store: &ContentStore) -> Result<Vec<(ImageRef, Digest)>, Error> {
    IMAGES.iter().map(|(program, tag, fault)| pack_one(store, program, tag, fault)).collect()
}

fn pack_one(
    store: &ContentStore,
    program: &str,
    tag: &str,
    fault: &str,
) -> Result<(ImageRef, Digest), Error> {
    let release = format!("version {tag}\nfault {fault}\n");
    let base = vec![
        FileEntry::Dir("app/".into(), 0o755),
        FileEntry::File("app/larkfield".into(), PROGRAM.to_vec(), 0o755),
        FileEntry::Dir("etc/".into(), 0o755),
        FileEntry::File(
            "etc/passwd".into(),
            b"root:x:0:0::/:\nlarkfield:x:1000:1000::/app:\n".to_vec(),
            0o644,
        ),
    ];
    let own = vec![
        FileEntry::Dir("app/".into(), 0o755),
        FileEntry::Link(format!("app/{program}"), "larkfield".into()),
        FileEntry::File("app/release".into(), release.into_bytes(), 0o644),
    ];
    let content = ImageContent {
        layers: vec![base, own],
        entrypoint: vec![format!("/app/{program}")],
        env: vec!["PATH=/app".into()],
        user: "larkfield".into(),
        ports: if program == "label-printer" { vec![] } else { vec![8080] },
    };
    let name = ImageRef { repository: format!("lockers/{program}"), tag: tag.to_owned() };
    Ok((name, pack(store, &content)?))
}

/// A commit of the demo's repository: who wrote it, its message, and the declaration as it was then.
pub struct Chapter {
    /// Name and address.
    pub by: (&'static str, &'static str),
    /// Days before the demo was brought up.
    pub days: i64,
    /// The commit's message.
    pub message: &'static str,
    /// `deploy/mainyard.toml`.
    pub manifest: String,
}

/// How the declaration came to be what it is.
pub fn history() -> Vec<Chapter> {
    let noor = ("Noor Haddad", "noor@larkfield.example");
    let mira = ("Mira Lindqvist", "mira@larkfield.example");
    let calm = MANIFEST.split("\n# In production a new release").next().unwrap_or(MANIFEST).trim_end();
    let calm = format!("{calm}\n\n[in.production.workload.locker-api]\nreplicas = 6\n");
    let one_page = calm.replace("replicas = 2", "replicas = 1");
    let chapter =
        |by, days, message, manifest: &str| Chapter { by, days, message, manifest: manifest.to_owned() };
    vec![
        chapter(noor, 21, "The lockers of Market Square", &one_page.replace("replicas = 3", "replicas = 1")),
        chapter(noor, 14, "Three replicas of the API, for the second square", &one_page),
        chapter(mira, 6, "Two of the couriers' page: one was too few on Mondays", &calm),
        chapter(mira, 2, "Production moves by watched steps", MANIFEST),
    ]
}
