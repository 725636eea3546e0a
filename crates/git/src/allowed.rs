//! Which repositories the platform's owner lets sources reach: folders of this machine, and hosts.
//!
//! A member chooses a source's URL, and the platform opens the connection. Without this list a member could have it
//! call whatever the platform's machine reaches, and learn from the answers what is there.

use std::net::{IpAddr, SocketAddr, ToSocketAddrs};
use std::path::{Path, PathBuf};
use std::str::FromStr;

use crate::error::Error;

/// A folder or a host that was declared with `--git-allow`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Allowed {
    /// A folder of this machine, with everything below it.
    Folder(PathBuf),
    /// A host, at its scheme's own port or at this one.
    Host {
        /// A name in lower case, or an address; `*.` in front stands for any name below.
        host: String,
        /// The port, where it was said.
        port: Option<u16>,
    },
}

impl FromStr for Allowed {
    type Err = String;

    /// `/srv/git`, `forge.example`, `*.forge.example`, `forge.example:2222`.
    fn from_str(text: &str) -> Result<Allowed, String> {
        if text.starts_with(['/', '.']) {
            return std::path::absolute(text).map(Allowed::Folder).map_err(|error| error.to_string());
        }
        let (host, port) = split_port(text);
        let port = port.map(|port| port.parse().map_err(|_| format!("{port} is not a port"))).transpose()?;
        let host = host.to_ascii_lowercase();
        let plain = host.trim_start_matches("*.");
        let known =
            |letter: char| letter.is_ascii_alphanumeric() || matches!(letter, '.' | '-' | ':' | '[' | ']');
        if plain.is_empty() || !plain.chars().all(known) {
            return Err(
                "a folder such as /srv/git, or a host such as forge.example or forge.example:2222".to_owned()
            );
        }
        Ok(Allowed::Host { host, port })
    }
}

impl std::fmt::Display for Allowed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Allowed::Folder(folder) => write!(f, "{}", folder.display()),
            Allowed::Host { host, port: Some(port) } => write!(f, "{host}:{port}"),
            Allowed::Host { host, port: None } => f.write_str(host),
        }
    }
}

impl Allowed {
    fn has_folder(&self, real: &Path) -> bool {
        let Allowed::Folder(folder) = self else { return false };
        real.starts_with(std::fs::canonicalize(folder).unwrap_or_else(|_| folder.clone()))
    }

    /// Whether it names this host at this port; `usual` is the scheme's own port.
    fn has_host(&self, wanted: &str, wanted_port: u16, usual: u16) -> bool {
        let Allowed::Host { host, port } = self else { return false };
        let named = match host.strip_prefix("*.") {
            Some(domain) => {
                wanted.strip_suffix(domain).is_some_and(|rest| rest.len() > 1 && rest.ends_with('.'))
            }
            None => wanted == host,
        };
        named && port.unwrap_or(usual) == wanted_port
    }

    /// Whether it names this very host and port, so that its owner means an address of this machine.
    fn is_exact(&self, wanted: &str, wanted_port: u16) -> bool {
        matches!(self, Allowed::Host { host, port } if host == wanted && *port == Some(wanted_port))
    }
}

/// A repository that may be reached, and how.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AllowedAddress {
    /// A folder of this machine, by where it really is.
    Folder(PathBuf),
    /// Over https: the addresses that were checked are the ones that are called.
    Https {
        /// `host:port:address`, as curl takes it.
        resolve: String,
    },
    /// Over ssh.
    Ssh {
        /// The address that was checked.
        address: IpAddr,
        /// As `known_hosts` has the host.
        known_as: String,
    },
}

/// The list, and what belongs to the platform itself.
#[derive(Debug, Clone, Default)]
pub struct AllowList {
    /// Folders and hosts.
    pub allowed: Vec<Allowed>,
    /// Addresses at which the platform's own parts answer; they are never reached.
    pub own: Vec<SocketAddr>,
}

impl AllowList {
    /// Whether a URL may be followed, and what to connect to. Nothing is connected to before.
    ///
    /// # Errors
    /// One and the same for every host that is not allowed, whether it answers or not.
    pub fn check(&self, url: &str) -> Result<AllowedAddress, Error> {
        if let Some(path) = url.strip_prefix("file://") {
            return self.check_folder(path);
        }
        let (usual, rest) = match url.split_once("://") {
            Some(("https", rest)) => (443, rest),
            Some(("ssh", rest)) => (22, rest),
            _ => {
                return Err(Error::NotAllowed(format!(
                    "{url} is not a URL that is followed; expected https, ssh or file"
                )));
            }
        };
        let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
        let authority = authority.rsplit_once('@').map_or(authority, |(_, host)| host);
        let (host, port) = split_port(authority);
        let refused = || {
            Error::NotAllowed(format!(
                "the platform's owner does not allow the host {host}: mainyard start --git-allow {}",
                if port.is_some() { authority } else { host }
            ))
        };
        let port: u16 = port.map_or(Ok(usual), str::parse).map_err(|_| refused())?;
        let wanted = host.to_ascii_lowercase();
        let by = self.allowed.iter().filter(|one| one.has_host(&wanted, port, usual));
        let exact = self.allowed.iter().any(|one| one.is_exact(&wanted, port));
        if by.count() == 0 {
            return Err(refused());
        }
        let bare = host.trim_start_matches('[').trim_end_matches(']');
        let found = (bare, port).to_socket_addrs().map_err(|_| unknown(host))?;
        let usable = |address: &SocketAddr| {
            !self.own.contains(address) && (exact || !is_of_this_machine(address.ip()))
        };
        let address = found.into_iter().find(usable).ok_or_else(refused)?.ip();
        Ok(if usual == 443 {
            let address = if address.is_ipv6() { format!("[{address}]") } else { address.to_string() };
            AllowedAddress::Https { resolve: format!("{host}:{port}:{address}") }
        } else {
            AllowedAddress::Ssh {
                address,
                known_as: if port == 22 { wanted } else { format!("[{wanted}]:{port}") },
            }
        })
    }

    fn check_folder(&self, path: &str) -> Result<AllowedAddress, Error> {
        // A link that leads elsewhere is held against the list by where it leads.
        let real = std::fs::canonicalize(path).unwrap_or_else(|_| PathBuf::from(path));
        let plain = !real.components().any(|part| part == std::path::Component::ParentDir);
        if plain && self.allowed.iter().any(|one| one.has_folder(&real)) {
            return Ok(AllowedAddress::Folder(real));
        }
        Err(Error::NotAllowed(format!(
            "{path} is a folder of this machine that the platform's owner does not allow: mainyard start --git-allow \
             FOLDER"
        )))
    }
}

fn unknown(host: &str) -> Error {
    Error::Said { act: "fetch".to_owned(), said: format!("no address is known for the host {host}") }
}

/// Loopback, and addresses that only mean something on this machine or its link.
fn is_of_this_machine(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(v4) => {
            let [first, second, ..] = v4.octets();
            // 10.118.0.0/16 is where replicas are.
            v4.is_loopback()
                || v4.is_unspecified()
                || v4.is_link_local()
                || v4.is_multicast()
                || (first == 10 && second == 118)
        }
        IpAddr::V6(v6) => {
            let mapped = v6.to_ipv4_mapped().is_some_and(|v4| is_of_this_machine(v4.into()));
            mapped
                || v6.is_loopback()
                || v6.is_unspecified()
                || v6.is_unicast_link_local()
                || v6.is_multicast()
        }
    }
}

/// `host:port` into both; `[::1]:22` too.
fn split_port(authority: &str) -> (&str, Option<&str>) {
    match authority.rsplit_once(':') {
        Some((host, port)) if !host.contains(':') || host.ends_with(']') => (host, Some(port)),
        _ => (authority, None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(allowed: &[&str]) -> AllowList {
        let allowed = allowed.iter().map(|text| text.parse().expect("readable")).collect();
        AllowList { allowed, own: vec!["127.0.0.1:8700".parse().expect("an address")] }
    }

    #[test]
    fn only_what_was_declared_is_reached_and_refusals_say_the_same_of_every_host() {
        let list = list(&["127.0.0.1:9418", "*.forge.localhost", "10.118.16.2", "192.0.2.7"]);
        let https = |resolve: &str| AllowedAddress::Https { resolve: resolve.to_owned() };
        assert_eq!(list.check("https://192.0.2.7/a.git").expect("allowed"), https("192.0.2.7:443:192.0.2.7"));
        let exact = list.check("https://127.0.0.1:9418/a.git").expect("named with its port");
        assert_eq!(exact, https("127.0.0.1:9418:127.0.0.1"));
        for url in [
            "https://127.0.0.1/a.git",
            "https://127.0.0.1:8700/a.git",
            "https://10.118.16.2/a.git",
            "https://elsewhere.example/a.git",
            "https://192.0.2.7:5432/a.git",
            "ssh://git@192.0.2.7:2/a.git",
            "https://192.0.2.7@elsewhere.example/a.git",
            "ext::sh -c id",
            "http://192.0.2.7/a.git",
            "file:///etc",
        ] {
            assert!(matches!(list.check(url), Err(Error::NotAllowed(_))), "{url}");
        }
        let said = |url: &str| list.check(url).expect_err("refused").to_string().replace(url, "URL");
        assert_eq!(
            said("https://127.0.0.1:1/a").replace(":1", ":PORT"),
            said("https://127.0.0.1:8700/a").replace(":8700", ":PORT")
        );
    }

    #[test]
    fn the_platforms_own_addresses_are_never_reached() {
        let mut list = list(&["127.0.0.1:8700"]);
        assert!(list.check("https://127.0.0.1:8700/").is_err());
        list.own.clear();
        assert!(list.check("https://127.0.0.1:8700/").is_ok());
    }
}
