//! Keys that members push and clone with over ssh.

use jiff::Timestamp;
use mainyard_core::model::Name;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::operation::{JsonAnswer, JsonBody, NoBody, NoContent, Person, operations};
use crate::{Limits, NoPath, NoQuery, OfSshKey};

operations! {
    /// Lists the keys that let members in over ssh, and the platform's own host key.
    ListSshKeys: Get "/api/v1/ssh-keys" {
        caller: Person, path: NoPath, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: JsonAnswer<SshKeys>, problems: [],
    }
    /// Registers a key of the caller.
    AddSshKey: Post "/api/v1/ssh-keys" {
        caller: Person, path: NoPath, query: NoQuery, body: JsonBody<NewSshKey>, limits: Limits::SMALL,
        answer: NoContent, problems: [Conflict],
        example: r#"{"name": "laptop", "key": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f"}"#,
    }
    /// Removes a key of the caller. It lets nobody in from then on.
    RemoveSshKey: Delete "/api/v1/ssh-keys/{name}" {
        caller: Person, path: OfSshKey, query: NoQuery, body: NoBody, limits: Limits::NONE,
        answer: NoContent, problems: [NotFound],
    }
}

/// A key to be registered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSshKey {
    /// Its name among the caller's keys.
    pub name: Name,
    /// The public key, as a file that ends in `.pub` has it.
    #[schemars(length(min = 1, max = 16_384))]
    pub key: String,
}

/// The keys, and how the platform is reached over ssh.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SshKeys {
    /// The keys of all members.
    pub keys: Vec<SshKeyView>,
    /// Where code is reached, as `ssh://USER@HOST:PORT`; nothing where it is not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// The fingerprint of the host key there, as `ssh-keygen -l` shows it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host_key: Option<String>,
}

/// A key that lets a member in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SshKeyView {
    /// Its name among the member's keys.
    pub name: String,
    /// Whose it is.
    pub member: String,
    /// Its kind, such as `ssh-ed25519`.
    pub kind: String,
    /// Its fingerprint, as `ssh-keygen -l` shows it.
    pub fingerprint: String,
    /// When it was added.
    pub added: Timestamp,
}
