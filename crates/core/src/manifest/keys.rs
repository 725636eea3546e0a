//! Every key that `mainyard.toml` may hold, what its value may be, and what it is for.

mod ways;

pub use ways::{ROUTE, SERVICE};

/// What a value may be.
#[derive(Debug)]
pub enum Shape {
    /// Any text.
    Text,
    /// A name (see [`crate::model::Name`]).
    Name,
    /// An image, as `repository:tag`.
    Image,
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
    /// A plain value of this shape, or a table with these keys instead, such as the example.
    Or(&'static Shape, &'static [Key], &'static str),
    /// A list.
    List(&'static Shape),
    /// A table with free keys of one kind.
    Map(MapKey, &'static Shape),
    /// A table with these keys.
    Table(&'static [Key]),
}

/// What the free keys of a table may be.
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
    /// What its value may be.
    pub shape: &'static Shape,
    /// What it is for, in a sentence.
    pub about: &'static str,
    /// Whether it must be there.
    pub required: bool,
}

const fn key(name: &'static str, shape: &'static Shape, about: &'static str) -> Key {
    Key { name, shape, about, required: false }
}

const fn required(name: &'static str, shape: &'static Shape, about: &'static str) -> Key {
    Key { name, shape, about, required: true }
}

/// A whole file.
pub static FILE: Shape = Shape::Table(&[
    key("application", &Shape::Name, "What everything in this file is declared, upgraded and removed with."),
    key(
        "constants",
        &Shape::Map(MapKey::Name, &Shape::Constant),
        "Values with a name, which stand in texts as ${name}; $${name} is meant as it is written.",
    ),
    key("secret", &Shape::Map(MapKey::Name, &SECRET), "Values that only the platform can read."),
    key("workload", &Shape::Map(MapKey::Name, &WORKLOAD), "What should run."),
    key("service", &Shape::Map(MapKey::Name, &SERVICE), "A stable name and address in front of replicas."),
    key("route", &Shape::Map(MapKey::Name, &ROUTE), "A host that lets the outside in."),
    key("in", &Shape::Map(MapKey::Name, &OVERLAY), "What differs in one environment."),
]);

/// What may differ in an environment.
pub static OVERLAY: Shape = Shape::Table(&[
    key("constants", &Shape::Map(MapKey::Name, &Shape::Constant), "Constants that are others here."),
    key("secret", &Shape::Map(MapKey::Name, &SECRET), "Secrets that are others here."),
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
    required("image", &Shape::Image, "The image, by name and tag."),
    key("digest", &Shape::Digest, "This very image, whatever its name stands for by now."),
    key(
        "replicas",
        &Shape::Integer(0, 10_000),
        "How many copies; left out, it belongs to anyone who scales.",
    ),
    key("ports", &Shape::Map(MapKey::Name, &PORT), "Ports the process listens on, by name."),
    key("labels", &Shape::Map(MapKey::Label, &Shape::Text), "What selectors look at."),
    key("settings", &Shape::Map(MapKey::Setting, &SETTING), "Environment variables of the process."),
    key("files", &Shape::Map(MapKey::File, &FILE_CONTENT), "Files put into the replica, by absolute path."),
    key("limits", &LIMITS, "What a replica may use at most."),
    key("reserve", &RESERVE, "Room kept for a replica on its node."),
    key("command", &Shape::List(&Shape::Text), "Program and arguments instead of the image's own."),
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
        "Workloads of the same application that are steady first, where a source brings them.",
    ),
    key("stop", &STOP, "How a replica is stopped."),
    key("checks", &CHECKS, "How a replica's health is told."),
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

static PORT: Shape = Shape::Integer(1, 65_535);

static LIMITS: Shape = Shape::Table(&[
    key("cpu", &Shape::Number(0.01, 1024.0), "Processors; 1 by default."),
    key(
        "memory",
        &Shape::Size,
        "Memory, what is written to the root file system included; 256 MiB by default.",
    ),
    key("processes", &Shape::Integer(4, 100_000), "Processes and threads; 128 by default."),
    key(
        "log_lines",
        &Shape::Integer(1, 1_000_000),
        "Lines of its log in a second; what is more is dropped and counted. 1000 by default.",
    ),
]);

static RESERVE: Shape = Shape::Table(&[
    key("cpu", &Shape::Number(0.001, 1024.0), "Processors; 0.01 by default."),
    key("memory", &Shape::Size, "Memory; 32 MiB by default."),
]);

static STOP: Shape = Shape::Table(&[
    key("drain", &Shape::Time, "How long open requests may take to end; 30s by default."),
    key("grace", &Shape::Time, "How long the process may take to end when asked; 10s by default."),
]);

static CHECKS: Shape = Shape::Table(&[
    key("ready", &CHECK, "May it take requests? By default: does it take connections on its first port?"),
    key("alive", &CHECK, "Should it be replaced? By default only when it ends."),
    key(
        "start_within",
        &Shape::Time,
        "How long the process may take until it listens; by default until the rollout's deadline.",
    ),
]);

static CHECK: Shape = Shape::Table(&[
    key("path", &Shape::Path, "A path to GET; 200 to 399 is success."),
    key("port", &Shape::Name, "The port for `path`, by name; the first one by default."),
    key("connect", &Shape::Name, "A port to connect to, by name, instead of a path."),
    key("every", &Shape::Time, "How often; 1s by default."),
    key("within", &Shape::Time, "How long one try may take; 1s by default."),
]);

static ROLLOUT: Shape = Shape::Table(&[
    key(
        "style",
        &Shape::Word(&["rolling", "stepped", "swap"]),
        "One after the other, by watched shares of the requests, or all at once beside the old set; rolling by default.",
    ),
    key(
        "may_exceed",
        &Shape::Integer(0, 10_000),
        "Replicas above the wanted number while moving; 1 by default.",
    ),
    key(
        "may_lack",
        &Shape::Integer(0, 10_000),
        "Replicas below the wanted number while moving; 0 by default.",
    ),
    key("settle", &Shape::Time, "How long a replica stays ready before it counts; 1s by default."),
    key(
        "deadline",
        &Shape::Time,
        "How long the replicas of a rollout, or of one step, may take until they count; 2m by default.",
    ),
    key(
        "on_failure",
        &Shape::Word(&["go-back", "hold"]),
        "Whether a release that fails is taken back or left for a person; go-back by default.",
    ),
    key(
        "shadow",
        &SHADOW,
        "Before any visitor: copies of requests that may be repeated go to the new release, and its answers are compared.",
    ),
    key("steps", &Shape::List(&STEP), "Of a stepped rollout: what comes before all requests move over."),
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
        "After so many copies the first visitors come; 200 by default.",
    ),
    key("within", &Shape::Time, "Or after this time, however few there were to copy; 30s by default."),
]);

static STEP: Shape = Shape::Table(&[
    key("share", &Shape::Integer(1, 99), "Of 100 requests so many go to the new release."),
    key("count", &Shape::Integer(1, 10_000), "Or so many replicas, with the requests that fall to them."),
    key("watch", &Shape::Time, "The next step comes after this time, when nothing was found."),
    key("then", &Shape::Word(&["ask"]), "Or when a person says `advance`."),
]);
