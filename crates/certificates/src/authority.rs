//! The local authority: a key and a certificate of the platform's own, in a directory that all who sign with it share.

use std::collections::BTreeSet;
use std::io::Write;
use std::net::IpAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use rcgen::{
    BasicConstraints, CertificateParams, CertifiedIssuer, CidrSubnet, DistinguishedName, DnType,
    GeneralSubtree, IsCa, KeyPair, KeyUsagePurpose, NameConstraints,
};
use serde::{Deserialize, Serialize};

/// Days that the authority's own certificate is good.
const AUTHORITY_DAYS: i64 = 5 * 365;
/// Days that what it signs is good, at most; it is renewed after two thirds of them.
pub const DAYS: i64 = 90;

/// The names that the authority may sign for: its certificate says so (RFC 5280, section 4.2.1.10), so that even a stolen key
/// stands for no other name where the authority is trusted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Names {
    domains: BTreeSet<String>,
    addresses: BTreeSet<IpAddr>,
}

impl Names {
    /// `localhost` and the loopback addresses, and these domains with everything under them, and these addresses.
    pub fn of(domains: &[String], addresses: &[IpAddr]) -> Names {
        let domains = domains.iter().map(|domain| domain.trim_start_matches("*.").to_ascii_lowercase());
        Names {
            domains: domains.chain(["localhost".to_owned()]).collect(),
            addresses: addresses.iter().copied().filter(|address| !address.is_loopback()).collect(),
        }
    }

    /// Whether it may sign for this host: a name, or an address.
    pub fn permit(&self, host: &str) -> bool {
        if let Ok(address) = host.parse::<IpAddr>() {
            return address.is_loopback() || self.addresses.contains(&address);
        }
        let host = host.to_ascii_lowercase();
        self.domains.iter().any(|domain| {
            host.strip_suffix(domain.as_str()).is_some_and(|rest| rest.is_empty() || rest.ends_with('.'))
        })
    }

    fn subtrees(&self) -> Vec<GeneralSubtree> {
        let loopback = [
            CidrSubnet::V4([127, 0, 0, 0], [255, 0, 0, 0]),
            CidrSubnet::from_addr_prefix(IpAddr::from(std::net::Ipv6Addr::LOCALHOST), 128),
        ];
        let one = |address: &IpAddr| {
            CidrSubnet::from_addr_prefix(*address, if address.is_ipv4() { 32 } else { 128 })
        };
        let addresses = loopback.into_iter().chain(self.addresses.iter().map(one));
        let domains = self.domains.iter().cloned().map(GeneralSubtree::DnsName);
        domains.chain(addresses.map(GeneralSubtree::IpAddress)).collect()
    }
}

/// Makes it good from yesterday, so that a clock that is a little behind takes it too, for so many days.
fn last(params: &mut CertificateParams, days: i64) {
    let day = |from_now: i64| {
        let date = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(24 * from_now);
        let date = date.to_zoned(jiff::tz::TimeZone::UTC);
        rcgen::date_time_ymd(i32::from(date.year()), date.month() as u8, date.day() as u8)
    };
    (params.not_before, params.not_after) = (day(-1), day(days - 1));
}

/// The certificate and key that sign.
pub type Issuer = CertifiedIssuer<'static, KeyPair>;

/// The authority of this directory; it is made where there is none. Its certificate is kept as `authority.pem`, so that a
/// person can have it trusted once.
///
/// # Errors
/// When key or certificate cannot be read or kept.
pub fn issuer(dir: &Path, names: &Names) -> std::io::Result<CertifiedIssuer<'static, KeyPair>> {
    let key_file = dir.join("authority.key");
    let key = match std::fs::read_to_string(&key_file) {
        Ok(text) => KeyPair::from_pem(&text).map_err(std::io::Error::other)?,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let key = KeyPair::generate().map_err(std::io::Error::other)?;
            let partial = key_file.with_extension(format!("partial-{}", std::process::id()));
            let mut file = std::fs::OpenOptions::new()
                .write(true)
                .create(true)
                .truncate(true)
                .mode(0o600)
                .open(&partial)?;
            file.write_all(key.serialize_pem().as_bytes())?;
            // Of several gateways that start together one makes it, and the others take that one.
            let made = std::fs::hard_link(&partial, &key_file);
            std::fs::remove_file(&partial)?;
            match made {
                Ok(()) => key,
                Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
                    KeyPair::from_pem(&std::fs::read_to_string(&key_file)?).map_err(std::io::Error::other)?
                }
                Err(error) => return Err(error),
            }
        }
        Err(error) => return Err(error),
    };
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, "Main Yard local authority");
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    params.name_constraints =
        Some(NameConstraints { permitted_subtrees: names.subtrees(), excluded_subtrees: vec![] });
    last(&mut params, AUTHORITY_DAYS);
    let issuer = CertifiedIssuer::self_signed(params, key).map_err(std::io::Error::other)?;
    let partial = dir.join(format!("authority.partial-{}", std::process::id()));
    std::fs::write(&partial, issuer.pem())?;
    std::fs::rename(partial, dir.join("authority.pem"))?;
    Ok(issuer)
}

/// A chain and key for this host, as PEM, good for [`DAYS`].
///
/// # Errors
/// When the host is none, or nothing can be signed.
pub fn issue(by: &Issuer, host: &str) -> Result<(String, String), rcgen::Error> {
    let key = KeyPair::generate()?;
    let mut params = CertificateParams::new(vec![host.to_owned()])?;
    params.distinguished_name = DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, host);
    last(&mut params, DAYS);
    let signed = params.signed_by(&key, by)?;
    Ok((format!("{}{}", signed.pem(), by.pem()), key.serialize_pem()))
}
