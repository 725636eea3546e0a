//! Registries outside, and images that are pulled from them.

use std::collections::BTreeMap;

use jiff::Timestamp;
use mainyard_core::commands::{RegistryAdded, Removed};
use mainyard_core::model::{ImageRef, Name, Origin, Reason};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Done;
use crate::operation::{JsonAnswer, JsonBody, LineAnswer, NoBody, Person, operations};
use crate::{ImageQuery, Limits, NoPath, NoQuery, OfRegistry, Trial};

operations! {
    /// Lists the registries outside that images may be pulled from.
    ListRegistries: Get "/api/v1/registries" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<RegistryEntry>>, problems: [],
    }
    /// Adds a registry outside, or puts one in the place of its predecessor.
    AddRegistry: Put "/api/v1/registries/{registry}" {
        caller: Person, path: OfRegistry, query: Trial, body: JsonBody<NewRegistry>, limits: Limits::bytes(256 << 10),
        answer: JsonAnswer<Done<RegistryAdded>>, problems: [NotFound, Conflict],
        example: r#"{"host": "registry.forge.example", "user": "lockers", "password": "a long one"}"#,
    }
    /// Removes a registry; images that were pulled from it stay.
    RemoveRegistry: Delete "/api/v1/registries/{registry}" {
        caller: Person, path: OfRegistry, query: Trial, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Done<Removed>>, problems: [NotFound, Conflict],
    }
    /// Tells whether a registry answers and lets the platform in.
    CheckRegistry: Post "/api/v1/registries/{registry}/check" {
        caller: Person, path: OfRegistry, query: NoQuery, body: NoBody, limits: Limits::SMALL,
        answer: JsonAnswer<RegistryCheck>, problems: [NotFound],
    }
    /// Pulls an image from the registry that its name begins with; tells how far it is, until it has ended. It goes on without
    /// its reader, and a second caller for the same image reads of the same pull.
    PullImage: Post "/api/v1/images/pull" {
        caller: Person, path: NoPath, query: ImageQuery, body: NoBody, limits: Limits::SMALL,
        answer: LineAnswer<PullProgress>, problems: [NotFound],
    }
    /// Lists the pulls that go on, and those that ended not long ago.
    ListPulls: Get "/api/v1/images/pulls" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<PullProgress>>, problems: [],
    }
}

/// A registry that is to be added.
#[derive(Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRegistry {
    /// Its host, with its port where it is not the usual one.
    #[schemars(length(min = 1, max = 260))]
    pub host: String,
    /// Whether it is spoken to without TLS.
    #[serde(default)]
    pub plain: bool,
    /// The user that images are pulled as.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1, max = 200))]
    pub user: Option<String>,
    /// Its password, or a token; it is sealed, and no answer holds it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(max = 16_384))]
    pub password: Option<String>,
    /// The certificate that its own must lead to, as PEM.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(max = 131_072))]
    pub authority: Option<String>,
    /// The proxy that it is reached through, such as `http://proxy.example:3128`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(max = 300))]
    pub proxy: Option<String>,
}

impl std::fmt::Debug for NewRegistry {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let password = self.password.as_ref().map(|_| "hidden");
        f.debug_struct("NewRegistry")
            .field("host", &self.host)
            .field("password", &password)
            .finish_non_exhaustive()
    }
}

/// A registry, without its password.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RegistryEntry {
    /// Its name: images of it begin with it.
    pub name: Name,
    /// Its host.
    pub host: String,
    /// Whether it is spoken to without TLS.
    pub plain: bool,
    /// The user that images are pulled as.
    pub user: Option<String>,
    /// Whether it has an authority of its own.
    pub own_authority: bool,
    /// The proxy that it is reached through.
    pub proxy: Option<String>,
    /// How many images were pulled from it and are there.
    pub images: u32,
    /// Images that a release waits for and that could not be pulled, with why.
    pub problems: BTreeMap<String, Reason>,
    /// The member who added it.
    pub origin: Origin,
}

/// Whether a registry lets the platform in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RegistryCheck {
    /// Its host.
    pub host: String,
    /// Why not; nothing where it does.
    pub reason: Option<Reason>,
}

/// How a pull stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PullState {
    /// The registry is asked what there is.
    Asking,
    /// Layers come.
    Fetching,
    /// The image is in the store.
    Done,
    /// It could not be pulled.
    Failed,
}

impl PullState {
    /// Whether it goes on no more.
    pub fn has_ended(self) -> bool {
        matches!(self, PullState::Done | PullState::Failed)
    }
}

/// How far a pull is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct PullProgress {
    /// The image.
    pub image: ImageRef,
    /// The host of its registry.
    pub from: String,
    /// How it stands.
    pub state: PullState,
    /// When it began.
    pub began: Timestamp,
    /// Bytes that were fetched.
    pub fetched: u64,
    /// Bytes to fetch in all; 0 until that is known.
    pub total: u64,
    /// Bytes of the image that were there already.
    pub there: u64,
    /// Blobs to fetch.
    pub layers: u32,
    /// Blobs that were fetched.
    pub fetched_layers: u32,
    /// Bytes a second, on average.
    pub rate: f64,
    /// The image's digest, once it is in the store.
    pub digest: Option<String>,
    /// Why it could not be pulled.
    pub reason: Option<Reason>,
}

impl PullProgress {
    /// One that begins now.
    pub fn new(image: ImageRef, from: String) -> PullProgress {
        PullProgress {
            image,
            from,
            state: PullState::Asking,
            began: Timestamp::now(),
            fetched: 0,
            total: 0,
            there: 0,
            layers: 0,
            fetched_layers: 0,
            rate: 0.0,
            digest: None,
            reason: None,
        }
    }

    /// Seconds that are left, by the rate so far.
    pub fn left(&self) -> Option<u64> {
        (self.rate > 0.0 && self.total > 0)
            .then(|| (self.total.saturating_sub(self.fetched) as f64 / self.rate).ceil() as u64)
    }
}
