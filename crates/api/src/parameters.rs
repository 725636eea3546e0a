//! Path and query parameters.
//!
//! A query that has a key which the operation does not know is refused: a misspelt `forecast` must not carry a change out.

use jiff::Timestamp;
use mainyard_core::model::{Bytes, ImageRef, Name, Target};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

macro_rules! parameters {
    ($($(#[$doc:meta])* $name:ident { $($(#[$of:meta])* $field:ident: $type:ty,)* })*) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
        #[serde(deny_unknown_fields)]
        pub struct $name { $($(#[$of])* pub $field: $type,)* }
    )*};
}

fn fifty() -> u32 {
    50
}

/// A query that is not looked at.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AnyQuery {}

parameters! {
    /// A path without names.
    NoPath {}
    /// An environment.
    OfEnvironment {
        /// The environment.
        environment: Name,
    }
    /// A certificate authority outside.
    OfAuthority {
        /// Its name.
        authority: Name,
    }
    /// A registry outside.
    OfRegistry {
        /// Its name.
        registry: Name,
    }
    /// Something in an environment.
    OfTarget {
        /// The environment.
        environment: Name,
        /// Its name there.
        name: Name,
    }
    /// A key for ssh.
    OfSshKey {
        /// Its name among the caller's keys.
        name: Name,
    }
    /// Code to begin with.
    OfSkeleton {
        /// The kind: python, nodejs, rust, static-site or program.
        like: Name,
    }
    /// A token or a session.
    OfToken {
        /// Its id, or its name.
        #[schemars(length(min = 1, max = 200))]
        id: String,
    }
    /// A node agent.
    OfNode {
        /// The node's name.
        node: Name,
    }
    /// A gateway.
    OfGateway {
        /// The gateway's name.
        gateway: Name,
    }
    /// A build.
    OfBuild {
        /// Its number.
        build: u64,
    }
    /// A step of a build, on a node.
    OfStep {
        /// The node's name.
        node: Name,
        /// The build's number.
        build: u64,
        /// The step, from 0.
        step: u32,
    }
    /// What code to begin with is called.
    SkeletonQuery {
        /// The name of what runs.
        name: Name,
    }
    /// Which builds.
    BuildsQuery {
        /// Of one repository of images only.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 255))]
        repository: Option<String>,
        /// At most so many.
        #[serde(default = "fifty")]
        #[schemars(range(min = 1, max = 1000))]
        limit: u32,
    }
    /// What is to be built.
    NewBuildQuery {
        /// The tag of the image; the commit or the digest of the code by default.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(min = 1, max = 128))]
        tag: Option<String>,
        /// The folder of the tree that has the recipe, and that paths are relative to; its top by default.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 200))]
        folder: Option<String>,
        /// The commit that the code is of.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(regex(pattern = r"^[0-9a-f]{7,64}$"))]
        commit: Option<String>,
        /// The repository of that commit.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 500))]
        repository: Option<String>,
        /// The code differs from the commit.
        #[serde(default)]
        changed: bool,
        /// The environment whose secrets its steps may use.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        secrets_from: Option<Name>,
        /// Use nothing of builds before: run every command, with empty caches.
        #[serde(default)]
        from_scratch: bool,
        /// Build nothing; say what would be built.
        #[serde(default)]
        forecast: bool,
    }
    /// A stream that a part was asked for.
    OfStream {
        /// Its number.
        stream: u64,
    }
    /// Content of the image store.
    OfBlob {
        /// Its digest (OCI image specification).
        #[schemars(regex(pattern = r"^sha256:[0-9a-f]{64}$"))]
        digest: String,
    }
    /// A query without keys.
    NoQuery {}
    /// At which moment; now, where none is given.
    AsOf {
        /// A moment of the past (RFC 3339).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        as_of: Option<Timestamp>,
    }
    /// Whether a change is only to be looked at.
    Trial {
        /// Change nothing; say what would happen.
        #[serde(default)]
        forecast: bool,
        /// In the forecast, lose this node half-way.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        lose_node: Option<Name>,
    }
    /// The name of the application or workload to export.
    ExportQuery {
        /// One workload only, with the services and routes that lead there alone.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        of: Option<Name>,
    }
    /// Since when, and of what.
    SinceQuery {
        /// A moment of the past (RFC 3339).
        as_of: Timestamp,
        /// An environment.
        environment: Name,
        /// One object in it only, by its name.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        of: Option<Name>,
    }
    /// Which entries of the trail.
    TrailQuery {
        /// Of one object only, by its key; with its releases and replicas.
        #[serde(default)]
        #[schemars(length(max = 200))]
        of: String,
        /// Of one environment, and of what is outside of all.
        #[serde(default)]
        #[schemars(length(max = 200))]
        environment: String,
        /// Of one kind of object.
        #[serde(default)]
        #[schemars(length(max = 200))]
        kind: String,
        /// By one member, or by the platform.
        #[serde(default)]
        #[schemars(length(max = 200))]
        by: String,
        /// Of one act, such as `scaled`.
        #[serde(default)]
        #[schemars(length(max = 200))]
        act: String,
        /// Not before this moment (RFC 3339).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        from: Option<Timestamp>,
        /// Not after this moment (RFC 3339).
        #[serde(default, skip_serializing_if = "Option::is_none")]
        until: Option<Timestamp>,
        /// Before this change.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        before: Option<u64>,
        /// Include the platform's own decisions.
        #[serde(default)]
        platform: bool,
        /// How many entries at most.
        #[serde(default = "default_tail")]
        #[schemars(range(min = 1, max = 1000))]
        limit: u32,
    }
    /// Two releases.
    CompareQuery {
        /// A release, as `environment/name@number`.
        #[schemars(length(max = 200))]
        from: String,
        /// Another one.
        #[schemars(length(max = 200))]
        to: String,
    }
    /// Which log lines.
    LogQuery {
        /// One replica by its short name.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 40))]
        replica: Option<String>,
        /// One release by its number, its replicas that are gone included.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        release: Option<u32>,
        /// How many lines of what is there.
        #[serde(default = "default_tail")]
        tail: u32,
        /// Go on with what comes.
        #[serde(default)]
        follow: bool,
    }
    /// Which memory limit what was used is held against.
    UsageQuery {
        /// The limit; the present one where it is left out.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        memory: Option<Bytes>,
    }
    /// Of which traffic.
    TrafficQuery {
        /// `route`, `service`, `release`, `replica`, or several of them with commas between.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 200))]
        by: Option<String>,
        /// An environment, or a service or workload as `environment/name`; of all without it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 200))]
        of: Option<String>,
    }
    /// The subject of the question: one of `url`, `of` and `request`; with `to`, the way from a workload to the outside.
    WhyQuery {
        /// An address, such as `http://api.lockers.localhost:8780/v1`.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 2000))]
        url: Option<String>,
        /// With `url`: the method; GET by default.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 40))]
        method: Option<String>,
        /// With `url`: headers, a line `name: value` each.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 2000))]
        headers: Option<String>,
        /// A workload, service or route, as `environment/name`, with `workload:`, `service:` or `route:` in front where
        /// the name alone would not tell.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 200))]
        of: Option<String>,
        /// With a workload as `of`: a destination outside, such as `mail.example:25`.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 300))]
        to: Option<String>,
        /// The id of a request.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 200))]
        request: Option<String>,
    }
    /// The start of the stream.
    StreamQuery {
        /// The number of the last change that is known; the header `Last-Event-ID` goes before it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        after: Option<u64>,
        /// Whether `views` are sent too.
        #[serde(default)]
        views: bool,
    }
    /// How an image is added.
    NewImageQuery {
        /// Its name, instead of the one that the layout gives it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 255))]
        name: Option<String>,
        /// Change nothing; say what would happen.
        #[serde(default)]
        forecast: bool,
    }
    /// Which image.
    ImageQuery {
        /// The image, as `repository:tag`.
        image: ImageRef,
    }
    /// Which two images are compared.
    CompareImagesQuery {
        /// The image, as `repository:tag`.
        image: ImageRef,
        /// The other image, as `repository:tag`.
        other: ImageRef,
    }
    /// Which images go.
    PruneImagesQuery {
        /// How many of each repository stay, the newest first.
        #[schemars(range(max = 10_000))]
        keep: u32,
        /// Only images that were added longer ago than this, in days.
        #[serde(default)]
        #[schemars(range(max = 10_000))]
        older_than: u32,
        /// Only images of this repository.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(length(max = 255))]
        repository: Option<String>,
        /// Change nothing; say what would happen.
        #[serde(default)]
        forecast: bool,
    }
    /// Which repository's rule.
    StorageRuleQuery {
        /// The repository, such as `lockers/locker-api`; `*` for all that have no rule of their own.
        #[schemars(length(min = 1, max = 255))]
        repository: String,
        /// Change nothing; say what would happen.
        #[serde(default)]
        forecast: bool,
    }
    /// Which image goes.
    RemoveImageQuery {
        /// The image, as `repository:tag`.
        image: ImageRef,
        /// Change nothing; say what would happen.
        #[serde(default)]
        forecast: bool,
    }
}

impl OfTarget {
    /// Both names together.
    pub fn target(&self) -> Target {
        Target::new(&self.environment, &self.name)
    }
}

impl From<&Target> for OfTarget {
    fn from(target: &Target) -> OfTarget {
        OfTarget { environment: target.environment.clone(), name: target.name.clone() }
    }
}

/// A key that opens the console once.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SignInQuery {
    /// The key, as the sign-in link has it.
    #[serde(default)]
    #[schemars(length(max = 200))]
    pub key: String,
}

/// Lines or entries that are sent where nobody says how many.
fn default_tail() -> u32 {
    200
}
