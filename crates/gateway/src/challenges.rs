//! Answers for certificate authorities that ask whether a host is served here: over plain HTTP (RFC 8555, section 8.3), and
//! over TLS (RFC 8737).

use std::sync::Arc;

use http::header::{CONTENT_TYPE, HeaderValue};
use http::{Request, Response};
use http_body_util::{Either, Full};
use hyper::body::Incoming;
use mainyard_core::link::HostChallenge;
use mainyard_core::model::ChallengeKind;
use rcgen::{CertificateParams, CustomExtension, KeyPair};
use rustls::ServerConfig;
use rustls::crypto::ring::sign::any_supported_type;
use rustls::pki_types::PrivateKeyDer;
use rustls::sign::{CertifiedKey, SingleCertAndKey};
use sha2::{Digest, Sha256};

use crate::destination::host_of;
use crate::responses::AnswerBody;

/// Where authorities ask over plain HTTP.
const PLACE: &str = "/.well-known/acme-challenge/";
/// The protocol that they ask for over TLS.
pub(crate) const PROTOCOL: &[u8] = b"acme-tls/1";

/// The answer to a request of an authority; none where it is no such request, or for what nobody ordered.
pub(crate) fn answer(
    challenges: &[HostChallenge],
    request: &Request<Incoming>,
) -> Option<Response<AnswerBody>> {
    if challenges.is_empty() {
        return None;
    }
    let token = request.uri().path().strip_prefix(PLACE)?;
    let host = host_of(request)?;
    let asked =
        |it: &&HostChallenge| it.kind == ChallengeKind::Http01 && it.host == host && it.token == token;
    let told = challenges.iter().find(asked)?.key_authorization.clone();
    let mut answer = Response::new(Either::Right(Full::from(told)));
    answer.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("application/octet-stream"));
    Some(answer)
}

/// How a handshake of an authority is answered: by a certificate that holds what it is to be told, for this host alone.
pub(crate) fn config(challenges: &[HostChallenge], host: &str) -> Result<Arc<ServerConfig>, String> {
    let asked = |it: &&HostChallenge| it.kind == ChallengeKind::TlsAlpn01 && it.host == host;
    let told = challenges.iter().find(asked).ok_or("no authority was asked for this host")?;
    let digest = Sha256::digest(told.key_authorization.as_bytes());
    let words = |error: rcgen::Error| error.to_string();
    let mut params = CertificateParams::new(vec![host.to_owned()]).map_err(words)?;
    params.custom_extensions = vec![CustomExtension::new_acme_identifier(&digest)];
    let key = KeyPair::generate().map_err(words)?;
    let certificate = params.self_signed(&key).map_err(words)?;
    let key = PrivateKeyDer::try_from(key.serialize_der()).map_err(str::to_owned)?;
    let signing = any_supported_type(&key).map_err(|error| error.to_string())?;
    // The extension is critical, and known to authorities alone: the library would not serve it as a usual certificate.
    let served = CertifiedKey::new(vec![certificate.der().clone()], signing);
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let builder = builder.map_err(|error| error.to_string())?.with_no_client_auth();
    let mut config = builder.with_cert_resolver(Arc::new(SingleCertAndKey::from(served)));
    config.alpn_protocols = vec![PROTOCOL.to_vec()];
    Ok(Arc::new(config))
}
