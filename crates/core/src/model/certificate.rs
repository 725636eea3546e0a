//! Certificates that routes are served with.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Name, Origin, Signal, Target};

/// Days before its end from which a certificate is warned of.
pub const WARN_DAYS: i64 = 30;

/// A chain, and where its key is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Certificate {
    /// Its environment and name.
    pub target: Target,
    /// The names that it covers, in lower case; `*.` in front stands for one label.
    pub names: Vec<String>,
    /// From when it is valid.
    pub from: Timestamp,
    /// Until when.
    pub until: Timestamp,
    /// Its issuer.
    pub issuer: String,
    /// SHA-256 of it, as hexadecimal digits.
    pub fingerprint: String,
    /// The chain, as PEM.
    pub chain: String,
    /// The name that its key is kept under, sealed; of one that only says whom to trust there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sealed: Option<String>,
    /// The authority outside that it was obtained from; nobody gave it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub obtained_from: Option<Name>,
    /// The member who added it.
    pub origin: Origin,
}

impl Certificate {
    /// Whether it covers a host, or a pattern such as `*.lockers.localhost` (RFC 6125, section 6.4.3).
    pub fn covers(&self, host: &str) -> bool {
        self.sealed.is_some() && covers(&self.names, host)
    }

    /// Whether one of its names is the host itself, without a star. Such a one is shown rather than one with a star; of
    /// several the one that lasts longest.
    pub fn names_exactly(&self, host: &str) -> bool {
        self.names.iter().any(|name| name == host)
    }

    /// How it is at this moment.
    pub fn signal(&self, now: Timestamp) -> Signal {
        if self.until <= now || self.from > now {
            Signal::Fault
        } else if self.days_left(now) < WARN_DAYS {
            Signal::Caution
        } else {
            Signal::Good
        }
    }

    /// Whole days until it ends.
    pub fn days_left(&self, now: Timestamp) -> i64 {
        self.until.duration_since(now).as_hours() / 24
    }

    /// How long it lasts, in words.
    pub fn lasts(&self, now: Timestamp) -> String {
        let day = |at: Timestamp| at.strftime("%-d %b %Y").to_string();
        match self.signal(now) {
            Signal::Fault if self.from > now => format!("valid from {} only", day(self.from)),
            Signal::Fault => format!("ended on {}", day(self.until)),
            _ => format!("until {}, {} days", day(self.until), self.days_left(now)),
        }
    }
}

/// A certificate as it is shown: without its chain, and with how it is now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct CertificateView {
    /// Which one, as `environment/name`.
    pub certificate: String,
    /// The names that it covers.
    pub names: Vec<String>,
    /// From when it is valid.
    pub from: Timestamp,
    /// Until when.
    pub until: Timestamp,
    /// Whole days until it ends.
    pub days_left: i64,
    /// Whether it is good, ends soon, or is not valid.
    pub signal: Signal,
    /// How long it lasts, in words.
    pub lasts: String,
    /// Its issuer.
    pub issuer: String,
    /// SHA-256 of it, as hexadecimal digits.
    pub fingerprint: String,
    /// Whether hosts are served with it; otherwise it only says which authority is trusted.
    pub serves: bool,
    /// The member who added it.
    pub origin: Origin,
}

impl Certificate {
    /// The part that may be shown, as of this moment.
    pub fn view(&self, now: Timestamp) -> CertificateView {
        CertificateView {
            certificate: self.target.to_string(),
            names: self.names.clone(),
            from: self.from,
            until: self.until,
            days_left: self.days_left(now),
            signal: self.signal(now),
            lasts: self.lasts(now),
            issuer: self.issuer.clone(),
            fingerprint: self.fingerprint.clone(),
            serves: self.sealed.is_some(),
            origin: self.origin.clone(),
        }
    }
}

/// Whether one of these names covers a host.
pub fn covers(names: &[String], host: &str) -> bool {
    let wildcard = host.split_once('.').map(|(_, rest)| format!("*.{rest}"));
    names.iter().any(|name| name == host || wildcard.as_ref() == Some(name))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wildcard_covers_one_label() {
        let names = vec!["api.lockers.localhost".to_owned(), "*.yard.localhost".to_owned()];
        for (host, covered) in [
            ("api.lockers.localhost", true),
            ("x.yard.localhost", true),
            ("*.yard.localhost", true),
            ("yard.localhost", false),
            ("a.x.yard.localhost", false),
            ("*.lockers.localhost", false),
        ] {
            assert_eq!(covers(&names, host), covered, "{host}");
        }
    }
}
