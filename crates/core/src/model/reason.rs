//! Why something is not as it should be: a code for programs and a sentence for people.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

macro_rules! codes {
    ($($(#[$doc:meta])* $variant:ident = $word:literal,)*) => {
        /// The code of a reason.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
        pub enum ReasonCode {
            $($(#[$doc])* #[serde(rename = $word)] $variant,)*
        }
        impl ReasonCode {
            /// All codes.
            pub const ALL: &[ReasonCode] = &[$(ReasonCode::$variant,)*];
            /// The code as it is written.
            pub fn word(self) -> &'static str {
                match self { $(ReasonCode::$variant => $word,)* }
            }
        }
    };
}

codes! {
    /// The kernel killed a process of the replica for memory.
    OutOfMemory = "out-of-memory",
    /// Nothing listens on the declared port.
    PortSilent = "port-silent",
    /// Nothing listens on the declared port so far; the process has still time.
    NotListening = "not-listening",
    /// The image's name is not in the store.
    ImageNotFound = "image-not-found",
    /// The environment runs signed images only, and this one is not.
    NotSigned = "not-signed",
    /// The image is being pulled from a registry outside.
    ImageAwaited = "image-awaited",
    /// A registry outside does not let the platform in.
    RegistryRefuses = "registry-refuses",
    /// A registry outside has no such image.
    RegistryLacks = "registry-lacks",
    /// A registry outside wants to be asked less often.
    RegistryLimits = "registry-limits",
    /// The certificate of a registry outside is not trusted.
    RegistryUntrusted = "registry-untrusted",
    /// A registry outside does not answer, or breaks off.
    RegistrySilent = "registry-silent",
    /// The image is there and cannot be used.
    ImageUnusable = "image-unusable",
    /// The process ends again and again.
    KeepsEnding = "keeps-ending",
    /// Its check succeeds and fails in turns.
    Flapping = "flapping",
    /// It was refused another process or thread.
    ProcessLimit = "process-limit",
    /// It has written as much to its root file system as it may.
    DiskFull = "disk-full",
    /// The process ended once and is started again.
    EndedOnce = "ended-once",
    /// A secret has no such version, or its value can't be read.
    SecretMissing = "secret-missing",
    /// No node has the room that is asked for.
    NoRoom = "no-room",
    /// The program could not be started at all.
    CannotStart = "cannot-start",
    /// The node started something else than the release asks for.
    NotAsReleased = "not-as-released",
    /// The ready check is answered wrongly.
    CheckFails = "check-fails",
    /// The ready check is answered too late, or not at all.
    CheckSlow = "check-slow",
    /// The connection of the ready check is refused.
    CheckRefused = "check-refused",
    /// Too few replicas pass their check for it to be believed.
    TooFewReady = "too-few-ready",
    /// The new release was not ready by its deadline.
    NotReadyInTime = "not-ready-in-time",
    /// The new release fails more requests than the previous one.
    MoreErrors = "more-errors",
    /// The new release answers more slowly than the previous one.
    Slower = "slower",
    /// A step is done, and a person is asked before the next.
    AsksFirst = "asks-first",
    /// The command that runs before the release serves did not end well.
    RunFirstFailed = "run-first-failed",
    /// The command that runs before the release serves may have run, and its end is not known.
    RunFirstUnknown = "run-first-unknown",
    /// Git has a newer commit, and a person is asked before it is taken.
    GitNewer = "git-newer",
    /// A commit would remove something, and a person is asked before.
    RemovalAsks = "removal-asks",
    /// A rollout of the commit went back, or a person stopped it: it is not tried again by itself.
    SetBack = "set-back",
    /// An object that Git declares was changed here.
    LiveChanged = "live-changed",
    /// The commit does not hold a valid declaration.
    FilesInvalid = "files-invalid",
    /// The commit declares something that belongs to somebody else, or needs something that is not there yet.
    CannotBeTaken = "cannot-be-taken",
    /// The repository does not answer, or does not let the platform in.
    GitUnreachable = "git-unreachable",
    /// A build of code that is followed failed.
    BuildFailed = "build-failed",
    /// A person said so.
    Cancelled = "cancelled",
    /// The keeper ended without a word, and its replica with it.
    KeeperLost = "keeper-lost",
    /// The node's agent is silent.
    NodeSilent = "node-silent",
    /// No route has this host.
    NoSuchHost = "no-such-host",
    /// The service's selector matches no workload.
    SelectorEmpty = "selector-empty",
    /// No replica of the service takes requests now.
    NoneReady = "none-ready",
    /// The replicas take no more requests at once, and as many wait as may.
    Overloaded = "overloaded",
    /// Nobody asked for a while; the next request wakes it.
    Asleep = "asleep",
    /// It does not wake in time.
    WakesLate = "wakes-late",
    /// Every share of the route is zero.
    AllSharesZero = "all-shares-zero",
    /// The caller's environment is not the service's.
    NotOpenToCaller = "not-open-to-caller",
    /// No rule lets the workload reach a destination outside.
    NotListed = "not-listed",
    /// The destination is one that no replica reaches.
    NeverReached = "never-reached",
    /// The name of a destination outside has no address.
    NameUnresolved = "name-unresolved",
    /// A destination outside does not take connections.
    Unreachable = "unreachable",
    /// The replica broke the connection before it answered.
    AnswerBroken = "answer-broken",
    /// The request cannot be understood, or not in one way only.
    BadRequest = "bad-request",
    /// The host has routes, and none takes the path.
    PathNotMatched = "path-not-matched",
    /// The path has routes, and none takes the method.
    MethodNotTaken = "method-not-taken",
    /// The path has routes, and each asks for a header that the request does not have.
    HeaderNotMatched = "header-not-matched",
    /// The request's body is larger than the route takes.
    BodyTooLarge = "body-too-large",
    /// The request's body stopped coming.
    BodyStalled = "body-stalled",
    /// The replica did not begin its answer in time.
    AnswerLate = "answer-late",
    /// The visitor asks more often than the route lets one visitor.
    RateLimited = "rate-limited",
    /// The visitor did not show that it may enter.
    NotAllowed = "not-allowed",
    /// The service that `ask_url` names gives no answer.
    DoorSilent = "door-silent",
    /// The route takes no visitors with this address.
    AddressNotAllowed = "address-not-allowed",
    /// The route fails some requests on purpose.
    Drill = "drill",
    /// Without TLS was spoken where TLS is expected.
    PlainWhereTls = "plain-where-tls",
    /// TLS was spoken where plain HTTP is expected.
    TlsWherePlain = "tls-where-plain",
    /// The host's TLS is passed through, and the request came on a connection that the gateway opened.
    OtherConnection = "other-connection",
    /// The certificate is for other names than the host.
    CertificateMismatch = "certificate-mismatch",
    /// An authority outside does not sign a certificate, and says why.
    AuthorityRefuses = "authority-refuses",
    /// An authority outside does not answer.
    AuthoritySilent = "authority-silent",
    /// The certificate's dates are not now.
    CertificateOutOfDate = "certificate-out-of-date",
    /// A person holds it.
    Held = "held",
    /// A person scaled it to none.
    ScaledToZero = "scaled-to-zero",
    /// The process listens on loopback only.
    LoopbackOnly = "loopback-only",
    /// It is on its way and nothing is wrong.
    StillStarting = "still-starting",
    /// The route leads to a service that is not there.
    ServiceMissing = "service-missing",
    /// The workloads that the service selects have no port of the name.
    PortMissing = "port-missing",
    /// The gateway does not listen on the port.
    PortNotTaken = "port-not-taken",
    /// The gateway cannot listen on the port that a route takes.
    PortTaken = "port-taken",
    /// No gateway is linked to control.
    GatewaySilent = "gateway-silent",
    /// It answers.
    Answers = "answers",
}

impl std::fmt::Display for ReasonCode {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.word())
    }
}

/// A code and the fact behind it, in one sentence without its full stop.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Reason {
    /// For programs.
    pub code: ReasonCode,
    /// For people.
    pub sentence: String,
}

impl Reason {
    /// A reason.
    pub fn new(code: ReasonCode, sentence: impl Into<String>) -> Reason {
        Reason { code, sentence: sentence.into() }
    }
}

impl std::fmt::Display for Reason {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.code, self.sentence)
    }
}
