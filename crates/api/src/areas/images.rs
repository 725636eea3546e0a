//! Images.

use mainyard_core::commands::{ImagesAdded, Removed};
use mainyard_core::model::ImageRecord;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Done;
use crate::operation::{JsonAnswer, NoBody, Person, StreamBody, operations};
use crate::{ImageQuery, Limits, NewImageQuery, NoPath, NoQuery, RemoveImageQuery};

/// Largest archive that is taken, in bytes.
pub const IMAGE_LIMIT: u64 = 16 << 30;

operations! {
    /// Lists the images in the store.
    ListImages: Get "/api/v1/images" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<ImageRecord>>, problems: [],
    }
    /// Adds images from an image layout (OCI image specification) as a tar archive, plain or compressed.
    AddImage: Post "/api/v1/images" {
        caller: Person, path: NoPath, query: NewImageQuery, body: StreamBody, limits: Limits::streamed(IMAGE_LIMIT),
        answer: JsonAnswer<Done<ImagesAdded>>, problems: [NoSpace],
    }
    /// Removes an image from the store by its name. Releases that were made with it keep its content.
    RemoveImage: Delete "/api/v1/images" {
        caller: Person, path: NoPath, query: RemoveImageQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Done<Removed>>, problems: [NotFound, Conflict],
    }
    /// Returns what an image says of itself: the ports it exposes and the command it runs.
    ShowImageConfig: Get "/api/v1/images/config" {
        caller: Person, path: NoPath, query: ImageQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<ImageConfig>, problems: [NotFound],
    }
}

/// The configuration of an image (OCI image configuration).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ImageConfig {
    /// The image, as `repository:tag`.
    pub image: String,
    /// The digest of its manifest.
    pub digest: String,
    /// The ports it exposes.
    pub ports: Vec<u16>,
    /// The command it runs.
    pub command: Vec<String>,
}
