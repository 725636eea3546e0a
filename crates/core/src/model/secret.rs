//! Secrets: what the record knows of them, how a release names them, and the value on its way to a replica.

use std::collections::BTreeMap;
use std::fmt;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Name, Origin, Target};

/// The longest value of a secret, in bytes.
pub const SECRET_LIMIT: usize = 64 << 10;

/// A secret of an environment. Its values are kept sealed and apart; here is only which there are.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Secret {
    /// Its environment and name.
    pub target: Target,
    /// Its versions by number; the newest is the last.
    pub versions: BTreeMap<u32, SecretVersion>,
    /// The application that declares it; `None` where people add its versions.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub application: Option<Name>,
    /// The member who added it.
    pub origin: Origin,
}

/// The prefix of a value in the age format, as text.
pub const ENCRYPTED_HEAD: &str = "-----BEGIN AGE ENCRYPTED FILE-----";

/// A value that is encrypted to an environment's key, as a version of a secret has it.
pub fn encrypted(environment: &Name, text: &str) -> String {
    format!("{environment} {}", text.trim())
}

/// The environment and the encrypted text, where a version has such a value.
pub fn as_encrypted(sealed: &str) -> Option<(&str, &str)> {
    sealed.split_once(' ').filter(|(_, text)| text.starts_with(ENCRYPTED_HEAD))
}

/// One version of a secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SecretVersion {
    /// Under which name its sealed value is kept; or the value itself, encrypted to the environment's key ([`encrypted`]).
    pub sealed: String,
    /// Whether the value is text, which can be a setting; anything else can only be a file.
    pub text: bool,
    /// The member who added it.
    pub origin: Origin,
}

impl Secret {
    /// The number of the newest version.
    pub fn newest(&self) -> u32 {
        self.versions.keys().next_back().copied().unwrap_or(0)
    }
}

/// The value of a setting.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Setting {
    /// As it is written.
    Text(String),
    /// The value of a secret.
    Secret(SecretUse),
}

impl Setting {
    /// The secret it takes its value from, where it does.
    pub fn secret(&self) -> Option<&SecretUse> {
        match self {
            Setting::Text(_) => None,
            Setting::Secret(used) => Some(used),
        }
    }
}

impl fmt::Display for Setting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Setting::Text(text) => f.write_str(text),
            Setting::Secret(used) => used.fmt(f),
        }
    }
}

/// A secret of the same environment, by name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SecretUse {
    /// Which one.
    pub secret: Name,
    /// This version and no other; left out, the newest there is when the release is made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<u32>,
}

impl SecretUse {
    /// Which version that is, where `stood_for` tells what secrets without one stand for; `None` where it does not.
    pub fn key(&self, stood_for: &BTreeMap<Name, u32>) -> Option<SecretKey> {
        let version = self.version.or_else(|| stood_for.get(&self.secret).copied())?;
        Some(SecretKey { secret: self.secret.clone(), version })
    }
}

impl fmt::Display for SecretUse {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.version {
            None => write!(f, "secret {}", self.secret),
            Some(version) => write!(f, "secret {} version {version}", self.secret),
        }
    }
}

/// One version of one secret.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SecretKey {
    /// Which secret.
    pub secret: Name,
    /// Which version.
    pub version: u32,
}

impl fmt::Display for SecretKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} version {}", self.secret, self.version)
    }
}

/// The value of a secret. It is never printed; as JSON it is base64 (RFC 4648), for the way to a node alone.
#[derive(Clone, PartialEq, Eq)]
pub struct SecretValue(pub Vec<u8>);

impl SecretValue {
    /// As text, where it can be the value of an environment variable.
    pub fn text(&self) -> Option<&str> {
        std::str::from_utf8(&self.0).ok().filter(|text| !text.contains('\0'))
    }
}

impl fmt::Debug for SecretValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(not shown)")
    }
}

impl Serialize for SecretValue {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&STANDARD.encode(&self.0))
    }
}

impl<'de> Deserialize<'de> for SecretValue {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<SecretValue, D::Error> {
        let text = String::deserialize(from)?;
        STANDARD.decode(text).map(SecretValue).map_err(|_| serde::de::Error::custom("valid base64"))
    }
}

/// A value with the version it is of, on its way to a node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Given {
    /// Which secret.
    pub secret: Name,
    /// Which version.
    pub version: u32,
    /// Its value.
    pub value: SecretValue,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_setting_is_text_or_names_a_secret() {
        let read = |text: &str| serde_json::from_str::<Setting>(text);
        assert_eq!(read("\"info\"").expect("text"), Setting::Text("info".to_owned()));
        let used = read("{\"secret\": \"db-password\", \"version\": 2}").expect("a secret");
        assert_eq!(used.to_string(), "secret db-password version 2");
        assert!(
            read("{\"secret\": \"db-password\", \"value\": \"x\"}").is_err(),
            "a value has no place here"
        );
    }

    #[test]
    fn a_value_travels_and_is_not_printed() {
        let value = SecretValue(b"hunter\x00\xff".to_vec());
        let line = serde_json::to_string(&value).expect("JSON");
        assert_eq!(serde_json::from_str::<SecretValue>(&line).expect("read back"), value);
        assert!(!format!("{value:?}").contains("hunter"));
        assert_eq!((value.text(), SecretValue(b"abc".to_vec()).text()), (None, Some("abc")));
    }
}
