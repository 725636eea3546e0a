//! What replicas may reach outside: the rule of an environment, and the list of a workload.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr};
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::address::is_ours;

/// What the replicas of an environment may reach outside.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OutgoingMode {
    /// Nothing, whatever workloads list.
    None,
    /// What a workload lists.
    #[default]
    Listed,
    /// Everything but what nobody reaches ([`is_never_reached`]).
    All,
}

impl OutgoingMode {
    /// Whether it is what environments have where nobody says otherwise.
    pub fn is_usual(&self) -> bool {
        *self == OutgoingMode::default()
    }

    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            OutgoingMode::None => "none",
            OutgoingMode::Listed => "listed",
            OutgoingMode::All => "all",
        }
    }
}

/// Hosts of a rule.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum OutgoingHosts {
    /// The host of this name.
    Name(String),
    /// Every host below this name.
    Below(String),
    /// Every address whose first bits are these.
    Range(Ipv4Addr, u8),
}

/// A destination that a workload may reach, such as `mail.example:25`, `*.example.org:443`, `192.0.2.0/24:5432` or
/// `198.51.100.7:8000-8010`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct OutgoingRule {
    /// The hosts.
    pub hosts: OutgoingHosts,
    /// The lowest port.
    pub first: u16,
    /// The highest port.
    pub last: u16,
}

/// The form of a rule, for messages about a wrong one.
pub const OUTGOING_FORM: &str = "a host or an address range with its ports, such as \"mail.example:25\", \
     \"*.example.org:443\", \"192.0.2.0/24:5432\" or \"198.51.100.7:8000-8010\"";

impl OutgoingRule {
    /// Whether it names this host.
    pub fn names(&self, name: &str) -> bool {
        match &self.hosts {
            OutgoingHosts::Name(host) => host == name,
            OutgoingHosts::Below(domain) => {
                name.strip_suffix(domain.as_str()).is_some_and(|rest| rest.len() > 1 && rest.ends_with('.'))
            }
            OutgoingHosts::Range(..) => false,
        }
    }

    /// Whether it is a range that this address is in.
    pub fn covers(&self, address: Ipv4Addr) -> bool {
        match self.hosts {
            OutgoingHosts::Range(first, bits) => network(address, bits) == network(first, bits),
            OutgoingHosts::Name(_) | OutgoingHosts::Below(_) => false,
        }
    }

    /// Whether it is for this port.
    pub fn takes(&self, port: u16) -> bool {
        (self.first..=self.last).contains(&port)
    }
}

fn network(address: Ipv4Addr, bits: u8) -> u32 {
    address.to_bits() & u32::MAX.checked_shl(32 - u32::from(bits)).unwrap_or(0)
}

impl FromStr for OutgoingRule {
    type Err = String;

    fn from_str(text: &str) -> Result<OutgoingRule, String> {
        let expected = || OUTGOING_FORM.to_owned();
        let (hosts, ports) = text.rsplit_once(':').ok_or_else(expected)?;
        let port = |text: &str| text.parse().ok().filter(|port: &u16| *port > 0);
        let (first, last) = match ports.split_once('-') {
            Some((first, last)) => (port(first), port(last)),
            None => (port(ports), port(ports)),
        };
        let (first, last) = first.zip(last).filter(|(first, last)| first <= last).ok_or_else(expected)?;
        Ok(OutgoingRule { hosts: hosts_of(hosts)?, first, last })
    }
}

fn hosts_of(text: &str) -> Result<OutgoingHosts, String> {
    let expected = || OUTGOING_FORM.to_owned();
    if let Ok(address) = text.parse() {
        return ranged(address, 32);
    }
    if let Some((address, bits)) = text.split_once('/') {
        let bits = bits.parse().ok().filter(|bits| *bits <= 32).ok_or_else(expected)?;
        return ranged(address.parse().map_err(|_| expected())?, bits);
    }
    let (below, name) = text.strip_prefix("*.").map_or((false, text), |rest| (true, rest));
    // A name of one word is a service's; one of digits alone is no name.
    let is_outside = super::is_host(name)
        && (below || name.contains('.'))
        && !name.ends_with(".internal")
        && name.rsplit('.').next().is_some_and(|last| last.bytes().any(|byte| byte.is_ascii_alphabetic()));
    match (is_outside, below) {
        (true, true) => Ok(OutgoingHosts::Below(name.to_owned())),
        (true, false) => Ok(OutgoingHosts::Name(name.to_owned())),
        (false, _) => Err(expected()),
    }
}

fn ranged(address: Ipv4Addr, bits: u8) -> Result<OutgoingHosts, String> {
    let first = Ipv4Addr::from_bits(network(address, bits));
    if first != address {
        return Err(format!("a range that begins at its first address: {first}/{bits}"));
    }
    if bits >= 8 && is_never_reached(IpAddr::V4(first)) {
        return Err(format!("another range: {first}/{bits} is never reached from a replica"));
    }
    Ok(OutgoingHosts::Range(first, bits))
}

impl fmt::Display for OutgoingRule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.hosts {
            OutgoingHosts::Name(name) => f.write_str(name)?,
            OutgoingHosts::Below(name) => write!(f, "*.{name}")?,
            OutgoingHosts::Range(address, 32) => write!(f, "{address}")?,
            OutgoingHosts::Range(address, bits) => write!(f, "{address}/{bits}")?,
        }
        match self.first == self.last {
            true => write!(f, ":{}", self.first),
            false => write!(f, ":{}-{}", self.first, self.last),
        }
    }
}

impl TryFrom<String> for OutgoingRule {
    type Error = String;

    fn try_from(text: String) -> Result<OutgoingRule, String> {
        text.parse().map_err(|expected| format!("{text:?} is not {expected}"))
    }
}

impl From<OutgoingRule> for String {
    fn from(rule: OutgoingRule) -> String {
        rule.to_string()
    }
}

/// Whether no rule opens the way to an address: the machine itself, its links, the platform's own range, groups.
pub fn is_never_reached(address: IpAddr) -> bool {
    match address.to_canonical() {
        IpAddr::V4(address) => {
            let [first, ..] = address.octets();
            address.is_loopback() || address.is_link_local() || first == 0 || first >= 224 || is_ours(address)
        }
        IpAddr::V6(address) => {
            address.is_loopback()
                || address.is_unspecified()
                || address.is_unicast_link_local()
                || address.is_multicast()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rule(text: &str) -> OutgoingRule {
        text.parse().expect("a rule")
    }

    #[test]
    fn rules_are_read_as_people_write_them() {
        for text in [
            "mail.example:25",
            "*.example.org:443",
            "192.0.2.0/24:5432",
            "198.51.100.7:8000-8010",
            "0.0.0.0/0:1-65535",
        ] {
            assert_eq!(rule(text).to_string(), text);
        }
        for wrong in [
            "mail.example",
            "mail:25",
            "mail.example:0",
            "mail.example:9-8",
            "Mail.example:25",
            "*:25",
            "*.*.org:1",
            "192.0.2.1/24:80",
            "192.0.2.0/33:80",
            "127.0.0.1:80",
            "10.118.16.2:80",
            "169.254.0.0/16:80",
            "224.0.0.1:80",
            "api.staging.internal:80",
            "1.2.3:80",
            "[::1]:80",
        ] {
            assert!(wrong.parse::<OutgoingRule>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn a_rule_takes_its_hosts_and_ports_only() {
        assert!(rule("*.example.org:443").names("a.b.example.org"));
        for other in ["example.org", ".example.org", "badexample.org", "example.org.evil.test"] {
            assert!(!rule("*.example.org:443").names(other), "{other}");
        }
        assert!(rule("192.0.2.0/24:5432").covers([192, 0, 2, 255].into()));
        assert!(!rule("192.0.2.0/24:5432").covers([192, 0, 3, 0].into()));
        assert!(rule("192.0.2.7:8000-8010").takes(8010) && !rule("192.0.2.7:8000-8010").takes(8011));
    }

    proptest! {
        #[test]
        fn a_range_covers_what_shares_its_first_bits(address in any::<u32>(), bits in 0u8..=32, other in any::<u32>()) {
            let mask = if bits == 0 { 0 } else { u32::MAX << (32 - bits) };
            let rule = OutgoingRule {
                hosts: OutgoingHosts::Range(Ipv4Addr::from_bits(address & mask), bits), first: 1, last: 1,
            };
            prop_assert_eq!(rule.covers(Ipv4Addr::from_bits(other)), other & mask == address & mask);
            prop_assert!(rule.covers(Ipv4Addr::from_bits(address)));
        }

        #[test]
        fn any_text_is_read_or_refused(text in ".{0,40}") {
            if let Ok(rule) = text.parse::<OutgoingRule>() {
                prop_assert_eq!(rule.to_string().parse::<OutgoingRule>(), Ok(rule));
            }
        }
    }
}
