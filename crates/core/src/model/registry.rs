//! A registry outside, which images are taken from.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{ImageRef, Name, Origin, Reason};

/// A registry outside. An image whose repository begins with its name is pulled from there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Registry {
    /// Its name here.
    pub name: Name,
    /// Its host, with its port where it is not the usual one.
    pub host: String,
    /// Whether it is spoken to without TLS.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub plain: bool,
    /// The user that images are pulled as; nobody's where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// The name that the sealed password is kept under.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sealed: Option<String>,
    /// The certificate that its own must lead to, as PEM; what the machine trusts where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<String>,
    /// The address of the proxy that it is reached through.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proxy: Option<String>,
    /// Images that a release waits for and that could not be pulled, with why.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub problems: BTreeMap<String, Reason>,
    /// The member who added it.
    pub origin: Origin,
}

impl Registry {
    /// The repository of an image there, where the image is one of this registry.
    pub fn repository_of<'i>(&self, image: &'i ImageRef) -> Option<&'i str> {
        let (first, rest) = image.repository.split_once('/')?;
        (first == self.name.as_str()).then_some(rest)
    }
}

/// Whether a text is the host of a registry: a name or an IPv4 address, with a port where it is not the usual one.
pub fn is_registry_host(text: &str) -> bool {
    let (host, port) = text.split_once(':').map_or((text, None), |(host, port)| (host, Some(port)));
    super::is_host(host) && port.is_none_or(|port| port.parse::<u16>().is_ok_and(|port| port > 0))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_image_is_of_the_registry_that_its_repository_begins_with() {
        let origin = Origin::new("mira", "added", jiff::Timestamp::UNIX_EPOCH);
        let registry = Registry {
            name: "forge".parse().expect("a name"),
            host: "registry.forge.example".to_owned(),
            plain: false,
            user: None,
            sealed: None,
            authority: None,
            proxy: None,
            problems: BTreeMap::new(),
            origin,
        };
        let of = |text: &str| {
            let image: ImageRef = text.parse().expect("an image");
            registry.repository_of(&image).map(str::to_owned)
        };
        assert_eq!(of("forge/team/api:1.4.0").as_deref(), Some("team/api"));
        assert_eq!((of("forge:1"), of("forges/api:1"), of("lockers/forge:1")), (None, None, None));
        for host in ["registry.forge.example", "127.0.0.1:5000", "localhost:5000"] {
            assert!(is_registry_host(host), "{host}");
        }
        for host in
            ["", "https://forge.example", "forge.example:0", "forge.example/x", "a b", "forge.example:x"]
        {
            assert!(!is_registry_host(host), "{host}");
        }
    }
}
