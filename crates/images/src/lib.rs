//! Images in the open container image format: a content store, taking images in, unpacking and packing them.
//!
//! Follows the OCI image specification 1.1 (image layout, manifest, configuration, layer change sets). What a
//! stranger made is checked before it is believed: every blob against its digest, every layer against the
//! digest its configuration names, every path against leaving its root.

mod about;
mod beneath;
mod changes;
mod content;
mod documents;
mod extended;
mod layout;
mod listing;
mod materials;
mod outline;
mod pack;
mod sums;
mod take;
mod turns;
mod unpack;
mod users;

pub use about::{About, about, asked_path};
pub use changes::{Changes, PackedChanges, pack_changes};
pub use content::{ContentStore, Digest, hash_reader};
pub use documents::{
    Descriptor, HealthCheck, HistoryStep, ImageConfiguration, ImageIndex, ImageManifest, Platform, RootFs,
    RunDefaults,
};
pub use layout::{Imported, architecture, import_archive, import_dir, runs_here, write_archive};
pub use listing::{FileChange, FileKind, LayerListing, ListedFile, changes, merge};
pub use materials::{BILL_LIMIT, BILLS, Materials, Package, spdx_of};
pub use outline::{ImageOutline, LayerOutline, OutlinedFile};
pub use pack::{FileEntry, ImageContent, Layer, pack};
pub use sums::{LayerState, sums_of_layer, verify_layer};
pub use take::{Placing, TakeError, TakenFrom, write_taken};
pub use turns::Turns;
pub use unpack::{merge_layer, unpack_layer};
pub use users::{User, resolve_user};

/// Why an image was refused or could not be handled.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The operating system refused.
    #[error("{doing}: {source}")]
    Io {
        /// The operation that failed.
        doing: String,
        /// The kernel's error.
        source: std::io::Error,
    },
    /// The content is not what its digest says.
    #[error("{what} has the digest {found}, not {expected}: it was changed or cut on the way")]
    DigestMismatch {
        /// Which blob or layer.
        what: String,
        /// The digest that was named.
        expected: String,
        /// The digest of what came.
        found: String,
    },
    /// The image does not follow the specification, or holds what is not taken.
    #[error("{0}")]
    Invalid(String),
    /// An entry of a layer would reach outside the image.
    #[error("the entry {entry:?} {problem}")]
    Escapes {
        /// The entry's name.
        entry: String,
        /// How.
        problem: String,
    },
    /// A size or count is over its limit.
    #[error("{0}")]
    TooLarge(String),
}

trait Doing<T> {
    fn doing(self, doing: impl Into<String>) -> Result<T, Error>;
}

impl<T> Doing<T> for std::io::Result<T> {
    fn doing(self, doing: impl Into<String>) -> Result<T, Error> {
        self.map_err(|source| Error::Io { doing: doing.into(), source })
    }
}
