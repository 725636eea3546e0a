//! The operations, by what they are about.

mod access;
mod authorities;
mod builds;
mod code;
mod environments;
mod images;
mod parts;
mod platform;
mod registries;
mod releases;
mod secrets;
mod sources;
mod ssh_keys;
mod workloads;

pub use access::*;
pub use authorities::*;
pub use builds::*;
pub use code::*;
pub use environments::*;
pub use images::*;
pub use parts::*;
pub use platform::*;
pub use registries::*;
pub use releases::*;
pub use secrets::*;
pub use sources::*;
pub use ssh_keys::*;
pub use workloads::*;

use mainyard_core::forecast::{LimitForecast, Rehearsal};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::operation::Described;

/// Every operation.
pub fn all() -> impl Iterator<Item = &'static Described> {
    [
        platform::ALL,
        access::ALL,
        environments::ALL,
        workloads::ALL,
        releases::ALL,
        images::ALL,
        registries::ALL,
        authorities::ALL,
        builds::ALL,
        code::ALL,
        secrets::ALL,
        sources::ALL,
        ssh_keys::ALL,
        parts::ALL,
    ]
    .into_iter()
    .flatten()
}

/// The result of a change, or of its forecast.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Done{T}")]
pub struct Done<T> {
    /// The changes that were made, or would be.
    #[serde(flatten)]
    pub outcome: T,
    /// How it would go, where it was only looked at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub forecast: Option<Rehearsal>,
    /// A prediction for new memory limits, if this was a forecast.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sizes: Option<Vec<LimitForecast>>,
}

impl<T> Done<T> {
    /// It was done.
    pub fn new(outcome: T) -> Done<T> {
        Done { outcome, forecast: None, sizes: None }
    }

    /// The same, with another outcome.
    pub fn map<U>(self, into: impl FnOnce(T) -> U) -> Done<U> {
        Done { outcome: into(self.outcome), forecast: self.forecast, sizes: self.sizes }
    }
}
