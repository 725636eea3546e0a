//! A fingerprint of a node's real start of a replica, to compare with what the release asks for.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;
use sha2::{Digest, Sha256};

use crate::model::{Limits, Release, SecretKey, SecretUse, Setting};

/// The parts of one running copy: the image, its command, its settings and limits.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct LaunchFingerprint<'a> {
    /// The digest of the image's manifest.
    pub image: &'a str,
    /// Program and arguments, where they are not the image's own.
    pub command: Option<&'a [String]>,
    /// Settings by name, with their values; of secrets the version, never the value.
    pub settings: BTreeMap<&'a str, Setting>,
    /// Files by path, with the version of the secret in each.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub files: BTreeMap<&'a str, SecretUse>,
    /// The most that it may use.
    pub limits: &'a Limits,
    /// Whether its root file system can only be read.
    #[serde(skip_serializing_if = "is_false")]
    pub read_only: bool,
    /// Whether its processes may trace each other.
    #[serde(skip_serializing_if = "is_false")]
    pub ptrace: bool,
}

fn is_false(value: &bool) -> bool {
    !value
}

impl<'a> LaunchFingerprint<'a> {
    /// As a release asks for it; `None` where its image is not in the store.
    pub fn of(release: &'a Release) -> Option<LaunchFingerprint<'a>> {
        let spec = &release.spec;
        let version = |used: &SecretUse| match release.version_of(used) {
            Some(SecretKey { secret, version }) => SecretUse { secret, version: Some(version) },
            None => used.clone(),
        };
        let fixed = |setting: &Setting| match setting {
            Setting::Text(text) => Setting::Text(text.clone()),
            Setting::Secret(used) => Setting::Secret(version(used)),
        };
        Some(LaunchFingerprint {
            image: release.digest.as_deref()?,
            command: spec.command.as_deref(),
            settings: spec.settings.iter().map(|(key, value)| (key.as_str(), fixed(value))).collect(),
            files: spec.files.iter().map(|(path, used)| (path.as_str(), version(used))).collect(),
            limits: &spec.limits,
            read_only: spec.read_only,
            ptrace: spec.ptrace,
        })
    }

    /// SHA-256 over the JSON of it, in hexadecimal. Its fields and keys have one order, so equal things have equal
    /// digests.
    pub fn digest(&self) -> String {
        let bytes = serde_json::to_vec(self).unwrap_or_default();
        Sha256::digest(&bytes).iter().map(|byte| format!("{byte:02x}")).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_difference_changes_the_fingerprint() {
        let limits = Limits::default();
        let level = |text: &str| BTreeMap::from([("LOG_LEVEL", Setting::Text(text.to_owned()))]);
        let used =
            |version| SecretUse { secret: "db-password".parse().expect("a name"), version: Some(version) };
        let secret = |version| BTreeMap::from([("LOG_LEVEL", Setting::Secret(used(version)))]);
        let files = BTreeMap::new();
        let one = LaunchFingerprint {
            image: "sha256:1",
            command: None,
            settings: level("info"),
            files,
            limits: &limits,
            read_only: false,
            ptrace: false,
        };
        let words = ["/app/api".to_owned()];
        let others = [
            LaunchFingerprint { image: "sha256:2", ..one.clone() },
            LaunchFingerprint { command: Some(&words), ..one.clone() },
            LaunchFingerprint { settings: level("debug"), ..one.clone() },
            LaunchFingerprint { settings: secret(1), ..one.clone() },
            LaunchFingerprint { files: BTreeMap::from([("/app/key", used(1))]), ..one.clone() },
            LaunchFingerprint { limits: &Limits { processes: 1, ..limits }, ..one.clone() },
            LaunchFingerprint { read_only: true, ..one.clone() },
            LaunchFingerprint { ptrace: true, ..one.clone() },
        ];
        assert_eq!(one.digest(), one.clone().digest());
        assert_eq!(one.digest().len(), 64);
        let of = |version| LaunchFingerprint { settings: secret(version), ..one.clone() }.digest();
        assert_ne!(of(1), of(2), "of a secret the version counts");
        assert!(others.iter().all(|other| other.digest() != one.digest()));
    }
}
