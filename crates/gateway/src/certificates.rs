//! Which certificate a visitor is shown: the one that the host's route names, the one that covers the host, or one that the
//! local authority signs. They change without a connection being dropped: each handshake looks anew.

use std::collections::HashMap;
use std::sync::Arc;

use http::StatusCode;
use mainyard_core::link::PrivateCertificate;
use mainyard_core::model::{Name, ReasonCode, Target};
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::{ClientConfig, RootCertStore};
use tokio_rustls::TlsAcceptor;

use crate::authority::Authority;
use crate::backend::Onward;
use crate::refused::Refused;
use crate::route::Route;
use crate::serving::Serving;
use crate::worker::Forwarder;

/// Certificates that were given, ready to serve with.
#[derive(Debug, Default)]
pub struct Certificates {
    by_name: HashMap<Target, Arc<CertifiedKey>>,
    /// By environment and a name that it covers.
    covering: HashMap<(Name, String), Arc<CertifiedKey>>,
    /// Who trusts the last of each chain.
    trusting: HashMap<Target, Arc<ClientConfig>>,
}

impl Certificates {
    /// Reads what control sent; what cannot be read is left out, and the log says why.
    pub fn read(given: &[PrivateCertificate]) -> Certificates {
        let mut all = Certificates::default();
        for one in given {
            match mainyard_certificates::certificates(&one.chain) {
                Ok(chain) => match trusting(&chain) {
                    Ok(config) => drop(all.trusting.insert(one.certificate.clone(), Arc::new(config))),
                    Err(error) => {
                        tracing::debug!(certificate = %one.certificate, error, "it is no authority")
                    }
                },
                Err(error) => {
                    tracing::error!(certificate = %one.certificate, %error, "a chain cannot be read")
                }
            }
            let Some(key) = one.key.as_ref().and_then(|key| key.text()) else { continue };
            let key = match mainyard_certificates::certified(&one.chain, key) {
                Ok(key) => Arc::new(key),
                Err(error) => {
                    tracing::error!(certificate = %one.certificate, %error, "a certificate cannot be served with");
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

    /// The certificate of a host of this environment.
    pub fn of(&self, environment: &Name, host: &str, named: Option<&Name>) -> Option<Arc<CertifiedKey>> {
        if let Some(named) = named {
            return self.by_name.get(&Target::new(environment, named)).cloned();
        }
        let wildcard = || host.split_once('.').map(|(_, rest)| format!("*.{rest}"));
        let find = |name: String| self.covering.get(&(environment.clone(), name));
        find(host.to_owned()).or_else(|| find(wildcard()?)).cloned()
    }

    /// Who trusts this one.
    pub fn trust(&self, certificate: &Target) -> Option<Arc<ClientConfig>> {
        self.trusting.get(certificate).cloned()
    }
}

struct Resolver {
    serving: Arc<Serving>,
    authority: Authority,
}

impl std::fmt::Debug for Resolver {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Resolver")
    }
}

impl ResolvesServerCert for Resolver {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let host = hello.server_name().unwrap_or("localhost").to_ascii_lowercase();
        let route = self.serving.routing().finder.of_host(&host).cloned();
        let given = route.and_then(|route| {
            let named = route.spec.tls.as_ref().and_then(|tls| tls.certificate.as_ref());
            self.serving.certificates().of(&route.environment, &host, named)
        });
        given.or_else(|| self.authority.signed(&host))
    }
}

/// Takes TLS 1.2 and 1.3.
pub fn acceptor(serving: Arc<Serving>, authority: Authority) -> std::io::Result<TlsAcceptor> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = rustls::ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let resolver = Arc::new(Resolver { serving, authority });
    let mut config =
        builder.map_err(std::io::Error::other)?.with_no_client_auth().with_cert_resolver(resolver);
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(TlsAcceptor::from(Arc::new(config)))
}

impl Forwarder {
    /// How a route's replicas are spoken to: a replica's certificate must be for the service's name inside.
    pub fn onward(&self, route: &Route, service: &Target) -> Result<Onward, Refused> {
        let Some(tls) = route.spec.tls.as_ref().filter(|tls| tls.onward == mainyard_core::model::Onward::Tls)
        else {
            return Ok(Onward::Plain);
        };
        let unavailable = |sentence: String| {
            Refused::new(StatusCode::SERVICE_UNAVAILABLE, ReasonCode::CertificateMismatch, sentence)
        };
        let authority = tls.authority.as_ref().map(|name| Target::new(&route.environment, name));
        let config = authority.as_ref().and_then(|authority| self.serving.certificates().trust(authority));
        let config = config.ok_or_else(|| {
            unavailable(format!(
                "the route {} trusts no authority that is here for its replicas' certificates",
                route.at
            ))
        })?;
        let name = format!("{}.{}.{}", service.name, service.environment, mainyard_core::resolving::DOMAIN);
        let name = ServerName::try_from(name).map_err(|error| unavailable(error.to_string()))?;
        Ok(Onward::Tls(config, name))
    }
}

/// How a replica's certificate is checked: it must lead to one of these.
fn trusting(roots: &[CertificateDer<'static>]) -> Result<ClientConfig, String> {
    let mut store = RootCertStore::empty();
    for root in roots {
        store.add(root.clone()).map_err(|error| error.to_string())?;
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let mut config =
        builder.map_err(|error| error.to_string())?.with_root_certificates(store).with_no_client_auth();
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(config)
}
