//! What an environment asks of the images that run there.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{ImageRecord, Name};

/// How a public key is written: this, and its 32 bytes in base64url without padding (RFC 4648, RFC 8032).
const ED25519: &str = "ed25519:";

/// What images an environment runs.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub struct ImageRule {
    /// Public keys by name: an image that one of them signed is run.
    pub signed_by: BTreeMap<Name, String>,
}

impl ImageRule {
    /// The names of keys that signed an image.
    pub fn signers<'r>(&'r self, image: &'r ImageRecord) -> impl Iterator<Item = &'r Name> {
        self.signed_by.iter().filter(|(_, key)| image.signed_by.contains(*key)).map(|(name, _)| name)
    }

    /// Whether a text is a public key.
    pub fn is_key(text: &str) -> bool {
        let letter = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_';
        text.strip_prefix(ED25519).is_some_and(|key| key.len() == 43 && key.bytes().all(letter))
    }
}
