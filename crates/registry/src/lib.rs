//! The protocol of a registry of images: what a request asks for, which answers there are, and what a manifest needs.
//!
//! Follows the OCI distribution specification 1.1. Nothing here reads a file or a socket: control serves the protocol,
//! and asks these modules what a request means. [`outside`] is for the other way round, pulling from another registry.

mod challenge;
mod error;
mod manifest;
pub mod outside;
mod paging;
mod range;
mod request;
pub mod signature;

pub use challenge::{Action, Scope, challenge, granted};
pub use error::{ErrorCode, RegistryError};
pub use manifest::{MANIFEST_LIMIT, Manifest, ManifestKind};
pub use paging::{Page, next_link};
pub use range::{ByteRange, chunk_of, requested};
pub use request::{Reference, RegistryRequest, Repository, Tag};
