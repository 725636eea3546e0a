//! What an image says of itself.

use oci_spec::image::{ImageConfiguration, ImageManifest};

use crate::content::{ContentStore, Digest};
use crate::{Error, layout};

/// Longest manifest or configuration that is read.
const DOCUMENT: u64 = 4 << 20;

/// What its configuration holds that a declaration may leave out.
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
/// When the store lacks it, or it cannot be read.
pub fn about(store: &ContentStore, digest: &Digest) -> Result<About, Error> {
    let manifest: ImageManifest = layout::document(&store.read(digest, DOCUMENT)?, "the manifest")?;
    let config = Digest::parse(manifest.config().digest().as_ref())?;
    let config: ImageConfiguration = layout::document(&store.read(&config, DOCUMENT)?, "the configuration")?;
    let run = config.config().clone().unwrap_or_default();
    let exposed = run.exposed_ports().clone().unwrap_or_default();
    let tcp = |port: &String| match port.split_once('/') {
        Some((number, "tcp")) => number.parse().ok(),
        Some(_) => None,
        None => port.parse().ok(),
    };
    let mut ports: Vec<u16> = exposed.iter().filter_map(tcp).collect();
    ports.sort_unstable();
    let mut command = run.entrypoint().clone().unwrap_or_default();
    command.extend(run.cmd().clone().unwrap_or_default());
    Ok(About { ports, command })
}
