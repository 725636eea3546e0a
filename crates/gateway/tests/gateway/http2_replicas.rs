//! Replicas that speak HTTP/2: gRPC calls in all their forms, how they are refused, and WebSockets over HTTP/2.

use std::convert::Infallible;
use std::io::{BufReader, Read, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use bytes::Bytes;
use futures_util::StreamExt;
use http::{HeaderMap, Request, Response};
use http_body_util::{BodyExt, Full, StreamBody};
use hyper::body::{Frame, Incoming};
use hyper::client::conn::http2::SendRequest;
use hyper_util::rt::{TokioExecutor, TokioIo};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use serde_json::{Value, json};
use tokio::sync::mpsc;

use crate::place::{Gateway, Place, Replica, read_request, replica, telling};

type Body = http_body_util::combinators::BoxBody<Bytes, Infallible>;

/// A replica that speaks HTTP/2 only, and how many connections were opened to it.
struct Grpc {
    replica: Replica,
    connections: Arc<AtomicUsize>,
}

fn trailers(status: &str) -> HeaderMap {
    HeaderMap::from_iter([("grpc-status".parse().expect("a name"), status.parse().expect("a value"))])
}

/// Answers a call by its path: `/echo` sends each piece back as it comes, `/fail` a status, `/slow` nothing for a while.
async fn call(request: Request<Incoming>) -> Result<Response<Body>, Infallible> {
    let is_h2 = request.version() == http::Version::HTTP_2;
    let path = request.uri().path().to_owned();
    let told = format!(
        "{} {} te={:?} length={:?}",
        request.uri(),
        is_h2,
        request.headers().get("te"),
        request.headers().get("content-length")
    );
    if path == "/slow" {
        tokio::time::sleep(Duration::from_secs(20)).await;
    }
    let (sender, receiver) = mpsc::channel::<Result<Frame<Bytes>, Infallible>>(4);
    let mut body = request.into_body();
    tokio::spawn(async move {
        if path == "/told" {
            let _ = sender.send(Ok(Frame::data(told.into()))).await;
        }
        while let Some(Ok(frame)) = body.frame().await {
            let Ok(data) = frame.into_data() else { continue };
            let _ = sender.send(Ok(Frame::data(data))).await;
        }
        let status = if path == "/fail" { "13" } else { "0" };
        let _ = sender.send(Ok(Frame::trailers(trailers(status)))).await;
    });
    let frames = futures_util::stream::unfold(receiver, |mut receiver| async {
        Some((receiver.recv().await?, receiver))
    });
    let answer = Response::builder().header("content-type", "application/grpc");
    Ok(answer.body(BodyExt::boxed(StreamBody::new(frames))).expect("an answer"))
}

fn grpc() -> Grpc {
    let connections = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&connections);
    let replica = replica(move |stream| {
        counted.fetch_add(1, Ordering::SeqCst);
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
        runtime.block_on(async {
            stream.set_nonblocking(true).expect("set");
            let stream = tokio::net::TcpStream::from_std(stream).expect("a stream");
            let builder = hyper::server::conn::http2::Builder::new(TokioExecutor::new());
            let service = hyper::service::service_fn(call);
            let _ = builder.serve_connection(TokioIo::new(stream), service).await;
        });
    });
    Grpc { replica, connections }
}

fn gateway(replica: &Replica, route: Value) -> Gateway {
    Place::default().service_with("api", &[replica], json!({"h2": [80]})).api(route).open()
}

/// A visitor that speaks HTTP/2 over TLS.
async fn visitor<B>(gateway: &Gateway) -> SendRequest<B>
where
    B: hyper::body::Body<Data = Bytes> + Send + Unpin + 'static,
    B::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
{
    // Anyone who answers has made it.
    assert_eq!(gateway.send(b"GET / HTTP/1.1\r\nHost: nowhere.test\r\n\r\n").status, 404);
    let mut roots = rustls::RootCertStore::empty();
    let authority =
        CertificateDer::from_pem_file(gateway.dir.path().join("authority.pem")).expect("a certificate");
    roots.add(authority).expect("trusted");
    let mut config = rustls::ClientConfig::builder_with_provider(crate::tls::provider())
        .with_safe_default_protocol_versions()
        .expect("versions")
        .with_root_certificates(roots)
        .with_no_client_auth();
    config.alpn_protocols = vec![b"h2".to_vec()];
    let stream = tokio::net::TcpStream::connect(gateway.https).await.expect("it listens");
    let name = ServerName::try_from("a.test").expect("a name");
    let stream = tokio_rustls::TlsConnector::from(Arc::new(config)).connect(name, stream).await.expect("TLS");
    let (sender, connection) =
        hyper::client::conn::http2::handshake(TokioExecutor::new(), TokioIo::new(stream))
            .await
            .expect("HTTP/2");
    tokio::spawn(connection);
    sender
}

fn post(path: &str) -> http::request::Builder {
    Request::post(format!("https://a.test{path}")).header("content-type", "application/grpc")
}

async fn unary(
    sender: &mut SendRequest<Full<Bytes>>,
    path: &str,
    body: &str,
) -> (Response<()>, Bytes, Option<HeaderMap>) {
    let request = post(path).body(Full::new(Bytes::from(body.to_owned()))).expect("a request");
    let answer = sender.send_request(request).await.expect("an answer");
    let (head, body) = answer.into_parts();
    let body = body.collect().await.expect("a body");
    let trailers = body.trailers().cloned();
    (Response::from_parts(head, ()), body.to_bytes(), trailers)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_call_goes_through_with_its_trailers_and_calls_share_a_connection() {
    let grpc = grpc();
    let gateway = gateway(&grpc.replica, json!({}));
    let mut sender = visitor(&gateway).await;
    let (head, body, trailers) = unary(&mut sender, "/told", "").await;
    assert_eq!(head.status(), 200);
    let told = String::from_utf8_lossy(&body);
    assert!(told.starts_with("http://a.test/told true te=Some(\"trailers\")"), "{told}");
    assert_eq!(trailers.expect("trailers")["grpc-status"], "0");
    let calls = (0..50).map(|number| {
        let mut sender = sender.clone();
        async move { unary(&mut sender, "/echo", &format!("call {number}")).await.1 }
    });
    let answers = futures_util::future::join_all(calls).await;
    assert!(answers.iter().enumerate().all(|(number, it)| *it == format!("call {number}")), "{answers:?}");
    // One for each worker at most.
    let opened = grpc.connections.load(Ordering::SeqCst);
    assert!(opened <= std::thread::available_parallelism().map_or(1, usize::from), "{opened} connections");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn both_sides_stream_at_once() {
    let grpc = grpc();
    let gateway = gateway(&grpc.replica, json!({}));
    let mut sender = visitor(&gateway).await;
    let (pieces, receiver) = mpsc::channel::<Result<Frame<Bytes>, Infallible>>(1);
    let frames = futures_util::stream::unfold(receiver, |mut receiver| async {
        Some((receiver.recv().await?, receiver))
    });
    let request = post("/echo").body(BodyExt::boxed(StreamBody::new(frames))).expect("a request");
    let answer = sender.send_request(request).await.expect("an answer begins before the request ends");
    let mut body = answer.into_body().into_data_stream();
    for number in 0..5 {
        let piece = Bytes::from(format!("piece {number}"));
        pieces.send(Ok(Frame::data(piece.clone()))).await.expect("sent");
        assert_eq!(body.next().await.expect("a piece").expect("data"), piece);
    }
    drop(pieces);
    assert!(body.next().await.is_none());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_call_that_cannot_be_served_gets_its_status_as_grpc_tells_it() {
    let grpc = grpc();
    let gateway = gateway(&grpc.replica, json!({"path": "/known"}));
    let mut sender = visitor(&gateway).await;
    let (head, ..) = unary(&mut sender, "/unknown", "").await;
    assert_eq!(
        (head.status().as_u16(), &head.headers()["grpc-status"]),
        (200, &http::HeaderValue::from_static("12"))
    );
    assert_eq!(head.headers()["grpc-message"], "path-not-matched");
    let late =
        Place::default().service_with("api", &[&grpc.replica], json!({"h2": [80]})).api(json!({})).open();
    let mut sender = visitor(&late).await;
    let request =
        post("/slow").header("grpc-timeout", "200m").body(Full::new(Bytes::new())).expect("a request");
    let begun = std::time::Instant::now();
    let answer = sender.send_request(request).await.expect("an answer");
    assert_eq!(answer.headers()["grpc-status"], "4", "the deadline is the caller's");
    assert!(begun.elapsed() < Duration::from_secs(5), "{:?}", begun.elapsed());
}

#[test]
fn a_visitor_of_http_1_reaches_it_too() {
    let grpc = grpc();
    let gateway = gateway(&grpc.replica, json!({}));
    let answer = gateway.send(b"POST /echo HTTP/1.1\r\nHost: a.test\r\ncontent-length: 5\r\n\r\nhello");
    assert_eq!((answer.status, answer.text()), (200, "hello".to_owned()));
    let chunked = gateway.send(
        b"POST /echo HTTP/1.1\r\nHost: a.test\r\ntransfer-encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n",
    );
    assert_eq!((chunked.status, chunked.text()), (200, "abc".to_owned()));
}

#[test]
fn one_that_does_not_speak_it_is_told_apart() {
    let plain = replica(|mut stream| {
        let _ = stream.write_all(b"HTTP/1.1 400 No\r\ncontent-length: 0\r\n\r\n");
        let _ = stream.read(&mut [0; 64]);
    });
    let gateway = gateway(&plain, json!({}));
    assert_eq!(gateway.get("/", "").status, 502);
}

/// A replica that takes WebSockets and sends back what comes.
fn websocket() -> Replica {
    replica(|mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a second handle"));
        let Some(read) = read_request(&mut reader) else { return };
        let asks = read.header("upgrade") == Some("websocket") && read.header("sec-websocket-key").is_some();
        assert!(asks && read.head[0] == "GET /talk HTTP/1.1", "{read:?}");
        let agreed = b"HTTP/1.1 101 Switching Protocols\r\nupgrade: websocket\r\nconnection: upgrade\r\nsec-websocket-accept: x\r\n\r\n";
        stream.write_all(agreed).expect("sent");
        let mut buffer = [0; 1024];
        while let Ok(count @ 1..) = reader.read(&mut buffer) {
            if stream.write_all(&buffer[..count]).is_err() {
                return;
            }
        }
    })
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_websocket_over_http_2_is_an_upgrade_at_the_replica() {
    let talks = websocket();
    let gateway = Place::default().service("api", &[&talks]).api(json!({})).open();
    let mut sender = visitor::<Full<Bytes>>(&gateway).await;
    let asking = || {
        let asking = Request::builder()
            .method("CONNECT")
            .uri("https://a.test/talk")
            .header("sec-websocket-version", "13");
        let asking = asking.extension(hyper::ext::Protocol::from_static("websocket"));
        asking.body(Full::new(Bytes::new())).expect("a request")
    };
    let answer = sender.send_request(asking()).await.expect("an answer");
    assert_eq!(answer.status(), 200);
    assert!(
        answer.headers().get("upgrade").is_none() && answer.headers().get("sec-websocket-accept").is_none()
    );
    let mut stream = TokioIo::new(hyper::upgrade::on(answer).await.expect("it is open"));
    for message in ["hello", "again"] {
        tokio::io::AsyncWriteExt::write_all(&mut stream, message.as_bytes()).await.expect("sent");
        let mut back = vec![0; message.len()];
        tokio::io::AsyncReadExt::read_exact(&mut stream, &mut back).await.expect("read");
        assert_eq!(back, message.as_bytes());
    }
    let (plain, _) = telling("plain");
    let declines = Place::default().service("api", &[&plain]).api(json!({})).open();
    let mut other = visitor::<Full<Bytes>>(&declines).await;
    let refused = other.send_request(asking()).await.expect("an answer");
    assert_eq!(refused.status(), 502, "it did not switch");
    let tunnel = Request::builder()
        .method("CONNECT")
        .uri("a.test:443")
        .body(Full::new(Bytes::new()))
        .expect("a request");
    let refused = sender.send_request(tunnel).await.expect("an answer");
    assert_eq!(refused.status(), 501, "a tunnel is no WebSocket");
}
