//! What a node really started, as one digest, to hold against what the release asks for.

use std::collections::BTreeMap;

use serde::Serialize;
use sha2::{Digest, Sha256};

use crate::model::{Limits, Release};

/// What makes one running copy: the image, what is run of it, with which settings and limits.
#[derive(Debug, Clone, Serialize)]
pub struct Started<'a> {
    /// The digest of the image's manifest.
    pub image: &'a str,
    /// Program and arguments, where they are not the image's own.
    pub command: Option<&'a [String]>,
    /// Settings by name, with their values.
    pub settings: BTreeMap<&'a str, &'a str>,
    /// What it may use at most.
    pub limits: &'a Limits,
}

impl<'a> Started<'a> {
    /// As a release asks for it; `None` where its image is not in the store.
    pub fn of(release: &'a Release) -> Option<Started<'a>> {
        let spec = &release.spec;
        Some(Started {
            image: release.digest.as_deref()?,
            command: spec.command.as_deref(),
            settings: spec.settings.iter().map(|(key, value)| (key.as_str(), value.as_str())).collect(),
            limits: &spec.limits,
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
    fn anything_that_differs_shows() {
        let limits = Limits::default();
        let settings = BTreeMap::from([("LOG_LEVEL", "info")]);
        let one = Started { image: "sha256:1", command: None, settings, limits: &limits };
        let words = ["/app/api".to_owned()];
        let others = [
            Started { image: "sha256:2", ..one.clone() },
            Started { command: Some(&words), ..one.clone() },
            Started { settings: BTreeMap::from([("LOG_LEVEL", "debug")]), ..one.clone() },
            Started { limits: &Limits { processes: 1, ..limits }, ..one.clone() },
        ];
        assert_eq!(one.digest(), one.clone().digest());
        assert_eq!(one.digest().len(), 64);
        assert!(others.iter().all(|other| other.digest() != one.digest()));
    }
}
