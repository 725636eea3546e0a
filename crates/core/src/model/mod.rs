//! The things there are: names, amounts, what is declared, what is recorded, and the states they can be in.

mod acme;
mod built_image;
mod certificate;
mod growth;
mod image_rule;
mod names;
mod outgoing;
mod quantities;
mod reason;
mod record;
mod registry;
mod rollout;
mod route;
mod route_rules;
mod route_tls;
mod rule;
mod run_first;
mod schemas;
mod secret;
mod service;
mod source;
mod spec;
mod state;
mod storage_rule;

pub use acme::{CertificateOrder, ChallengeAnswer, ChallengeKind, OutsideAuthority};
pub use built_image::BuiltFrom;
pub use certificate::{Certificate, CertificateView, WARN_DAYS, covers};
pub use growth::{Each, Growing, Grown, Growth, Hours, WhileWaking};
pub use image_rule::ImageRule;
pub use names::{
    EnvironmentIndex, ImageRef, Name, NameError, ReleaseId, ReleaseNumber, ReplicaId, Target, is_host,
    is_repository, replica_short_name,
};
pub use outgoing::{OUTGOING_FORM, OutgoingHosts, OutgoingMode, OutgoingRule, is_never_reached};
pub use quantities::{Bytes, Cpu, Span};
pub use reason::{Reason, ReasonCode};
pub use record::{
    Aside, Environment, Gateway, HoldMark, ImageRecord, LiveChange, Node, Once, Origin, Release, Replica,
    Route, Service, SpentNumbers, Workload,
};
pub use registry::{Registry, is_registry_host};
pub use rollout::{Answered, Evidence, Purpose, Rollout, Shadowing, Suspicion};
pub use route::{
    AskUrl, Changes, Enter, HeaderChange, Leg, Rate, Redirect, Repeat, RepeatOn, RouteLimits, RouteSpec,
    Sticky,
};
pub use route_rules::{AddressRange, CacheRule, Cors, Drill, ProxyVersion, Visitors};
pub use route_tls::{
    CIPHERS, ClientCertificates, Hsts, Onward, PlainHttp, RouteTls, TlsVersion, is_of_tls13,
};
pub use rule::{OnFailure, RolloutRule, Shadow, Step, Style, Then};
pub use run_first::{FirstOutcome, FirstRun, FirstState};
pub use secret::{
    ENCRYPTED_HEAD, Given, SECRET_LIMIT, Secret, SecretKey, SecretUse, SecretValue, SecretVersion, Setting,
    as_encrypted, encrypted,
};
pub use service::{ServicePort, ServiceSpec, Speaks};
pub use source::{
    CatchingUp, CodeRule, Commit, FollowRule, GitNewer, GoneFromGit, LiveChanged, RuleChange, SetBack,
    Source, SourceBuildState, SourceBuilds, SourceCredential, Touched, Yield, short_commit,
};
pub use spec::{Check, CheckKind, Checks, Limits, ReleaseSpec, Reserve, Stop};
pub use state::{ReplicaState, RolloutState, Signal, SourceState, WorkloadState};
pub use storage_rule::{EVERY_OTHER, PruneSchedule, StorageRule};
