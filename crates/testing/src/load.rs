//! Visitors of all kinds, for as long as one likes: short requests on kept connections, long answers, large bodies both
//! ways, streams of events, conversations. What fails is kept with when and why.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Error, ErrorKind, Read, Result, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// How much of everything.
#[derive(Debug, Clone, Copy)]
pub struct Shape {
    /// Visitors with short requests on connections that they keep.
    pub getters: usize,
    /// Bytes of a large body.
    pub body: u64,
    /// How long a slow answer takes.
    pub slow: Duration,
    /// How long a conversation or a stream of events lasts.
    pub talk: Duration,
}

/// A request that was not answered as it should be.
#[derive(Debug, Clone)]
pub struct Failure {
    /// What kind of visit it was.
    pub kind: &'static str,
    /// When it began.
    pub began: Instant,
    /// When it failed.
    pub failed: Instant,
    /// What happened.
    pub why: String,
}

/// What came of it.
#[derive(Debug, Default)]
pub struct Tally {
    /// Visits that went well, by kind.
    pub well: BTreeMap<&'static str, u64>,
    /// And those that did not.
    pub failures: Vec<Failure>,
}

/// Visitors under way.
pub struct Load {
    stop: Arc<AtomicBool>,
    threads: Vec<JoinHandle<Tally>>,
}

#[derive(Clone, Copy)]
enum Kind {
    Get,
    Upload,
    Download,
    Slow,
    Events,
    Talk,
}

impl Kind {
    fn word(self) -> &'static str {
        match self {
            Kind::Get => "short, connection kept",
            Kind::Upload => "large body up",
            Kind::Download => "large body down",
            Kind::Slow => "slow answer",
            Kind::Events => "stream of events",
            Kind::Talk => "conversation (WebSocket)",
        }
    }
}

impl Load {
    /// Starts visitors of the demo's locker-api behind a gateway.
    pub fn start(to: SocketAddr, host: &str, shape: Shape) -> Load {
        let stop = Arc::new(AtomicBool::new(false));
        let kinds = std::iter::repeat_n(Kind::Get, shape.getters);
        let kinds =
            kinds.chain([Kind::Upload, Kind::Download, Kind::Slow, Kind::Slow, Kind::Events, Kind::Talk]);
        let threads = kinds.map(|kind| {
            let (stop, host) = (Arc::clone(&stop), host.to_owned());
            std::thread::spawn(move || visit(kind, to, &host, shape, &stop))
        });
        Load { threads: threads.collect(), stop }
    }

    /// Lets every visit end, and tells what came of all.
    pub fn finish(self) -> Tally {
        self.stop.store(true, Ordering::SeqCst);
        let mut all = Tally::default();
        for thread in self.threads {
            let one = thread.join().expect("a visitor");
            one.well.into_iter().for_each(|(kind, count)| *all.well.entry(kind).or_default() += count);
            all.failures.extend(one.failures);
        }
        all
    }
}

impl Tally {
    /// Failures that no part's death at one of these moments explains: it must have been open then.
    pub fn unexplained(&self, deaths: &[Instant]) -> Vec<&Failure> {
        let open_at =
            |failure: &&Failure| deaths.iter().any(|at| failure.began <= *at && *at <= failure.failed);
        self.failures.iter().filter(|failure| !open_at(failure)).collect()
    }
}

type Connection = BufReader<TcpStream>;

fn visit(kind: Kind, to: SocketAddr, host: &str, shape: Shape, stop: &AtomicBool) -> Tally {
    let mut tally = Tally::default();
    let mut kept: Option<Connection> = None;
    while !stop.load(Ordering::SeqCst) {
        let began = Instant::now();
        let outcome = match kind {
            Kind::Get => get(&mut kept, to, host),
            Kind::Upload => upload(to, host, shape.body),
            Kind::Download => download(to, host, shape.body),
            Kind::Slow => slow(to, host, shape.slow),
            Kind::Events => events(to, host, shape.talk),
            Kind::Talk => talk(to, host, shape.talk),
        };
        match outcome {
            Ok(()) => *tally.well.entry(kind.word()).or_default() += 1,
            Err(error) => {
                kept = None;
                let why = error.to_string();
                tally.failures.push(Failure { kind: kind.word(), began, failed: Instant::now(), why });
            }
        }
        // Large bodies leave room for the others.
        if matches!(kind, Kind::Upload | Kind::Download) {
            std::thread::sleep(Duration::from_millis(500));
        }
    }
    tally
}

fn connect(to: SocketAddr) -> Result<Connection> {
    let stream = TcpStream::connect(to)?;
    stream.set_nodelay(true)?;
    stream.set_read_timeout(Some(Duration::from_secs(60)))?;
    stream.set_write_timeout(Some(Duration::from_secs(60)))?;
    Ok(BufReader::new(stream))
}

/// The head of an answer: its length, `None` where it is in chunks.
fn head(reader: &mut Connection, expected: &str) -> Result<Option<u64>> {
    let mut first = String::new();
    if reader.read_line(&mut first)? == 0 {
        return Err(ErrorKind::UnexpectedEof.into());
    }
    let (mut length, mut rest) = (None, String::new());
    loop {
        let mut line = String::new();
        reader.read_line(&mut line)?;
        if line == "\r\n" || line.is_empty() {
            break;
        }
        if let Some(value) = line.to_ascii_lowercase().strip_prefix("content-length:") {
            length = value.trim().parse().ok();
        }
        rest.push_str(&line);
    }
    if !first.contains(expected) {
        let mut body = vec![0; length.unwrap_or(0).min(2000) as usize];
        reader.read_exact(&mut body)?;
        return Err(Error::other(format!("{} {}", first.trim(), String::from_utf8_lossy(&body))));
    }
    Ok(length)
}

fn whole(reader: &mut Connection, length: Option<u64>) -> Result<u64> {
    let length = length.ok_or_else(|| Error::other("the answer has no length"))?;
    let read = std::io::copy(&mut reader.take(length), &mut std::io::sink())?;
    if read == length { Ok(read) } else { Err(Error::other(format!("{read} of {length} bytes came"))) }
}

/// A GET on the kept connection. Where that was closed while nobody used it, a new one is taken, as any client does.
fn get(kept: &mut Option<Connection>, to: SocketAddr, host: &str) -> Result<()> {
    let ask = |reader: &mut Connection| {
        write!(reader.get_mut(), "GET /who HTTP/1.1\r\nhost: {host}\r\n\r\n")?;
        reader.fill_buf().map(|bytes| !bytes.is_empty())
    };
    let reused = kept.as_mut().map(ask);
    if !matches!(reused, Some(Ok(true))) {
        let reader = kept.insert(connect(to)?);
        ask(reader)?;
    }
    let reader = kept.as_mut().ok_or(ErrorKind::NotConnected)?;
    let length = head(reader, " 200 ")?;
    whole(reader, length).map(drop)
}

fn upload(to: SocketAddr, host: &str, body: u64) -> Result<()> {
    let mut reader = connect(to)?;
    write!(reader.get_mut(), "POST /count HTTP/1.1\r\nhost: {host}\r\ncontent-length: {body}\r\n\r\n")?;
    std::io::copy(&mut std::io::repeat(7).take(body), reader.get_mut())?;
    let length = head(&mut reader, " 200 ")?;
    let mut text = vec![0; length.unwrap_or(0) as usize];
    reader.read_exact(&mut text)?;
    let counted: u64 = String::from_utf8_lossy(&text).trim().parse().unwrap_or(0);
    if counted == body { Ok(()) } else { Err(Error::other(format!("{counted} of {body} bytes arrived"))) }
}

fn download(to: SocketAddr, host: &str, body: u64) -> Result<()> {
    let mut reader = connect(to)?;
    write!(reader.get_mut(), "GET /bytes/{body} HTTP/1.1\r\nhost: {host}\r\n\r\n")?;
    let length = head(&mut reader, " 200 ")?;
    match whole(&mut reader, length)? {
        read if read == body => Ok(()),
        read => Err(Error::other(format!("{read} of {body} bytes came"))),
    }
}

fn slow(to: SocketAddr, host: &str, wait: Duration) -> Result<()> {
    let mut reader = connect(to)?;
    write!(reader.get_mut(), "GET /slow/{} HTTP/1.1\r\nhost: {host}\r\n\r\n", wait.as_millis())?;
    let length = head(&mut reader, " 200 ")?;
    whole(&mut reader, length).map(drop)
}

/// Ten events a second.
fn events(to: SocketAddr, host: &str, last: Duration) -> Result<()> {
    let mut reader = connect(to)?;
    let count = (last.as_millis() / 100).max(1);
    write!(reader.get_mut(), "GET /events/{count} HTTP/1.1\r\nhost: {host}\r\n\r\n")?;
    head(&mut reader, " 200 ")?;
    let mut seen = 0;
    let mut line = String::new();
    while reader.read_line(&mut line)? > 0 && line.trim_end() != "0" {
        if let Some(number) = line.trim_end().strip_prefix("data: ") {
            if number != seen.to_string() {
                return Err(Error::other(format!("event {number} came after {seen}")));
            }
            seen += 1;
        }
        line.clear();
    }
    if seen == count { Ok(()) } else { Err(Error::other(format!("{seen} of {count} events came"))) }
}

/// RFC 6455: short masked texts, each of which comes back.
fn talk(to: SocketAddr, host: &str, last: Duration) -> Result<()> {
    let mut reader = connect(to)?;
    write!(
        reader.get_mut(),
        "GET /talk HTTP/1.1\r\nhost: {host}\r\nupgrade: websocket\r\nconnection: upgrade\r\n\
         sec-websocket-version: 13\r\nsec-websocket-key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"
    )?;
    head(&mut reader, " 101 ")?;
    let (began, mask) = (Instant::now(), [1, 2, 3, 4]);
    let mut say = |opcode: u8, text: &[u8]| -> Result<()> {
        let masked = text.iter().zip(mask.iter().cycle()).map(|(byte, mask)| byte ^ mask);
        let frame: Vec<u8> =
            [0x80 | opcode, 0x80 | text.len() as u8].into_iter().chain(mask).chain(masked).collect();
        reader.get_mut().write_all(&frame)?;
        let mut back = vec![0; 2 + text.len()];
        reader.read_exact(&mut back)?;
        if back[2..] == *text { Ok(()) } else { Err(Error::other("something else came back")) }
    };
    let mut number = 0;
    while began.elapsed() < last {
        say(1, format!("parcel {number}").as_bytes())?;
        number += 1;
        std::thread::sleep(Duration::from_millis(50));
    }
    say(8, b"")
}
