//! The local authority: signs a certificate for each host that has a route, when a visitor asks for it by TLS.
//!
//! Its own certificate is kept as `authority.pem`, so that a person can have it trusted once.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use mainyard_certificates::authority::{Issuer, issuer};
use rcgen::{CertificateParams, DnType, KeyPair};
use rustls::crypto::ring::sign::any_supported_type;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::sign::CertifiedKey;

/// Certificates kept ready.
const KEPT: usize = 1000;

/// Signs certificates, and keeps them ready.
pub struct Authority {
    issuer: Issuer,
    ready: Mutex<HashMap<String, Arc<CertifiedKey>>>,
}

impl Authority {
    /// The one of this directory; it is made where there is none.
    pub fn of(dir: &Path) -> std::io::Result<Authority> {
        Ok(Authority { issuer: issuer(dir)?, ready: Mutex::default() })
    }

    /// Its own certificate.
    pub fn certificate(&self) -> CertificateDer<'static> {
        self.issuer.der().clone()
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
