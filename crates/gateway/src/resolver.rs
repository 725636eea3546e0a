//! The node's resolver: answers replicas' questions for names of services from the table (RFC 1035, over UDP and TCP), and
//! asks the machine's resolvers for names outside that a replica may look up.

use std::net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4};
use std::sync::Arc;
use std::time::Duration;

use hickory_proto::op::{Message, MessageType, OpCode, ResponseCode};
use hickory_proto::rr::rdata::{A, SOA, SRV};
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType};
use mainyard_core::address::NODE_ADDRESS;
use mainyard_core::model::{Rate, Span};
use mainyard_core::service_names::{DOMAIN, KEEP, Question, Resolved, resolve};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::sync::Semaphore;

use crate::admission::Callers;
use crate::limiter::Limiter;
use crate::outgoing::{Lookup, question_outside};
use crate::serving::Serving;
use crate::{Arrivals, Network};

const PORT: u16 = 53;
/// Largest answer over UDP to anyone who did not say that it takes more.
const UDP: usize = 512;
/// A question over TCP must be here within this time.
const WITHIN: Duration = Duration::from_secs(5);

/// Questions of one replica over UDP: each program of it may ask for every name at its start.
const QUESTIONS: Rate = Rate { requests: 500, every: Span::from_secs(1), burst: Some(1000) };
/// Connections of one replica over TCP.
const CONNECTIONS: usize = 16;

/// Questions over UDP that wait for the machine's resolvers; who asks more is not answered, and asks again.
const WAITING: usize = 512;

/// Starts the thread that answers, where replicas have a network of their own.
pub(crate) fn start(network: Network, serving: Arc<Serving>, arrived: &Arrivals) -> std::io::Result<()> {
    if !matches!(network, Network::Private(_)) {
        return Ok(());
    }
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let on_the_way = arrived.expect();
    std::thread::Builder::new().name("resolver".to_owned()).spawn(move || {
        if let Err(error) = network.enter() {
            tracing::error!(%error, "names of services are not resolved");
            return;
        }
        drop(on_the_way);
        runtime.block_on(async {
            let at = SocketAddrV4::new(NODE_ADDRESS, PORT);
            // One gateway of a node answers; another takes over when it ends.
            let udp = bind_retrying(|| UdpSocket::bind(at)).await;
            let tcp = bind_retrying(|| TcpListener::bind(at)).await;
            tokio::join!(over_udp(udp, Arc::clone(&serving)), over_tcp(tcp, Arc::clone(&serving)));
        });
    })?;
    Ok(())
}

async fn bind_retrying<T, F: Future<Output = std::io::Result<T>>>(bind: impl Fn() -> F) -> T {
    loop {
        match bind().await {
            Ok(bound) => return bound,
            Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
        }
    }
}

async fn over_udp(socket: UdpSocket, serving: Arc<Serving>) {
    let (socket, waiting) = (Arc::new(socket), Arc::new(Semaphore::new(WAITING)));
    let mut buffer = vec![0; 4096];
    let rates = Limiter::new(QUESTIONS);
    loop {
        let Ok((length, peer)) = socket.recv_from(&mut buffer).await else { continue };
        // Nothing is said to one that asks too often: an answer costs more than the question.
        if rates.take(peer.ip()).is_err() {
            continue;
        }
        match answer(&buffer[..length], peer, &serving, false) {
            Reply::None => {}
            Reply::Ready(answer) => drop(socket.send_to(&answer, peer).await),
            Reply::Outside(answer) => {
                let Ok(room) = Arc::clone(&waiting).try_acquire_owned() else { continue };
                let (socket, serving) = (Arc::clone(&socket), Arc::clone(&serving));
                tokio::spawn(async move {
                    if let Some(answer) = answer.ask(&serving).await {
                        let _ = socket.send_to(&answer, peer).await;
                    }
                    drop(room);
                });
            }
        }
    }
}

async fn over_tcp(listener: TcpListener, serving: Arc<Serving>) {
    let connections = Arc::new(Callers::new(CONNECTIONS));
    loop {
        let Ok((stream, peer)) = listener.accept().await else {
            tokio::time::sleep(Duration::from_millis(20)).await;
            continue;
        };
        let serving = Arc::clone(&serving);
        let Some(admitted) = connections.enter(peer.ip()) else { continue };
        tokio::spawn(async move {
            let _admitted = admitted;
            let _ = tokio::time::timeout(WITHIN, talk(stream, peer, &serving)).await;
        });
    }
}

async fn talk(mut stream: TcpStream, peer: SocketAddr, serving: &Serving) -> std::io::Result<()> {
    loop {
        let length = usize::from(stream.read_u16().await?);
        let mut question = vec![0; length];
        stream.read_exact(&mut question).await?;
        let answer = match answer(&question, peer, serving, true) {
            Reply::None => None,
            Reply::Ready(answer) => Some(answer),
            Reply::Outside(answer) => answer.ask(serving).await,
        };
        let Some(answer) = answer else { return Ok(()) };
        let mut framed = (answer.len() as u16).to_be_bytes().to_vec();
        framed.extend_from_slice(&answer);
        stream.write_all(&framed).await?;
    }
}

/// What is answered to a question.
enum Reply {
    /// Nothing: it is no question.
    None,
    /// This.
    Ready(Vec<u8>),
    /// What the machine's resolvers say.
    Outside(Box<OutsideAnswer>),
}

/// An answer that the machine's resolvers are to be asked for.
struct OutsideAnswer {
    message: Message,
    lookup: Lookup,
    /// Longest answer that is taken.
    most: usize,
}

impl OutsideAnswer {
    async fn ask(self, serving: &Serving) -> Option<Vec<u8>> {
        let OutsideAnswer { mut message, lookup, most } = self;
        message.metadata.response_code = lookup.fill(serving, &mut message).await;
        written(message, most)
    }
}

fn answer(bytes: &[u8], peer: SocketAddr, serving: &Serving, any_length: bool) -> Reply {
    let Ok(question) = Message::from_vec(bytes) else { return Reply::None };
    if question.metadata.message_type != MessageType::Query {
        return Reply::None;
    }
    let mut answer = Message::response(question.metadata.id, question.metadata.op_code);
    answer.metadata.recursion_desired = question.metadata.recursion_desired;
    answer.metadata.recursion_available = true;
    let most = if any_length { usize::from(u16::MAX) } else { usize::from(question.max_payload()).max(UDP) };
    match fill(&question, peer, serving, &mut answer) {
        Filled::As(code) => {
            answer.metadata.response_code = code;
            written(answer, most).map_or(Reply::None, Reply::Ready)
        }
        Filled::Outside(lookup) => Reply::Outside(Box::new(OutsideAnswer { message: answer, lookup, most })),
    }
}

/// A message as it is sent: without its records where it would be too long.
fn written(message: Message, most: usize) -> Option<Vec<u8>> {
    let bytes = message.to_vec().ok()?;
    if bytes.len() <= most { Some(bytes) } else { message.truncate().to_vec().ok() }
}

/// How far an answer could be made of the table.
enum Filled {
    /// To its end.
    As(ResponseCode),
    /// It is about a name outside.
    Outside(Lookup),
}

fn fill(question: &Message, peer: SocketAddr, serving: &Serving, answer: &mut Message) -> Filled {
    if question.metadata.op_code != OpCode::Query {
        return Filled::As(ResponseCode::NotImp);
    }
    let [asked] = question.queries.as_slice() else { return Filled::As(ResponseCode::FormErr) };
    answer.add_query(asked.clone());
    let caller = match peer.ip() {
        IpAddr::V4(caller) => caller,
        IpAddr::V6(_) => Ipv4Addr::UNSPECIFIED,
    };
    let kind = match asked.query_type {
        RecordType::A => Question::Address,
        RecordType::SRV => Question::Port,
        _ => Question::Other,
    };
    if asked.query_class != DNSClass::IN {
        return Filled::As(ResponseCode::Refused);
    }
    let name = asked.name.to_ascii();
    let found = serving.with_table(|table| resolve(table, caller, &name, kind));
    if found == Resolved::Unknown
        && let Some(lookup) = question_outside(serving, caller, &asked.name, asked.query_type)
    {
        return Filled::Outside(lookup);
    }
    answer.metadata.authoritative = true;
    Filled::As(from_table(found, &asked.name, answer))
}

/// Puts what the table says into the answer.
fn from_table(found: Resolved, asked: &Name, answer: &mut Message) -> ResponseCode {
    match found {
        Resolved::Address(address) => {
            answer.add_answer(Record::from_rdata(asked.clone(), KEEP, RData::A(A::from(address))));
            ResponseCode::NoError
        }
        Resolved::Port { port, host, address } => {
            let Ok(host) = Name::from_ascii(format!("{host}.")) else { return ResponseCode::ServFail };
            let place = RData::SRV(SRV::new(0, 0, port, host.clone()));
            answer.add_answer(Record::from_rdata(asked.clone(), KEEP, place));
            answer.add_additional(Record::from_rdata(host, KEEP, RData::A(A::from(address))));
            ResponseCode::NoError
        }
        Resolved::Nothing => {
            nothing(answer);
            ResponseCode::NoError
        }
        Resolved::Unknown => {
            nothing(answer);
            ResponseCode::NXDomain
        }
    }
}

/// How long an answer of nothing may be kept (RFC 2308).
fn nothing(answer: &mut Message) {
    let domain = Name::from_ascii(format!("{DOMAIN}.")).unwrap_or_else(|_| Name::root());
    let times = KEEP as i32;
    let authority = SOA::new(domain.clone(), domain.clone(), 1, times, times, times, KEEP);
    answer.add_authority(Record::from_rdata(domain, KEEP, RData::SOA(authority)));
}

#[cfg(test)]
mod tests {
    use super::*;
    use hickory_proto::op::Query;
    use proptest::prelude::*;

    fn ask(name: &str, kind: RecordType) -> Message {
        let serving = Serving::new(1, None);
        let entry = serde_json::json!({
            "target": {"environment": "staging", "name": "locker-api"}, "environment": 1, "address": "10.118.0.16",
            "ports": {"80": []}, "named": {"http": 80}, "reason": null,
        });
        let entry = serde_json::from_value(entry).expect("an entry");
        let version = mainyard_core::routing::TableVersion { epoch: 1, counter: 1 };
        let services = [("staging/locker-api".to_owned(), entry)].into();
        serving.take(&mainyard_core::routing::Table { version, services, ..Default::default() });
        let mut question = Message::query();
        question.add_query(Query::query(Name::from_ascii(name).expect("a name"), kind));
        let bytes = question.to_vec().expect("bytes");
        let peer = "10.118.16.2:5353".parse().expect("an address");
        match answer(&bytes, peer, &serving, false) {
            Reply::Ready(answer) => Message::from_vec(&answer).expect("a message"),
            Reply::None | Reply::Outside(_) => panic!("no answer from the table"),
        }
    }

    #[test]
    fn addresses_are_parsed() {
        let found = ask("locker-api.staging.internal.", RecordType::A);
        assert_eq!(found.answers[0].data, RData::A(A::new(10, 118, 0, 16)));
        assert_eq!(found.answers[0].ttl, KEEP);
        let port = ask("_http._tcp.locker-api.staging.internal.", RecordType::SRV);
        assert!(matches!(&port.answers[0].data, RData::SRV(it) if it.port == 80), "{port:?}");
        assert_eq!(port.additionals.len(), 1);
        let newer = ask("locker-api.staging.internal.", RecordType::AAAA);
        assert_eq!(
            (newer.metadata.response_code, newer.answers.len(), newer.authorities.len()),
            (ResponseCode::NoError, 0, 1)
        );
        assert_eq!(ask("example.org.", RecordType::A).metadata.response_code, ResponseCode::NXDomain);
    }

    #[tokio::test]
    async fn one_replicas_flood_costs_no_other_an_answer() {
        let serving = Arc::new(Serving::new(1, None));
        let socket = UdpSocket::bind("127.0.0.1:0").await.expect("a socket");
        let at = socket.local_addr().expect("its address");
        tokio::spawn(over_udp(socket, serving));
        let mut question = Message::query();
        question.add_query(Query::query(Name::from_ascii("example.org.").expect("a name"), RecordType::A));
        let question = question.to_vec().expect("bytes");
        let flood = UdpSocket::bind("127.0.0.1:0").await.expect("a socket");
        let (mut buffer, mut answers) = ([0; 512], 0);
        for _ in 0..5000 {
            flood.send_to(&question, at).await.expect("sent");
            tokio::task::yield_now().await;
            answers += usize::from(flood.try_recv(&mut buffer).is_ok());
        }
        assert!((1..4000).contains(&answers), "{answers} of 5000 were answered");
        let other = UdpSocket::bind("127.0.0.2:0").await.expect("a socket");
        for number in 0..20 {
            other.send_to(&question, at).await.expect("sent");
            let answered = tokio::time::timeout(Duration::from_secs(5), other.recv(&mut buffer)).await;
            assert!(answered.is_ok(), "the other's question {number} was not answered");
        }
    }

    proptest! {
        #[test]
        fn any_input_is_parsed_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let peer = "10.118.16.2:5353".parse().expect("an address");
            let _ = answer(&bytes, peer, &Serving::new(1, None), false);
        }
    }
}
