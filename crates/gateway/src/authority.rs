//! The local authority: signs a certificate for each host that has a route, when a visitor asks for it by TLS.
//!
//! Its own certificate is kept as `authority.pem`, so that a person can have it trusted once.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, DnType, IsCa, KeyPair, KeyUsagePurpose};
use rustls::crypto::ring::sign::any_supported_type;
use rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use tokio_rustls::TlsAcceptor;

/// Certificates kept ready.
const KEPT: usize = 1000;

struct Authority {
    issuer: CertifiedIssuer<'static, KeyPair>,
    ready: Mutex<HashMap<String, Arc<CertifiedKey>>>,
}

impl std::fmt::Debug for Authority {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Authority")
    }
}

/// Takes TLS 1.2 and 1.3 with certificates of the local authority.
pub fn acceptor(dir: &Path) -> std::io::Result<TlsAcceptor> {
    let authority = Authority { issuer: issuer(dir)?, ready: Mutex::default() };
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = rustls::ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let mut config =
        builder.map_err(std::io::Error::other)?.with_no_client_auth().with_cert_resolver(Arc::new(authority));
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(TlsAcceptor::from(Arc::new(config)))
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

impl ResolvesServerCert for Authority {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let host = hello.server_name().unwrap_or("localhost").to_ascii_lowercase();
        let mut ready = self.ready.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(found) = ready.get(&host) {
            return Some(Arc::clone(found));
        }
        let signed = self.sign(&host)?;
        if ready.len() >= KEPT {
            ready.clear();
        }
        ready.insert(host, Arc::clone(&signed));
        Some(signed)
    }
}
