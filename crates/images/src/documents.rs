//! The JSON documents of the OCI image specification 1.1: index, manifest and configuration.
//!
//! Only the fields that are used are here; others are allowed and ignored, and optional ones may be `null`. The older
//! schema 2 of the same documents has the same fields under other media types.

use std::collections::BTreeMap;

use serde::{Deserialize, Deserializer};

/// How the media types of a list of manifests end: the specification's, and that of the older schema 2.
const INDEXES: [&str; 2] = ["image.index.v1+json", "manifest.list.v2+json"];

/// Signals that ask a program to end, as images name them.
const SIGNALS: [(&str, i32); 10] = [
    ("HUP", libc::SIGHUP),
    ("INT", libc::SIGINT),
    ("QUIT", libc::SIGQUIT),
    ("KILL", libc::SIGKILL),
    ("USR1", libc::SIGUSR1),
    ("USR2", libc::SIGUSR2),
    ("TERM", libc::SIGTERM),
    ("ABRT", libc::SIGABRT),
    ("ALRM", libc::SIGALRM),
    ("WINCH", libc::SIGWINCH),
];

/// The platform that an image of an index is made for.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct Platform {
    /// The operating system, such as `linux`.
    pub os: String,
    /// The processor, such as `amd64`.
    pub architecture: String,
}

/// A reference to a blob.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Descriptor {
    /// The kind of content.
    pub media_type: String,
    /// The digest, as `sha256:` and 64 hexadecimal digits; not checked yet.
    pub digest: String,
    /// The length in bytes.
    pub size: u64,
    /// The platform, in an index.
    pub platform: Option<Platform>,
    /// Free text by key.
    #[serde(default, deserialize_with = "or_default")]
    pub annotations: BTreeMap<String, String>,
}

impl Descriptor {
    /// Whether it refers to a list of manifests.
    pub fn is_index(&self) -> bool {
        INDEXES.iter().any(|end| self.media_type.ends_with(end))
    }
}

/// A list of manifests, one for each platform, or several images of a layout.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct ImageIndex {
    /// The version of the documents; always 2.
    pub schema_version: u32,
    /// The manifests, or further indexes.
    pub manifests: Vec<Descriptor>,
}

/// The parts of one image.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct ImageManifest {
    /// The version of the documents; always 2.
    pub schema_version: u32,
    /// The configuration.
    pub config: Descriptor,
    /// The layers, the lowest first.
    pub layers: Vec<Descriptor>,
    /// Free text by key.
    #[serde(default, deserialize_with = "or_default")]
    pub annotations: BTreeMap<String, String>,
}

/// How an image is run, and the digests of its unpacked layers.
#[derive(Debug, Clone, PartialEq, Deserialize)]
pub struct ImageConfiguration {
    /// The operating system; empty where the image does not say.
    #[serde(default, deserialize_with = "or_default")]
    pub os: String,
    /// The processor; empty where the image does not say.
    #[serde(default, deserialize_with = "or_default")]
    pub architecture: String,
    /// Defaults for running it.
    #[serde(default, deserialize_with = "or_default")]
    pub config: RunDefaults,
    /// The layers.
    pub rootfs: RootFs,
    /// How each layer came about, and what was set beside.
    #[serde(default, deserialize_with = "or_default")]
    pub history: Vec<HistoryStep>,
    /// When it was made, in the form of RFC 3339; empty where the image does not say.
    #[serde(default, deserialize_with = "or_default")]
    pub created: String,
}

/// One step by which an image was made.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(default)]
pub struct HistoryStep {
    /// The command.
    #[serde(deserialize_with = "or_default")]
    pub created_by: String,
    /// Whether it made no layer.
    #[serde(deserialize_with = "or_default")]
    pub empty_layer: bool,
}

/// The layers of an image, unpacked.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct RootFs {
    /// Digests of the plain tar archives, the lowest first.
    pub diff_ids: Vec<String>,
}

/// The image's own health check: a program that is run inside.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub struct HealthCheck {
    /// `["CMD", PROGRAM, …]`, `["CMD-SHELL", LINE]`, or `["NONE"]`.
    #[serde(deserialize_with = "or_default")]
    pub test: Vec<String>,
}

impl HealthCheck {
    /// The command as one line; nothing where the image has none.
    pub fn line(&self) -> Option<String> {
        match self.test.split_first() {
            Some((kind, words)) if (kind == "CMD" || kind == "CMD-SHELL") && !words.is_empty() => {
                Some(words.join(" "))
            }
            _ => None,
        }
    }
}

/// What an image is run with, unless a workload says otherwise.
#[derive(Debug, Clone, Default, PartialEq, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub struct RunDefaults {
    /// User and group: `name`, `uid`, `name:group`, `uid:gid`; empty for root.
    #[serde(deserialize_with = "or_default")]
    pub user: String,
    /// Ports, as `8080/tcp`; the values are empty.
    #[serde(deserialize_with = "or_default")]
    pub exposed_ports: BTreeMap<String, serde::de::IgnoredAny>,
    /// Environment variables, as `NAME=value`.
    #[serde(deserialize_with = "or_default")]
    pub env: Vec<String>,
    /// Program and first arguments.
    #[serde(deserialize_with = "or_default")]
    pub entrypoint: Vec<String>,
    /// Further arguments, or program and arguments where there is no entry point.
    #[serde(deserialize_with = "or_default")]
    pub cmd: Vec<String>,
    /// The working directory; empty for `/`.
    #[serde(deserialize_with = "or_default")]
    pub working_dir: String,
    /// Directories that the program writes to; the values are empty.
    #[serde(deserialize_with = "or_default")]
    pub volumes: BTreeMap<String, serde::de::IgnoredAny>,
    /// The image's own health check, which builders of images add to the specification.
    #[serde(deserialize_with = "or_default")]
    pub healthcheck: HealthCheck,
    /// Free text by key.
    #[serde(deserialize_with = "or_default")]
    pub labels: BTreeMap<String, String>,
    /// The signal that asks the program to end, by name or number; empty for `SIGTERM`.
    #[serde(deserialize_with = "or_default")]
    pub stop_signal: String,
}

impl RunDefaults {
    /// Program and arguments.
    pub fn command(&self) -> Vec<String> {
        self.entrypoint.iter().chain(&self.cmd).cloned().collect()
    }

    /// Directories that the program writes to, as absolute paths without `..`.
    pub fn volumes(&self) -> Vec<String> {
        let is_plain = |path: &&String| path.starts_with('/') && !path.split('/').any(|part| part == "..");
        let paths = self.volumes.keys().filter(is_plain).map(|path| path.trim_end_matches('/').to_owned());
        paths.filter(|path| !path.is_empty()).collect()
    }

    /// The number of the signal that asks the program to end (signal(7)); `SIGTERM` unless the image names another one
    /// that exists.
    pub fn stop_signal(&self) -> i32 {
        let text = self.stop_signal.trim();
        let name = text.strip_prefix("SIG").unwrap_or(text);
        let named = SIGNALS.iter().find(|(known, _)| *known == name).map(|(_, number)| *number);
        let realtime = || Some(libc::SIGRTMIN() + name.strip_prefix("RTMIN+")?.parse::<u8>().ok()? as i32);
        let number = named.or_else(realtime).or_else(|| name.parse().ok());
        number.filter(|number| (1..=libc::SIGRTMAX()).contains(number)).unwrap_or(libc::SIGTERM)
    }
}

/// Many builders write `null` for a field that they could leave out.
fn or_default<'de, D: Deserializer<'de>, T: Deserialize<'de> + Default>(from: D) -> Result<T, D::Error> {
    Ok(Option::deserialize(from)?.unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn optional_fields_may_be_null_or_missing_and_others_are_ignored() {
        let read = |text: &str| serde_json::from_str::<ImageConfiguration>(text).expect("a configuration");
        let bare = read(r#"{"os":"linux","config":null,"rootfs":{"type":"layers","diff_ids":[]}}"#);
        assert_eq!(bare.config, RunDefaults::default());
        let nulls = read(
            r#"{"config":{"Cmd":null,"Entrypoint":["/app"],"Env":null,"Labels":null,"OnBuild":null,"User":null},
                "rootfs":{"type":"layers","diff_ids":["sha256:00"]},"history":[{"empty_layer":true}]}"#,
        );
        assert_eq!((nulls.config.command(), nulls.config.user.as_str()), (vec!["/app".to_owned()], ""));
    }

    #[test]
    fn a_stop_signal_is_known_by_name_and_by_number() {
        let of =
            |text: &str| RunDefaults { stop_signal: text.to_owned(), ..RunDefaults::default() }.stop_signal();
        assert_eq!(["", "SIGQUIT", "QUIT", "3", "SIGWINCH"].map(of), [15, 3, 3, 3, 28]);
        assert_eq!(of("SIGRTMIN+3"), libc::SIGRTMIN() + 3);
        assert_eq!(["SIGNOTHING", "0", "-1", "4000"].map(of), [15; 4], "the usual one stands in");
    }

    #[test]
    fn both_kinds_of_index_are_known() {
        let of = |media_type: &str| Descriptor {
            media_type: media_type.to_owned(),
            digest: String::new(),
            size: 0,
            platform: None,
            annotations: BTreeMap::new(),
        };
        assert!(of("application/vnd.oci.image.index.v1+json").is_index());
        assert!(of("application/vnd.example.distribution.manifest.list.v2+json").is_index());
        assert!(!of("application/vnd.oci.image.manifest.v1+json").is_index());
    }
}
