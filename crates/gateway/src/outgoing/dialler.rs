//! Dialling, and looking names up, in the machine's network: a thread that stays there when the workers go to the
//! replicas'. Sockets belong to the network that they were made in, so what it dials is used anywhere.

use std::io;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use hickory_proto::rr::{Name, RData, Record, RecordType};
use hickory_resolver::TokioResolver;
use hickory_resolver::config::{NameServerConfig, ResolverConfig, ResolverOpts};
use hickory_resolver::net::runtime::TokioRuntimeProvider;
use mainyard_core::link::{AttemptOutcome, OutgoingAttempt};
use mainyard_core::model::is_never_reached;
use tokio::net::TcpStream;
use tokio::sync::{Semaphore, mpsc, oneshot};

use crate::serving::Serving;

/// A connection is made within this time.
const DIALLED_WITHIN: Duration = Duration::from_secs(10);
/// Connections that are made at once, and names that are looked up at once.
const AT_ONCE: usize = 512;
/// The machine's list of resolvers is looked at this often.
const LIST_LOOKED_AT: Duration = Duration::from_secs(5);
const LIST: &str = "/etc/resolv.conf";
/// Answers that are kept.
const ANSWERS: u64 = 4_096;
/// Longest time that an answer is kept, whatever its sender says.
const KEPT: Duration = Duration::from_secs(3600);

/// Why a connection was not made.
#[derive(Debug)]
pub(crate) enum NotDialled {
    /// It would lead to the platform itself.
    NeverReached,
    /// The machine's error.
    Failed(io::Error),
}

impl std::fmt::Display for NotDialled {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            NotDialled::NeverReached => f.write_str("the platform itself is there"),
            NotDialled::Failed(error) if error.kind() == io::ErrorKind::TimedOut => {
                write!(f, "no answer within {} s", DIALLED_WITHIN.as_secs())
            }
            NotDialled::Failed(error) => f.write_str(&in_words(error)),
        }
    }
}

/// The system's words, without their number.
fn in_words(error: &io::Error) -> String {
    let words = error.to_string();
    words.split(" (os error").next().unwrap_or(&words).to_lowercase()
}

/// Why a name has no answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum NotFound {
    /// There is no such name.
    Unknown,
    /// It has nothing of the kind.
    Nothing,
    /// Nobody could be asked, or none answered.
    Failed(String),
}

enum Ask {
    Resolve(Name, RecordType, oneshot::Sender<Result<Vec<Record>, NotFound>>),
    /// The last tells whether something of the platform listens at this port.
    Dial(SocketAddr, bool, oneshot::Sender<Result<std::net::TcpStream, NotDialled>>),
}

/// Asks the thread in the machine's network.
#[derive(Debug)]
pub(crate) struct Dialler {
    asks: mpsc::Sender<Ask>,
    own_ports: Vec<u16>,
}

/// Starts the thread. `resolvers` are asked instead of those that the machine lists; `own_ports` are the platform's.
pub(crate) fn start(resolvers: Vec<SocketAddr>, own_ports: Vec<u16>) -> io::Result<Dialler> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let (asks, asked) = mpsc::channel(AT_ONCE);
    let machine = MachineResolver { given: resolvers, made: None };
    std::thread::Builder::new()
        .name("dialler".to_owned())
        .spawn(move || runtime.block_on(answer_all(asked, machine)))?;
    Ok(Dialler { asks, own_ports })
}

async fn answer_all(mut asked: mpsc::Receiver<Ask>, mut machine: MachineResolver) {
    let room = Arc::new(Semaphore::new(AT_ONCE));
    while let Some(ask) = asked.recv().await {
        let Ok(room) = Arc::clone(&room).acquire_owned().await else { return };
        let resolver = machine.present();
        tokio::spawn(async move {
            // Whoever asked may have gone.
            match ask {
                Ask::Dial(to, ours, reply) => drop(reply.send(dial(to, ours).await)),
                Ask::Resolve(name, kind, reply) => drop(reply.send(resolve(resolver, name, kind).await)),
            }
            drop(room);
        });
    }
}

async fn dial(to: SocketAddr, ours: bool) -> Result<std::net::TcpStream, NotDialled> {
    if ours && is_the_machine(to) {
        return Err(NotDialled::NeverReached);
    }
    let dialled = tokio::time::timeout(DIALLED_WITHIN, TcpStream::connect(to));
    let dialled = dialled.await.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into()));
    let stream = dialled.and_then(|stream| {
        stream.set_nodelay(true)?;
        stream.into_std()
    });
    stream.map_err(NotDialled::Failed)
}

/// Whether an address is one of the machine's own: then what is sent there comes from the same address. Nothing is sent.
fn is_the_machine(to: SocketAddr) -> bool {
    let any: IpAddr = if to.is_ipv4() { [0; 4].into() } else { [0; 16].into() };
    let from = UdpSocket::bind((any, 0)).and_then(|socket| {
        socket.connect(to)?;
        socket.local_addr()
    });
    from.is_ok_and(|from| from.ip() == to.ip())
}

/// The resolver by the machine's list, which may change.
struct MachineResolver {
    given: Vec<SocketAddr>,
    made: Option<(Instant, Option<SystemTime>, Result<TokioResolver, String>)>,
}

impl MachineResolver {
    fn present(&mut self) -> Result<TokioResolver, String> {
        if let Some((looked, _, made)) = &self.made
            && looked.elapsed() < LIST_LOOKED_AT
        {
            return made.clone();
        }
        let changed = std::fs::metadata(LIST).and_then(|it| it.modified()).ok();
        match &mut self.made {
            Some((looked, of, made)) if *of == changed && made.is_ok() => {
                *looked = Instant::now();
                made.clone()
            }
            _ => {
                let made = self.make();
                self.made = Some((Instant::now(), changed, made.clone()));
                made
            }
        }
    }

    fn make(&self) -> Result<TokioResolver, String> {
        let (config, mut options) = if self.given.is_empty() {
            let read = hickory_resolver::system_conf::read_system_conf();
            read.map_err(|error| format!("{LIST} cannot be used: {error}"))?
        } else {
            let servers = self.given.iter().map(|at| {
                let mut server = NameServerConfig::udp_and_tcp(at.ip());
                server.connections.iter_mut().for_each(|connection| connection.port = at.port());
                server
            });
            (ResolverConfig::from_parts(None, Vec::new(), servers.collect()), ResolverOpts::default())
        };
        options.timeout = Duration::from_secs(2);
        options.attempts = 2;
        options.cache_size = ANSWERS;
        options.positive_max_ttl = Some(KEPT);
        options.negative_max_ttl = Some(Duration::from_secs(60));
        options.preserve_intermediates = true;
        let builder = TokioResolver::builder_with_config(config, TokioRuntimeProvider::default());
        builder.with_options(options).build().map_err(|error| error.to_string())
    }
}

async fn resolve(
    resolver: Result<TokioResolver, String>,
    mut name: Name,
    kind: RecordType,
) -> Result<Vec<Record>, NotFound> {
    let resolver = resolver.map_err(NotFound::Failed)?;
    // In full: the machine's own search list is no affair of replicas.
    name.set_fqdn(true);
    match resolver.lookup(name, kind).await {
        Ok(found) => Ok(found.answers().to_vec()),
        Err(error) if error.is_nx_domain() => Err(NotFound::Unknown),
        Err(error) if error.is_no_records_found() => Err(NotFound::Nothing),
        Err(error) => Err(NotFound::Failed(format!("the machine's resolvers gave no answer: {error}"))),
    }
}

impl Dialler {
    /// The records of a name.
    pub(crate) async fn resolve(&self, name: Name, kind: RecordType) -> Result<Vec<Record>, NotFound> {
        let (reply, answer) = oneshot::channel();
        let ended = || NotFound::Failed("the gateway ends".to_owned());
        self.asks.send(Ask::Resolve(name, kind, reply)).await.map_err(|_| ended())?;
        answer.await.unwrap_or_else(|_| Err(ended()))
    }

    /// The addresses of a name.
    pub(crate) async fn addresses(&self, name: &str) -> Result<Vec<IpAddr>, NotFound> {
        let name = Name::from_ascii(name).map_err(|_| NotFound::Unknown)?;
        let records = self.resolve(name, RecordType::A).await?;
        Ok(addresses_in(&records))
    }

    /// A connection to this address. Routes of the platform take ports of their own.
    pub(crate) async fn dial(
        &self,
        to: SocketAddr,
        serving: &Serving,
    ) -> Result<std::net::TcpStream, NotDialled> {
        let ours = self.own_ports.contains(&to.port()) || serving.routing().by_port.contains_key(&to.port());
        let (reply, answer) = oneshot::channel();
        let ended = || NotDialled::Failed(io::ErrorKind::NotConnected.into());
        self.asks.send(Ask::Dial(to, ours, reply)).await.map_err(|_| ended())?;
        answer.await.unwrap_or_else(|_| Err(ended()))
    }

    /// Tries to reach a destination, for a person who asks whether it is reached.
    pub(crate) async fn attempt(&self, host: &str, port: u16, serving: &Serving) -> OutgoingAttempt {
        let addresses = match host.parse::<IpAddr>() {
            Ok(address) => vec![address],
            Err(_) => match self.addresses(host).await {
                Ok(addresses) => addresses,
                Err(not_found) => {
                    let says = match not_found {
                        NotFound::Unknown => "the machine's resolvers know no such name".to_owned(),
                        NotFound::Nothing => "the name is known and has no IPv4 address".to_owned(),
                        NotFound::Failed(says) => says,
                    };
                    let outcome = AttemptOutcome::Unresolved { says };
                    return OutgoingAttempt { addresses: Vec::new(), outcome };
                }
            },
        };
        let mut outcome = AttemptOutcome::NeverReached;
        for address in addresses.iter().copied().filter(|address| !is_never_reached(*address)) {
            let began = Instant::now();
            match self.dial(SocketAddr::new(address, port), serving).await {
                Ok(_) => {
                    let micros = began.elapsed().as_micros() as u64;
                    outcome = AttemptOutcome::Answered { address, micros };
                    break;
                }
                Err(NotDialled::NeverReached) => {}
                Err(failed) => outcome = AttemptOutcome::Unreachable { says: format!("{address}: {failed}") },
            }
        }
        OutgoingAttempt { addresses, outcome }
    }
}

/// The addresses among records.
pub(crate) fn addresses_in(records: &[Record]) -> Vec<IpAddr> {
    let address = |record: &Record| match &record.data {
        RData::A(address) => Some(IpAddr::V4(address.0)),
        _ => None,
    };
    records.iter().filter_map(address).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use hickory_proto::op::{Message, ResponseCode};

    #[test]
    fn the_machine_is_known_by_its_own_addresses() {
        assert!(is_the_machine("127.0.0.1:9".parse().expect("an address")));
        assert!(!is_the_machine("192.0.2.1:9".parse().expect("an address")));
    }

    /// A resolver that knows one name.
    fn resolver() -> SocketAddr {
        let socket = UdpSocket::bind("127.0.0.1:0").expect("a port");
        let at = socket.local_addr().expect("its address");
        std::thread::spawn(move || {
            let mut question = [0; 1500];
            while let Ok((length, peer)) = socket.recv_from(&mut question) {
                let question = Message::from_vec(&question[..length]).expect("a question");
                let mut answer = Message::response(question.metadata.id, question.metadata.op_code);
                answer.metadata.recursion_available = true;
                let asked = question.queries[0].clone();
                let known = asked.name.to_ascii().eq_ignore_ascii_case("mail.example.");
                if known && asked.query_type == RecordType::A {
                    let data = RData::A(std::net::Ipv4Addr::new(192, 0, 2, 7).into());
                    answer.add_answer(Record::from_rdata(asked.name.clone(), 60, data));
                } else if !known {
                    answer.metadata.response_code = ResponseCode::NXDomain;
                }
                answer.add_query(asked);
                socket.send_to(&answer.to_vec().expect("bytes"), peer).expect("sent");
            }
        });
        at
    }

    #[tokio::test]
    async fn names_are_asked_of_the_resolvers_that_were_given() {
        let dialler = start(vec![resolver()], Vec::new()).expect("it starts");
        assert_eq!(dialler.addresses("mail.example").await, Ok(vec![IpAddr::from([192, 0, 2, 7])]));
        assert_eq!(dialler.addresses("gone.example").await, Err(NotFound::Unknown));
        let name = || Name::from_ascii("mail.example").expect("a name");
        assert_eq!(dialler.resolve(name(), RecordType::MX).await, Err(NotFound::Nothing));
        let nobody = start(vec!["127.0.0.1:1".parse().expect("an address")], Vec::new()).expect("it starts");
        assert!(matches!(nobody.addresses("mail.example").await, Err(NotFound::Failed(_))));
    }

    #[tokio::test]
    async fn a_port_of_the_platform_is_not_dialled_at_the_machine() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
        let at = listener.local_addr().expect("its address");
        assert!(matches!(dial(at, true).await, Err(NotDialled::NeverReached)));
        assert!(dial(at, false).await.is_ok());
        drop(listener);
        let refused = dial(at, false).await.expect_err("nobody listens");
        assert_eq!(refused.to_string(), "connection refused");
    }
}
