//! Shared parts of the gateway's benches: a server that answers, the gateway, and the measurements of both.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::net::{SocketAddr, TcpListener};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use bytes::Bytes;
use http::{Request, Response};
use http_body_util::Full;
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::rt::TokioIo;
use mainyard_core::model::{EnvironmentIndex, ReleaseNumber, ReplicaId, RouteSpec, Target};
use mainyard_core::routing::{Backend, Capacity, LegEntry, RouteEntry, ServiceEntry, Table, TableVersion};

/// Says which part this process is.
pub(crate) const ROLE: &str = "MAINYARD_BENCH_ROLE";
/// The host that everybody asks for.
pub(crate) const HOST: &str = "api.lockers.localhost";
/// How often the measured take turns.
pub(crate) const ROUNDS: usize = 5;

/// This process's part and its words; `None` for the one that measures.
pub(crate) fn role() -> Option<Vec<String>> {
    Some(std::env::var(ROLE).ok()?.split(' ').map(str::to_owned).collect())
}

/// A listener that does not block.
pub(crate) fn listener(port: u16) -> TcpListener {
    let listener = TcpListener::bind(("127.0.0.1", port)).expect("the port");
    listener.set_nonblocking(true).expect("not blocking");
    listener
}

/// Answers at once: so many bytes as the path says.
pub(crate) fn answer(port: u16) {
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

/// The gateway with everything it does, by the table on disk; control is not there.
pub(crate) fn ours(port: u16, dir: &str, https: Option<u16>) {
    let config = mainyard_gateway::Config {
        account: None,
        dir: dir.into(),
        authority: dir.into(),
        authority_names: mainyard_certificates::authority::Names::of(
            &["test".into(), "internal".into()],
            &[],
        ),
        name: "gateway-1".into(),
        control: "http://127.0.0.1:9".into(),
        token: String::new(),
        http: listener(port),
        https: https.map(listener),
        network: mainyard_gateway::Network::Elsewhere,
        resolvers: Vec::new(),
        proxies: Vec::new(),
        own_ports: Vec::new(),
    };
    mainyard_gateway::run(config).expect("it runs until it is ended");
}

/// One route to these replicas.
pub(crate) fn table(to: &[SocketAddr]) -> Table {
    let target: Target = "staging/locker-api".parse().expect("a target");
    let backend = |(place, to): (usize, &SocketAddr)| {
        let SocketAddr::V4(address) = *to else { panic!("an IPv4 address") };
        Backend {
            replica: ReplicaId::new(target.clone(), format!("a{place}")),
            release: ReleaseNumber(1),
            node: "node-1".parse().expect("a name"),
            address,
            capacity: Capacity::default(),
        }
    };
    let backends: Vec<Backend> = to.iter().enumerate().map(backend).collect();
    let service = serde_json::json!({
        "target": target, "environment": EnvironmentIndex::new(1), "address": "10.118.0.16",
        "ports": {"80": backends}, "reason": null,
    });
    let service: ServiceEntry = serde_json::from_value(service).expect("an entry");
    let name = "locker-api".parse().expect("a name");
    let to = vec![LegEntry { service: "staging/locker-api".into(), port: 80, share: 100 }];
    let route = RouteEntry { spec: RouteSpec::plain(Some(HOST.to_owned()), name), to };
    Table {
        version: TableVersion { epoch: 1, counter: 1 },
        routes: BTreeMap::from([("staging/api".to_owned(), route)]),
        services: BTreeMap::from([("staging/locker-api".to_owned(), service)]),
        ..Table::default()
    }
}

/// A process of its own.
pub(crate) struct Part {
    child: Child,
    /// Its address.
    pub address: SocketAddr,
}

impl Part {
    /// Starts it; `role` says what it is, given the port that it answers at.
    pub(crate) fn start(role: impl FnOnce(u16) -> String) -> Part {
        let address = TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a free port");
        let mut command = Command::new(std::env::current_exe().expect("this program"));
        let child = command.env(ROLE, role(address.port())).stdout(Stdio::null()).spawn().expect("a process");
        while std::net::TcpStream::connect(address).is_err() {
            std::thread::sleep(Duration::from_millis(5));
        }
        Part { child, address }
    }

    /// Nanoseconds of CPU that its threads have used.
    pub(crate) fn cpu(&self) -> u64 {
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

/// Measurements, round by round.
#[derive(Default)]
pub(crate) struct Measured {
    cpu: Vec<f64>,
    rate: Vec<f64>,
    times: Vec<f64>,
}

impl Measured {
    /// Takes what `work` cost the part: microseconds of each request, and how long all took.
    pub(crate) fn take(&mut self, part: &Part, work: impl FnOnce() -> (Vec<f64>, Duration)) {
        let cpu = part.cpu();
        let (times, took) = work();
        self.cpu.push((part.cpu() - cpu) as f64 / 1000.0 / times.len() as f64);
        self.rate.push(times.len() as f64 / took.as_secs_f64());
        self.times.extend(times);
    }

    /// `requests/s | p50 ms | p99 ms | CPU µs a request`.
    pub(crate) fn row(mut self) -> String {
        self.times.sort_by(f64::total_cmp);
        let at = |share: f64| self.times[(self.times.len() as f64 * share) as usize] / 1000.0;
        format!(
            "{:.0} | {:.2} | {:.2} | {:.1}",
            median(&mut self.rate),
            at(0.5),
            at(0.99),
            median(&mut self.cpu)
        )
    }
}

/// Measurements of all visitors, and how long the whole round took.
pub(crate) async fn gather(
    visitors: Vec<tokio::task::JoinHandle<Vec<f64>>>,
    begun: std::time::Instant,
) -> (Vec<f64>, Duration) {
    let mut times = Vec::new();
    for one in visitors {
        times.extend(one.await.expect("a visitor"));
    }
    (times, begun.elapsed())
}

/// The middle one.
pub(crate) fn median(list: &mut [f64]) -> f64 {
    list.sort_by(f64::total_cmp);
    list.get(list.len() / 2).copied().unwrap_or(0.0)
}

/// CPU time stolen from the machine, in hundredths of a second over all cores.
pub(crate) fn steal() -> u64 {
    let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    stat.lines().next().and_then(|line| line.split_whitespace().nth(8)?.parse().ok()).unwrap_or(0)
}
