//! Visitors of all kinds, for as long as one likes: short requests on kept connections, long answers, large bodies both
//! ways, streams of events, conversations. They are clients of hyper, on one thread. Failures are kept with time and cause.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use bytes::Bytes;
use futures_util::stream;
use http_body_util::{BodyExt, Empty, StreamBody};
use hyper::body::{Body, Frame, Incoming};
use hyper::client::conn::http1::{self, SendRequest};
use hyper::http::request::Builder;
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

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
    /// The kind of request.
    pub kind: &'static str,
    /// When it began.
    pub began: Instant,
    /// When it failed.
    pub failed: Instant,
    /// The result.
    pub why: String,
}

/// The result of a request.
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
    thread: JoinHandle<Tally>,
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
        let visitors = std::iter::repeat_n(Kind::Get, shape.getters)
            .chain([Kind::Upload, Kind::Download, Kind::Slow, Kind::Slow, Kind::Events, Kind::Talk])
            .map(|kind| Visitor { kind, to, host: host.to_owned(), shape, stop: Arc::clone(&stop) })
            .collect();
        Load { thread: std::thread::spawn(move || run(visitors)), stop }
    }

    /// Lets every visit end, and tells what came of all.
    pub fn finish(self) -> Tally {
        self.stop.store(true, Ordering::SeqCst);
        self.thread.join().expect("the visitors")
    }
}

/// A process that was killed: from the signal until its connections were gone.
#[derive(Debug, Clone, Copy)]
pub struct Death {
    killed: Instant,
    gone: Instant,
}

impl Death {
    /// Kills a process of this test's own, and waits until it has let go of all that it had: what a process has open
    /// outlives the signal for as long as the kernel needs to take it apart.
    pub fn of(process: i32) -> Death {
        let killed = Instant::now();
        // SAFETY: no memory is involved.
        unsafe { libc::kill(process, libc::SIGKILL) };
        while has_connections(process) {
            std::thread::sleep(Duration::from_millis(1));
        }
        Death { killed, gone: Instant::now() }
    }
}

/// Whether a process is there and no mere entry of its parent's. Its first thread may have become that while others still
/// hold what they share.
fn has_connections(process: i32) -> bool {
    let state = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    let is_running = state.rsplit_once(") ").is_some_and(|(_, rest)| !rest.starts_with(['Z', 'X']));
    let threads = std::fs::read_dir(format!("/proc/{process}/task")).map_or(0, Iterator::count);
    is_running || threads > 1
}

impl Tally {
    /// Failures that none of these deaths explains: the request was open when the process died.
    pub fn unexplained(&self, deaths: &[Death]) -> Vec<&Failure> {
        let open_at = |failure: &&Failure| {
            deaths.iter().any(|death| failure.began <= death.gone && death.killed <= failure.failed)
        };
        self.failures.iter().filter(|failure| !open_at(failure)).collect()
    }
}

/// The longest that one visit may take beyond what it is meant to.
const PATIENCE: Duration = Duration::from_secs(60);

type Outcome<T> = Result<T, String>;

/// One visitor, and what it does again and again.
struct Visitor {
    kind: Kind,
    to: SocketAddr,
    host: String,
    shape: Shape,
    stop: Arc<AtomicBool>,
}

/// Lets all of them visit at the same time, until they are told to stop.
fn run(visitors: Vec<Visitor>) -> Tally {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let tasks: Vec<_> = visitors.into_iter().map(|visitor| tokio::spawn(visitor.run())).collect();
        let mut all = Tally::default();
        for task in tasks {
            let one = task.await.expect("a visitor");
            one.well.into_iter().for_each(|(kind, count)| *all.well.entry(kind).or_default() += count);
            all.failures.extend(one.failures);
        }
        all
    })
}

impl Visitor {
    async fn run(self) -> Tally {
        let mut tally = Tally::default();
        let mut kept = None;
        while !self.stop.load(Ordering::SeqCst) {
            let began = Instant::now();
            let patience = PATIENCE + self.shape.slow + self.shape.talk;
            let visit = tokio::time::timeout(patience, self.visit(&mut kept)).await;
            match visit.unwrap_or_else(|_| Err(format!("it is not over after {patience:?}"))) {
                Ok(()) => *tally.well.entry(self.kind.word()).or_default() += 1,
                Err(why) => {
                    kept = None;
                    let failed = Instant::now();
                    tally.failures.push(Failure { kind: self.kind.word(), began, failed, why });
                }
            }
            // Large bodies leave room for the others.
            if matches!(self.kind, Kind::Upload | Kind::Download) {
                tokio::time::sleep(Duration::from_millis(500)).await;
            }
        }
        tally
    }

    async fn visit(&self, kept: &mut Option<SendRequest<Empty<Bytes>>>) -> Outcome<()> {
        match self.kind {
            Kind::Get => self.get(kept).await,
            Kind::Upload => self.upload().await,
            Kind::Download => self.download().await,
            Kind::Slow => self.slow().await,
            Kind::Events => self.events().await,
            Kind::Talk => self.talk().await,
        }
    }

    async fn connect<B>(&self) -> Outcome<SendRequest<B>>
    where
        B: Body<Data = Bytes> + Send + 'static,
        B::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
    {
        let stream = TcpStream::connect(self.to).await.map_err(words)?;
        stream.set_nodelay(true).map_err(words)?;
        let (sender, connection) = http1::handshake(TokioIo::new(stream)).await.map_err(words)?;
        // It ends with its sender, or when an upgraded connection is dropped; the request tells of its errors.
        tokio::spawn(async move { drop(connection.with_upgrades().await) });
        Ok(sender)
    }

    fn request(&self, path: &str) -> Builder {
        Request::get(path).header("host", &self.host)
    }

    /// Asks once, on a connection of its own.
    async fn ask(&self, path: &str) -> Outcome<Response<Incoming>> {
        let request = self.request(path).body(Empty::<Bytes>::new()).map_err(words)?;
        let mut sender = self.connect().await?;
        expect(StatusCode::OK, sender.send_request(request).await.map_err(words)?).await
    }

    /// A GET on the kept connection. If that was closed while nobody used it, a new one is opened, as any client does.
    async fn get(&self, kept: &mut Option<SendRequest<Empty<Bytes>>>) -> Outcome<()> {
        let request = || self.request("/who").body(Empty::<Bytes>::new()).map_err(words);
        if let Some(mut sender) = kept.take() {
            match sender.send_request(request()?).await {
                Ok(answer) => return self.keep(kept, sender, answer).await,
                Err(error) if error.is_canceled() || error.is_incomplete_message() || error.is_closed() => {}
                Err(error) => return Err(words(error)),
            }
        }
        let mut sender = self.connect().await?;
        let answer = sender.send_request(request()?).await.map_err(words)?;
        self.keep(kept, sender, answer).await
    }

    async fn keep(
        &self,
        kept: &mut Option<SendRequest<Empty<Bytes>>>,
        mut sender: SendRequest<Empty<Bytes>>,
        answer: Response<Incoming>,
    ) -> Outcome<()> {
        expect(StatusCode::OK, answer).await?.into_body().collect().await.map_err(words)?;
        if sender.ready().await.is_ok() {
            *kept = Some(sender);
        }
        Ok(())
    }

    async fn upload(&self) -> Outcome<()> {
        const CHUNK: u64 = 64 << 10;
        let chunk = Bytes::from_static(&[7; CHUNK as usize]);
        let left = stream::iter((0..self.shape.body.div_ceil(CHUNK)).map({
            let body = self.shape.body;
            move |number| {
                let length = CHUNK.min(body - number * CHUNK) as usize;
                Ok::<_, std::convert::Infallible>(Frame::data(chunk.slice(..length)))
            }
        }));
        let request = Request::post("/count")
            .header("host", &self.host)
            .header("content-length", self.shape.body)
            .body(StreamBody::new(left))
            .map_err(words)?;
        let mut sender = self.connect().await?;
        let answer = expect(StatusCode::OK, sender.send_request(request).await.map_err(words)?).await?;
        let text = answer.into_body().collect().await.map_err(words)?.to_bytes();
        let counted: u64 = String::from_utf8_lossy(&text).trim().parse().unwrap_or(0);
        all_came(counted, self.shape.body, "bytes")
    }

    async fn download(&self) -> Outcome<()> {
        let mut body = self.ask(&format!("/bytes/{}", self.shape.body)).await?.into_body();
        let mut read = 0;
        while let Some(frame) = body.frame().await {
            read += frame.map_err(words)?.data_ref().map_or(0, |data| data.len() as u64);
        }
        all_came(read, self.shape.body, "bytes")
    }

    async fn slow(&self) -> Outcome<()> {
        let answer = self.ask(&format!("/slow/{}", self.shape.slow.as_millis())).await?;
        answer.into_body().collect().await.map(drop).map_err(words)
    }

    /// Ten events a second, each with the next number.
    async fn events(&self) -> Outcome<()> {
        let count = (self.shape.talk.as_millis() / 100).max(1) as u64;
        let mut body = self.ask(&format!("/events/{count}")).await?.into_body();
        let (mut seen, mut rest) = (0, Vec::new());
        while let Some(frame) = body.frame().await {
            rest.extend_from_slice(frame.map_err(words)?.data_ref().map_or(&[][..], |data| data));
            while let Some(end) = rest.iter().position(|byte| *byte == b'\n') {
                let line: Vec<u8> = rest.drain(..=end).collect();
                let line = String::from_utf8_lossy(&line);
                let Some(number) = line.trim_end().strip_prefix("data: ") else { continue };
                if number != seen.to_string() {
                    return Err(format!("event {number} came after {seen}"));
                }
                seen += 1;
            }
        }
        all_came(seen, count, "events")
    }

    /// RFC 6455: short masked texts, each of which comes back.
    async fn talk(&self) -> Outcome<()> {
        let request = self
            .request("/talk")
            .header("upgrade", "websocket")
            .header("connection", "upgrade")
            .header("sec-websocket-version", "13")
            .header("sec-websocket-key", "dGhlIHNhbXBsZSBub25jZQ==")
            .body(Empty::<Bytes>::new())
            .map_err(words)?;
        let mut sender = self.connect().await?;
        let answer = sender.send_request(request).await.map_err(words)?;
        let answer = expect(StatusCode::SWITCHING_PROTOCOLS, answer).await?;
        let mut talk = TokioIo::new(hyper::upgrade::on(answer).await.map_err(words)?);
        let began = Instant::now();
        let mut number = 0;
        while began.elapsed() < self.shape.talk {
            say(&mut talk, 1, format!("parcel {number}").as_bytes()).await?;
            number += 1;
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        say(&mut talk, 8, b"").await
    }
}

/// Sends one masked frame, and reads it back unmasked.
async fn say(talk: &mut TokioIo<hyper::upgrade::Upgraded>, opcode: u8, text: &[u8]) -> Outcome<()> {
    let mask = [1, 2, 3, 4];
    let masked = text.iter().zip(mask.iter().cycle()).map(|(byte, mask)| byte ^ mask);
    let frame: Vec<u8> =
        [0x80 | opcode, 0x80 | text.len() as u8].into_iter().chain(mask).chain(masked).collect();
    talk.write_all(&frame).await.map_err(words)?;
    let mut back = vec![0; 2 + text.len()];
    talk.read_exact(&mut back).await.map_err(words)?;
    if back[2..] == *text { Ok(()) } else { Err("something else came back".to_owned()) }
}

/// The answer, if it has this status; otherwise the status with the beginning of the body.
async fn expect(status: StatusCode, answer: Response<Incoming>) -> Outcome<Response<Incoming>> {
    if answer.status() == status {
        return Ok(answer);
    }
    let found = answer.status();
    let body = answer.into_body().collect().await.map_err(words)?.to_bytes();
    Err(format!("{found} {}", String::from_utf8_lossy(&body[..body.len().min(2000)])))
}

fn all_came(came: u64, expected: u64, of: &str) -> Outcome<()> {
    if came == expected { Ok(()) } else { Err(format!("{came} of {expected} {of} came")) }
}

/// An error with its causes.
fn words(error: impl std::error::Error) -> String {
    let mut words = error.to_string();
    let mut source = error.source();
    while let Some(cause) = source {
        words = format!("{words}: {cause}");
        source = cause.source();
    }
    words
}
