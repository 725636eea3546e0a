//! The gateway over TLS: the same requests over HTTP/1.1 and over HTTP/2, which take turns in one run. What the load and the
//! answering program cost is not in the figures.

use std::future::Future;
use std::net::{SocketAddr, TcpListener};
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use http::{Request, Response};
use http_body_util::{BodyExt, Empty};
use hyper::body::Incoming;
use hyper::client::conn::{http1, http2};
use hyper_util::rt::TokioIo;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use tokio_rustls::TlsConnector;

use crate::parts::{HOST, Measured, Part, ROUNDS, answer, gather, ours, role, steal, table};

mod parts;

fn main() {
    let role = role().unwrap_or_default();
    match role.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        ["answer", port] => answer(port.parse().expect("a port")),
        ["ours", port, https, dir] => {
            ours(port.parse().expect("a port"), dir, Some(https.parse().expect("a port")));
        }
        _ => measure(),
    }
}

/// One visitor's way to ask.
#[derive(Clone)]
enum Sender {
    One(Rc<tokio::sync::Mutex<http1::SendRequest<Empty<Bytes>>>>),
    Two(http2::SendRequest<Empty<Bytes>>),
}

#[derive(Clone, Copy)]
struct Here;

impl<F: Future + 'static> hyper::rt::Executor<F> for Here
where
    F::Output: 'static,
{
    fn execute(&self, future: F) {
        tokio::task::spawn_local(future);
    }
}

impl Sender {
    async fn connect(to: SocketAddr, trusted: &[u8], protocol: &str) -> Sender {
        let mut roots = rustls::RootCertStore::empty();
        roots.add(CertificateDer::from_pem_slice(trusted).expect("PEM")).expect("a root");
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config =
            rustls::ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
        let mut config = config.expect("versions").with_root_certificates(roots).with_no_client_auth();
        config.alpn_protocols = vec![protocol.as_bytes().to_vec()];
        let stream = tokio::net::TcpStream::connect(to).await.expect("a connection");
        stream.set_nodelay(true).expect("no delay");
        let name = ServerName::try_from(HOST).expect("a name");
        let stream = TlsConnector::from(Arc::new(config)).connect(name, stream).await.expect("TLS");
        if protocol == "h2" {
            let (sender, connection) = http2::handshake(Here, TokioIo::new(stream)).await.expect("HTTP/2");
            tokio::task::spawn_local(connection);
            return Sender::Two(sender);
        }
        let (sender, connection) = http1::handshake(TokioIo::new(stream)).await.expect("HTTP");
        tokio::task::spawn_local(connection);
        Sender::One(Rc::new(tokio::sync::Mutex::new(sender)))
    }

    async fn ask(&mut self) -> Response<Incoming> {
        let request = Request::builder().body(Empty::new()).expect("a request");
        match self {
            Sender::One(sender) => {
                let (mut head, body) = request.into_parts();
                head.uri = "/1024".parse().expect("a path");
                head.headers.insert("host", HOST.parse().expect("a host"));
                let mut sender = sender.lock().await;
                sender.ready().await.expect("ready");
                sender.send_request(Request::from_parts(head, body)).await.expect("an answer")
            }
            Sender::Two(sender) => {
                let (mut head, body) = request.into_parts();
                head.uri = format!("https://{HOST}/1024").parse().expect("a URL");
                sender.ready().await.expect("ready");
                sender.send_request(Request::from_parts(head, body)).await.expect("an answer")
            }
        }
    }
}

/// So many requests over so many connections, on each so many at once.
async fn load(
    to: SocketAddr,
    trusted: &[u8],
    protocol: &str,
    (connections, at_once): (usize, usize),
    requests: usize,
) -> (Vec<f64>, Duration) {
    let mut senders = Vec::new();
    for _ in 0..connections {
        let sender = Sender::connect(to, trusted, protocol).await;
        senders.extend(std::iter::repeat_n(sender, at_once));
    }
    let each = requests / senders.len();
    let begun = Instant::now();
    let all = senders.into_iter().map(|mut sender| {
        tokio::task::spawn_local(async move {
            let mut times = Vec::new();
            for _ in 0..each {
                let asked = Instant::now();
                let answer = sender.ask().await;
                assert_eq!(answer.status(), 200);
                let body = answer.into_body().collect().await.expect("a body").to_bytes();
                assert_eq!(body.len(), 1024);
                times.push(asked.elapsed().as_nanos() as f64 / 1000.0);
            }
            times
        })
    });
    let all: Vec<_> = all.collect();
    gather(all, begun).await
}

fn measure() {
    let dir = tempfile::tempdir().expect("a directory");
    let answering = Part::start(|port| format!("answer {port}"));
    let kept = serde_json::to_vec(&table(&[answering.address])).expect("JSON");
    std::fs::write(dir.path().join("table.json"), kept).expect("a table");
    let https = TcpListener::bind("127.0.0.1:0").and_then(|it| it.local_addr()).expect("a free port");
    let ours = Part::start(|port| format!("ours {port} {} {}", https.port(), dir.path().display()));
    let trusted = std::fs::read(dir.path().join("authority.pem")).expect("the local authority");
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let before = steal();
    println!("| visitors | | requests/s | p50 ms | p99 ms | CPU µs a request |");
    println!("|---|---|---|---|---|---|");
    for visitors in [1_usize, 32, 256] {
        let ways = [
            ("HTTP/1.1, a connection each", "http/1.1", (visitors, 1)),
            ("HTTP/2, a connection each", "h2", (visitors, 1)),
            ("HTTP/2, up to 32 on a connection", "h2", (visitors.div_ceil(32), visitors.min(32))),
        ];
        let mut found = ways.map(|(name, ..)| (name, Measured::default()));
        for _ in 0..ROUNDS {
            for ((_, protocol, spread), (_, measured)) in ways.iter().zip(&mut found) {
                measured.take(&ours, || {
                    let work = load(https, &trusted, protocol, *spread, 12_800);
                    tokio::task::LocalSet::new().block_on(&runtime, work)
                });
            }
        }
        for (name, measured) in found {
            println!("| {visitors} | {name} | {} |", measured.row());
        }
    }
    println!("\nstolen meanwhile, over all cores: {:.1} s", (steal() - before) as f64 / 100.0);
}
