//! A small certificate authority that speaks ACME (RFC 8555) over plain HTTP on loopback: it checks signatures and nonces, really
//! asks for the host where it is told to, and signs for as long as a test wants.

use std::collections::BTreeSet;
use std::convert::Infallible;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD as URL;
use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use jiff::Timestamp;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, CertifiedIssuer, IsCa, KeyPair,
};
use ring::digest::{SHA256, digest};
use ring::signature::{ECDSA_P256_SHA256_FIXED, UnparsedPublicKey};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use serde_json::{Value, json};

/// The authority.
#[derive(Clone)]
pub struct AcmeAuthority {
    /// The URL of its directory.
    pub directory: String,
    base: String,
    /// Where it asks for a host: over plain HTTP, and over TLS.
    asks: [SocketAddr; 2],
    issuer: Arc<CertifiedIssuer<'static, KeyPair>>,
    state: Arc<Mutex<State>>,
}

struct State {
    life: Duration,
    refuses: Option<Value>,
    nonces: BTreeSet<String>,
    given: u64,
    /// The public key of each account, as a point and as its thumbprint.
    accounts: Vec<(Vec<u8>, String)>,
    orders: Vec<Order>,
    signed: u32,
}

struct Order {
    host: String,
    token: String,
    account: usize,
    status: &'static str,
    error: Option<Value>,
    chain: Option<String>,
}

/// A problem document, and its status.
type Refusal = (u16, Value);

fn refusal(status: u16, kind: &str, detail: &str) -> Refusal {
    (
        status,
        json!({ "type": format!("urn:ietf:params:acme:error:{kind}"), "detail": detail, "status": status }),
    )
}

struct Answer {
    status: u16,
    body: String,
    kind: &'static str,
    location: Option<String>,
}

impl AcmeAuthority {
    /// Starts one that asks for hosts at these addresses.
    ///
    /// # Panics
    /// When no port can be had.
    pub fn start(http: SocketAddr, https: SocketAddr) -> AcmeAuthority {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
        listener.set_nonblocking(true).expect("a listener");
        let base = format!("http://{}", listener.local_addr().expect("an address"));
        let mut params = CertificateParams::default();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.distinguished_name.push(rcgen::DnType::CommonName, "A made-up authority");
        let issuer =
            CertifiedIssuer::self_signed(params, KeyPair::generate().expect("a key")).expect("a root");
        let state = State {
            life: Duration::from_secs(90 * 86_400),
            refuses: None,
            nonces: BTreeSet::new(),
            given: 0,
            accounts: Vec::new(),
            orders: Vec::new(),
            signed: 0,
        };
        let directory = format!("{base}/directory");
        let (issuer, state) = (Arc::new(issuer), Arc::new(Mutex::new(state)));
        let authority = AcmeAuthority { directory, base, asks: [http, https], issuer, state };
        let serving = authority.clone();
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
            runtime.expect("a runtime").block_on(serving.serve(listener));
        });
        authority
    }

    async fn serve(self, listener: std::net::TcpListener) {
        let listener = tokio::net::TcpListener::from_std(listener).expect("a listener");
        while let Ok((stream, _)) = listener.accept().await {
            tokio::spawn(self.clone().serve_one(stream));
        }
    }

    async fn serve_one(self, stream: tokio::net::TcpStream) -> hyper::Result<()> {
        let answer = service_fn(|request| async { Ok::<_, Infallible>(self.respond(request).await) });
        hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), answer).await
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Its own certificate, as PEM.
    pub fn root(&self) -> String {
        self.issuer.pem()
    }

    /// How long what it signs from now on lasts.
    pub fn set_life(&self, life: Duration) {
        self.lock().life = life;
    }

    /// Refuses every order from now on with this kind of error and these words; none ends that.
    pub fn set_refuses(&self, error: Option<(&str, &str)>) {
        self.lock().refuses = error.map(|(kind, detail)| refusal(429, kind, detail).1);
    }

    /// How many certificates it signed.
    pub fn signed(&self) -> u32 {
        self.lock().signed
    }

    /// How many accounts it has.
    pub fn accounts(&self) -> usize {
        self.lock().accounts.len()
    }

    async fn respond(&self, request: Request<Incoming>) -> Response<Full<Bytes>> {
        let (head, body) = request.into_parts();
        let body = body.collect().await.map(http_body_util::Collected::to_bytes).unwrap_or_default();
        let answered = self.answer(head.uri.path(), &body);
        let answer = answered.unwrap_or_else(|(status, problem)| Answer {
            status,
            body: problem.to_string(),
            kind: "application/problem+json",
            location: None,
        });
        let nonce = {
            let mut state = self.lock();
            state.given += 1;
            let nonce = URL.encode(format!("nonce {}", state.given));
            state.nonces.insert(nonce.clone());
            nonce
        };
        let mut response = Response::new(Full::from(answer.body));
        *response.status_mut() = StatusCode::from_u16(answer.status).expect("a status");
        let mut say = |name: &'static str, value: &str| {
            response.headers_mut().insert(name, value.parse().expect("a header"));
        };
        say("replay-nonce", &nonce);
        say("content-type", answer.kind);
        if let Some(location) = &answer.location {
            say("location", location);
        }
        response
    }

    fn answer(&self, path: &str, body: &[u8]) -> Result<Answer, Refusal> {
        let json = |status: u16, body: Value, location: Option<String>| {
            Ok(Answer { status, body: body.to_string(), kind: "application/json", location })
        };
        let base = &self.base;
        match path {
            "/directory" => {
                let at = |place: &str| format!("{base}/{place}");
                return json(
                    200,
                    json!({ "newNonce": at("nonce"), "newAccount": at("account"), "newOrder": at("order") }),
                    None,
                );
            }
            "/nonce" => return json(200, Value::Null, None),
            _ => {}
        }
        let (account, payload) = self.open(path, body)?;
        let parts: Vec<&str> = path.trim_start_matches('/').split('/').collect();
        let number = || parts.get(1).and_then(|it| it.parse::<usize>().ok());
        match parts[0] {
            "account" => json(201, json!({ "status": "valid" }), Some(format!("{base}/account/{account}"))),
            "order" if parts.len() == 1 => {
                let number = self.take_order(account, &payload)?;
                json(201, self.order(number)?, Some(format!("{base}/order/{number}")))
            }
            "order" => {
                let number = number().unwrap_or(usize::MAX);
                json(200, self.order(number)?, Some(format!("{base}/order/{number}")))
            }
            "authorization" => json(200, self.authorization(number().unwrap_or(usize::MAX))?, None),
            "challenge" => {
                let number = number().unwrap_or(usize::MAX);
                self.look(number, parts.get(2).copied().unwrap_or_default());
                json(200, self.challenge(number, parts.get(2).copied().unwrap_or_default())?, None)
            }
            "finalize" => {
                let number = number().unwrap_or(usize::MAX);
                self.sign(number, &payload)?;
                json(200, self.order(number)?, Some(format!("{base}/order/{number}")))
            }
            "certificate" => {
                let state = self.lock();
                let chain = number().and_then(|number| state.orders.get(number)?.chain.clone());
                let body = chain.ok_or_else(|| refusal(404, "malformed", "there is no such certificate"))?;
                Ok(Answer { status: 200, body, kind: "application/pem-certificate-chain", location: None })
            }
            _ => Err(refusal(404, "malformed", "there is nothing at this address")),
        }
    }

    /// Checks a request's signature, address and nonce (RFC 8555, section 6); gives the account and what it says.
    fn open(&self, path: &str, body: &[u8]) -> Result<(usize, Value), Refusal> {
        let bad = |detail: &str| refusal(400, "malformed", detail);
        let signed: Value = serde_json::from_slice(body).map_err(|_| bad("the body is no JSON"))?;
        let part = |name: &str| signed[name].as_str().unwrap_or_default().to_owned();
        let decoded = |name: &str| URL.decode(part(name)).map_err(|_| bad("a part is no base64url"));
        let protected: Value =
            serde_json::from_slice(&decoded("protected")?).map_err(|_| bad("no header"))?;
        if protected["url"] != format!("{}{path}", self.base) || protected["alg"] != "ES256" {
            return Err(bad("the header is for another address or algorithm"));
        }
        let mut state = self.lock();
        if !state.nonces.remove(protected["nonce"].as_str().unwrap_or_default()) {
            return Err(refusal(400, "badNonce", "this nonce was not given, or was used"));
        }
        let account = match protected["jwk"].as_object() {
            Some(key) if path == "/account" => {
                let of = |name: &str| key.get(name).and_then(Value::as_str).unwrap_or_default().to_owned();
                let bytes = |name: &str| URL.decode(of(name)).map_err(|_| bad("no key"));
                let point = [vec![4], bytes("x")?, bytes("y")?].concat();
                let canonical =
                    format!(r#"{{"crv":"P-256","kty":"EC","x":"{}","y":"{}"}}"#, of("x"), of("y"));
                state.accounts.push((point, URL.encode(digest(&SHA256, canonical.as_bytes()))));
                state.accounts.len() - 1
            }
            _ => {
                let id =
                    protected["kid"].as_str().and_then(|id| id.rsplit('/').next()?.parse::<usize>().ok());
                id.filter(|id| *id < state.accounts.len())
                    .ok_or_else(|| refusal(401, "accountDoesNotExist", "there is no such account"))?
            }
        };
        let key = UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, state.accounts[account].0.clone());
        let text = format!("{}.{}", part("protected"), part("payload"));
        key.verify(text.as_bytes(), &decoded("signature")?)
            .map_err(|_| refusal(401, "unauthorized", "the signature is not the account's"))?;
        Ok((account, serde_json::from_slice(&decoded("payload")?).unwrap_or(Value::Null)))
    }

    fn take_order(&self, account: usize, payload: &Value) -> Result<usize, Refusal> {
        let mut state = self.lock();
        if let Some(problem) = &state.refuses {
            return Err((429, problem.clone()));
        }
        let host = payload["identifiers"][0]["value"].as_str().unwrap_or_default().to_owned();
        let token = URL.encode(format!("a token for {host} {}", state.orders.len()));
        state.orders.push(Order { host, token, account, status: "pending", error: None, chain: None });
        Ok(state.orders.len() - 1)
    }

    fn with<T>(&self, number: usize, look: impl FnOnce(&Order) -> T) -> Result<T, Refusal> {
        let state = self.lock();
        state.orders.get(number).map(look).ok_or_else(|| refusal(404, "malformed", "there is no such order"))
    }

    fn order(&self, number: usize) -> Result<Value, Refusal> {
        let base = &self.base;
        self.with(number, |order| {
            json!({
                "status": order.status, "identifiers": [{ "type": "dns", "value": order.host }],
                "authorizations": [format!("{base}/authorization/{number}")],
                "finalize": format!("{base}/finalize/{number}"),
                "certificate": order.chain.as_ref().map(|_| format!("{base}/certificate/{number}")),
                "error": order.error,
            })
        })
    }

    fn authorization(&self, number: usize) -> Result<Value, Refusal> {
        let challenges = vec![self.challenge(number, "http-01")?, self.challenge(number, "tls-alpn-01")?];
        self.with(number, |order| {
            let status = match order.status {
                "pending" | "invalid" => order.status,
                _ => "valid",
            };
            json!({ "status": status, "identifier": { "type": "dns", "value": order.host }, "challenges": challenges })
        })
    }

    fn challenge(&self, number: usize, kind: &str) -> Result<Value, Refusal> {
        let url = format!("{}/challenge/{number}/{kind}", self.base);
        self.with(number, |order| {
            let status = if order.status == "ready" { "valid" } else { order.status };
            json!({ "type": kind, "url": url, "token": order.token, "status": status, "error": order.error })
        })
    }

    /// Asks for the host, beside whatever else goes on.
    fn look(&self, number: usize, kind: &str) {
        let (authority, is_http) = (self.clone(), kind == "http-01");
        std::thread::spawn(move || {
            let found =
                authority.with(number, |order| (order.host.clone(), order.token.clone(), order.account));
            let Ok((host, token, account)) = found else { return };
            let expected = format!("{token}.{}", authority.lock().accounts[account].1);
            let looked = match is_http {
                true => ask_over_http(authority.asks[0], &host, &token, &expected),
                false => ask_over_tls(authority.asks[1], &host, &expected),
            };
            let mut state = authority.lock();
            let order = &mut state.orders[number];
            match looked {
                Ok(()) => order.status = "ready",
                Err(why) => {
                    (order.status, order.error) = ("invalid", Some(refusal(403, "unauthorized", &why).1))
                }
            }
        });
    }

    fn sign(&self, number: usize, payload: &Value) -> Result<(), Refusal> {
        let bad = |detail: &str| refusal(400, "badCSR", detail);
        let request =
            URL.decode(payload["csr"].as_str().unwrap_or_default()).map_err(|_| bad("no request"))?;
        let mut request = CertificateSigningRequestParams::from_der(&request.as_slice().into())
            .map_err(|_| bad("no request"))?;
        let mut state = self.lock();
        let life = state.life.as_secs() as i64;
        let order = state.orders.get_mut(number).ok_or_else(|| bad("there is no such order"))?;
        if order.status != "ready" {
            return Err(refusal(403, "orderNotReady", "the host was not shown to be served there"));
        }
        let now = Timestamp::now().as_second();
        let moment = |second: i64| {
            let at = Timestamp::from_second(second).expect("in range").to_zoned(jiff::tz::TimeZone::UTC);
            rcgen::date_time_ymd(at.year().into(), at.month() as u8, at.day() as u8)
                + Duration::from_secs((at.hour() as u64 * 60 + at.minute() as u64) * 60 + at.second() as u64)
        };
        (request.params.not_before, request.params.not_after) = (moment(now), moment(now + life));
        let signed = request.signed_by(&*self.issuer).map_err(|error| bad(&error.to_string()))?;
        order.chain = Some(format!("{}{}", signed.pem(), self.issuer.pem()));
        order.status = "valid";
        state.signed += 1;
        Ok(())
    }
}

fn ask_over_http(at: SocketAddr, host: &str, token: &str, expected: &str) -> Result<(), String> {
    let mut stream = TcpStream::connect(at).map_err(|error| format!("{host} was not reached: {error}"))?;
    let head = format!(
        "GET /.well-known/acme-challenge/{token} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n"
    );
    let mut text = String::new();
    let asked = stream.write_all(head.as_bytes()).and_then(|()| stream.read_to_string(&mut text));
    asked.map_err(|error| format!("{host} broke off: {error}"))?;
    let status = text.split(' ').nth(1).unwrap_or_default();
    match text.split_once("\r\n\r\n") {
        Some((_, body)) if status == "200" && body == expected => Ok(()),
        _ => Err(format!("{host} answered {status}, and not what was to be answered")),
    }
}

fn ask_over_tls(at: SocketAddr, host: &str, expected: &str) -> Result<(), String> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = rustls::ClientConfig::builder_with_provider(Arc::clone(&provider));
    let builder = builder.with_safe_default_protocol_versions().expect("versions");
    let mut config = builder
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(Anyone(provider)))
        .with_no_client_auth();
    config.alpn_protocols = vec![b"acme-tls/1".to_vec()];
    let name = ServerName::try_from(host.to_owned()).map_err(|error| error.to_string())?;
    let mut connection =
        rustls::ClientConnection::new(Arc::new(config), name).map_err(|it| it.to_string())?;
    let mut stream = TcpStream::connect(at).map_err(|error| format!("{host} was not reached: {error}"))?;
    connection.complete_io(&mut stream).map_err(|error| format!("{host} agreed to no TLS: {error}"))?;
    let shown =
        connection.peer_certificates().and_then(<[_]>::first).map(|it| it.to_vec()).unwrap_or_default();
    // 1.3.6.1.5.5.7.1.31, and the digest as an octet string (RFC 8737, section 3).
    let identifier = [0x06, 0x08, 0x2b, 0x06, 0x01, 0x05, 0x05, 0x07, 0x01, 0x1f];
    let told = [&[0x04, 0x20][..], digest(&SHA256, expected.as_bytes()).as_ref()].concat();
    let holds = |part: &[u8]| shown.windows(part.len()).any(|window| window == part);
    match connection.alpn_protocol() == Some(b"acme-tls/1") && holds(&identifier) && holds(&told) {
        true => Ok(()),
        false => Err(format!("{host} showed a certificate that is not the answer")),
    }
}

/// Takes every certificate: what it holds is the answer.
#[derive(Debug)]
struct Anyone(Arc<rustls::crypto::CryptoProvider>);

impl ServerCertVerifier for Anyone {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &rustls::DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Err(rustls::Error::General("TLS 1.3 is expected".to_owned()))
    }

    fn verify_tls13_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &rustls::DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        // The library reads no certificate with this extension, so that nothing can be checked by it.
        Ok(HandshakeSignatureValid::assertion())
    }

    fn supported_verify_schemes(&self) -> Vec<rustls::SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
