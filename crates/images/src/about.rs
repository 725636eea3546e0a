//! The configuration of an image.

use crate::content::{ContentStore, Digest};
use crate::documents::{ImageConfiguration, ImageManifest};
use crate::{Error, layout};

/// Longest manifest or configuration that is read.
const DOCUMENT: u64 = 4 << 20;

/// The parts of its configuration that a declaration may leave out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct About {
    /// TCP ports it exposes, the lowest first.
    pub ports: Vec<u16>,
    /// Program and arguments.
    pub command: Vec<String>,
}

/// Reads it from the store.
///
/// # Errors
/// When the store does not have it, or it cannot be read.
pub fn about(store: &ContentStore, digest: &Digest) -> Result<About, Error> {
    let manifest: ImageManifest = layout::document(&store.read(digest, DOCUMENT)?, "the manifest")?;
    let config = Digest::parse(&manifest.config.digest)?;
    let config: ImageConfiguration = layout::document(&store.read(&config, DOCUMENT)?, "the configuration")?;
    let run = config.config;
    let tcp = |port: &String| match port.split_once('/') {
        Some((number, "tcp")) => number.parse().ok(),
        Some(_) => None,
        None => port.parse().ok(),
    };
    let mut ports: Vec<u16> = run.exposed_ports.keys().filter_map(tcp).collect();
    ports.sort_unstable();
    Ok(About { ports, command: run.command() })
}
