//! The way out, from replicas to a host in a network of its own: by name and by range, refused, withdrawn, and explained.

use std::net::Ipv4Addr;

use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::rdata::A;
use hickory_proto::rr::{RData, Record, RecordType};
use serde_json::Value;
use testing::outside::{Outside, be_silent, tell_the_peer};

use crate::common::{Platform, until};

const API: &str = "api.staging.lockers.localhost";

/// A resolver that knows a few names: of the host, of the machine itself, of the platform's range.
pub(crate) fn answer(question: &[u8], host: Ipv4Addr) -> Option<Vec<u8>> {
    let question = Message::from_vec(question).ok()?;
    let asked = question.queries.first()?;
    let mut answer = Message::response(question.metadata.id, question.metadata.op_code);
    answer.metadata.recursion_available = true;
    answer.add_query(asked.clone());
    let addresses: &[Ipv4Addr] = match asked.name.to_ascii().to_lowercase().as_str() {
        "mail.example." => &[host],
        "loop.example." => &[Ipv4Addr::LOCALHOST],
        "inner.example." => &[Ipv4Addr::new(10, 118, 0, 1), Ipv4Addr::new(169, 254, 169, 254)],
        _ => {
            answer.metadata.response_code = ResponseCode::NXDomain;
            &[]
        }
    };
    if asked.query_type == RecordType::A {
        for address in addresses {
            answer.add_answer(Record::from_rdata(asked.name.clone(), 60, RData::A(A::from(*address))));
        }
    }
    answer.to_vec().ok()
}

/// A platform whose resolver is the host outside.
fn platform(outside: &Outside) -> Platform {
    let host = outside.host;
    outside.resolve(move |question| answer(question, host));
    outside.serve(8080, tell_the_peer);
    outside.serve(9000, tell_the_peer);
    outside.serve(9002, be_silent);
    let platform = Platform::start_with(&["--resolver", &format!("{host}:53")]);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    platform
}

fn list(platform: &Platform, outgoing: &[String]) {
    let text = format!(
        "application = \"lockers\"\n[workload.locker-api]\nimage = \"lockers/locker-api:1.4.0\"\nreplicas = 2\n\
         ports = {{ http = 8080 }}\nlabels = {{ tier = \"api\" }}\nrollout = {{ settle = \"100ms\" }}\n\
         checks = {{ ready = {{ path = \"/ready\" }} }}\noutgoing = {outgoing:?}\n"
    );
    let file = platform.dir.path().join("reaching.toml");
    std::fs::write(&file, text).expect("a file");
    platform.ok(&["declare", &file.display().to_string(), "--in", "staging"]);
}

/// What a replica says when it is sent to a path: `None` where it failed.
fn sent(platform: &Platform, path: &str) -> Option<String> {
    let answer = platform.get(API, path);
    (answer.status == 200).then(|| answer.text().trim().to_owned())
}

fn why(platform: &Platform, to: &str) -> (i64, String) {
    let why = platform.ok(&["why", "staging/locker-api", "--to", to, "--json"]);
    let why: Value = serde_json::from_str(&why).expect("JSON");
    let code = why["cause"]["code"].as_str().expect("a code").to_owned();
    (i64::from(why["answers"].as_bool().expect("known")), code)
}

fn outgoing(platform: &Platform) -> Value {
    let shown = platform.ok(&["show", "staging/locker-api", "--json"]);
    serde_json::from_str::<Value>(&shown).expect("JSON")["outgoing"].clone()
}

/// The row of a destination, once the gateway has told of it.
fn row(platform: &Platform, destination: &str, fits: impl Fn(&Value) -> bool) -> Value {
    until(&format!("{destination} is counted"), || {
        let all = outgoing(platform);
        let rows = all["destinations"].as_array().expect("rows").clone();
        rows.into_iter().find(|row| row["destination"] == destination && fits(row))
    })
}

#[test]
fn what_is_listed_is_reached_by_name_and_by_range() {
    let outside = Outside::new();
    let platform = platform(&outside);
    let host = outside.host;
    assert_eq!(sent(&platform, "/lookup/mail.example"), None, "nothing is listed yet");
    assert_eq!(sent(&platform, &format!("/ask/{host}:8080")), None);
    assert_eq!(why(&platform, "mail.example:8080"), (0, "not-listed".to_owned()));
    let names = until("the name is told", || {
        outgoing(&platform)["names"].as_array().filter(|names| !names.is_empty()).cloned()
    });
    assert_eq!((&names[0]["name"], &names[0]["outcome"]), (&"mail.example".into(), &"refused".into()));
    assert!(row(&platform, &format!("{host}:8080"), |row| row["refused"] != 0)["says"].is_string());

    let range = format!("{}.{}.{}.0/24:9000-9002", host.octets()[0], host.octets()[1], host.octets()[2]);
    list(&platform, &["mail.example:8080".to_owned(), range, "*.example:8081".to_owned()]);
    let saw = format!("200 outside saw {}", outside.machine);
    assert_eq!(sent(&platform, "/lookup/mail.example"), Some(host.to_string()));
    assert_eq!(sent(&platform, "/ask/mail.example:8080"), Some(saw.clone()));
    assert_eq!(sent(&platform, &format!("/ask/{host}:9000")), Some(saw.clone()));
    // The address of a name that is listed, at its port; at another port it is not listed.
    assert_eq!(sent(&platform, &format!("/ask/{host}:8080")), Some(saw.clone()));
    assert_eq!(sent(&platform, &format!("/ask/{host}:53")), None);
    // Names that turn to the machine and to the platform are nobody's way in.
    for name in ["loop.example", "inner.example"] {
        assert_eq!(sent(&platform, &format!("/lookup/{name}")), None, "{name}");
        assert_eq!(why(&platform, &format!("{name}:8081")), (0, "never-reached".to_owned()));
    }
    let told = [
        ("mail.example:8080".to_owned(), (1, "answers")),
        (format!("{host}:9000"), (1, "answers")),
        (format!("{host}:9001"), (0, "unreachable")),
        ("mail.example:25".to_owned(), (0, "not-listed")),
        ("gone.example:8081".to_owned(), (0, "name-unresolved")),
        ("127.0.0.1:8700".to_owned(), (0, "never-reached")),
    ];
    for (to, (answers, code)) in told {
        assert_eq!(why(&platform, &to), (answers, code.to_owned()), "{to}");
    }
    let mail = row(&platform, "mail.example:8080", |row| row["made"].as_u64() >= Some(2));
    assert_eq!(mail["rule"], "mail.example:8080");
    assert!(mail["sent"].as_u64() > Some(0) && mail["received"].as_u64() > Some(0), "{mail}");
    assert!(row(&platform, "mail.example:53", |_| true)["refused"].as_u64() > Some(0));

    // A gateway that begins knows no name that was asked before, and the rule's name is enough.
    for pid in platform.part("gateway") {
        // SAFETY: a signal to a process of this test's own platform.
        unsafe { libc::kill(pid, libc::SIGKILL) };
    }
    until("the way is open again", || sent(&platform, &format!("/ask/{host}:8080")).filter(|it| *it == saw));
}

#[test]
fn what_is_withdrawn_ends_and_the_platform_itself_is_never_reached() {
    let outside = Outside::new();
    let platform = {
        let mut platform = Platform::new();
        // The gateway's own port on an address that is not a loopback one.
        platform.http.set_ip(outside.machine.into());
        let host = outside.host;
        outside.resolve(move |question| answer(question, host));
        outside.serve(8080, tell_the_peer);
        outside.serve(9002, be_silent);
        let said = platform.try_start_with(&["--demo", "--resolver", &format!("{host}:53")]);
        assert_eq!(said.code, 0, "{said:?}\n{}", platform.logs());
        platform.workload("staging/locker-api", |w| w["state"] == "steady");
        platform
    };
    let (host, machine) = (outside.host, outside.machine);
    let everything = platform.ok(&["environment", "outgoing", "staging", "all"]);
    assert!(everything.contains("outgoing listed → all"), "{everything}");
    let saw = format!("200 outside saw {machine}");
    until("everything is reached", || sent(&platform, &format!("/ask/{host}:8080")).filter(|it| *it == saw));
    assert_eq!(sent(&platform, "/ask/mail.example:8080"), Some(saw));
    // A program of the machine at the same address is reached, a port of the platform is not.
    let listener = std::net::TcpListener::bind((machine, 0)).expect("a port of the machine");
    let port = listener.local_addr().expect("its address").port();
    std::thread::spawn(move || listener.incoming().flatten().for_each(tell_the_peer));
    assert!(sent(&platform, &format!("/ask/{machine}:{port}")).is_some());
    let own = platform.http.port();
    assert_eq!(sent(&platform, &format!("/ask/{machine}:{own}")), None);
    row(&platform, &format!("{machine}:{own}"), |row| row["failed"].as_u64() > Some(0));
    // A replica's loopback is its own; the platform's range holds its services and nothing else.
    let api = format!("127.0.0.1:{}", platform.api.port());
    for never in [api.as_str(), "169.254.169.254:80", "10.118.0.1:81"] {
        assert_eq!(sent(&platform, &format!("/ask/{never}")), None, "{never}");
    }
    // A connection that is open ends when what allowed it goes.
    std::thread::scope(|scope| {
        let waits = scope.spawn(|| sent(&platform, &format!("/ask/{host}:9002")));
        row(&platform, "mail.example:9002", |row| row["open"] == 1);
        platform.ok(&["environment", "outgoing", "staging", "none"]);
        assert_eq!(waits.join().expect("it ended"), None);
    });
    row(&platform, "mail.example:9002", |row| row["open"] == 0);
    assert_eq!(sent(&platform, &format!("/ask/{host}:8080")), None);
    assert_eq!(why(&platform, "mail.example:8080"), (0, "not-listed".to_owned()));
}
