//! Ready and alive probes, made from a thread that lives in the node's network namespace.

use std::net::{Ipv4Addr, SocketAddrV4};
use std::pin::Pin;
use std::sync::{Arc, OnceLock};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use bytes::Bytes;
use http_body_util::Empty;
use hyper::Request;
use hyper_util::rt::TokioIo;
use mainyard_core::model::{CheckKind, ReplicaId, Span};
use mainyard_core::replica_lifecycle::{Event, ProbeFault};
use mainyard_runtime::{Driver, enter};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio::sync::mpsc::{self, UnboundedSender};
use tokio::time::error::Elapsed;

use crate::events::Message;
use crate::grpc_health;

/// An answer that is late is waited for so long, to say how late it is.
const LATE_AT_MOST: Duration = Duration::from_secs(10);

/// How many times as long as its check allows one may take to answer and still be alive.
const STILL_ALIVE: u32 = 5;

/// The largest head of an answer, in bytes.
const LARGEST_HEAD: usize = 16 << 10;

/// One probe to make.
#[derive(Debug)]
pub(crate) struct Probe {
    pub id: ReplicaId,
    pub number: u64,
    pub run: u32,
    pub after: Duration,
    pub within: Duration,
    pub kind: CheckKind,
    pub alive: bool,
    pub address: Ipv4Addr,
    /// The init that the listener must belong to, if replicas share the machine's network.
    pub check_owner: Option<u32>,
}

/// Makes one probe, when it is time, and tells what came of it.
async fn make(probe: Probe, driver: Arc<Driver>, inbox: UnboundedSender<Message>) {
    if !probe.after.is_zero() {
        tokio::time::sleep(probe.after).await;
    }
    let tell = |event| inbox.send(Message::Event(probe.id.clone(), probe.number, event));
    let began = Instant::now();
    let mut answer = std::pin::pin!(attempt(&probe.kind, probe.address));
    // One that answers late is alive: only one that does not answer at all is replaced.
    let within = if probe.alive { probe.within * STILL_ALIVE } else { probe.within };
    let made = judge(tokio::time::timeout(within, &mut answer).await);
    let late = made == Err(ProbeFault::Late);
    let result = made.and_then(|()| owned(&driver, &probe));
    let _ = tell(match probe.alive {
        true => Event::AliveProbed(probe.run, result),
        false => Event::Probed(probe.run, result),
    });
    // It failed already. A person wants to know whether the answer would have come at all.
    if late && !probe.alive && tokio::time::timeout(LATE_AT_MOST, answer).await.is_ok() {
        let took = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
        let _ = tell(Event::AnsweredLate(probe.run, Span::from_millis(took)));
    }
}

/// The probing thread.
pub(crate) struct Probes {
    to_make: UnboundedSender<Probe>,
}

impl Probes {
    pub(crate) fn start(driver: Arc<Driver>, inbox: UnboundedSender<Message>) -> std::io::Result<Probes> {
        let (to_make, mut asked) = mpsc::unbounded_channel::<Probe>();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        std::thread::Builder::new().name("probes".to_owned()).spawn(move || {
            if let Some(network) = driver.network()
                && let Err(error) = enter(network)
            {
                tracing::error!(%error, "no probe can be made");
                return;
            }
            runtime.block_on(async move {
                while let Some(probe) = asked.recv().await {
                    let (inbox, driver) = (inbox.clone(), Arc::clone(&driver));
                    tokio::spawn(make(probe, driver, inbox));
                }
            });
        })?;
        Ok(Probes { to_make })
    }

    pub(crate) fn ask(&self, probe: Probe) {
        let _ = self.to_make.send(probe);
    }
}

/// Another process may listen on every address of the machine, and would answer in this one's place.
fn owned(driver: &Driver, probe: &Probe) -> Result<(), ProbeFault> {
    let port = probe.kind.port();
    match probe.check_owner {
        Some(init) if !driver.listening(init, probe.address).open.contains(&port) => Err(ProbeFault::Refused),
        _ => Ok(()),
    }
}

/// Turns the outcome of an attempt into a verdict about the replica, if the attempt ended in time.
fn judge(attempt: Result<std::io::Result<u16>, Elapsed>) -> Result<(), ProbeFault> {
    match attempt {
        Err(_) => Err(ProbeFault::Late),
        Ok(Err(error)) if error.kind() == std::io::ErrorKind::ConnectionRefused => Err(ProbeFault::Refused),
        Ok(Err(error)) if error.kind() == std::io::ErrorKind::Unsupported => Err(ProbeFault::Tls),
        Ok(Err(error)) => Err(ProbeFault::Other(error.to_string())),
        Ok(Ok(status)) if (200..400).contains(&status) => Ok(()),
        Ok(Ok(status)) => Err(ProbeFault::Status(status)),
    }
}

/// The answer's status; 200 for a connection that was accepted.
async fn attempt(kind: &CheckKind, address: Ipv4Addr) -> std::io::Result<u16> {
    let port = kind.port();
    let stream = connect(SocketAddrV4::new(address, port)).await?;
    let first = Arc::new(OnceLock::new());
    let stream = FirstBytes { stream, first: Arc::clone(&first) };
    let host = format!("{address}:{port}");
    let answered = match kind {
        CheckKind::Connect(_) => return Ok(200),
        CheckKind::Http(path, _) => get(stream, path, &host).await,
        CheckKind::Grpc(service, _) => grpc_health::ask(stream, service, &host).await.map(|()| 200),
    };
    answered.map_err(|error| match first.get() {
        // An alert (RFC 8446, section 6): anyone who listens there takes TLS only.
        Some([0x15, 0x03]) => std::io::ErrorKind::Unsupported.into(),
        _ => error,
    })
}

/// Asks for a path; gives the status as soon as the answer's head is there.
async fn get(stream: FirstBytes, path: &str, host: &str) -> std::io::Result<u16> {
    let mut builder = hyper::client::conn::http1::Builder::new();
    let (mut sender, connection) =
        builder.max_buf_size(LARGEST_HEAD).handshake(TokioIo::new(stream)).await.map_err(of_http)?;
    let request = Request::get(path)
        .header("host", host)
        .header("user-agent", "mainyard-check")
        .header("connection", "close")
        .body(Empty::<Bytes>::new())
        .map_err(std::io::Error::other)?;
    let mut answer = std::pin::pin!(sender.send_request(request));
    // The connection does its work only while it is asked to; it ends with this attempt, whatever the replica still sends.
    let answer = tokio::select! {
        answer = &mut answer => answer,
        // Where it ends first, the answer or what is wrong with it is there already.
        _ = connection => answer.await,
    };
    Ok(answer.map_err(of_http)?.status().as_u16())
}

/// Words for a person about an answer that hyper could not read.
fn of_http(error: hyper::Error) -> std::io::Error {
    if error.is_incomplete_message() || error.is_canceled() {
        return std::io::Error::other("the connection was closed without an answer");
    }
    if error.is_parse() {
        return std::io::Error::other("the answer is not HTTP/1");
    }
    std::io::Error::other(error)
}

/// A connection that remembers with which two bytes its answer begins.
struct FirstBytes {
    stream: TcpStream,
    first: Arc<OnceLock<[u8; 2]>>,
}

impl AsyncRead for FirstBytes {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<std::io::Result<()>> {
        let before = buffer.filled().len();
        let polled = Pin::new(&mut self.stream).poll_read(context, buffer);
        if let Some(first) = buffer.filled().get(before..before + 2) {
            let _ = self.first.set([first[0], first[1]]);
        }
        polled
    }
}

impl AsyncWrite for FirstBytes {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<std::io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}

/// A first packet that is lost would cost the kernel's whole second; a fresh try costs milliseconds.
async fn connect(to: SocketAddrV4) -> std::io::Result<TcpStream> {
    for patience in [20, 40, 80, 160] {
        match tokio::time::timeout(Duration::from_millis(patience), TcpStream::connect(to)).await {
            Ok(outcome) => return outcome,
            Err(_) => continue,
        }
    }
    TcpStream::connect(to).await
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Write};
    use std::net::TcpListener;

    use super::*;

    /// The verdict of a check against a server that answers every connection with these bytes.
    async fn checked(answer: &'static [u8]) -> Result<(), ProbeFault> {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("an address").port();
        std::thread::spawn(move || {
            if let Ok((mut stream, _)) = listener.accept() {
                let mut request = [0; 1024];
                // The check may have given up already.
                let _ = stream.read(&mut request).and_then(|_| stream.write_all(answer));
            }
        });
        let kind = CheckKind::Http("/ready".to_owned(), port);
        judge(tokio::time::timeout(Duration::from_secs(20), attempt(&kind, Ipv4Addr::LOCALHOST)).await)
    }

    #[tokio::test]
    async fn the_status_decides_and_the_body_is_not_waited_for() {
        assert_eq!(checked(b"HTTP/1.1 204 No Content\r\n\r\n").await, Ok(()));
        assert_eq!(checked(b"HTTP/1.0 302 Found\r\nlocation: /\r\n\r\n").await, Ok(()));
        assert_eq!(checked(b"HTTP/1.1 200 OK\r\ncontent-length: 1000000\r\n\r\nbegin").await, Ok(()));
        assert_eq!(checked(b"HTTP/1.1 503 Busy\r\n\r\n").await, Err(ProbeFault::Status(503)));
        // An interim answer is not the answer.
        assert_eq!(checked(b"HTTP/1.1 103 Early Hints\r\n\r\nHTTP/1.1 200 OK\r\n\r\n").await, Ok(()));
    }

    #[tokio::test]
    async fn what_is_no_answer_has_a_fault_of_its_own() {
        assert_eq!(checked(b"\x15\x03\x01\x00\x02\x02\x46").await, Err(ProbeFault::Tls));
        let words = |fault: Result<(), ProbeFault>| match fault {
            Err(ProbeFault::Other(words)) => words,
            other => format!("{other:?}"),
        };
        assert_eq!(words(checked(b"SSH-2.0-server\r\n").await), "the answer is not HTTP/1");
        assert_eq!(words(checked(b"").await), "the connection was closed without an answer");
        let free = TcpListener::bind("127.0.0.1:0")
            .and_then(|listener| listener.local_addr())
            .expect("a port")
            .port();
        let kind = CheckKind::Connect(free);
        let refused = judge(Ok(attempt(&kind, Ipv4Addr::LOCALHOST).await));
        assert_eq!(refused, Err(ProbeFault::Refused));
    }
}
