//! The gateway beside the barest forward loop that the same libraries give: a hyper server that sends each request
//! on with hyper-util's pooled client, and does nothing else. Direct, barest and ours take turns in one run, each
//! forwarder a process of its own, because the machine's speed changes from minute to minute.
//!
//! CPU is what the kernel counted for the forwarder's threads (`/proc/PID/task/*/schedstat`), so what the load and the
//! answering program cost is not in it.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use bytes::Bytes;
use http::{Request, Uri};
use http_body_util::{BodyExt, Empty};
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo};

use crate::parts::{HOST, Measured, Part, ROUNDS, answer, gather, listener, ours, role, steal, table};

mod parts;

fn main() {
    let role = role().unwrap_or_default();
    match role.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        ["answer", port] => answer(port.parse().expect("a port")),
        ["barest", port, to] => barest(port.parse().expect("a port"), to.parse().expect("an address")),
        ["ours", port, dir] => ours(port.parse().expect("a port"), dir, None),
        _ => measure(),
    }
}

/// The barest loop: nothing is looked at, nothing is counted.
fn barest(port: u16, to: SocketAddr) {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async move {
        let listener = tokio::net::TcpListener::from_std(listener(port)).expect("a listener");
        let mut connector = hyper_util::client::legacy::connect::HttpConnector::new();
        connector.set_nodelay(true);
        let client =
            hyper_util::client::legacy::Client::builder(TokioExecutor::new()).build::<_, Incoming>(connector);
        loop {
            let Ok((stream, _)) = listener.accept().await else { continue };
            let _ = stream.set_nodelay(true);
            let client = client.clone();
            let service = service_fn(move |mut request: Request<Incoming>| {
                let path = request.uri().path_and_query().map_or("/", |path| path.as_str());
                *request.uri_mut() = format!("http://{to}{path}").parse::<Uri>().expect("a URI");
                let client = client.clone();
                async move { client.request(request).await }
            });
            tokio::spawn(async move {
                let _ = hyper::server::conn::http1::Builder::new()
                    .serve_connection(TokioIo::new(stream), service)
                    .await;
            });
        }
    });
}

/// So many requests over so many connections; microseconds of each, and how long all took.
async fn load(
    to: SocketAddr,
    connections: usize,
    requests: usize,
    path: &'static str,
) -> (Vec<f64>, Duration) {
    let mut all = Vec::new();
    let mut senders = Vec::new();
    for _ in 0..connections {
        let stream = tokio::net::TcpStream::connect(to).await.expect("a connection");
        stream.set_nodelay(true).expect("no delay");
        let (sender, connection) =
            hyper::client::conn::http1::handshake::<_, Empty<Bytes>>(TokioIo::new(stream))
                .await
                .expect("HTTP");
        tokio::task::spawn_local(connection);
        senders.push(sender);
    }
    let begun = Instant::now();
    for mut sender in senders {
        all.push(tokio::task::spawn_local(async move {
            let mut times = Vec::new();
            for _ in 0..requests / connections {
                let asked = Instant::now();
                let request =
                    Request::builder().uri(path).header("host", HOST).body(Empty::new()).expect("a request");
                sender.ready().await.expect("ready");
                let answer = sender.send_request(request).await.expect("an answer");
                assert_eq!(answer.status(), 200);
                let mut body = answer.into_body();
                while let Some(frame) = body.frame().await {
                    frame.expect("a frame");
                }
                times.push(asked.elapsed().as_nanos() as f64 / 1000.0);
            }
            times
        }));
    }
    gather(all, begun).await
}

#[expect(clippy::excessive_nesting, reason = "rows, rounds and parts in turn")]
fn measure() {
    let dir = tempfile::tempdir().expect("a directory");
    let answering = Part::start(|port| format!("answer {port}"));
    let kept = serde_json::to_vec(&table(&[answering.address])).expect("JSON");
    std::fs::write(dir.path().join("table.json"), kept).expect("a table");
    let barest = Part::start(|port| format!("barest {port} {}", answering.address));
    let ours = Part::start(|port| format!("ours {port} {}", dir.path().display()));
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let before = steal();
    println!("| connections, body | | requests/s | p50 ms | p99 ms | CPU µs a request |");
    println!("|---|---|---|---|---|---|");
    for (path, size, requests) in [("/1024", "1 KiB", 12_800), ("/1048576", "1 MiB", 512)] {
        for connections in [1, 32, 256] {
            let mut found: BTreeMap<&str, Measured> = BTreeMap::new();
            for _ in 0..ROUNDS {
                for (name, part) in [("1 direct", &answering), ("2 barest", &barest), ("3 ours", &ours)] {
                    let measured = found.entry(name).or_default();
                    measured.take(part, || {
                        let work = load(part.address, connections, requests, path);
                        tokio::task::LocalSet::new().block_on(&runtime, work)
                    });
                }
            }
            for (name, measured) in found {
                println!("| {connections}, {size} | {} | {} |", &name[2..], measured.row());
            }
        }
    }
    println!("\nstolen meanwhile, over all cores: {:.1} s", (steal() - before) as f64 / 100.0);
}
