//! The local authority: signs a certificate for each host that has a route, when a visitor asks for it by TLS.
//!
//! Its own certificate is kept as `authority.pem`, so that a person can have it trusted once.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use mainyard_certificates::authority::{DAYS, Issuer, Names, issue, issuer};
use rustls::pki_types::CertificateDer;
use rustls::sign::CertifiedKey;

/// Certificates kept ready.
const KEPT: usize = 1000;
/// A certificate is signed again after two thirds of its time.
const RENEWED_AFTER: Duration = Duration::from_secs(DAYS as u64 * 86_400 / 3 * 2);

/// Signs certificates, and keeps them ready.
pub(crate) struct Authority {
    issuer: Issuer,
    names: Names,
    ready: Mutex<HashMap<String, (Instant, Arc<CertifiedKey>)>>,
}

impl Authority {
    /// The one of this directory, which may sign for these names; it is made where there is none.
    pub(crate) fn of(dir: &Path, names: Names) -> std::io::Result<Authority> {
        Ok(Authority { issuer: issuer(dir, &names)?, names, ready: Mutex::default() })
    }

    /// Its own certificate.
    pub(crate) fn certificate(&self) -> CertificateDer<'static> {
        self.issuer.der().clone()
    }

    /// A certificate for a host that is served; `None` for a host that it may not sign for.
    pub(crate) fn signed(&self, host: &str) -> Option<Arc<CertifiedKey>> {
        if !self.names.permit(host) {
            return None;
        }
        let mut ready = self.ready.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, found)) = ready.get(host).filter(|(signed, _)| signed.elapsed() < RENEWED_AFTER) {
            return Some(Arc::clone(found));
        }
        let signed = self.sign(host)?;
        if ready.len() >= KEPT {
            ready.clear();
        }
        ready.insert(host.to_owned(), (Instant::now(), Arc::clone(&signed)));
        Some(signed)
    }

    fn sign(&self, host: &str) -> Option<Arc<CertifiedKey>> {
        let (chain, key) = issue(&self.issuer, host).ok()?;
        mainyard_certificates::certified(&chain, &key).ok().map(Arc::new)
    }
}
