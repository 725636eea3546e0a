//! What a service answers when more is asked than its replicas can take. Arrivals do not wait for answers: so many come each
//! second, whatever becomes of those before them, as visitors do.
//!
//! Ten replicas work on four requests at once, each for so long; what comes on top waits in the replica, as in most servers.

use std::convert::Infallible;
use std::net::{SocketAddr, TcpListener};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use bytes::Bytes;
use http::{Request, Response, StatusCode};
use http_body_util::{BodyExt, Empty, Full};
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::{TokioExecutor, TokioIo};
use tokio::sync::Semaphore;

use crate::parts::{HOST, Part, listener, ours, role, table};

#[allow(dead_code, reason = "other benches need the rest")]
mod parts;

const REPLICAS: u16 = 10;
const WORKERS: usize = 4;
/// How long each load lasts.
const LASTS: Duration = Duration::from_secs(5);

fn main() {
    let role = role().unwrap_or_default();
    let number = |text: &str| text.parse::<u64>().expect("a number");
    match role.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        ["replicas", port, ports, millis, broken] => {
            let ports: Vec<u16> = ports.split(',').map(|port| number(port) as u16).collect();
            replicas(
                number(port) as u16,
                &ports,
                Duration::from_millis(number(millis)),
                number(broken) as usize,
            );
        }
        ["ours", port, dir] => ours(port.parse().expect("a port"), dir, None),
        _ => measure(),
    }
}

/// Replicas at these ports; the first `broken` of them answer errors at once. That `port` is open says that they all listen.
fn replicas(port: u16, ports: &[u16], each: Duration, broken: usize) {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async move {
        for (place, port) in ports.iter().enumerate() {
            let listener = tokio::net::TcpListener::from_std(listener(*port)).expect("a listener");
            tokio::spawn(replica(listener, each, place < broken));
        }
        let _told = listener(port);
        std::future::pending::<()>().await;
    });
}

async fn replica(listener: tokio::net::TcpListener, each: Duration, is_broken: bool) {
    let workers = Arc::new(Semaphore::new(WORKERS));
    loop {
        let Ok((stream, _)) = listener.accept().await else { continue };
        let _ = stream.set_nodelay(true);
        let workers = Arc::clone(&workers);
        let service = service_fn(move |_: Request<Incoming>| {
            let workers = Arc::clone(&workers);
            async move {
                let mut answer = Response::new(Full::new(Bytes::from_static(&[b'x'; 1024])));
                if is_broken {
                    *answer.status_mut() = StatusCode::INTERNAL_SERVER_ERROR;
                } else {
                    let _worker = workers.acquire().await;
                    tokio::time::sleep(each).await;
                }
                Ok::<_, Infallible>(answer)
            }
        });
        tokio::spawn(async move {
            let builder = hyper::server::conn::http1::Builder::new();
            let _ = builder.serve_connection(TokioIo::new(stream), service).await;
        });
    }
}

/// One request: when it was asked, how long it took, and what came.
type Asked = (Instant, Duration, u16);

/// A gateway with its replicas.
struct Stage {
    gateway: Part,
    _replicas: Part,
    _dir: tempfile::TempDir,
    client: Client<HttpConnector, Empty<Bytes>>,
    runtime: tokio::runtime::Runtime,
    /// What the replicas can take in a second.
    capacity: f64,
}

impl Stage {
    fn open(each: Duration, broken: usize) -> Stage {
        let free = || TcpListener::bind("127.0.0.1:0").expect("a port");
        let held: Vec<TcpListener> = (0..REPLICAS).map(|_| free()).collect();
        let addresses: Vec<SocketAddr> = held.iter().map(|it| it.local_addr().expect("an address")).collect();
        drop(held);
        let ports: Vec<String> = addresses.iter().map(|it| it.port().to_string()).collect();
        let millis = each.as_millis();
        let replicas = Part::start(|port| format!("replicas {port} {} {millis} {broken}", ports.join(",")));
        let dir = tempfile::tempdir().expect("a directory");
        let table = serde_json::to_vec(&table(&addresses)).expect("JSON");
        std::fs::write(dir.path().join("table.json"), table).expect("written");
        let gateway = Part::start(|port| format!("ours {port} {}", dir.path().display()));
        let mut connector = HttpConnector::new();
        connector.set_nodelay(true);
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
        Stage {
            gateway,
            _replicas: replicas,
            _dir: dir,
            client: Client::builder(TokioExecutor::new()).build(connector),
            runtime,
            capacity: (usize::from(REPLICAS) - broken) as f64 * WORKERS as f64 / each.as_secs_f64(),
        }
    }

    /// Asks so many times a second for so long.
    fn ask(&self, per_second: f64, lasts: Duration) -> Vec<Asked> {
        self.ask_in_turn(&[(per_second, lasts)])
    }

    /// Asks so many times a second for so long, one load right after the other.
    fn ask_in_turn(&self, loads: &[(f64, Duration)]) -> Vec<Asked> {
        let all = Arc::new(Mutex::new(Vec::new()));
        let visitor =
            Visitor { client: self.client.clone(), address: self.gateway.address, told: Arc::clone(&all) };
        self.runtime.block_on(async move {
            let mut tasks = tokio::task::JoinSet::new();
            for (per_second, lasts) in loads {
                visitor.keep_coming(&mut tasks, *per_second, *lasts).await;
            }
            while tasks.join_next().await.is_some() {}
            drop(visitor);
        });
        Arc::into_inner(all).expect("nobody else").into_inner().expect("the list")
    }
}

/// One who asks once and tells what came.
#[derive(Clone)]
struct Visitor {
    client: Client<HttpConnector, Empty<Bytes>>,
    address: SocketAddr,
    told: Arc<Mutex<Vec<Asked>>>,
}

impl Visitor {
    /// So many come in a second, for so long.
    async fn keep_coming(&self, tasks: &mut tokio::task::JoinSet<()>, per_second: f64, lasts: Duration) {
        let (begun, mut sent) = (tokio::time::Instant::now(), 0.0);
        while begun.elapsed() < lasts {
            // Those that are due by now.
            let due = (begun.elapsed().as_secs_f64() * per_second).floor();
            (0..(due - sent) as usize).for_each(|_| drop(tasks.spawn(self.clone().visit())));
            sent = due;
            while tasks.try_join_next().is_some() {}
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
    }

    async fn visit(self) {
        let asked = one(&self.client, self.address).await;
        self.told.lock().expect("the list").push(asked);
    }
}

async fn one(client: &Client<HttpConnector, Empty<Bytes>>, address: SocketAddr) -> Asked {
    let begun = Instant::now();
    let request = Request::get(format!("http://{address}/"))
        .header("host", HOST)
        .body(Empty::new())
        .expect("a request");
    let status = match client.request(request).await {
        Ok(answer) => {
            let status = answer.status().as_u16();
            answer.into_body().collect().await.map_or(0, |_| status)
        }
        Err(_) => 0,
    };
    (begun, begun.elapsed(), status)
}

/// The time that so large a part stays below, in milliseconds.
fn percentile(list: &[Asked], status: impl Fn(u16) -> bool, part: f64) -> f64 {
    let mut times: Vec<Duration> = list.iter().filter(|it| status(it.2)).map(|it| it.1).collect();
    times.sort();
    let place = ((times.len().max(1) - 1) as f64 * part) as usize;
    times.get(place).map_or(0.0, |time| time.as_secs_f64() * 1000.0)
}

fn row(what: &str, factor: f64, stage: &Stage, lasts: Duration, best: &mut f64) {
    let list = stage.ask(stage.capacity * factor, lasts);
    let count = |status: &dyn Fn(u16) -> bool| list.iter().filter(|it| status(it.2)).count() as f64;
    // What came after the load ended is no part of what was answered while it lasted.
    let begun = list.iter().map(|it| it.0).min().unwrap_or_else(Instant::now);
    let in_time = |it: &&Asked| it.2 == 200 && (it.0 + it.1).duration_since(begun) <= lasts;
    let well = list.iter().filter(in_time).count() as f64 / lasts.as_secs_f64();
    *best = best.max(well);
    println!(
        "| {what} | {factor} | {:.0} | {well:.0} | {:.0} % | {:.0} | {:.0} | {:.0}, {:.0} | {:.1} |",
        list.len() as f64 / lasts.as_secs_f64(),
        well / *best * 100.0,
        count(&|status| status == 503) / lasts.as_secs_f64(),
        count(&|status| status != 200 && status != 503) / lasts.as_secs_f64(),
        percentile(&list, |status| status == 200, 0.5),
        percentile(&list, |status| status == 200, 0.99),
        percentile(&list, |status| status == 503, 0.5),
    );
}

fn measure() {
    println!(
        "| replicas | times what they can take | asked/s | answered/s | of the best | refused/s | failed/s | answer p50, p99 ms | refusal p50 ms |"
    );
    println!("|---|---|---|---|---|---|---|---|---|");
    for (what, millis, broken, factors) in [
        ("10, 40 ms each", 40, 0, &[0.5, 1.0, 2.0, 4.0, 8.0][..]),
        ("10 slow ones, 200 ms each", 200, 0, &[0.5, 1.0, 2.0, 4.0, 8.0]),
        ("10, one answers errors", 40, 1, &[0.5, 1.0, 4.0]),
    ] {
        let stage = Stage::open(Duration::from_millis(millis), broken);
        let mut best = 0.0;
        // What is lasting is measured, not how it is found.
        stage.ask(stage.capacity * 0.5, Duration::from_secs(1));
        for factor in factors {
            row(what, *factor, &stage, LASTS, &mut best);
        }
    }
    let stage = Stage::open(Duration::from_millis(40), 0);
    stage.ask(stage.capacity * 0.5, Duration::from_secs(2));
    row("a crowd at once", 10.0, &stage, Duration::from_secs(3), &mut 0.0);
    let (crowd, lasts) = (stage.capacity * 10.0, Duration::from_secs(3));
    let all = stage.ask_in_turn(&[(crowd, lasts), (stage.capacity * 0.5, lasts)]);
    let ended = all.iter().map(|it| it.0).min().expect("requests") + lasts;
    let late = |it: &&Asked| it.0 > ended && (it.2 != 200 || it.1 > Duration::from_millis(200));
    let last = all.iter().filter(late).map(|it| it.0.duration_since(ended)).max().unwrap_or_default();
    println!(
        "\nAfter a crowd, at half of what they can take, the last request that was refused or took longer than 200 ms came {:.2} s after its end.",
        last.as_secs_f64()
    );
}
