//! The local authority: a key and a certificate of the platform's own, in a directory that all who sign with it share.

use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use rcgen::{
    BasicConstraints, CertificateParams, CertifiedIssuer, DistinguishedName, DnType, IsCa, KeyPair,
    KeyUsagePurpose,
};

/// Who signs.
pub type Issuer = CertifiedIssuer<'static, KeyPair>;

/// The authority of this directory; it is made where there is none. Its certificate is kept as `authority.pem`, so that a
/// person can have it trusted once.
///
/// # Errors
/// When key or certificate cannot be read or kept.
pub fn issuer(dir: &Path) -> std::io::Result<CertifiedIssuer<'static, KeyPair>> {
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
    let issuer = CertifiedIssuer::self_signed(params, key).map_err(std::io::Error::other)?;
    let partial = dir.join(format!("authority.partial-{}", std::process::id()));
    std::fs::write(&partial, issuer.pem())?;
    std::fs::rename(partial, dir.join("authority.pem"))?;
    Ok(issuer)
}

/// A chain and key for this host, as PEM, valid from now for so many days.
///
/// # Errors
/// When the host is none, or nothing can be signed.
pub fn issue(by: &Issuer, host: &str, days: i64) -> Result<(String, String), rcgen::Error> {
    let key = KeyPair::generate()?;
    let mut params = CertificateParams::new(vec![host.to_owned()])?;
    params.distinguished_name = DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, host);
    let day = |after: i64| {
        let date = (jiff::Timestamp::now() + jiff::SignedDuration::from_hours(24 * after))
            .to_zoned(jiff::tz::TimeZone::UTC);
        rcgen::date_time_ymd(i32::from(date.year()), date.month() as u8, date.day() as u8)
    };
    (params.not_before, params.not_after) = (day(0), day(days));
    let signed = params.signed_by(&key, by)?;
    Ok((format!("{}{}", signed.pem(), by.pem()), key.serialize_pem()))
}
