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
    /// The image's own health check, as one line.
    pub health_check: Option<String>,
    /// The path by which it can be asked over HTTP whether it is well, as its label or its health check says.
    pub ready_path: Option<String>,
}

/// The label that names such a path.
const HEALTH: &str = "mainyard.health";

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
    let health_check = run.healthcheck.line();
    let label = run.labels.get(HEALTH).filter(|path| path.starts_with('/')).cloned();
    let ready_path = label.or_else(|| asked_path(health_check.as_deref()?));
    Ok(About { ports, command: run.command(), health_check, ready_path })
}

/// The path that a health check asks for over HTTP at the replica itself: a check from outside can ask the same.
pub fn asked_path(health_check: &str) -> Option<String> {
    let (_, rest) = health_check.split_once("http://")?;
    let end =
        rest.find(|letter: char| letter.is_whitespace() || "\"'|;&)`".contains(letter)).unwrap_or(rest.len());
    let (host, path) = rest[..end].split_once('/').unwrap_or((&rest[..end], ""));
    let name = host
        .rsplit_once(':')
        .map_or(host, |(name, port)| if port.parse::<u16>().is_ok() { name } else { host });
    matches!(name, "localhost" | "127.0.0.1" | "[::1]" | "0.0.0.0").then(|| format!("/{path}"))
}

#[cfg(test)]
mod tests {
    use super::asked_path;

    #[test]
    fn the_path_of_a_health_check_is_found_where_it_asks_the_replica_itself() {
        for (line, path) in [
            ("curl -f http://localhost:8080/health || exit 1", Some("/health")),
            ("wget -qO- 'http://127.0.0.1/'", Some("/")),
            ("curl http://[::1]:80/up?full=1", Some("/up?full=1")),
            ("curl --fail http://localhost", Some("/")),
            ("curl http://db.example/health", None),
            ("curl http://localhost:x/health", None),
            ("pg_isready -U postgres", None),
        ] {
            assert_eq!(asked_path(line).as_deref(), path, "{line}");
        }
    }
}
