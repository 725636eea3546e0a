//! Ready and alive probes, made from a thread that lives in the node's network namespace.

use std::net::{Ipv4Addr, SocketAddrV4};
use std::sync::Arc;
use std::time::{Duration, Instant};

use mainyard_core::model::{CheckKind, ReplicaId, Span};
use mainyard_core::replica_lifecycle::{Event, ProbeFault};
use mainyard_runtime::{Driver, enter};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::sync::mpsc::{self, UnboundedSender};
use tokio::time::error::Elapsed;

use crate::events::Message;

/// An answer that is late is waited for so long, to say how late it is.
const LATE_AT_MOST: Duration = Duration::from_secs(10);

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
    /// Where replicas share the machine's network: the init that the listener must belong to.
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
    let made = judge(tokio::time::timeout(probe.within, &mut answer).await);
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
    let (CheckKind::Http(_, port) | CheckKind::Connect(port)) = &probe.kind;
    match probe.check_owner {
        Some(init) if !driver.listening(init, probe.address).open.contains(port) => Err(ProbeFault::Refused),
        _ => Ok(()),
    }
}

/// What an attempt says about the replica, where it came in time.
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

/// The answer's status; 200 for a connection that was taken.
async fn attempt(kind: &CheckKind, address: Ipv4Addr) -> std::io::Result<u16> {
    let (CheckKind::Http(_, port) | CheckKind::Connect(port)) = kind;
    let mut stream = connect(SocketAddrV4::new(address, *port)).await?;
    let CheckKind::Http(path, _) = kind else { return Ok(200) };
    let request = format!(
        "GET {path} HTTP/1.1\r\nhost: {address}:{port}\r\nuser-agent: mainyard-check\r\nconnection: close\r\n\r\n"
    );
    stream.write_all(request.as_bytes()).await?;
    let mut head = Vec::new();
    let mut chunk = [0; 512];
    // "HTTP/1.1 200" is all that matters.
    while head.len() < 12 {
        let length = stream.read(&mut chunk).await?;
        if length == 0 {
            break;
        }
        head.extend_from_slice(&chunk[..length]);
    }
    // An alert (RFC 8446, section 6): anyone who listens there takes TLS only.
    if head.starts_with(&[0x15, 0x03]) {
        return Err(std::io::ErrorKind::Unsupported.into());
    }
    let status = head.get(9..12).and_then(|digits| std::str::from_utf8(digits).ok()?.parse().ok());
    status
        .filter(|_| head.starts_with(b"HTTP/1."))
        .ok_or_else(|| std::io::Error::other("the answer is not HTTP/1"))
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
