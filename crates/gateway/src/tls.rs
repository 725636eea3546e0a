//! TLS towards visitors and replicas: which certificate a visitor is shown, and whom a replica's must lead to. A certificate
//! changes without a connection being dropped: each handshake looks again.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use http::StatusCode;
use http::header::HeaderValue;
use mainyard_core::model::{ReasonCode, Target, TlsVersion};
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::server::{ClientHello, ResolvesServerCert, WebPkiClientVerifier};
use rustls::sign::CertifiedKey;
use rustls::{RootCertStore, ServerConfig, SupportedCipherSuite};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio_rustls::LazyConfigAcceptor;
use tokio_rustls::server::TlsStream;

use crate::authority::Authority;
use crate::backend::Onward;
use crate::challenges;
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

/// What the routes of a host ask of a handshake.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
struct Demands {
    least: TlsVersion,
    ciphers: BTreeSet<String>,
    /// Whose certificates visitors may show.
    authority: Option<Target>,
}

/// A configuration for some demands, and the roots that it checks visitors' certificates by.
struct Prepared {
    roots: Option<Arc<RootCertStore>>,
    config: Arc<ServerConfig>,
}

/// Where TLS is taken: each handshake by what the routes of its host ask.
pub(crate) struct TlsDoor {
    resolver: Arc<Resolver>,
    usual: Arc<ServerConfig>,
    special: Mutex<BTreeMap<Demands, Prepared>>,
}

/// What a visitor's connection was opened by.
#[derive(Debug, Default)]
pub(crate) struct VisitorTls {
    /// Whose certificates it was asked for.
    pub authority: Option<Target>,
    /// The one that it showed, which leads to that authority.
    pub shown: Option<ShownCertificate>,
}

/// A certificate that a visitor showed, as replicas are told of it.
#[derive(Debug)]
pub(crate) struct ShownCertificate {
    /// RFC 9440, section 2.2.
    pub header: HeaderValue,
    /// RFC 4514.
    pub subject: Option<HeaderValue>,
}

impl ShownCertificate {
    fn of(certificate: &CertificateDer<'_>) -> Option<ShownCertificate> {
        let header = HeaderValue::from_str(&format!(":{}:", STANDARD.encode(certificate))).ok()?;
        let subject = mainyard_certificates::subject(certificate)
            .map(|subject| subject.replace(|c: char| !matches!(c, ' '..='~'), "?"));
        Some(ShownCertificate { header, subject: subject.and_then(|it| HeaderValue::from_str(&it).ok()) })
    }
}

impl TlsDoor {
    /// Takes TLS 1.2 and 1.3, and less where a host's routes say so.
    pub(crate) fn new(serving: Arc<Serving>, authority: Authority) -> std::io::Result<TlsDoor> {
        let resolver = Arc::new(Resolver { serving, authority });
        let usual = prepare(&Demands::default(), None, &resolver).map_err(std::io::Error::other)?;
        Ok(TlsDoor { resolver, usual, special: Mutex::default() })
    }

    /// Opens a visitor's TLS; the error says why it could not be agreed.
    pub(crate) async fn open<S: AsyncRead + AsyncWrite + Unpin>(
        &self,
        stream: S,
    ) -> Result<(TlsStream<S>, VisitorTls), String> {
        let start = LazyConfigAcceptor::new(rustls::server::Acceptor::default(), stream).await;
        let start = start.map_err(|error| error.to_string())?;
        let host = start.client_hello().server_name().unwrap_or(UNSERVED).to_ascii_lowercase();
        let asks = |protocol: &[u8]| protocol == challenges::PROTOCOL;
        let is_question = start.client_hello().alpn().into_iter().flatten().any(asks);
        if is_question {
            // It says nothing more: the handshake itself was the question (RFC 8737, section 3).
            let config = challenges::config(&self.resolver.serving.challenges(), &host)?;
            start.into_stream(config).await.map_err(|error| error.to_string())?;
            return Err("it was a question of an authority, and is answered".to_owned());
        }
        let demands = self.demands(&host);
        let config = self.config(&demands)?;
        let stream = start.into_stream(config).await.map_err(|error| error.to_string())?;
        let shown = stream.get_ref().1.peer_certificates().and_then(<[_]>::first);
        let visitor =
            VisitorTls { shown: shown.and_then(ShownCertificate::of), authority: demands.authority };
        Ok((stream, visitor))
    }

    fn demands(&self, host: &str) -> Demands {
        let routing = self.resolver.serving.routing();
        let mut demands = Demands::default();
        for route in routing.finder.all_of_host(host) {
            let Some(tls) = &route.spec.tls else { continue };
            demands.least = demands.least.max(tls.least);
            if demands.ciphers.is_empty() {
                demands.ciphers.clone_from(&tls.ciphers);
            }
            let clients = tls.client_certificates.as_ref();
            let authority = clients.map(|clients| Target::new(&route.environment, &clients.authority));
            demands.authority = demands.authority.or(authority);
        }
        demands
    }

    fn config(&self, demands: &Demands) -> Result<Arc<ServerConfig>, String> {
        if *demands == Demands::default() {
            return Ok(Arc::clone(&self.usual));
        }
        let certificates = self.resolver.serving.certificates();
        let roots = demands.authority.as_ref().and_then(|authority| certificates.roots(authority));
        let mut special = self.special.lock().unwrap_or_else(PoisonError::into_inner);
        let same = |prepared: &&Prepared| match (&prepared.roots, &roots) {
            (Some(one), Some(other)) => Arc::ptr_eq(one, other),
            (None, None) => true,
            _ => false,
        };
        if let Some(prepared) = special.get(demands).filter(same) {
            return Ok(Arc::clone(&prepared.config));
        }
        let config = prepare(demands, roots.as_ref(), &self.resolver)?;
        special.insert(demands.clone(), Prepared { roots, config: Arc::clone(&config) });
        Ok(config)
    }
}

fn prepare(
    demands: &Demands,
    roots: Option<&Arc<RootCertStore>>,
    resolver: &Arc<Resolver>,
) -> Result<Arc<ServerConfig>, String> {
    let mut provider = rustls::crypto::ring::default_provider();
    if !demands.ciphers.is_empty() {
        // Suites of TLS 1.3 have names of their own in this library.
        let name = |suite: &SupportedCipherSuite| {
            suite.suite().as_str().map(|name| name.replacen("TLS13_", "TLS_", 1)).unwrap_or_default()
        };
        provider.cipher_suites.retain(|suite| demands.ciphers.contains(&name(suite)));
    }
    let provider = Arc::new(provider);
    let has = |version| provider.cipher_suites.iter().any(|suite| suite.version() == version);
    let mut versions = Vec::new();
    if has(&rustls::version::TLS13) {
        versions.push(&rustls::version::TLS13);
    }
    if demands.least == TlsVersion::Tls12 && has(&rustls::version::TLS12) {
        versions.push(&rustls::version::TLS12);
    }
    let builder =
        ServerConfig::builder_with_provider(Arc::clone(&provider)).with_protocol_versions(&versions);
    let builder = builder.map_err(|error| error.to_string())?;
    let builder = match roots {
        Some(roots) => {
            // Whether one must be shown is said by each route, with a reason that the visitor can read.
            let verifier = WebPkiClientVerifier::builder_with_provider(Arc::clone(roots), provider);
            let verifier = verifier.allow_unauthenticated().build().map_err(|error| error.to_string())?;
            builder.with_client_cert_verifier(verifier)
        }
        None => builder.with_no_client_auth(),
    };
    let mut config = builder.with_cert_resolver(Arc::clone(resolver) as Arc<dyn ResolvesServerCert>);
    config.alpn_protocols = vec![HTTP_2.to_vec(), b"http/1.1".to_vec()];
    Ok(Arc::new(config))
}

impl Forwarder {
    /// Whether a visitor showed the certificate that a route asks for.
    pub(crate) fn check_client(&self, route: &Route, visitor: Option<&VisitorTls>) -> Result<(), Refused> {
        let Some(asked) = route.spec.tls.as_ref().and_then(|tls| tls.client_certificates.as_ref()) else {
            return Ok(());
        };
        let authority = Target::new(&route.environment, &asked.authority);
        let at = &route.at;
        if self.serving.certificates().roots(&authority).is_none() {
            let sentence =
                format!("the route {at} checks client certificates by {authority}, which is not here");
            return Err(Refused::new(
                StatusCode::SERVICE_UNAVAILABLE,
                ReasonCode::CertificateMismatch,
                sentence,
            ));
        }
        match visitor {
            Some(visitor) if visitor.authority.as_ref() != Some(&authority) => {
                // One connection may be used for several hosts (RFC 9110, section 7.4).
                let sentence = format!(
                    "this connection was opened for another host, and no certificate of {authority} was asked for: \
                     the route {at} needs a connection of its own"
                );
                Err(Refused::new(StatusCode::MISDIRECTED_REQUEST, ReasonCode::OtherConnection, sentence))
            }
            Some(visitor) if visitor.shown.is_some() => Ok(()),
            _ if !asked.required => Ok(()),
            _ => {
                let sentence = format!(
                    "the route {at} asks for a client certificate that {authority} signed, and the visitor showed none"
                );
                Err(Refused::new(StatusCode::FORBIDDEN, ReasonCode::NotAllowed, sentence))
            }
        }
    }

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
