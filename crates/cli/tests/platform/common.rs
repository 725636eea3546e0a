//! A platform of a test's own, and small HTTP.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU16, Ordering};
use std::time::{Duration, Instant};

/// A platform in a temporary directory; it is ended and cleared away when dropped.
pub(crate) struct Platform {
    pub dir: tempfile::TempDir,
    pub api: SocketAddr,
    pub http: SocketAddr,
    pub https: SocketAddr,
}

/// Whether the kernel keeps this run's replicas apart.
pub(crate) fn isolated() -> bool {
    crate::ISOLATION == "kernel"
}

/// Settings under which replicas that are kept apart and those that are not are held against the same snapshots: a
/// sentence that changes cannot be forgotten in one of two copies.
pub(crate) fn shared_snapshots() -> insta::Settings {
    let mut settings = insta::Settings::clone_current();
    settings.set_prepend_module_to_snapshot(false);
    settings
}

/// The output of a command.
#[derive(Debug)]
pub(crate) struct Said {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl From<Output> for Said {
    fn from(output: Output) -> Said {
        Said {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }
}

impl Said {
    /// Exit code and both outputs as one text, with what differs from run to run put aside.
    pub(crate) fn shown(&self, platform: &Platform) -> String {
        platform.tidy(&format!("exit {}\n{}{}", self.code, self.out, self.err))
    }
}

/// A directory that PostgreSQL's account may pass.
pub(crate) fn passable_dir() -> tempfile::TempDir {
    let dir = tempfile::tempdir().expect("a directory");
    std::fs::set_permissions(dir.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))
        .expect("its mode");
    dir
}

/// An address of this process's own: below the ports that the kernel gives to anyone who calls, and each one only once, so
/// that neither a connection nor another test's platform comes in between.
fn free_address() -> SocketAddr {
    static NEXT: AtomicU16 = AtomicU16::new(0);
    let first = (std::process::id() * 97 % 10_000) as u16;
    let ports = std::iter::repeat_with(|| 20_000 + (first + NEXT.fetch_add(1, Ordering::SeqCst)) % 10_000);
    let addresses = ports.take(10_000).map(|port| SocketAddr::from(([127, 0, 0, 1], port)));
    let mut free = addresses.filter(|address| TcpListener::bind(address).is_ok());
    free.next().expect("a free port")
}

pub(crate) fn mainyard(data: &Path, words: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_mainyard"));
    command
        .args(words)
        .env("MAINYARD_DATA", data)
        .env_remove("MAINYARD_URL")
        .env("USER", "mira")
        .env_remove("SUDO_USER");
    // What is tested are killed processes, never a power failure: nothing here need wait for the disk.
    command.env("MAINYARD_ISOLATION", crate::ISOLATION).env("MAINYARD_NO_DISK_SYNC", "1");
    command.env("HOME", data).env("TZ", "UTC").stdin(std::process::Stdio::null());
    command
}

impl Platform {
    pub(crate) fn new() -> Platform {
        Platform { dir: passable_dir(), api: free_address(), http: free_address(), https: free_address() }
    }

    /// Starts it, with the demo or empty.
    pub(crate) fn start(demo: bool) -> Platform {
        let platform = Platform::new();
        let said = platform.try_start(demo);
        assert_eq!(said.code, 0, "{said:?}\n{}", platform.logs());
        platform
    }

    /// Starts the demo with options of its own.
    pub(crate) fn start_with(options: &[&str]) -> Platform {
        let platform = Platform::new();
        let said = platform.try_start_with(&[&["--demo"], options].concat());
        assert_eq!(said.code, 0, "{said:?}\n{}", platform.logs());
        platform
    }

    pub(crate) fn try_start(&self, demo: bool) -> Said {
        self.try_start_with(if demo { &["--demo"] } else { &[] })
    }

    pub(crate) fn try_start_with(&self, options: &[&str]) -> Said {
        self.try_start_in(&[], options)
    }

    /// Starts it with variables in its surroundings.
    pub(crate) fn try_start_in(&self, variables: &[(&str, &str)], options: &[&str]) -> Said {
        let (api, http, https) = (self.api.to_string(), self.http.to_string(), self.https.to_string());
        let mut words = vec!["start", "--background", "--api", &api, "--http", &http, "--https", &https];
        words.extend(options);
        let mut command = mainyard(&self.data(), &words);
        command.envs(variables.iter().copied()).output().expect("the program runs").into()
    }

    pub(crate) fn data(&self) -> PathBuf {
        self.dir.path().join("data")
    }

    /// Runs the client and gives what it said.
    pub(crate) fn run(&self, words: &[&str]) -> Said {
        mainyard(&self.data(), words).output().expect("the program runs").into()
    }

    /// The same for what must succeed.
    pub(crate) fn ok(&self, words: &[&str]) -> String {
        let said = self.run(words);
        assert_eq!(said.code, 0, "{words:?}: {said:?}");
        said.out
    }

    /// The same, with something to read.
    pub(crate) fn ok_with_input(&self, words: &[&str], input: &str) -> String {
        let said = self.run_with_input(words, input);
        assert_eq!(said.code, 0, "{words:?}: {said:?}");
        said.out
    }

    /// Runs the client with something to read, and gives what it said.
    pub(crate) fn run_with_input(&self, words: &[&str], input: &str) -> Said {
        let mut command = mainyard(&self.data(), words);
        let child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn();
        let mut child = child.expect("the program runs");
        child.stdin.take().expect("its input").write_all(input.as_bytes()).expect("written");
        child.wait_with_output().expect("it ends").into()
    }

    pub(crate) fn logs(&self) -> String {
        let read = |part| {
            std::fs::read_to_string(self.data().join("logs").join(format!("{part}.log"))).unwrap_or_default()
        };
        ["control", "node", "gateway"].map(read).concat()
    }

    /// Puts aside what differs from run to run: addresses of this run, times, measured amounts.
    pub(crate) fn tidy(&self, text: &str) -> String {
        let mut text = text.to_owned();
        for (from, to) in [
            (self.dir.path().display().to_string(), "DIR"),
            (self.api.to_string(), "API"),
            (self.http.to_string(), "GATEWAY"),
            (self.https.to_string(), "GATEWAY-TLS"),
            (format!(":{}", self.http.port()), ":PORT"),
        ] {
            text = text.replace(&from, to);
        }
        text
    }

    /// The state and reason of a workload, once the condition holds.
    pub(crate) fn workload(
        &self,
        target: &str,
        condition: impl Fn(&serde_json::Value) -> bool,
    ) -> serde_json::Value {
        let deadline = Instant::now() + PATIENCE;
        loop {
            let shown = self.run(&["show", target, "--json"]);
            let value: serde_json::Value = serde_json::from_str(&shown.out).unwrap_or_default();
            if condition(&value["workload"]) {
                return value["workload"].clone();
            }
            if Instant::now() > deadline {
                panic!("waited too long for {target}, and it is {shown:?}\n{}", self.logs());
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    pub(crate) fn get(&self, host: &str, path: &str) -> Answer {
        request(
            self.http,
            host,
            &format!("GET {path} HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\n\r\n"),
            b"",
        )
    }

    /// So many requests one after the other, over one connection.
    pub(crate) fn in_a_row(&self, host: &str, path: &str, count: usize, mut each: impl FnMut(&Answer)) {
        let stream = TcpStream::connect(self.http).expect("a connection");
        stream.set_nodelay(true).expect("no delay");
        let mut reader = BufReader::new(stream);
        for _ in 0..count {
            let ask = format!("GET {path} HTTP/1.1\r\nhost: {host}\r\n\r\n");
            reader.get_mut().write_all(ask.as_bytes()).expect("sent");
            each(&read_answer(&mut reader).expect("an answer"));
        }
    }

    pub(crate) fn token(&self) -> String {
        std::fs::read_to_string(self.data().join("client-token")).expect("a token")
    }

    /// A call of the API with the client's token.
    pub(crate) fn call(&self, method: &str, path: &str, body: &str) -> Answer {
        let (host, token) = (self.api.to_string(), self.token());
        let head = format!(
            "{method} {path} HTTP/1.1\r\nhost: {host}\r\nauthorization: Bearer {token}\r\ncontent-type: application/json\r\n\
             content-length: {}\r\nconnection: close\r\n\r\n",
            body.len()
        );
        request(self.api, &host, &head, body.as_bytes())
    }

    /// Process ids of a part.
    pub(crate) fn part(&self, part: &str) -> Vec<i32> {
        if part == "postgres" {
            let file = self.data().join("postgres/data/postmaster.pid");
            let pid = std::fs::read_to_string(file).ok().and_then(|text| text.lines().next()?.parse().ok());
            let runs = |pid: &i32| {
                std::fs::read(format!("/proc/{pid}/cmdline")).is_ok_and(|words| !words.is_empty())
            };
            return pid.filter(runs).into_iter().collect();
        }
        let data = self.data().display().to_string();
        let processes = std::fs::read_dir("/proc").expect("proc").flatten();
        let pids = processes.filter_map(|entry| {
            let pid: i32 = entry.file_name().to_str()?.parse().ok()?;
            let words = std::fs::read(entry.path().join("cmdline")).ok()?;
            let words: Vec<String> = words
                .split(|byte| *byte == 0)
                .map(|word| String::from_utf8_lossy(word).into_owned())
                .collect();
            let of_this = words.contains(&data);
            let is_it = if part == "supervisor" {
                words.get(1).is_some_and(|w| w == "start")
            } else {
                words.get(1).is_some_and(|w| w == "serve") && words.get(2).is_some_and(|w| w == part)
            };
            (of_this && is_it).then_some(pid)
        });
        pids.collect()
    }
}

impl Drop for Platform {
    fn drop(&mut self) {
        let said = self.run(&["stop"]);
        if std::thread::panicking() {
            eprintln!("{said:?}");
        }
    }
}

/// Chance that is the same in every run of a test.
pub(crate) struct Chance(u64);

impl Chance {
    pub(crate) fn of(name: &str) -> Chance {
        Chance(name.bytes().fold(0x9e37_79b9_7f4a_7c15, |hash, byte| {
            (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
        }))
    }

    pub(crate) fn below(&mut self, end: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % end
    }
}

/// How long anything is waited for.
const PATIENCE: Duration = Duration::from_secs(90);

/// Waits for a condition; the limit is there only so that a failure ends.
pub(crate) fn until<T>(what: &str, mut condition: impl FnMut() -> Option<T>) -> T {
    let deadline = Instant::now() + PATIENCE;
    loop {
        if let Some(value) = condition() {
            return value;
        }
        assert!(Instant::now() < deadline, "waited too long until {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// An answer over HTTP.
#[derive(Debug, Clone)]
pub(crate) struct Answer {
    pub status: u16,
    pub headers: BTreeMap<String, String>,
    pub body: Vec<u8>,
}

impl Answer {
    pub(crate) fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }
    pub(crate) fn json(&self) -> serde_json::Value {
        serde_json::from_slice(&self.body).unwrap_or_else(|error| panic!("{error}: {}", self.text()))
    }
}

/// One request on a connection of its own.
pub(crate) fn request(to: SocketAddr, _host: &str, head: &str, body: &[u8]) -> Answer {
    let mut stream = TcpStream::connect(to).expect("a connection");
    stream.set_read_timeout(Some(Duration::from_secs(60))).expect("a timeout");
    stream.write_all(head.as_bytes()).expect("the head is sent");
    stream.write_all(body).expect("the body is sent");
    read_answer(&mut BufReader::new(stream)).expect("an answer")
}

pub(crate) fn read_answer(reader: &mut impl BufRead) -> std::io::Result<Answer> {
    let mut line = String::new();
    if reader.read_line(&mut line)? == 0 {
        return Err(std::io::ErrorKind::UnexpectedEof.into());
    }
    let status = line
        .split(' ')
        .nth(1)
        .and_then(|word| word.parse().ok())
        .ok_or_else(|| std::io::Error::other(line.clone()))?;
    let mut headers = BTreeMap::new();
    loop {
        let mut line = String::new();
        reader.read_line(&mut line)?;
        let Some((name, value)) = line.trim_end().split_once(':') else { break };
        headers.insert(name.to_ascii_lowercase(), value.trim().to_owned());
    }
    let mut body = Vec::new();
    if headers.get("transfer-encoding").is_some_and(|value| value == "chunked") {
        loop {
            let mut size = String::new();
            reader.read_line(&mut size)?;
            let size = usize::from_str_radix(size.trim(), 16).map_err(std::io::Error::other)?;
            let mut chunk = vec![0; size + 2];
            reader.read_exact(&mut chunk)?;
            if size == 0 {
                break;
            }
            body.extend_from_slice(&chunk[..size]);
        }
    } else if let Some(length) = headers.get("content-length").and_then(|value| value.parse().ok()) {
        body.resize(length, 0);
        reader.read_exact(&mut body)?;
    } else if status != 101 {
        reader.read_to_end(&mut body)?;
    }
    Ok(Answer { status, headers, body })
}

/// Visitors that keep their connections and ask again and again; what went wrong is counted by kind.
pub(crate) struct Visitors {
    stop: Arc<AtomicBool>,
    threads: Vec<std::thread::JoinHandle<BTreeMap<String, usize>>>,
}

impl Visitors {
    pub(crate) fn start(to: SocketAddr, host: &str, count: usize) -> Visitors {
        Visitors::start_at(to, host, "/who", count)
    }

    /// Visitors of another path.
    pub(crate) fn start_at(to: SocketAddr, host: &str, path: &'static str, count: usize) -> Visitors {
        let stop = Arc::new(AtomicBool::new(false));
        let threads = (0..count).map(|_| {
            let (stop, host) = (Arc::clone(&stop), host.to_owned());
            std::thread::spawn(move || visit(to, &host, path, &stop))
        });
        Visitors { threads: threads.collect(), stop }
    }

    /// How many answers of each kind: a version, or what went wrong.
    pub(crate) fn finish(self) -> BTreeMap<String, usize> {
        self.stop.store(true, Ordering::SeqCst);
        let mut all = BTreeMap::new();
        for thread in self.threads {
            for (kind, count) in thread.join().expect("a visitor") {
                *all.entry(kind).or_insert(0) += count;
            }
        }
        all
    }
}

fn visit(to: SocketAddr, host: &str, path: &str, stop: &AtomicBool) -> BTreeMap<String, usize> {
    let mut seen = BTreeMap::new();
    let mut connection: Option<BufReader<TcpStream>> = None;
    while !stop.load(Ordering::SeqCst) {
        let asked = (|| -> std::io::Result<Answer> {
            if connection.is_none() {
                let stream = TcpStream::connect(to)?;
                stream.set_nodelay(true)?;
                stream.set_read_timeout(Some(Duration::from_secs(30)))?;
                connection = Some(BufReader::new(stream));
            }
            let reader = connection.as_mut().expect("just opened");
            reader.get_mut().write_all(format!("GET {path} HTTP/1.1\r\nhost: {host}\r\n\r\n").as_bytes())?;
            read_answer(reader)
        })();
        let kind = match asked {
            Ok(answer) if answer.status == 200 => {
                let told: serde_json::Value = serde_json::from_slice(&answer.body).unwrap_or_default();
                told["version"].as_str().unwrap_or("?").to_owned()
            }
            Ok(answer) => format!("failed: {} {}", answer.status, answer.text()),
            Err(error) => {
                connection = None;
                format!("failed: {error}")
            }
        };
        *seen.entry(kind).or_insert(0) += 1;
    }
    seen
}
