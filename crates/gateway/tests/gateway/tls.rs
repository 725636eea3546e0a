//! TLS in front of replicas, behind the gateway, and through it.

use std::io::{BufReader, Write};
use std::net::TcpStream;
use std::sync::Arc;

use mainyard_core::link::PrivateCertificate;
use mainyard_core::model::SecretValue;
use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, ServerConfig, ServerConnection, StreamOwned};
use serde_json::json;

use crate::place::{Gateway, Place, Replica, answer, read_request, replica, telling};

type Issuer = CertifiedIssuer<'static, KeyPair>;

fn authority() -> Issuer {
    let mut params = CertificateParams::default();
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    CertifiedIssuer::self_signed(params, KeyPair::generate().expect("a key")).expect("a certificate")
}

/// A chain and a key for a host.
fn issued(by: &Issuer, host: &str) -> (String, String) {
    let key = KeyPair::generate().expect("a key");
    let params = CertificateParams::new(vec![host.to_owned()]).expect("a name");
    let leaf = params.signed_by(&key, by).expect("signed").pem();
    (format!("{leaf}{}", by.pem()), key.serialize_pem())
}

fn given(name: &str, names: &[&str], chain: String, key: Option<String>) -> PrivateCertificate {
    PrivateCertificate {
        certificate: format!("staging/{name}").parse().expect("a target"),
        names: names.iter().map(|name| (*name).to_owned()).collect(),
        chain,
        key: key.map(|key| SecretValue(key.into_bytes())),
    }
}

pub(crate) fn provider() -> Arc<rustls::crypto::CryptoProvider> {
    Arc::new(rustls::crypto::ring::default_provider())
}

/// Connects with TLS, offering `protocols`, and gives the stream, or why there is none.
pub(crate) fn connect(
    gateway: &Gateway,
    trusted: &str,
    host: &str,
    protocols: &[&str],
) -> Result<StreamOwned<ClientConnection, TcpStream>, String> {
    connect_as(gateway, trusted, host, protocols, &Visitor::default())
}

/// What a visitor offers in a handshake.
#[derive(Default)]
struct Visitor {
    /// Its certificate with the key.
    shows: Option<(String, String)>,
    /// Only this version of TLS.
    only: Option<&'static rustls::SupportedProtocolVersion>,
}

fn connect_as(
    gateway: &Gateway,
    trusted: &str,
    host: &str,
    protocols: &[&str],
    visitor: &Visitor,
) -> Result<StreamOwned<ClientConnection, TcpStream>, String> {
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_slice(trusted.as_bytes()).expect("PEM")).expect("a root");
    let all = [&rustls::version::TLS13, &rustls::version::TLS12];
    let versions = visitor.only.map_or(all.to_vec(), |only| vec![only]);
    let config =
        ClientConfig::builder_with_provider(provider()).with_protocol_versions(&versions).expect("versions");
    let config = config.with_root_certificates(roots);
    let mut config = match &visitor.shows {
        Some((chain, key)) => {
            let chain = CertificateDer::pem_slice_iter(chain.as_bytes()).map(|it| it.expect("PEM")).collect();
            let key = PrivateKeyDer::from_pem_slice(key.as_bytes()).expect("PEM");
            config.with_client_auth_cert(chain, key).expect("a certificate")
        }
        None => config.with_no_client_auth(),
    };
    config.alpn_protocols = protocols.iter().map(|protocol| protocol.as_bytes().to_vec()).collect();
    let name = ServerName::try_from(host.to_owned()).expect("a name");
    let mut connection = ClientConnection::new(Arc::new(config), name).expect("a connection");
    let mut stream = TcpStream::connect(gateway.https).expect("it listens");
    stream.set_nodelay(true).expect("set");
    connection.complete_io(&mut stream).map_err(|error| error.to_string())?;
    Ok(StreamOwned::new(connection, stream))
}

fn get(gateway: &Gateway, trusted: &str, host: &str) -> Result<(u16, String), String> {
    let mut stream = connect(gateway, trusted, host, &["http/1.1"])?;
    write!(stream, "GET / HTTP/1.1\r\nHost: {host}\r\n\r\n").map_err(|error| error.to_string())?;
    let answer = answer(&mut BufReader::new(stream)).expect("an answer");
    Ok((answer.status, answer.text()))
}

/// A replica that speaks TLS itself.
fn speaking(name: &'static str, chain: &str, key: &str) -> Replica {
    let chain: Vec<CertificateDer<'static>> =
        CertificateDer::pem_slice_iter(chain.as_bytes()).map(|it| it.expect("PEM")).collect();
    let key = PrivateKeyDer::from_pem_slice(key.as_bytes()).expect("PEM");
    let config = ServerConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()
        .expect("versions");
    let config = Arc::new(config.with_no_client_auth().with_single_cert(chain, key).expect("a certificate"));
    replica(move |stream| {
        let connection = ServerConnection::new(Arc::clone(&config)).expect("a connection");
        let mut reader = BufReader::new(StreamOwned::new(connection, stream));
        while read_request(&mut reader).is_some() {
            let answer = format!("HTTP/1.1 200 OK\r\ncontent-length: {}\r\n\r\n{name}", name.len());
            if reader.get_mut().write_all(answer.as_bytes()).is_err() {
                return;
            }
        }
    })
}

#[test]
fn each_host_is_shown_its_own_certificate() {
    let (one, other) = (authority(), authority());
    let (api, read) = telling("api");
    let (chain, key) = issued(&one, "a.test");
    let (wild_chain, wild_key) = issued(&other, "*.b.test");
    let to = json!([{"service": "api"}]);
    let gateway = Place::default()
        .service("api", &[&api])
        .route("a", json!({"host": "a.test", "to": to, "tls": {"certificate": "one"}}))
        .route("b", json!({"host": "*.b.test", "to": to}))
        .route("c", json!({"host": "c.test", "to": to}))
        .certificate(given("one", &["a.test"], chain, Some(key)))
        .certificate(given("wild", &["*.b.test"], wild_chain, Some(wild_key)))
        .open();
    assert_eq!(get(&gateway, &one.pem(), "a.test"), Ok((200, "api".to_owned())));
    let seen = read.recv().expect("a request");
    assert_eq!(
        (seen.header("x-forwarded-proto"), seen.header("forwarded")),
        (Some("https"), Some("for=127.0.0.1;host=\"a.test\";proto=https"))
    );
    assert_eq!(get(&gateway, &other.pem(), "x.b.test"), Ok((200, "api".to_owned())));
    assert!(get(&gateway, &other.pem(), "a.test").is_err(), "another authority's is not believed");
    let local =
        std::fs::read_to_string(gateway.dir.path().join("authority.pem")).expect("the local authority");
    assert_eq!(
        get(&gateway, &local, "c.test"),
        Ok((200, "api".to_owned())),
        "the local authority signs the rest"
    );
    for (offered, agreed) in [
        (&["h2", "http/1.1"][..], Some("h2")),
        (&["http/1.1", "h2"], Some("h2")),
        (&["http/1.1"], Some("http/1.1")),
        (&[], None),
    ] {
        let stream = connect(&gateway, &one.pem(), "a.test", offered).expect("TLS");
        assert_eq!(stream.conn.alpn_protocol(), agreed.map(str::as_bytes), "{offered:?}");
    }
}

#[test]
fn http_redirects_to_https_and_plain_text_on_the_tls_port_is_explained() {
    let (api, _read) = telling("api");
    let (chain, key) = issued(&authority(), "given.test");
    let to = json!([{"service": "api"}]);
    let gateway = Place::default()
        .service("api", &[&api])
        .api(json!({"tls": {}}))
        .route("both", json!({"host": "both.test", "to": to, "tls": {"http": "answer"}}))
        .route("silent", json!({"host": "silent.test", "to": to}))
        .route("given", json!({"host": "given.test", "to": to}))
        .certificate(given("given", &["both.test", "given.test"], chain, Some(key)))
        .open();
    let sent = gateway.get("/x?y=1", "");
    let place = format!("https://a.test:{}/x?y=1", gateway.https.port());
    assert_eq!((sent.status, sent.header("location")), (308, Some(place.as_str())));
    assert_eq!(gateway.send(b"GET / HTTP/1.1\r\nHost: both.test\r\n\r\n").status, 200);
    assert_eq!(
        gateway.send(b"GET / HTTP/1.1\r\nHost: silent.test\r\n\r\n").status,
        200,
        "nobody trusts its TLS yet"
    );
    assert_eq!(gateway.send(b"GET / HTTP/1.1\r\nHost: given.test\r\n\r\n").status, 308);
    let mut stream = TcpStream::connect(gateway.https).expect("it listens");
    stream.write_all(b"GET / HTTP/1.1\r\nHost: a.test\r\n\r\n").expect("sent");
    let told = answer(&mut BufReader::new(stream)).expect("an answer");
    assert!(told.status == 400 && told.text().contains("plain-where-tls"), "{}", told.text());
    let spoken = gateway.send(b"\x16\x03\x01\x00\x05hello");
    assert!(spoken.status == 400 && spoken.text().contains("tls-where-plain"), "{}", spoken.text());
}

#[test]
fn onward_tls_is_spoken_only_to_whom_the_authority_vouches_for() {
    let (root, other) = (authority(), authority());
    let inside = "good.staging.internal";
    let (chain, key) = issued(&root, inside);
    let (other_chain, other_key) = issued(&other, inside);
    let (name_chain, name_key) = issued(&root, "else.staging.internal");
    let good = speaking("good", &chain, &key);
    let stranger = speaking("stranger", &other_chain, &other_key);
    let named = speaking("named", &name_chain, &name_key);
    let (plain, _read) = telling("plain");
    let route = |host: &str, service: &str| {
        let tls = json!({"http": "answer", "onward": "tls", "authority": "replicas"});
        json!({"host": host, "to": [{"service": service}], "tls": tls})
    };
    let gateway = Place::default()
        .service("good", &[&good])
        .service("stranger", &[&stranger])
        .service("named", &[&named])
        .service("plain", &[&plain])
        .route("good", route("good.test", "good"))
        .route("stranger", route("stranger.test", "stranger"))
        .route("named", route("named.test", "named"))
        .route("plain", route("plain.test", "plain"))
        .certificate(given("replicas", &[], root.pem(), None))
        .open();
    let ask = |host: &str| {
        let answer = gateway.send(format!("GET / HTTP/1.1\r\nHost: {host}\r\n\r\n").as_bytes());
        (answer.status, answer.text())
    };
    for _ in 0..3 {
        assert_eq!(ask("good.test"), (200, "good".to_owned()));
    }
    for host in ["stranger.test", "named.test", "plain.test"] {
        let (status, text) = ask(host);
        assert!(status == 503 && text.contains("none-ready"), "{host}: {status} {text}");
    }
}

#[test]
fn tls_is_passed_through_untouched_by_its_name() {
    let root = authority();
    let (chain, key) = issued(&root, "own.test");
    let own = speaking("own", &chain, &key);
    let (api, _read) = telling("api");
    let gateway = Place::default()
        .service("own", &[&own])
        .service("api", &[&api])
        .api(json!({}))
        .route("own", json!({"host": "own.test", "to": [{"service": "own"}], "tls": {"untouched": true}}))
        .open();
    assert_eq!(get(&gateway, &root.pem(), "own.test"), Ok((200, "own".to_owned())));
    let local =
        std::fs::read_to_string(gateway.dir.path().join("authority.pem")).expect("the local authority");
    assert_eq!(get(&gateway, &local, "a.test"), Ok((200, "api".to_owned())), "others are opened as ever");
    let mut half = TcpStream::connect(gateway.https).expect("it listens");
    half.write_all(b"\x16\x03\x01").expect("sent");
    assert_eq!(
        get(&gateway, &root.pem(), "own.test"),
        Ok((200, "own".to_owned())),
        "half a hello keeps nobody waiting"
    );
}

#[test]
fn what_the_platforms_own_authority_issued_is_trusted_where_no_other_is_named() {
    let dir = tempfile::tempdir().expect("a directory");
    let names = mainyard_certificates::authority::Names::of(&["internal".into()], &[]);
    let platform = mainyard_certificates::authority::issuer(dir.path(), &names).expect("the authority");
    let (chain, key) =
        mainyard_certificates::authority::issue(&platform, "good.staging.internal").expect("issued");
    let good = speaking("good", &chain, &key);
    let (chain, key) = issued(&authority(), "bad.staging.internal");
    let bad = speaking("bad", &chain, &key);
    let route = |service: &str| json!({"host": format!("{service}.test"), "to": [{"service": service}], "tls": {"http": "answer", "onward": "tls"}});
    let gateway = Place::default()
        .keeping(dir)
        .service("good", &[&good])
        .service("bad", &[&bad])
        .route("good", route("good"))
        .route("bad", route("bad"))
        .open();
    let ask = |host: &str| gateway.send(format!("GET / HTTP/1.1\r\nHost: {host}\r\n\r\n").as_bytes());
    assert_eq!(ask("good.test").text(), "good");
    assert_eq!(ask("bad.test").status, 503);
}

/// Asks over TLS, as this visitor.
fn get_as(gateway: &Gateway, trusted: &str, host: &str, visitor: &Visitor) -> Result<(u16, String), String> {
    let mut stream = connect_as(gateway, trusted, host, &["http/1.1"], visitor)?;
    let forged = "Client-Cert: :Zm9yZ2Vk:\r\nClient-Cert-Subject: CN=forged\r\n";
    write!(stream, "GET / HTTP/1.1\r\nHost: {host}\r\n{forged}\r\n").map_err(|error| error.to_string())?;
    let answer = answer(&mut BufReader::new(stream)).ok_or("the connection was ended")?;
    Ok((answer.status, answer.text()))
}

#[test]
fn visitors_show_certificates_where_a_route_asks_for_them() {
    let (ours, partners, strangers) = (authority(), authority(), authority());
    let (api, read) = telling("api");
    let clients =
        |required: bool| json!({"client_certificates": {"authority": "partners", "required": required}});
    let (chain, key) = issued(&ours, "a.test");
    let (open_chain, open_key) = issued(&ours, "b.test");
    let (may_chain, may_key) = issued(&ours, "c.test");
    let gateway = Place::default()
        .service("api", &[&api])
        .api(json!({"tls": clients(true)}))
        .route("open", json!({"host": "b.test", "to": [{"service": "api"}], "tls": {}}))
        .route("may", json!({"host": "c.test", "to": [{"service": "api"}], "tls": clients(false)}))
        .certificate(given("a", &["a.test"], chain, Some(key)))
        .certificate(given("b", &["b.test"], open_chain, Some(open_key)))
        .certificate(given("c", &["c.test"], may_chain, Some(may_key)))
        .certificate(given("partners", &[], partners.pem(), None))
        .open();
    let shows = |by: &Issuer| Visitor { shows: Some(issued(by, "courier-7")), only: None };
    let ask = |host: &str, visitor: &Visitor| get_as(&gateway, &ours.pem(), host, visitor);
    let last =
        |name: &str| read.try_iter().last().and_then(|request| request.header(name).map(str::to_owned));

    let (status, text) = ask("a.test", &Visitor::default()).expect("an answer that says why");
    assert!(status == 403 && text.contains("not-allowed"), "{status} {text}");
    assert!(read.try_recv().is_err(), "no replica got it");
    assert_eq!(ask("a.test", &shows(&partners)).expect("let in").0, 200);
    let shown = last("client-cert").expect("the replica is told");
    assert!(shown.starts_with(":MII") && shown.ends_with(':'), "{shown}");
    assert!(ask("a.test", &shows(&strangers)).is_err(), "nobody else's certificate is agreed to");

    assert_eq!(ask("c.test", &Visitor::default()).expect("may").0, 200);
    assert_eq!(last("client-cert"), None, "a visitor's own word does not count");
    assert_eq!(ask("c.test", &shows(&partners)).expect("may").0, 200);
    assert!(last("client-cert-subject").is_some_and(|subject| !subject.contains("forged")));
    assert_eq!(ask("b.test", &shows(&partners)).expect("an answer").0, 200);
    assert_eq!(last("client-cert"), None, "where none was asked for, none is told");

    // A connection that was opened for another host shows nothing for this one.
    let mut stream =
        connect_as(&gateway, &ours.pem(), "b.test", &["http/1.1"], &shows(&partners)).expect("TLS");
    write!(stream, "GET / HTTP/1.1\r\nHost: a.test\r\n\r\n").expect("sent");
    assert_eq!(answer(&mut BufReader::new(stream)).expect("an answer").status, 421);
    // And without TLS there is nothing to show.
    assert_eq!(gateway.get("/", "").status, 308);
}

#[test]
fn a_host_chooses_versions_and_ciphers_and_binds_browsers_to_https() {
    let ours = authority();
    let (api, _read) = telling("api");
    let tls = json!({"least": "1.3", "hsts": {"lasts": "365d", "subdomains": true}});
    let suite = "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384";
    let (chain, key) = issued(&ours, "a.test");
    let (old_chain, old_key) = issued(&ours, "b.test");
    let gateway = Place::default()
        .service("api", &[&api])
        .api(json!({"tls": tls}))
        .route("old", json!({"host": "b.test", "to": [{"service": "api"}], "tls": {"ciphers": [suite]}}))
        .certificate(given("a", &["a.test"], chain, Some(key)))
        .certificate(given("b", &["b.test"], old_chain, Some(old_key)))
        .open();
    let only = |version| Visitor { shows: None, only: Some(version) };
    let ask = |host: &str, version| connect_as(&gateway, &ours.pem(), host, &["http/1.1"], &only(version));
    assert!(ask("a.test", &rustls::version::TLS12).is_err(), "older than the host takes");
    let mut stream = ask("a.test", &rustls::version::TLS13).expect("TLS 1.3");
    write!(stream, "GET / HTTP/1.1\r\nHost: a.test\r\n\r\n").expect("sent");
    let answered = answer(&mut BufReader::new(stream)).expect("an answer");
    assert_eq!(answered.header("strict-transport-security"), Some("max-age=31536000; includeSubDomains"));
    assert!(ask("b.test", &rustls::version::TLS13).is_err(), "no suite of 1.3 is among its ciphers");
    let stream = ask("b.test", &rustls::version::TLS12).expect("TLS 1.2");
    let agreed = stream.conn.negotiated_cipher_suite().and_then(|it| it.suite().as_str()).expect("a suite");
    assert_eq!(agreed, suite);
    let plain = gateway.get("/", "");
    assert!(plain.status == 308 && plain.header("strict-transport-security").is_none(), "not without TLS");
}
