//! HTTP to what is outside and was declared: registries, certificate authorities. Addresses that are nobody's are not called.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use mainyard_core::model::is_never_reached;
use reqwest::Url;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;

const CONNECT_WITHIN: Duration = Duration::from_secs(10);
/// Who is called says something within this time.
const SILENCE: Duration = Duration::from_secs(30);
/// Redirects that are followed.
const REDIRECTS: usize = 5;

/// A client that trusts what the machine does, or this authority alone (PEM).
pub(crate) fn builder(authority: Option<&str>) -> Result<reqwest::ClientBuilder, String> {
    let redirects = reqwest::redirect::Policy::custom(|attempt| {
        let plainer = attempt.url().scheme() != "https"
            && attempt.previous().last().is_some_and(|before| before.scheme() == "https");
        match attempt.previous().len() > REDIRECTS || plainer || !url_may_be_called(attempt.url()) {
            true => attempt.error("it redirects to where nobody follows"),
            false => attempt.follow(),
        }
    });
    let builder = reqwest::Client::builder()
        .use_preconfigured_tls(tls(authority)?)
        .dns_resolver(Arc::new(Resolver))
        .redirect(redirects)
        .connect_timeout(CONNECT_WITHIN)
        .read_timeout(SILENCE);
    Ok(builder)
}

/// Names of hosts, but for addresses that nobody has.
#[derive(Debug)]
struct Resolver;

impl reqwest::dns::Resolve for Resolver {
    fn resolve(&self, name: reqwest::dns::Name) -> reqwest::dns::Resolving {
        Box::pin(async move {
            let found = tokio::net::lookup_host((name.as_str(), 0)).await?;
            let addresses: Vec<SocketAddr> = found.filter(|it| may_be_called(it.ip())).collect();
            if addresses.is_empty() {
                let sentence = format!("{} has no address that may be called", name.as_str());
                return Err(std::io::Error::other(sentence).into());
            }
            Ok(Box::new(addresses.into_iter()) as reqwest::dns::Addrs)
        })
    }
}

/// What is called may be on this machine; link-local addresses and the like are nobody's.
fn may_be_called(address: IpAddr) -> bool {
    address.to_canonical().is_loopback() || !is_never_reached(address)
}

pub(crate) fn url_may_be_called(url: &Url) -> bool {
    let host = url.host_str().map(|host| host.trim_matches(['[', ']']));
    // Names are looked at when they are resolved.
    host.is_some_and(|host| host.parse().map_or(true, may_be_called))
}

fn tls(authority: Option<&str>) -> Result<rustls::ClientConfig, String> {
    let mut roots = rustls::RootCertStore::empty();
    match authority {
        None => drop(roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs)),
        Some(pem) => {
            for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
                let certificate = certificate.map_err(|error| error.to_string())?;
                roots.add(certificate).map_err(|error| error.to_string())?;
            }
        }
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = rustls::ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let builder = builder.map_err(|error| error.to_string())?;
    Ok(builder.with_root_certificates(roots).with_no_client_auth())
}
