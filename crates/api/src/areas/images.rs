//! Images.

use std::collections::BTreeMap;

use mainyard_core::commands::{ImagesAdded, Removed, StorageRuleSet};
use mainyard_core::difference::Difference;
use mainyard_core::link::ImageFetch;
use mainyard_core::model::{Bytes, ImageRecord, Name, PruneSchedule, StorageRule};
use mainyard_core::views::ImageUse;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Done;
use crate::operation::{JsonAnswer, JsonBody, NoBody, Person, StreamBody, operations};
use crate::{
    AsOf, CompareImagesQuery, ImageQuery, Limits, NewImageQuery, NoPath, NoQuery, PruneImagesQuery,
    RemoveImageQuery, StorageRuleQuery,
};

/// Largest archive that is taken, in bytes.
pub const IMAGE_LIMIT: u64 = 16 << 30;

operations! {
    /// Lists the images in the store, the newest first, with who runs them.
    ListImages: Get "/api/v1/images" {
        caller: Person, path: NoPath, query: AsOf, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<ImageEntry>>, problems: [NotFound],
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
    /// Returns all about an image: how it is run, how it was made, its layers and who shares them, and what is left out of it.
    ShowImage: Get "/api/v1/images/details" {
        caller: Person, path: NoPath, query: ImageQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<ImageDetails>, problems: [NotFound],
    }
    /// Compares two images: how they are run, and the files that one has differently from the other.
    CompareImages: Get "/api/v1/images/compare" {
        caller: Person, path: NoPath, query: CompareImagesQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<ImageComparison>, problems: [NotFound],
    }
    /// Lists the images that nodes fetch from the store now, with how far they are.
    ListFetches: Get "/api/v1/images/fetches" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<NodeFetch>>, problems: [],
    }
    /// Lists what each repository keeps in the store, with the rule that holds for it.
    ListStorage: Get "/api/v1/images/storage" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Vec<RepositoryStorage>>, problems: [],
    }
    /// Declares how much a repository may keep, and which of its images go by themselves.
    SetStorageRule: Put "/api/v1/images/storage" {
        caller: Person, path: NoPath, query: StorageRuleQuery, body: JsonBody<NewStorageRule>, limits: Limits::SMALL,
        answer: JsonAnswer<Done<StorageRuleSet>>, problems: [],
        example: r#"{"limit": "20 GiB", "prune": {"keep": 10, "older_than": 30, "every": "24h"}}"#,
    }
    /// Takes a repository's rule back. Its images stay.
    RemoveStorageRule: Delete "/api/v1/images/storage" {
        caller: Person, path: NoPath, query: StorageRuleQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<Done<Removed>>, problems: [NotFound],
    }
    /// Removes old images by rule. What runs, what is kept and what a release may go back to stays.
    PruneImages: Post "/api/v1/images/prune" {
        caller: Person, path: NoPath, query: PruneImagesQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<ImagesPruned>, problems: [Conflict],
    }
}

/// An image in the store.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ImageEntry {
    /// As it is recorded.
    #[serde(flatten)]
    pub record: ImageRecord,
    /// The workloads that run it.
    pub uses: Vec<ImageUse>,
    /// Where its code is, as it says itself (`org.opencontainers.image.source`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// The commit that it was made of, as it says itself (`org.opencontainers.image.revision`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commit: Option<String>,
}

/// A rule that is to hold for a repository.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewStorageRule {
    /// The bytes that its images may take up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<Bytes>,
    /// Which of its images go by themselves.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prune: Option<PruneSchedule>,
}

/// What a repository keeps.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RepositoryStorage {
    /// The repository; `*` for the rule of all that have none of their own.
    pub repository: String,
    /// Images in it.
    pub images: u32,
    /// Bytes of their layers and documents, and of what was pushed beside them; what two of its images share counts once.
    pub size: u64,
    /// The rule that holds for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rule: Option<StorageRule>,
    /// That rule in words.
    pub says: String,
}

/// An image that a node fetches.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct NodeFetch {
    /// The node.
    pub node: Name,
    /// How far it is.
    #[serde(flatten)]
    pub fetch: ImageFetch,
    /// The same in words, such as `1.2 GiB of 2.0 GiB, 14s left`.
    pub says: String,
}

/// All about an image.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ImageDetails {
    /// As it is listed.
    #[serde(flatten)]
    pub entry: ImageEntry,
    /// The operating system and processor that it is for, such as `linux/amd64`.
    pub platform: String,
    /// When it was made, as it says itself.
    pub created: String,
    /// How it is run.
    pub run: ImageRun,
    /// Its layers, the lowest first.
    pub layers_in_order: Vec<LayerDetails>,
    /// Commands that made it, the first one first.
    pub history: Vec<String>,
    /// Labels and annotations.
    pub labels: BTreeMap<String, String>,
    /// The releases that keep its content, as `environment/workload@number`.
    pub kept_by: Vec<String>,
    /// What was pushed about it: signatures, bills of materials and the like.
    pub attached: Vec<Attachment>,
    /// The number of the build that made it, where it was built here and that is not long ago.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub build: Option<u64>,
}

/// An artifact about an image (OCI distribution specification, "Listing Referrers").
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Attachment {
    /// The digest of its manifest.
    pub digest: String,
    /// What kind of artifact it is, such as `application/spdx+json`.
    pub kind: String,
    /// Free text by key.
    pub annotations: BTreeMap<String, String>,
    /// What a bill of materials says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub materials: Option<BillOfMaterials>,
}

/// A software bill of materials.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct BillOfMaterials {
    /// Its format with the version, such as `SPDX-2.3`.
    pub format: String,
    /// The packages that the image was made of, by name.
    pub packages: Vec<ListedPackage>,
}

/// A package of a bill of materials.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ListedPackage {
    /// Its name.
    pub name: String,
    /// Its version; empty where the bill does not say it.
    pub version: String,
}

/// How an image says that it is run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ImageRun {
    /// Program and arguments.
    pub command: Vec<String>,
    /// User and group; empty for root.
    pub user: String,
    /// The working directory; empty for `/`.
    pub directory: String,
    /// Environment variables, as `NAME=value`.
    pub env: Vec<String>,
    /// TCP ports that it exposes.
    pub ports: Vec<u16>,
    /// Directories that it writes to.
    pub volumes: Vec<String>,
    /// The signal that asks it to end; empty for `SIGTERM`.
    pub stop_signal: String,
    /// The image's own health check, which is a program. It is shown, and never run by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub health_check: Option<String>,
}

/// One layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LayerDetails {
    /// Its digest, as it is kept.
    pub digest: String,
    /// Its length as it is kept, in bytes.
    pub size: u64,
    /// Files, directories and links in it.
    pub files: u64,
    /// Device files that are left out.
    pub skipped_devices: u32,
    /// Files whose owner becomes nobody (65534), because their own is past 65535.
    pub foreign_owners: u32,
    /// Other images that have it too.
    pub shared_with: Vec<String>,
}

/// How two images differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ImageComparison {
    /// The digest of the image.
    pub digest: String,
    /// The digest of the other.
    pub other_digest: String,
    /// How they are run differently.
    pub run: Vec<Difference>,
    /// Files that differ, by path; no more than 10,000.
    pub files: Vec<FileDifference>,
    /// Sums over all files that differ, whatever number is listed.
    pub sums: FileSums,
}

/// A file that two images have differently.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FileDifference {
    /// Its path, without the first slash.
    pub path: String,
    /// Its length in the image, in bytes; nothing where that has no such file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<u64>,
    /// Its length in the other image, in bytes; nothing where that has no such file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<u64>,
}

/// How many files differ, and by how much.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub struct FileSums {
    /// Files that only the other image has.
    pub added: u64,
    /// Files that both have, with another content, mode or owner.
    pub changed: u64,
    /// Files that only the image has.
    pub removed: u64,
    /// Bytes in files that were added or changed, as the other image has them.
    pub bytes: u64,
}

/// What was pruned, or would be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ImagesPruned {
    /// The images that go, as `repository:tag`.
    pub images: Vec<String>,
    /// What that frees on the disk within two hours, in bytes: blobs that nothing else needs.
    pub frees: u64,
    /// How many images stay.
    pub stay: u64,
    /// Whether it was only asked what would happen.
    pub forecast: bool,
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
    /// The image's own health check, which is a program. It is never run by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub health_check: Option<String>,
    /// The path that it asks for over HTTP: a ready check can ask the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ready_path: Option<String>,
}
