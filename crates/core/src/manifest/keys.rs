//! Every key that `mainyard.toml` may hold, what its value may be, and what it is for.

mod growth;
mod ways;

pub use ways::{ROUTE, SERVICE};

/// The type of a value.
#[derive(Debug)]
pub enum Shape {
    /// Any text.
    Text,
    /// A name (see [`crate::model::Name`]).
    Name,
    /// An image, as `repository:tag`.
    Image,
    /// A repository of images.
    Repository,
    /// An absolute path inside an image.
    Inside,
    /// The digest of an image's manifest, as `sha256:` and 64 hexadecimal digits.
    Digest,
    /// A whole number in this range.
    Integer(i64, i64),
    /// A number in this range.
    Number(f64, f64),
    /// A size with its unit.
    Size,
    /// A time with its unit.
    Time,
    /// A host name.
    Host,
    /// An HTTP path.
    Path,
    /// One of these words.
    Word(&'static [&'static str]),
    /// A host name, or `*.` in front of one.
    HostPattern,
    /// A value encrypted in the age format, as text (age-encryption.org/v1, armored).
    Encrypted,
    /// A word of visible characters, as names of cookies and headers are (RFC 9110, section 5.6.2).
    Token,
    /// True or false.
    Bool,
    /// A text, a number, or true or false.
    Constant,
    /// A destination outside, with its ports.
    Outgoing,
    /// A range of addresses, or one address.
    Addresses,
    /// A plain value of this shape, or a table with these keys instead, such as the example.
    Or(&'static Shape, &'static [Key], &'static str),
    /// A list.
    List(&'static Shape),
    /// A table with free keys of one kind.
    Map(MapKey, &'static Shape),
    /// A table with these keys.
    Table(&'static [Key]),
}

/// The type of a table's free keys.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MapKey {
    /// Names.
    Name,
    /// Label keys: any short text without spaces.
    Label,
    /// Environment variables: letters, digits and underscores.
    Setting,
    /// Absolute paths of files.
    File,
    /// Port numbers.
    Port,
    /// Names of headers.
    Header,
}

/// One key of a table.
#[derive(Debug)]
pub struct Key {
    /// As it is written.
    pub name: &'static str,
    /// The type of its value.
    pub shape: &'static Shape,
    /// Its purpose, in a sentence.
    pub about: &'static str,
    /// Whether it must be there.
    pub required: bool,
}

/// A key that may be left out.
pub const fn key(name: &'static str, shape: &'static Shape, about: &'static str) -> Key {
    Key { name, shape, about, required: false }
}

/// A key that must be there.
pub const fn required(name: &'static str, shape: &'static Shape, about: &'static str) -> Key {
    Key { name, shape, about, required: true }
}

/// A whole file.
pub static FILE: Shape = Shape::Table(&[
    key(
        "application",
        &Shape::Name,
        "The application: everything in this file is declared, upgraded and removed with it.",
    ),
    key(
        "constants",
        &Shape::Map(MapKey::Name, &Shape::Constant),
        "Named values. ${name} in a text is replaced by the value; $${name} is the text ${name} itself.",
    ),
    key("secret", &Shape::Map(MapKey::Name, &SECRET), "Values that only the platform can read."),
    key("workload", &Shape::Map(MapKey::Name, &WORKLOAD), "What should run."),
    key("service", &Shape::Map(MapKey::Name, &SERVICE), "A stable name and address in front of replicas."),
    key(
        "route",
        &Shape::Map(MapKey::Name, &ROUTE),
        "A way in from outside: a host, or a port of the gateway.",
    ),
    key("in", &Shape::Map(MapKey::Name, &OVERLAY), "Differences in one environment."),
]);

/// Keys that may differ in an environment.
pub static OVERLAY: Shape = Shape::Table(&[
    key("constants", &Shape::Map(MapKey::Name, &Shape::Constant), "Constants with other values here."),
    key("secret", &Shape::Map(MapKey::Name, &SECRET), "Secrets with other values here."),
    key("workload", &Shape::Map(MapKey::Name, &WORKLOAD), "Keys of workloads that differ here."),
    key("service", &Shape::Map(MapKey::Name, &SERVICE), "Keys of services that differ here."),
    key("route", &Shape::Map(MapKey::Name, &ROUTE), "Keys of routes that differ here."),
]);

/// A secret whose value is in the file, encrypted.
pub static SECRET: Shape = Shape::Table(&[required(
    "age",
    &Shape::Encrypted,
    "The value, encrypted to the key that `mainyard secret public-key` prints.",
)]);

/// A workload.
pub static WORKLOAD: Shape = Shape::Table(&[
    required(
        "image",
        &Shape::Or(&Shape::Image, IMAGE_OF_CODE, "{ source = \"lockers-code\", folder = \"api\" }"),
        "The image, by name and tag; or the newest one that is built of a source's code.",
    ),
    key("digest", &Shape::Digest, "Exactly this image, even if its tag names another one by now."),
    key(
        "replicas",
        &Shape::Or(&Shape::Integer(0, 10_000), growth::GROWTH, "{ min = 2, max = 20, each = { open = 10 } }"),
        "The number of replicas, or how it follows the load; if it is left out, people scale by hand.",
    ),
    key("ports", &Shape::Map(MapKey::Name, &WORKLOAD_PORT), "Ports the process listens on, by name."),
    key("labels", &Shape::Map(MapKey::Label, &Shape::Text), "Labels, for selectors."),
    key("settings", &Shape::Map(MapKey::Setting, &SETTING), "Environment variables of the process."),
    key("files", &Shape::Map(MapKey::File, &FILE_CONTENT), "Files put into the replica, by absolute path."),
    key("limits", &LIMITS, "The most that a replica may use."),
    key(
        "read_only",
        &Shape::Bool,
        "true: the root file system can only be read; /tmp, /run, /dev/shm and the image's volumes can be written.",
    ),
    key("ptrace", &Shape::Bool, "true: processes of a replica may trace each other, as debuggers do."),
    key(
        "outgoing",
        &Shape::List(&Shape::Outgoing),
        "Destinations outside that it may reach, by name or address range, with ports: \"mail.example:25\", \"192.0.2.0/24:5432\".",
    ),
    key("reserve", &RESERVE, "Resources reserved for a replica on its node."),
    key("command", &Shape::List(&Shape::Text), "Program and arguments, instead of the image's own."),
    key(
        "run_first",
        &Shape::List(&Shape::Text),
        "Program and arguments to run once for each release, before it serves.",
    ),
    key(
        "run_first_within",
        &Shape::Time,
        "How long `run_first` may take; then it is ended, and the release has failed. 10m by default.",
    ),
    key(
        "after",
        &Shape::List(&Shape::Name),
        "Workloads of the same application that must be steady first, if a source declares them.",
    ),
    key(
        "follow_tag",
        &Shape::Time,
        "How often to look whether the tag of an image from a registry outside names another image by now; then that is rolled out. Without it, a release stays with its image.",
    ),
    key("stop", &STOP, "How a replica is stopped."),
    key("checks", &CHECKS, "How a replica's health is checked."),
    key("rollout", &ROLLOUT, "How the workload moves to a new release."),
]);

static SETTING: Shape = Shape::Or(&Shape::Text, SECRET_USE, "{ secret = \"db-password\" }");

static FILE_CONTENT: Shape = Shape::Table(SECRET_USE);

static SECRET_USE: &[Key] = &[
    required("secret", &Shape::Name, "The secret of the same environment whose value it is."),
    key(
        "version",
        &Shape::Integer(1, 1_000_000),
        "This version and no other; by default the newest, and a newer one makes a release.",
    ),
];

static WORKLOAD_PORT: Shape = Shape::Or(
    &PORT,
    &[
        required("port", &PORT, "The port's number."),
        key(
            "speaks",
            &ways::SPEAKS,
            "What the service speaks that the workload gets by itself: http, h2 (as gRPC does) or tcp. http by default.",
        ),
    ],
    "{ port = 50051, speaks = \"h2\" }",
);

static PORT: Shape = Shape::Integer(1, 65_535);

static LIMITS: Shape = Shape::Table(&[
    key("cpu", &Shape::Number(0.01, 1024.0), "Processors; 1 by default."),
    key(
        "memory",
        &Shape::Size,
        "Memory, including files in /dev/shm and in a /tmp in memory; 256 MiB by default.",
    ),
    key(
        "disk",
        &Shape::Size,
        "What it writes to its root file system, on the node's disk; 1 GiB by default.",
    ),
    key("shared_memory", &Shape::Size, "Files in /dev/shm, which are memory; 64 MiB by default."),
    key(
        "tmp",
        &Shape::Size,
        "The size of a /tmp in memory; by default, /tmp is part of the root file system.",
    ),
    key("processes", &Shape::Integer(4, 100_000), "Processes and threads; 128 by default."),
    key(
        "open_files",
        &Shape::Integer(64, 1_048_576),
        "Files that one process may have open; 65536 by default.",
    ),
    key(
        "log_lines",
        &Shape::Integer(1, 1_000_000),
        "Lines of its log in a second; more are dropped and counted. 1000 by default.",
    ),
    key(
        "requests",
        &Shape::Integer(1, 10_000),
        "Requests that it takes at once; by default as many as keep it busy, which the gateway finds out.",
    ),
    key(
        "queue",
        &Shape::Integer(0, 10_000),
        "Requests that wait in the gateway while it takes no more; others are refused. 1000 by default.",
    ),
    key("queue_time", &Shape::Time, "How long a request waits there at most; 1s by default."),
]);

static RESERVE: Shape = Shape::Table(&[
    key("cpu", &Shape::Number(0.001, 1024.0), "Processors; 0.01 by default."),
    key("memory", &Shape::Size, "Memory; 32 MiB by default."),
]);

static STOP: Shape = Shape::Table(&[
    key("drain", &Shape::Time, "The time for open requests to end; 30s by default."),
    key("grace", &Shape::Time, "The time for the process to end after its stop signal; 10s by default."),
]);

static CHECKS: Shape = Shape::Table(&[
    key(
        "ready",
        &CHECK,
        "Whether it takes requests; by default, whether it accepts connections on its first port.",
    ),
    key("alive", &CHECK, "Whether it must be replaced; by default only when it ends."),
    key(
        "start_within",
        &Shape::Time,
        "The time for the process to start listening; by default until the rollout's deadline.",
    ),
    key(
        "enough",
        &Shape::Integer(0, 100),
        "With fewer percent of the replicas passing their check, requests go to the others as well; 50 by default.",
    ),
]);

static CHECK: Shape = Shape::Table(&[
    key("path", &Shape::Path, "A path to GET; 200 to 399 is success."),
    key("port", &Shape::Name, "The port for `path`, by name; the first one by default."),
    key("connect", &Shape::Name, "A port to connect to, by name, instead of a path."),
    key(
        "grpc",
        &Shape::Text,
        "Instead of a path: a service to ask for by the gRPC health protocol; \"\" asks for the whole server.",
    ),
    key("every", &Shape::Time, "How often; 1s by default."),
    key("within", &Shape::Time, "The time limit of one try; 1s by default."),
    key("after", &Shape::Integer(1, 100), "Failures in a row that count; 3 by default."),
]);

static ROLLOUT: Shape = Shape::Table(&[
    key(
        "style",
        &Shape::Word(&["rolling", "stepped", "swap"]),
        "rolling: one replica after the other; stepped: by watched shares of the requests; swap: all at once, beside the old set. rolling by default.",
    ),
    key(
        "may_exceed",
        &Shape::Integer(0, 10_000),
        "Replicas above the wanted number during a rollout; 1 by default.",
    ),
    key(
        "may_lack",
        &Shape::Integer(0, 10_000),
        "Replicas below the wanted number during a rollout; 0 by default.",
    ),
    key("settle", &Shape::Time, "How long a replica stays ready before it counts; 1s by default."),
    key(
        "deadline",
        &Shape::Time,
        "The time for the replicas of a rollout, or of one step, until they count; 2m by default.",
    ),
    key(
        "on_failure",
        &Shape::Word(&["go-back", "hold"]),
        "go-back: a release that fails is rolled back; hold: it waits for a person. go-back by default.",
    ),
    key(
        "shadow",
        &SHADOW,
        "Before any visitor: copies of requests that may be repeated go to the new release, and its answers are compared.",
    ),
    key(
        "steps",
        &Shape::List(&STEP),
        "The steps of a stepped rollout, before all requests go to the new release.",
    ),
    key(
        "watch",
        &Shape::Time,
        "How long the whole new set is watched with all requests before it is done; 0s by default, of a swap `settle`.",
    ),
    key(
        "keep_old",
        &Shape::Time,
        "Of a swap: how long the old set stays beside the new one, so that going back is instant; 5m by default.",
    ),
]);

static SHADOW: Shape = Shape::Table(&[
    key(
        "copies",
        &Shape::Integer(20, 1_000_000),
        "The number of copies before the first visitors come; 200 by default.",
    ),
    key(
        "within",
        &Shape::Time,
        "Or the longest time before they come, however few copies there were; 30s by default.",
    ),
]);

static STEP: Shape = Shape::Table(&[
    key("share", &Shape::Integer(1, 99), "The share of requests for the new release, in percent."),
    key("count", &Shape::Integer(1, 10_000), "Or a number of replicas, with their share of the requests."),
    key("watch", &Shape::Time, "The time until the next step, if nothing is wrong."),
    key("then", &Shape::Word(&["ask"]), "Or `ask`: the next step comes when a person says `advance`."),
]);

static IMAGE_OF_CODE: &[Key] = &[
    required(
        "source",
        &Shape::Name,
        "The source of this environment that holds the code, or code that is pushed.",
    ),
    key("folder", &Shape::Text, "The folder that has the recipe; the top by default."),
];
