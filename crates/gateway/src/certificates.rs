//! Certificates that were given: the one that a host's route names, or the one that covers the host; and whom to trust.

use std::collections::HashMap;
use std::sync::Arc;

use mainyard_core::link::PrivateCertificate;
use mainyard_core::model::{Name, Target};
use rustls::pki_types::CertificateDer;
use rustls::sign::CertifiedKey;
use rustls::{ClientConfig, RootCertStore};

/// Certificates that were given, ready to serve with.
#[derive(Debug, Default)]
pub struct Certificates {
    by_name: HashMap<Target, Arc<CertifiedKey>>,
    /// By environment and a name that it covers.
    covering: HashMap<(Name, String), Arc<CertifiedKey>>,
    /// The root that signed the last certificate of each chain.
    trusting: HashMap<Target, Arc<ClientConfig>>,
    /// The same for certificates that visitors show.
    roots: HashMap<Target, Arc<RootCertStore>>,
}

impl Certificates {
    /// Reads what control sent; what cannot be read is left out, and the log says why. Roots that are as `before` stay the
    /// very same: handshakes go on with what was prepared by them.
    pub fn read(given: &[PrivateCertificate], before: &Certificates) -> Certificates {
        let mut all = Certificates::default();
        for one in given {
            match mainyard_certificates::certificates(&one.chain) {
                Ok(chain) => {
                    match trusting(&chain).inspect(|_| all.add_roots(&one.certificate, &chain, before)) {
                        Ok(config) => drop(all.trusting.insert(one.certificate.clone(), Arc::new(config))),
                        Err(error) => {
                            tracing::debug!(certificate = %one.certificate, error, "it is not an authority")
                        }
                    }
                }
                Err(error) => {
                    tracing::error!(certificate = %one.certificate, %error, "a chain cannot be read")
                }
            }
            let Some(key) = one.key.as_ref().and_then(|key| key.text()) else { continue };
            let key = match mainyard_certificates::certified(&one.chain, key) {
                Ok(key) => Arc::new(key),
                Err(error) => {
                    tracing::error!(certificate = %one.certificate, %error, "a certificate can't be used");
                    continue;
                }
            };
            for name in &one.names {
                let place = (one.certificate.environment.clone(), name.clone());
                all.covering.insert(place, Arc::clone(&key));
            }
            all.by_name.insert(one.certificate.clone(), key);
        }
        all
    }

    fn add_roots(&mut self, name: &Target, chain: &[CertificateDer<'static>], before: &Certificates) {
        let Ok(roots) = roots(chain) else { return };
        let same = before.roots.get(name).filter(|known| known.roots == roots.roots);
        self.roots.insert(name.clone(), same.map_or_else(|| Arc::new(roots), Arc::clone));
    }

    /// The root that a visitor's certificate must lead to.
    pub fn roots(&self, certificate: &Target) -> Option<Arc<RootCertStore>> {
        self.roots.get(certificate).cloned()
    }

    /// The certificate of a host of this environment.
    pub fn of(&self, environment: &Name, host: &str, named: Option<&Name>) -> Option<Arc<CertifiedKey>> {
        if let Some(named) = named {
            return self.by_name.get(&Target::new(environment, named)).cloned();
        }
        let wildcard = || host.split_once('.').map(|(_, rest)| format!("*.{rest}"));
        let find = |name: String| self.covering.get(&(environment.clone(), name));
        find(host.to_owned()).or_else(|| find(wildcard()?)).cloned()
    }

    /// The root that signed this one.
    pub fn trust(&self, certificate: &Target) -> Option<Arc<ClientConfig>> {
        self.trusting.get(certificate).cloned()
    }
}

/// How a replica's certificate is checked: it must lead to one of these.
pub(crate) fn trusting(roots: &[CertificateDer<'static>]) -> Result<ClientConfig, String> {
    let store = self::roots(roots)?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let mut config =
        builder.map_err(|error| error.to_string())?.with_root_certificates(store).with_no_client_auth();
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(config)
}

fn roots(certificates: &[CertificateDer<'static>]) -> Result<RootCertStore, String> {
    let mut store = RootCertStore::empty();
    for root in certificates {
        store.add(root.clone()).map_err(|error| error.to_string())?;
    }
    Ok(store)
}
