//! TLS towards visitors and replicas: which certificate a visitor is shown, and whom a replica's must lead to. A certificate
//! changes without a connection being dropped: each handshake looks again.

use std::sync::Arc;

use http::StatusCode;
use mainyard_core::model::{ReasonCode, Target};
use rustls::pki_types::ServerName;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use tokio_rustls::TlsAcceptor;

use crate::authority::Authority;
use crate::backend::Onward;
use crate::http2_client::HTTP_2;
use crate::rejections::Refused;
use crate::route::Route;
use crate::serving::Serving;
use crate::worker::Forwarder;

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
        let host = hello.server_name().unwrap_or(UNSERVED).to_ascii_lowercase();
        let Some(route) = self.serving.routing().finder.of_host(&host).cloned() else {
            // Nobody has this host: no key is made for it, and the visitor gets one that does not name it.
            return self.authority.signed(UNSERVED);
        };
        let named = route.spec.tls.as_ref().and_then(|tls| tls.certificate.as_ref());
        let given = self.serving.certificates().of(&route.environment, &host, named);
        given.or_else(|| self.authority.signed(&host)).or_else(|| self.authority.signed(UNSERVED))
    }
}

/// Whose certificate those visitors get who ask for a host that is not served.
const UNSERVED: &str = "localhost";

/// Takes TLS 1.2 and 1.3.
pub(crate) fn acceptor(serving: Arc<Serving>, authority: Authority) -> std::io::Result<TlsAcceptor> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = rustls::ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let resolver = Arc::new(Resolver { serving, authority });
    let mut config =
        builder.map_err(std::io::Error::other)?.with_no_client_auth().with_cert_resolver(resolver);
    config.alpn_protocols = vec![HTTP_2.to_vec(), b"http/1.1".to_vec()];
    Ok(TlsAcceptor::from(Arc::new(config)))
}

impl Forwarder {
    /// How a route's replicas are spoken to: a replica's certificate must be for the service's name inside.
    pub(crate) fn onward(&self, route: &Route, service: &Target, h2: bool) -> Result<Onward, Refused> {
        let Some(tls) = route.spec.tls.as_ref().filter(|tls| tls.onward == mainyard_core::model::Onward::Tls)
        else {
            return Ok(Onward { tls: None, h2 });
        };
        let unavailable = |sentence: String| {
            Refused::new(StatusCode::SERVICE_UNAVAILABLE, ReasonCode::CertificateMismatch, sentence)
        };
        let authority = tls.authority.as_ref().map(|name| Target::new(&route.environment, name));
        let config = match &authority {
            Some(authority) => self.serving.certificates().trust(authority),
            None => self.serving.platform_trust(),
        };
        let config = config.ok_or_else(|| {
            unavailable(format!(
                "the route {} trusts no authority that is here for its replicas' certificates",
                route.at
            ))
        })?;
        let name =
            format!("{}.{}.{}", service.name, service.environment, mainyard_core::service_names::DOMAIN);
        let name = ServerName::try_from(name).map_err(|error| unavailable(error.to_string()))?;
        Ok(Onward { tls: Some((config, name)), h2 })
    }
}
