//! Rules of a route on who may ask, from which pages, and what goes wrong on purpose.

use std::collections::BTreeSet;
use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use ipnet::IpNet;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Bytes, Span};

/// A range of addresses, as `10.0.0.0/8`, or one address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(try_from = "String", into = "String")]
#[schemars(with = "String")]
pub struct AddressRange(IpNet);

impl AddressRange {
    /// Whether an address is in it. One of IPv4 that came over IPv6 is looked at as what it is.
    pub fn contains(&self, address: IpAddr) -> bool {
        self.0.contains(&address.to_canonical())
    }
}

impl FromStr for AddressRange {
    type Err = String;

    fn from_str(text: &str) -> Result<AddressRange, String> {
        if let Ok(address) = text.parse::<IpAddr>() {
            return Ok(AddressRange(address.into()));
        }
        let range: IpNet = text.parse().map_err(|_| {
            "a range of addresses, such as \"10.0.0.0/8\" or \"2001:db8::/32\", or one address".to_owned()
        })?;
        if range != range.trunc() {
            return Err(format!("a range that begins at its first address: {}", range.trunc()));
        }
        Ok(AddressRange(range))
    }
}

impl TryFrom<String> for AddressRange {
    type Error = String;

    fn try_from(text: String) -> Result<AddressRange, String> {
        text.parse()
    }
}

impl From<AddressRange> for String {
    fn from(range: AddressRange) -> String {
        range.to_string()
    }
}

impl fmt::Display for AddressRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.0.prefix_len() == self.0.max_prefix_len() {
            return write!(f, "{}", self.0.addr());
        }
        write!(f, "{}", self.0)
    }
}

/// The visitors that a route takes, by their addresses.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Visitors {
    /// Only these; everybody where it is empty.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<AddressRange>,
    /// None of these, whatever else is said.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub never: Vec<AddressRange>,
}

impl Visitors {
    /// Whether a visitor with this address is taken.
    pub fn takes(&self, address: IpAddr) -> bool {
        let is_in = |ranges: &[AddressRange]| ranges.iter().any(|range| range.contains(address));
        !is_in(&self.never) && (self.only.is_empty() || is_in(&self.only))
    }
}

/// Pages of other origins whose scripts may use a route (Fetch Standard, section 3.2, "CORS protocol").
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Cors {
    /// Origins, as `https://app.lockers.example`; `*` for every one.
    pub origins: BTreeSet<String>,
    /// Methods beside GET, HEAD and POST.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub methods: BTreeSet<String>,
    /// Headers of requests beside those that every script may set.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub headers: BTreeSet<String>,
    /// Headers of answers that scripts may read beside the usual.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub exposed: BTreeSet<String>,
    /// Whether requests may carry cookies and passwords.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub credentials: bool,
    /// How long a browser remembers that it may.
    #[serde(default = "Cors::usual")]
    pub lasts: Span,
}

impl Cors {
    fn usual() -> Span {
        Span::from_secs(600)
    }

    /// The origin that is named to a script of this one: itself, or `*`; none where it may not.
    pub fn allows<'a>(&self, origin: &'a str) -> Option<&'a str> {
        if self.origins.contains("*") {
            return Some("*");
        }
        self.origins.contains(origin).then_some(origin)
    }
}

/// Requests that are made slow, or fail, on purpose: to see how the callers take it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Drill {
    /// Of a hundred requests, so many.
    pub share: u32,
    /// They wait so long first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wait: Option<Span>,
    /// They are answered with this status, and no replica gets them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status: Option<u16>,
}

impl fmt::Display for Drill {
    /// "5 % of the requests wait 200ms and are answered with 503, on purpose".
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} % of the requests ", self.share)?;
        match (self.wait, self.status) {
            (Some(wait), Some(status)) => write!(f, "wait {wait} and are answered with {status}")?,
            (Some(wait), None) => write!(f, "wait {wait} longer")?,
            (None, status) => write!(f, "are answered with {}", status.unwrap_or(503))?,
        }
        f.write_str(", on purpose")
    }
}

/// Answers that are kept in memory, as they themselves allow (RFC 9111), and given again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct CacheRule {
    /// The most memory that each gateway keeps them in.
    #[serde(default = "CacheRule::usual")]
    pub size: Bytes,
    /// The largest body that is kept.
    #[serde(default = "CacheRule::usual_largest")]
    pub largest: Bytes,
}

impl CacheRule {
    fn usual() -> Bytes {
        Bytes::mib(16)
    }

    fn usual_largest() -> Bytes {
        Bytes::mib(1)
    }
}

/// A version of the PROXY protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ProxyVersion {
    /// A line of text.
    V1,
    /// Binary.
    V2,
}

#[cfg(test)]
mod tests {
    use super::*;

    fn range(text: &str) -> AddressRange {
        text.parse().unwrap_or_else(|error| panic!("{text}: {error}"))
    }

    #[test]
    fn visitors_are_told_apart_by_their_addresses() {
        let rule = Visitors {
            only: vec![range("10.0.0.0/8"), range("2001:db8::/32")],
            never: vec![range("10.1.2.3")],
        };
        for (address, takes) in [
            ("10.9.9.9", true),
            ("10.1.2.3", false),
            ("11.0.0.1", false),
            ("2001:db8::7", true),
            ("2001:db9::7", false),
            ("::ffff:10.9.9.9", true),
            ("::ffff:10.1.2.3", false),
        ] {
            assert_eq!(rule.takes(address.parse().expect("an address")), takes, "{address}");
        }
        let never = Visitors { only: vec![], never: vec![range("127.0.0.0/8")] };
        assert!(never.takes("10.0.0.1".parse().expect("an address")));
        assert!(!never.takes("127.0.0.1".parse().expect("an address")));
    }

    #[test]
    fn a_range_is_read_and_written_in_one_way() {
        assert_eq!(range("10.0.0.7").to_string(), "10.0.0.7");
        assert_eq!(range("10.0.0.7/32").to_string(), "10.0.0.7");
        let inside = "10.0.0.7/8".parse::<AddressRange>().expect_err("not its first");
        assert!(inside.ends_with("10.0.0.0/8"), "{inside}");
        for text in ["", "10.0.0", "10.0.0.0/33", "lockers.example", "::1/200"] {
            assert!(text.parse::<AddressRange>().is_err(), "{text}");
        }
    }

    #[test]
    fn a_drill_says_what_it_does() {
        let drill = |wait: Option<u64>, status| Drill { share: 5, wait: wait.map(Span::from_millis), status };
        assert_eq!(
            drill(Some(200), Some(503)).to_string(),
            "5 % of the requests wait 200ms and are answered with 503, on purpose"
        );
        assert_eq!(drill(Some(200), None).to_string(), "5 % of the requests wait 200ms longer, on purpose");
        assert_eq!(
            drill(None, Some(500)).to_string(),
            "5 % of the requests are answered with 500, on purpose"
        );
    }
}
