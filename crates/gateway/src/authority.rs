//! The local authority: signs a certificate for each host that has a route, when a visitor asks for it by TLS.
//!
//! Its own certificate is kept as `authority.pem`, so that a person can have it trusted once.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, DnType, IsCa, KeyPair, KeyUsagePurpose};
use rustls::crypto::ring::sign::any_supported_type;
use rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::sign::CertifiedKey;

/// Certificates kept ready.
const KEPT: usize = 1000;

/// Signs certificates, and keeps them ready.
pub struct Authority {
    issuer: CertifiedIssuer<'static, KeyPair>,
    ready: Mutex<HashMap<String, Arc<CertifiedKey>>>,
}

fn issuer(dir: &Path) -> std::io::Result<CertifiedIssuer<'static, KeyPair>> {
    let key_file = dir.join("authority.key");
    let key = match std::fs::read_to_string(&key_file) {
        Ok(text) => KeyPair::from_pem(&text).map_err(std::io::Error::other)?,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let key = KeyPair::generate().map_err(std::io::Error::other)?;
            let partial = key_file.with_extension(format!("partial-{}", std::process::id()));
            std::fs::write(&partial, key.serialize_pem())?;
            std::fs::set_permissions(&partial, std::os::unix::fs::PermissionsExt::from_mode(0o600))?;
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

impl Authority {
    /// The one of this directory; it is made where there is none.
    pub fn of(dir: &Path) -> std::io::Result<Authority> {
        Ok(Authority { issuer: issuer(dir)?, ready: Mutex::default() })
    }

    /// A certificate for this host.
    pub fn signed(&self, host: &str) -> Option<Arc<CertifiedKey>> {
        let mut ready = self.ready.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(found) = ready.get(host) {
            return Some(Arc::clone(found));
        }
        let signed = self.sign(host)?;
        if ready.len() >= KEPT {
            ready.clear();
        }
        ready.insert(host.to_owned(), Arc::clone(&signed));
        Some(signed)
    }

    fn sign(&self, host: &str) -> Option<Arc<CertifiedKey>> {
        let key = KeyPair::generate().ok()?;
        let mut params = CertificateParams::new(vec![host.to_owned()]).ok()?;
        params.distinguished_name.push(DnType::CommonName, host);
        let certificate = params.signed_by(&key, &self.issuer).ok()?;
        let der = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der()));
        let signing = any_supported_type(&der).ok()?;
        Some(Arc::new(CertifiedKey::new(vec![certificate.der().clone(), self.issuer.der().clone()], signing)))
    }
}
