//! A gateway of a test's own with replicas that the test watches.

use std::io::{BufRead, BufReader, Write};
use std::net::{SocketAddr, SocketAddrV4, TcpListener, TcpStream};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use mainyard_core::model::{EnvironmentIndex, ReleaseNumber, ReplicaId, RouteSpec, Target};
use mainyard_core::routing::{Backend, Capacity, LegEntry, RouteEntry, Table, TableVersion};
use mainyard_gateway::{Config, Network};
use serde_json::{Value, json};

/// Longest wait for what must come.
const PATIENCE: Duration = Duration::from_secs(20);

/// A replica: a listener whose connections are handed to the test's own code, each in a thread.
pub(crate) struct Replica {
    pub address: SocketAddrV4,
}

/// One request as a replica read it: its head, line by line, and its body.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Request {
    pub head: Vec<String>,
    pub body: Vec<u8>,
}

impl Request {
    /// The value of a header.
    pub(crate) fn header(&self, name: &str) -> Option<&str> {
        let named = |line: &&String| line.split(':').next().is_some_and(|key| key.eq_ignore_ascii_case(name));
        self.head[1..].iter().find(named).and_then(|line| Some(line.split_once(':')?.1.trim()))
    }
}

/// A replica that answers every connection with this.
pub(crate) fn replica(handle: impl Fn(TcpStream) + Send + Sync + 'static) -> Replica {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a listener");
    let SocketAddr::V4(address) = listener.local_addr().expect("an address") else { panic!("IPv4") };
    let handle = std::sync::Arc::new(handle);
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let handle = std::sync::Arc::clone(&handle);
            std::thread::spawn(move || handle(stream));
        }
    });
    Replica { address }
}

/// Reads one request as a plain server does; `None` at the end of the connection.
pub(crate) fn read_request(reader: &mut impl BufRead) -> Option<Request> {
    let mut head = Vec::new();
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).ok()? == 0 {
            return None;
        }
        let line = line.trim_end_matches(['\r', '\n']).to_owned();
        if line.is_empty() {
            break;
        }
        head.push(line);
    }
    let mut read = Request { head, body: Vec::new() };
    if read.header("transfer-encoding") == Some("chunked") {
        loop {
            let mut line = String::new();
            reader.read_line(&mut line).ok()?;
            let size = usize::from_str_radix(line.trim(), 16).ok()?;
            let mut chunk = vec![0; size + 2];
            reader.read_exact(&mut chunk).ok()?;
            if size == 0 {
                break;
            }
            read.body.extend_from_slice(&chunk[..size]);
        }
    } else if let Some(length) = read.header("content-length").and_then(|length| length.parse().ok()) {
        read.body = vec![0; length];
        reader.read_exact(&mut read.body).ok()?;
    }
    Some(read)
}

/// A replica that says its name, and a list of what it read.
pub(crate) fn telling(name: &'static str) -> (Replica, Receiver<Request>) {
    let (to, from) = channel();
    let to: Sender<Request> = to;
    let answering = replica(move |stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a second handle"));
        let mut writer = stream;
        while let Some(read) = read_request(&mut reader) {
            let head = read.head[0].starts_with("HEAD ");
            let _ = to.send(read);
            let body = if head { "" } else { name };
            let length = name.len();
            let answer = format!(
                "HTTP/1.1 200 OK\r\ncontent-type: text/plain\r\ncontent-length: {length}\r\n\r\n{body}"
            );
            if writer.write_all(answer.as_bytes()).is_err() {
                return;
            }
        }
    });
    (answering, from)
}

/// A table, in short form.
#[derive(Default)]
pub(crate) struct Place {
    services: Vec<(String, Value)>,
    routes: Vec<(String, RouteEntry)>,
    private: Option<mainyard_core::link::Private>,
    dir: Option<tempfile::TempDir>,
    proxies: Vec<mainyard_core::model::AddressRange>,
}

impl Place {
    /// Behind proxies of these addresses.
    pub(crate) fn behind(mut self, proxies: &str) -> Place {
        self.proxies.push(proxies.parse().expect("a range"));
        self
    }

    /// A service of these replicas, at port 80.
    pub(crate) fn service(self, name: &str, replicas: &[&Replica]) -> Place {
        self.service_with(name, replicas, json!({}))
    }

    /// A service of another environment than the routes.
    pub(crate) fn service_of(self, environment: &str, name: &str, replicas: &[&Replica]) -> Place {
        self.add_service(format!("{environment}/{name}"), EnvironmentIndex::new(2), replicas, json!({}))
    }

    /// A service beside the routes, with more to say of it.
    pub(crate) fn service_with(self, name: &str, replicas: &[&Replica], more: Value) -> Place {
        self.add_service(format!("staging/{name}"), EnvironmentIndex::new(1), replicas, more)
    }

    fn add_service(
        mut self,
        target: String,
        environment: Option<EnvironmentIndex>,
        replicas: &[&Replica],
        more: Value,
    ) -> Place {
        let target: Target = target.parse().expect("a target");
        let backends = replicas.iter().enumerate().map(|(number, replica)| Backend {
            replica: ReplicaId::new(target.clone(), format!("a{number}")),
            release: ReleaseNumber(1),
            node: "node-1".parse().expect("a name"),
            address: replica.address,
            capacity: Capacity::default(),
        });
        let backends: Vec<Backend> = backends.collect();
        let address = format!("10.118.0.{}", 16 + self.services.len());
        let mut entry = json!({
            "target": target, "environment": environment, "address": address,
            "ports": {"80": backends}, "reason": null,
        });
        for (key, value) in more.as_object().into_iter().flatten() {
            entry[key] = value.clone();
        }
        self.services.push((target.to_string(), entry));
        self
    }

    /// A route as a file declares it, in JSON.
    pub(crate) fn route(mut self, name: &str, spec: Value) -> Place {
        let spec: RouteSpec = serde_json::from_value(spec).expect("a route");
        let to = spec.to.iter().map(|leg| LegEntry {
            service: format!("staging/{}", leg.service),
            port: leg.port.unwrap_or(80),
            share: leg.share,
        });
        let entry = RouteEntry { to: to.collect(), spec };
        self.routes.push((format!("staging/{name}"), entry));
        self
    }

    /// Everything of `a.test` to the service `api`, and what else is declared of it.
    pub(crate) fn api(self, more: Value) -> Place {
        let mut spec = json!({"host": "a.test", "to": [{"service": "api"}]});
        for (key, value) in more.as_object().into_iter().flatten() {
            spec[key] = value.clone();
        }
        self.route("api", spec)
    }

    /// The value of a secret that routes let in by.
    pub(crate) fn secret(mut self, name: &str, value: &str) -> Place {
        let secret = format!("staging/{name}").parse().expect("a target");
        let value = mainyard_core::model::SecretValue(value.as_bytes().to_vec());
        self.private.get_or_insert_default().values.push((secret, value));
        self
    }

    /// A certificate that control sent.
    pub(crate) fn certificate(mut self, certificate: mainyard_core::link::PrivateCertificate) -> Place {
        self.private.get_or_insert_default().certificates.push(certificate);
        self
    }

    /// Keeps what it keeps here.
    pub(crate) fn keeping(mut self, dir: tempfile::TempDir) -> Place {
        self.dir = Some(dir);
        self
    }

    /// A gateway with this table; it lives as long as the test's process.
    pub(crate) fn open(self) -> Gateway {
        let entry = |(key, value): (String, Value)| (key, serde_json::from_value(value).expect("a service"));
        let table = Table {
            version: TableVersion { epoch: 1, counter: 1 },
            services: self.services.into_iter().map(entry).collect(),
            routes: self.routes.into_iter().collect(),
            ..Table::default()
        };
        let dir = self.dir.unwrap_or_else(|| tempfile::tempdir().expect("a directory"));
        std::fs::write(dir.path().join("table.json"), serde_json::to_vec(&table).expect("JSON"))
            .expect("written");
        if let Some(private) = &self.private {
            let keys = mainyard_sealing::file::read_or_make(&dir.path().join("private-key")).expect("keys");
            let sealed = keys.seal("gateway", &serde_json::to_vec(private).expect("JSON")).expect("sealed");
            std::fs::write(dir.path().join("private.sealed"), sealed).expect("written");
        }
        let listener = |_| TcpListener::bind("127.0.0.1:0").expect("a port");
        let (http, https) = (listener(0), listener(1));
        let address = http.local_addr().expect("an address");
        let tls = https.local_addr().expect("an address");
        let config = Config {
            account: None,
            dir: dir.path().into(),
            authority: dir.path().into(),
            authority_names: mainyard_certificates::authority::Names::of(
                &["test".into(), "internal".into()],
                &[],
            ),
            name: "gateway-1".into(),
            control: "http://127.0.0.1:9".into(),
            token: String::new(),
            http,
            https: Some(https),
            network: Network::Elsewhere,
            resolvers: Vec::new(),
            proxies: self.proxies,
            own_ports: Vec::new(),
        };
        std::thread::spawn(move || mainyard_gateway::run(config).expect("it runs"));
        Gateway { http: address, https: tls, dir }
    }
}

/// A gateway that runs.
pub(crate) struct Gateway {
    pub http: SocketAddr,
    pub https: SocketAddr,
    pub dir: tempfile::TempDir,
}

/// An answer.
#[derive(Debug)]
pub(crate) struct Answer {
    pub status: u16,
    pub head: String,
    pub body: Vec<u8>,
}

impl Answer {
    /// The value of a header.
    pub(crate) fn header(&self, name: &str) -> Option<&str> {
        let mut lines = self.head.lines().skip(1).filter_map(|line| line.split_once(':'));
        lines.find(|(key, _)| key.eq_ignore_ascii_case(name)).map(|(_, value)| value.trim())
    }

    pub(crate) fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }
}

impl Gateway {
    pub(crate) fn connect(&self) -> TcpStream {
        let stream = TcpStream::connect(self.http).expect("it listens");
        stream.set_read_timeout(Some(PATIENCE)).expect("a timeout");
        stream
    }

    /// Sends these bytes on a connection of their own and reads one answer.
    pub(crate) fn send(&self, bytes: &[u8]) -> Answer {
        let mut stream = self.connect();
        stream.write_all(bytes).expect("sent");
        answer(&mut BufReader::new(stream)).expect("an answer")
    }

    /// A GET of `a.test`, with more header lines.
    pub(crate) fn get(&self, path: &str, more: &str) -> Answer {
        self.send(format!("GET {path} HTTP/1.1\r\nHost: a.test\r\n{more}\r\n").as_bytes())
    }
}

/// Reads one answer; `None` when the connection ends before it.
pub(crate) fn answer(reader: &mut impl BufRead) -> Option<Answer> {
    let mut head = String::new();
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).ok()? == 0 {
            return None;
        }
        if line == "\r\n" {
            break;
        }
        head.push_str(&line);
    }
    let status = head.split(' ').nth(1).and_then(|status| status.parse().ok())?;
    let mut answer = Answer { status, head, body: Vec::new() };
    if status == 100 || status == 101 || status == 204 || status == 304 {
        return Some(answer);
    }
    match answer.header("content-length").map(str::to_owned) {
        Some(length) => {
            answer.body = vec![0; length.parse().ok()?];
            reader.read_exact(&mut answer.body).ok()?;
        }
        None => loop {
            let mut line = String::new();
            reader.read_line(&mut line).ok()?;
            let size = usize::from_str_radix(line.trim(), 16).ok()?;
            let mut chunk = vec![0; size + 2];
            reader.read_exact(&mut chunk).ok()?;
            if size == 0 {
                break;
            }
            answer.body.extend_from_slice(&chunk[..size]);
        },
    }
    Some(answer)
}
