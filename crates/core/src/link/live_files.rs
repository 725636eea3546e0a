//! Files of running replicas that are changed without a build.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::ReplicaId;

/// Files to write and to remove. What is as it should be stays untouched.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LiveFiles {
    /// Files to write.
    #[schemars(length(max = 2_000))]
    pub files: Vec<LiveFile>,
    /// Files to remove, by their absolute paths in the replica.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schemars(length(max = 2_000))]
    pub remove: Vec<String>,
}

/// One file.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LiveFile {
    /// Its absolute path in the replica. Where that is a folder there, the file is put into it under `name`.
    #[schemars(length(max = 4096))]
    pub path: String,
    /// Its own name.
    #[schemars(length(max = 255))]
    pub name: String,
    /// Whether it is a program.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub executable: bool,
    /// What is in it, in base64.
    #[serde(with = "base64_text")]
    #[schemars(with = "String")]
    pub content: Vec<u8>,
}

impl std::fmt::Debug for LiveFile {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} ({} bytes)", self.path, self.content.len())
    }
}

/// How changing one replica's files went.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LiveOutcome {
    /// Which replica.
    pub replica: ReplicaId,
    /// Files that were written.
    pub written: Vec<String>,
    /// Files that were removed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub removed: Vec<String>,
    /// How many were there with that very content.
    pub same: u32,
    /// Why it went no further.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}

impl LiveOutcome {
    /// Nothing was done yet.
    pub fn of(replica: ReplicaId) -> LiveOutcome {
        LiveOutcome { replica, written: Vec::new(), removed: Vec::new(), same: 0, failed: None }
    }

    /// How many files are no longer as they were.
    pub fn changed(&self) -> u32 {
        (self.written.len() + self.removed.len()) as u32
    }
}

mod base64_text {
    use base64::Engine;
    use base64::engine::general_purpose::STANDARD;
    use serde::{Deserialize, Deserializer, Serializer};

    pub(super) fn serialize<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&STANDARD.encode(bytes))
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<u8>, D::Error> {
        let text = String::deserialize(from)?;
        STANDARD.decode(text).map_err(|_| serde::de::Error::custom("valid base64"))
    }
}
