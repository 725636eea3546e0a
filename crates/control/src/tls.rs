//! TLS for the API: with a certificate that was given, or one that the local authority signs.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};
use std::time::Duration;

use mainyard_certificates::authority::{self, Names};
use rustls::ServerConfig;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;

/// Which certificate the API shows.
#[derive(Debug, Clone)]
pub enum ApiCertificate {
    /// From these files, which are read again every hour.
    Given {
        /// The chain, as PEM.
        chain: PathBuf,
        /// Its key, as PEM.
        key: PathBuf,
    },
    /// Signed by the local authority of this directory, for this host.
    Signed {
        /// The directory of the authority.
        dir: PathBuf,
        /// The names that it may sign for.
        names: Names,
        /// The host or address that people reach the API by.
        host: String,
    },
}

/// The certificate is read or signed again this often, so that it never runs out.
const RENEW_EVERY: Duration = Duration::from_secs(3600);

/// TLS 1.2 and 1.3 with the certificate, which is renewed while it serves.
pub(crate) fn server(certificate: ApiCertificate) -> io::Result<ServerConfig> {
    let current = Arc::new(Current(RwLock::new(Arc::new(load(&certificate)?))));
    let renewed = Arc::clone(&current);
    actix_web::rt::spawn(async move {
        loop {
            actix_web::rt::time::sleep(RENEW_EVERY).await;
            match load(&certificate) {
                Ok(key) => renewed.replace(Arc::new(key)),
                Err(error) => tracing::error!(%error, "the API's certificate cannot be renewed"),
            }
        }
    });
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    Ok(builder.map_err(io::Error::other)?.with_no_client_auth().with_cert_resolver(current))
}

fn load(certificate: &ApiCertificate) -> io::Result<CertifiedKey> {
    let (chain, key) = match certificate {
        ApiCertificate::Given { chain, key } => (read(chain)?, read(key)?),
        ApiCertificate::Signed { dir, names, host } => {
            std::fs::create_dir_all(dir)?;
            let issuer = authority::issuer(dir, names)?;
            authority::issue(&issuer, host).map_err(io::Error::other)?
        }
    };
    mainyard_certificates::certified(&chain, &key).map_err(io::Error::other)
}

fn read(path: &Path) -> io::Result<String> {
    std::fs::read_to_string(path)
        .map_err(|error| io::Error::new(error.kind(), format!("{}: {error}", path.display())))
}

#[derive(Debug)]
struct Current(RwLock<Arc<CertifiedKey>>);

impl Current {
    fn replace(&self, key: Arc<CertifiedKey>) {
        *self.0.write().unwrap_or_else(std::sync::PoisonError::into_inner) = key;
    }
}

impl ResolvesServerCert for Current {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(Arc::clone(&self.0.read().unwrap_or_else(std::sync::PoisonError::into_inner)))
    }
}
