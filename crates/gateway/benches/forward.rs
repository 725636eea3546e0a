//! The gateway beside the barest forward loop that the same libraries give: a hyper server that sends each request
//! on with hyper-util's pooled client, and does nothing else. Direct, barest and ours take turns in one run, each
//! forwarder a process of its own, because the machine's speed changes from minute to minute.
//!
//! CPU is what the kernel counted for the forwarder's threads (`/proc/PID/task/*/schedstat`), so what the load and the
//! answering program cost is not in it.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::net::{SocketAddr, TcpListener};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use bytes::Bytes;
use http::{Request, Response, Uri};
use http_body_util::{BodyExt, Empty, Full};
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo};
use mainyard_core::model::{EnvironmentIndex, ReleaseNumber, ReplicaId, RouteSpec, Target};
use mainyard_core::routing::{Backend, LegEntry, RouteEntry, ServiceEntry, Table, TableVersion};

const ROLE: &str = "MAINYARD_BENCH_ROLE";
const HOST: &str = "api.lockers.localhost";
const ROUNDS: usize = 5;

fn main() {
    match std::env::var(ROLE).ok().as_deref().map(|role| role.split(' ').collect::<Vec<_>>()).as_deref() {
        Some(["answer", port]) => answer(port.parse().expect("a port")),
        Some(["barest", port, to]) => barest(port.parse().expect("a port"), to.parse().expect("an address")),
        Some(["ours", port, dir]) => ours(port.parse().expect("a port"), dir),
        _ => measure(),
    }
}

fn listener(port: u16) -> TcpListener {
    let listener = TcpListener::bind(("127.0.0.1", port)).expect("the port");
    listener.set_nonblocking(true).expect("not blocking");
    listener
}

/// Answers at once: so many bytes as the path says.
fn answer(port: u16) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    tokio::task::LocalSet::new().block_on(&runtime, async move {
        let listener = tokio::net::TcpListener::from_std(listener(port)).expect("a listener");
        let bodies: BTreeMap<&str, Bytes> = BTreeMap::from([
            ("/1024", Bytes::from(vec![b'x'; 1024])),
            ("/1048576", Bytes::from(vec![b'x'; 1 << 20])),
        ]);
        let bodies = std::rc::Rc::new(bodies);
        loop {
            let Ok((stream, _)) = listener.accept().await else { continue };
            let _ = stream.set_nodelay(true);
            let bodies = std::rc::Rc::clone(&bodies);
            let service = service_fn(move |request: Request<Incoming>| {
                let body = bodies.get(request.uri().path()).cloned().unwrap_or_default();
                async move { Ok::<_, Infallible>(Response::new(Full::new(body))) }
            });
            tokio::task::spawn_local(async move {
                let _ = hyper::server::conn::http1::Builder::new()
                    .serve_connection(TokioIo::new(stream), service)
                    .await;
            });
        }
    });
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

/// The gateway with everything it does, by the table on disk; control is not there.
fn ours(port: u16, dir: &str) {
    let config = mainyard_gateway::Config {
        dir: dir.into(),
        authority: dir.into(),
        name: "gateway-1".into(),
        control: "http://127.0.0.1:9".into(),
        token: String::new(),
        http: listener(port),
        https: None,
        network: mainyard_gateway::Network::Elsewhere,
    };
    mainyard_gateway::run(config).expect("it runs until it is ended");
}

fn table(to: SocketAddr) -> Table {
    let SocketAddr::V4(address) = to else { panic!("an IPv4 address") };
    let target: Target = "staging/locker-api".parse().expect("a target");
    let backend = Backend {
        replica: ReplicaId::new(target.clone(), "a0".into()),
        release: ReleaseNumber(1),
        node: "node-1".parse().expect("a name"),
        address,
    };
    let service = serde_json::json!({
        "target": target, "environment": EnvironmentIndex::new(1), "address": "10.118.0.16",
        "ports": {"80": [backend]}, "reason": null,
    });
    let service: ServiceEntry = serde_json::from_value(service).expect("an entry");
    let name = "locker-api".parse().expect("a name");
    let to = vec![LegEntry { service: "staging/locker-api".into(), port: 80, share: 100 }];
    let route = RouteEntry { spec: RouteSpec::plain(Some(HOST.to_owned()), name), to };
    Table {
        version: TableVersion { epoch: 1, counter: 1 },
        routes: BTreeMap::from([("staging/api".to_owned(), route)]),
        services: BTreeMap::from([("staging/locker-api".to_owned(), service)]),
    }
}

struct Part {
    child: Child,
    address: SocketAddr,
}

impl Part {
    fn start(role: impl FnOnce(u16) -> String) -> Part {
        let address = TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a free port");
        let mut command = Command::new(std::env::current_exe().expect("this program"));
        let child = command.env(ROLE, role(address.port())).stdout(Stdio::null()).spawn().expect("a process");
        while std::net::TcpStream::connect(address).is_err() {
            std::thread::sleep(Duration::from_millis(5));
        }
        Part { child, address }
    }

    /// Nanoseconds of CPU that its threads have used.
    fn cpu(&self) -> u64 {
        let tasks =
            std::fs::read_dir(format!("/proc/{}/task", self.child.id())).into_iter().flatten().flatten();
        let used = tasks.filter_map(|task| {
            let text = std::fs::read_to_string(task.path().join("schedstat")).ok()?;
            text.split(' ').next()?.parse::<u64>().ok()
        });
        used.sum()
    }
}

impl Drop for Part {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[derive(Default)]
struct Measured {
    cpu: Vec<f64>,
    rate: Vec<f64>,
    times: Vec<f64>,
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
    let mut times = Vec::new();
    for one in all {
        times.extend(one.await.expect("a visitor"));
    }
    (times, begun.elapsed())
}

fn median(list: &mut [f64]) -> f64 {
    list.sort_by(f64::total_cmp);
    list.get(list.len() / 2).copied().unwrap_or(0.0)
}

fn steal() -> u64 {
    let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    stat.lines().next().and_then(|line| line.split_whitespace().nth(8)?.parse().ok()).unwrap_or(0)
}

fn measure() {
    let dir = tempfile::tempdir().expect("a directory");
    let answering = Part::start(|port| format!("answer {port}"));
    let kept = serde_json::to_vec(&table(answering.address)).expect("JSON");
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
                    let cpu = part.cpu();
                    let work = load(part.address, connections, requests, path);
                    let (times, took) = tokio::task::LocalSet::new().block_on(&runtime, work);
                    let used = (part.cpu() - cpu) as f64 / 1000.0 / times.len() as f64;
                    let to = found.entry(name).or_default();
                    to.cpu.push(used);
                    to.rate.push(times.len() as f64 / took.as_secs_f64());
                    to.times.extend(times);
                }
            }
            for (name, mut measured) in found {
                measured.times.sort_by(f64::total_cmp);
                let at = |share: f64| measured.times[(measured.times.len() as f64 * share) as usize] / 1000.0;
                println!(
                    "| {connections}, {size} | {} | {:.0} | {:.2} | {:.2} | {:.1} |",
                    &name[2..],
                    median(&mut measured.rate),
                    at(0.5),
                    at(0.99),
                    median(&mut measured.cpu)
                );
            }
        }
    }
    println!("\nstolen meanwhile, over all cores: {:.1} s", (steal() - before) as f64 / 100.0);
}
