//! Visitors and replicas that behave badly: others don't notice.

use std::io::{BufReader, Read, Write};
use std::net::TcpStream;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use serde_json::json;

use crate::frames::{End, Visitor};
use crate::place::{Gateway, Place, answer, read_request, replica, telling};

/// Others are served: so many requests, each on a connection of its own.
fn others_are_served(gateway: &Gateway) {
    for _ in 0..50 {
        let mut stream = gateway.connect();
        stream.write_all(b"GET / HTTP/1.1\r\nHost: good.test\r\n\r\n").expect("sent");
        let answer = answer(&mut BufReader::new(stream)).expect("an answer");
        assert_eq!((answer.status, answer.text().as_str()), (200, "good"));
    }
}

fn with_bad(bad: &crate::place::Replica) -> Gateway {
    let (good, read) = telling("good");
    std::thread::spawn(move || read.iter().for_each(drop));
    let route = |host: &str, service: &str| json!({"host": host, "to": [{"service": service}], "limits": {"answer": "2s"}});
    Place::default()
        .service("good", &[&good])
        .service("bad", &[bad])
        .route("good", route("good.test", "good"))
        .route("bad", route("a.test", "bad"))
        .open()
}

#[test]
fn a_replica_that_answers_nonsense_harms_its_own_visitors_only() {
    let nonsense: [&[u8]; 8] = [
        b"hello\r\n\r\n",
        b"HTTP/1.1 200 OK\r\ncontent-length: 5\r\n\r\nab",
        b"HTTP/1.1 200 OK\r\ncontent-length: 1\r\ncontent-length: 9\r\n\r\nabcdefghi",
        b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\nzz\r\nab\r\n",
        b"HTTP/1.1 999999 OK\r\n\r\n",
        b"\0\0\0\0\0\0\0\0",
        b"HTTP/1.1 200 OK\r\nx: \x01\r\n\r\n",
        b"",
    ];
    let turn = std::sync::atomic::AtomicUsize::new(0);
    let bad = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        read_request(&mut reader);
        let turn = turn.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
        let _ = stream.write_all(nonsense[turn % nonsense.len()]);
    });
    let gateway = with_bad(&bad);
    for number in 0..nonsense.len() {
        let mut stream = gateway.connect();
        stream.write_all(b"POST / HTTP/1.1\r\nHost: a.test\r\nContent-Length: 0\r\n\r\n").expect("sent");
        let mut reader = BufReader::new(stream);
        // Either the gateway says that the replica failed, or the answer is visibly cut off.
        let answered = answer(&mut reader);
        assert!(answered.as_ref().is_none_or(|it| it.status == 502), "{number}: {answered:?}");
    }
    others_are_served(&gateway);
}

#[test]
fn a_replica_with_endless_headers_is_given_up() {
    let bad = replica(|mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        read_request(&mut reader);
        let _ = stream.write_all(b"HTTP/1.1 200 OK\r\n");
        while stream.write_all(&[b'a'; 1000]).is_ok() {}
    });
    let gateway = with_bad(&bad);
    let given_up = gateway.get("/", "");
    assert!([502, 504].contains(&given_up.status), "{given_up:?}");
    others_are_served(&gateway);
}

#[test]
fn slow_visitors_keep_nobody_waiting() {
    let bad = replica(|mut stream| drop(stream.read(&mut [0; 1])));
    let gateway = with_bad(&bad);
    let slow: Vec<TcpStream> = (0..200)
        .map(|number| {
            let mut stream = gateway.connect();
            let half: &[u8] = match number % 3 {
                0 => b"GET / HT",
                1 => b"GET / HTTP/1.1\r\nHost: good.test\r\nX: ",
                _ => b"POST / HTTP/1.1\r\nHost: good.test\r\nContent-Length: 1000\r\n\r\nabc",
            };
            stream.write_all(half).expect("sent");
            stream
        })
        .collect();
    others_are_served(&gateway);
    drop(slow);
    others_are_served(&gateway);
}

/// Waits until the gateway ends a connection, and gives whether it did within two minutes.
fn is_ended(mut stream: TcpStream) -> bool {
    stream.set_read_timeout(Some(Duration::from_secs(120))).expect("a limit");
    std::io::copy(&mut stream, &mut std::io::sink()).is_ok()
}

#[test]
fn a_visitor_that_never_finishes_its_request_is_disconnected() {
    let bad = replica(|mut stream| drop(stream.read(&mut [0; 1])));
    let gateway = with_bad(&bad);
    let begun: [&[u8]; 5] = [
        b"",
        b"GET / HT",
        b"GET / HTTP/1.1\r\nHost: good.test\r\nX: ",
        // A TLS record that promises more than comes (RFC 8446, section 5.1), and one that is a handshake's beginning.
        b"\x16\x03\x01\x02\x00\x01",
        b"PRI * HTTP/2.0\r\n",
    ];
    let waiting: Vec<_> = begun
        .iter()
        .map(|begin| {
            let mut stream = gateway.connect();
            stream.write_all(begin).expect("sent");
            std::thread::spawn(move || is_ended(stream))
        })
        .collect();
    let ended: Vec<bool> = waiting.into_iter().map(|it| it.join().expect("it waited")).collect();
    assert!(ended.iter().all(|ended| *ended), "{ended:?}");
    others_are_served(&gateway);
}

#[test]
fn a_visitor_that_does_not_read_is_disconnected() {
    let large = replica(|mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        read_request(&mut reader);
        let length = 8 << 20;
        let _ = write!(stream, "HTTP/1.1 200 OK\r\ncontent-length: {length}\r\n\r\n");
        let _ = stream.write_all(&vec![b'a'; length]);
    });
    let gateway = with_bad(&large);
    let mut visitor = Visitor::of(&gateway, "a.test");
    let request = [(":method", "GET"), (":scheme", "https"), (":path", "/"), (":authority", "a.test")];
    visitor.send(&request.map(|(name, value)| (name, value.to_owned())), None, &[]);
    assert!(visitor.is_sent_away(Duration::from_secs(90)), "it is still served");
    others_are_served(&gateway);
}

#[test]
fn a_visitor_that_resets_its_streams_rapidly_is_disconnected() {
    let asked = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&asked);
    let bad = replica(move |mut stream| {
        count.fetch_add(1, Ordering::SeqCst);
        // It answers nothing, and hears that nobody waits for it any more.
        let _ = stream.read_to_end(&mut Vec::new());
    });
    let gateway = with_bad(&bad);
    let mut visitor = Visitor::of(&gateway, "a.test");
    let request = [(":method", "GET"), (":scheme", "https"), (":path", "/"), (":authority", "a.test")];
    let request = request.map(|(name, value)| (name, value.to_owned()));
    let sent_away = (0..1000).find(|_| {
        let stream = visitor.send(&request, None, &[]);
        let heard = visitor.is_heard();
        visitor.take_back(stream);
        !heard
    });
    assert!(sent_away.is_some_and(|after| (50..200).contains(&after)), "{sent_away:?}");
    assert!(asked.load(Ordering::SeqCst) <= 200);
    // Who lets itself be answered may ask as often as it likes, and take back one in three.
    let mut visitor = Visitor::of(&gateway, "good.test");
    let of = |host: &str| {
        let mut fields = request.clone();
        fields[3].1 = host.to_owned();
        fields
    };
    for number in 0..600 {
        let stream = visitor.send(&of(if number % 3 == 0 { "a.test" } else { "good.test" }), None, &[]);
        if number % 3 == 0 {
            assert!(visitor.is_heard(), "{number}");
            visitor.take_back(stream);
        } else {
            assert_eq!(visitor.end(stream), End::Answer(200, b"good".to_vec()), "{number}");
        }
    }
    others_are_served(&gateway);
}

#[test]
fn ten_thousand_idle_connections_keep_nobody_waiting() {
    raise_descriptors();
    let bad = replica(|mut stream| drop(stream.read(&mut [0; 1])));
    let gateway = with_bad(&bad);
    // Both ends are in this process; where it may not have so many, as many as it may.
    let most = usize::try_from(descriptors()).unwrap_or(usize::MAX).saturating_sub(6000) / 2;
    let idle: Vec<TcpStream> = (0..most.min(10_000)).map(|_| gateway.connect()).collect();
    others_are_served(&gateway);
    println!("{} connections were idle", idle.len());
}

fn limits() -> libc::rlimit {
    let mut limits = libc::rlimit { rlim_cur: 0, rlim_max: 0 };
    // SAFETY: the structure is ours and is filled by the call.
    unsafe { libc::getrlimit(libc::RLIMIT_NOFILE, &mut limits) };
    limits
}

fn descriptors() -> u64 {
    limits().rlim_cur
}

fn raise_descriptors() {
    let mut wanted = limits();
    wanted.rlim_cur = wanted.rlim_max;
    // SAFETY: the structure is ours.
    unsafe { libc::setrlimit(libc::RLIMIT_NOFILE, &wanted) };
}
