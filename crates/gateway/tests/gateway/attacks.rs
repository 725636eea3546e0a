//! The attacker is a visitor, or a replica that misbehaves: each act is one that hurt others before, or told what it
//! should not.

use std::io::{BufReader, Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, mpsc};
use std::time::{Duration, Instant};

use serde_json::json;

use crate::frames::Visitor;
use crate::place::{Place, answer, read_request, replica, telling};

/// Strings that no answer of the gateway's own may contain.
const SECRET: &str = "open-sesame";

#[test]
fn error_pages_show_a_code_and_an_id_and_nothing_internal() {
    let reason = json!({"reason": {"code": "keeps-ending",
        "sentence": format!("ended with exit code 1: password={SECRET} at 10.118.16.2 in staging/locker-api/a0")}});
    let gateway = Place::default().service_with("api", &[], reason).api(json!({})).open();
    for accept in ["application/json", "text/html"] {
        let refused = gateway.get("/", &format!("Accept: {accept}\r\n"));
        let text = refused.text();
        assert_eq!(refused.status, 503);
        assert!(text.contains("keeps-ending") && refused.header("x-request-id").is_some(), "{text}");
        for word in [SECRET, "10.118", "locker-api", "exit code", "127.0.0.1"] {
            assert!(!text.contains(word) && !refused.head.contains(word), "{word}: {text}");
        }
    }
}

#[test]
fn the_consoles_session_reaches_no_replica_and_no_replica_sets_one() {
    let (to, read) = mpsc::channel();
    let setting = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while let Some(asked) = read_request(&mut reader) {
            let _ = to.send(asked.header("cookie").map(str::to_owned));
            let answer = "HTTP/1.1 200 OK\r\nset-cookie: mainyard-session-7=mine\r\nset-cookie: own=1\r\ncontent-length: 0\r\n\r\n";
            let _ = stream.write_all(answer.as_bytes());
        }
    });
    let gateway = Place::default().service("api", &[&setting]).api(json!({})).open();
    let answered = gateway.get("/", "Cookie: a=1; mainyard-session-7=key; __Host-mainyard-session-7=key\r\n");
    assert_eq!(read.recv().expect("a request").as_deref(), Some("a=1"));
    assert_eq!(answered.header("set-cookie"), Some("own=1"));
    gateway.get("/", "Cookie: mainyard-session-7=key\r\n");
    assert_eq!(read.recv().expect("a request"), None);
}

#[test]
fn the_authorization_service_sees_what_the_replica_sees() {
    let (api, read) = telling("api");
    let (to, asked) = mpsc::channel();
    let door = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while let Some(request) = read_request(&mut reader) {
            let _ = to.send(request);
            let _ = stream.write_all(b"HTTP/1.1 204 Yes\r\ncontent-length: 0\r\n\r\n");
        }
    });
    let enter = json!({"enter": {"ask_url": "http://doorman/may"}});
    let gateway = Place::default().service("api", &[&api]).service("doorman", &[&door]).api(enter).open();
    let forged = "X-Forwarded-For: 10.0.0.1\r\nForwarded: for=10.0.0.1\r\nX-Real-IP: 10.0.0.1\r\n\
                  X-Forwarded-Uri: /public\r\nX-Forwarded-Method: HEAD\r\nX-Forwarded-Host: evil\r\n\
                  Cookie: mainyard-session-7=key\r\n";
    gateway.get("/%61dmin/x?y=1", forged);
    let (asked, seen) = (asked.recv().expect("it was asked"), read.recv().expect("it was let in"));
    assert_eq!(seen.head[0], "GET /admin/x?y=1 HTTP/1.1");
    assert_eq!(asked.header("x-forwarded-uri"), Some("/admin/x?y=1"));
    assert_eq!(asked.header("x-forwarded-method"), Some("GET"));
    for name in ["x-forwarded-for", "forwarded", "x-forwarded-host", "x-real-ip", "cookie"] {
        assert_eq!(asked.header(name), seen.header(name), "{name}");
        assert!(!asked.header(name).unwrap_or_default().contains("10.0.0.1"), "{name}");
    }
}

#[test]
fn only_services_that_are_open_to_the_route_are_asked() {
    let (api, _read) = telling("api");
    let (door, asked) = telling("door");
    let address = door.address;
    for url in [format!("http://{address}/may"), "http://doorman.production/may".to_owned()] {
        let enter = json!({"enter": {"ask_url": url}});
        let gateway = Place::default()
            .service("api", &[&api])
            .service("doorman", &[&door])
            .service_of("production", "doorman", &[&door])
            .api(enter)
            .open();
        assert_eq!(gateway.get("/", "").status, 503, "{url}");
    }
    assert!(asked.try_recv().is_err(), "nobody was asked");
}

#[test]
fn endless_interim_responses_slow_nobody_else() {
    let (good, _read) = telling("good");
    let sent = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&sent);
    let endless = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        let _ = read_request(&mut reader);
        let many = "HTTP/1.1 103 Early\r\n\r\n".repeat(1000);
        while stream.write_all(many.as_bytes()).is_ok() {
            counted.fetch_add(many.len(), Ordering::SeqCst);
        }
    });
    let gateway = Place::default()
        .service("api", &[&endless])
        .service("good", &[&good])
        .api(json!({}))
        .route("good", json!({"host": "good.test", "to": [{"service": "good"}]}))
        .open();
    assert_eq!(gateway.get("/", "").status, 502, "the one that never answers is given up");
    let taken = sent.load(Ordering::SeqCst);
    assert!(taken < 64 << 20, "{taken} bytes were taken of it");
    assert_eq!(gateway.send(b"GET / HTTP/1.1\r\nHost: good.test\r\n\r\n").status, 200);
}

#[test]
fn an_unrequested_protocol_upgrade_is_refused() {
    let switching = replica(|mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while read_request(&mut reader).is_some() {
            let _ = stream
                .write_all(b"HTTP/1.1 101 Switching\r\nupgrade: x\r\nconnection: upgrade\r\n\r\nanything");
        }
    });
    let gateway = Place::default().service("api", &[&switching]).api(json!({})).open();
    assert_eq!(gateway.get("/", "").status, 502);
}

/// A replica that never answers, and tells when the gateway ends its connection.
fn waiting() -> (crate::place::Replica, mpsc::Receiver<&'static str>) {
    let (to, told) = mpsc::channel();
    let replica = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        if read_request(&mut reader).is_some() {
            let _ = to.send("asked");
            let mut rest = [0];
            while stream.read(&mut rest).is_ok_and(|count| count > 0) {}
            let _ = to.send("ended");
        }
    });
    (replica, told)
}

#[test]
fn what_a_visitor_no_longer_waits_for_ends_at_the_replica() {
    let (api, told) = waiting();
    let gateway = Place::default().service("api", &[&api]).api(json!({"limits": {"answer": "10m"}})).open();
    let mut visitor = gateway.connect();
    visitor.write_all(b"GET / HTTP/1.1\r\nHost: a.test\r\n\r\n").expect("sent");
    assert_eq!(told.recv_timeout(Duration::from_secs(20)), Ok("asked"));
    drop(visitor);
    assert_eq!(told.recv_timeout(Duration::from_secs(20)), Ok("ended"), "over HTTP/1.1");

    let mut visitor = Visitor::of(&gateway, "a.test");
    let fields = [(":method", "GET"), (":scheme", "https"), (":authority", "a.test"), (":path", "/")];
    let stream = visitor.send(&fields.map(|(name, value)| (name, value.to_owned())), None, &[]);
    assert_eq!(told.recv_timeout(Duration::from_secs(20)), Ok("asked"));
    visitor.take_back(stream);
    assert_eq!(told.recv_timeout(Duration::from_secs(20)), Ok("ended"), "over HTTP/2");
}

#[test]
fn a_half_closed_visitor_still_gets_its_answer() {
    let (api, _read) = telling("api");
    let gateway = Place::default().service("api", &[&api]).api(json!({})).open();
    let mut visitor = gateway.connect();
    visitor.write_all(b"GET / HTTP/1.1\r\nHost: a.test\r\n\r\n").expect("sent");
    visitor.shutdown(std::net::Shutdown::Write).expect("half closed");
    assert_eq!(answer(&mut BufReader::new(visitor)).expect("an answer").status, 200);
}

#[test]
fn guesses_at_a_password_wait_longer_and_longer() {
    let (api, _read) = telling("api");
    let gateway = Place::default()
        .service("api", &[&api])
        .secret("people", "mira:right")
        .api(json!({"enter": {"basic": "people"}}))
        .open();
    let guess = |word: &str| {
        use base64::Engine as _;
        let pair = base64::engine::general_purpose::STANDARD.encode(format!("mira:{word}"));
        gateway.get("/", &format!("Authorization: Basic {pair}\r\n"))
    };
    assert_eq!(guess("right").status, 200);
    let statuses: Vec<u16> = (0..30).map(|number| guess(&format!("wrong{number}")).status).collect();
    assert_eq!(statuses[..6], [401; 6]);
    assert!(statuses[7..].iter().filter(|status| **status == 429).count() > 15, "{statuses:?}");
    let held = guess("right");
    assert_eq!(held.status, 429, "the right one waits too");
    assert!(held.header("retry-after").is_some());
    assert_eq!(gateway.get("/", "").status, 401, "showing nothing is no guess");
}

#[test]
fn floods_of_control_frames_end_the_connection() {
    let (api, _read) = telling("api");
    let gateway = Place::default().service("api", &[&api]).api(json!({})).open();
    type Flood = fn(&mut Visitor);
    let floods: [(&str, Flood); 6] = [
        ("PING", |visitor| visitor.raw(6, 0, 0, b"8 bytes!")),
        ("SETTINGS", |visitor| visitor.raw(4, 0, 0, &[])),
        ("PRIORITY", |visitor| visitor.raw(2, 0, 1, &[0, 0, 0, 0, 1])),
        ("WINDOW_UPDATE", |visitor| visitor.raw(8, 0, 0, &1u32.to_be_bytes())),
        ("an unknown frame", |visitor| visitor.raw(200, 0, 0, &[])),
        ("PING answers", |visitor| visitor.raw(6, 1, 0, b"8 bytes!")),
    ];
    for (name, flood) in floods {
        let mut visitor = Visitor::of(&gateway, "a.test");
        for _ in 0..3_000 {
            flood(&mut visitor);
        }
        assert!(!visitor.is_heard(), "{name}");
    }
    assert_eq!(gateway.get("/", "").status, 200, "others are served");
}

#[test]
fn a_visitor_with_a_zero_window_is_disconnected() {
    let ended = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&ended);
    let large = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while read_request(&mut reader).is_some() {
            let head = format!("HTTP/1.1 200 OK\r\ncontent-length: {}\r\n\r\n", 64 << 20);
            if stream.write_all(head.as_bytes()).is_err() || stream.write_all(&vec![7; 64 << 20]).is_err() {
                counted.fetch_add(1, Ordering::SeqCst);
                return;
            }
        }
    });
    let gateway = Place::default().service("api", &[&large]).api(json!({})).open();
    let mut visitor = Visitor::of(&gateway, "a.test");
    // SETTINGS_INITIAL_WINDOW_SIZE of 0: nothing of any answer is taken (RFC 9113, section 6.5.2).
    visitor.raw(4, 0, 0, &[0, 4, 0, 0, 0, 0]);
    let fields = [(":method", "GET"), (":scheme", "https"), (":authority", "a.test"), (":path", "/")];
    let fields = fields.map(|(name, value)| (name, value.to_owned()));
    let requests = 10;
    for _ in 0..requests {
        visitor.send(&fields, None, &[]);
    }
    let begun = Instant::now();
    while ended.load(Ordering::SeqCst) < requests {
        // It answers pings all the while, as a patient visitor would.
        let _ = visitor.is_heard();
        assert!(begun.elapsed() < Duration::from_secs(100), "the replica's connections are held");
        std::thread::park_timeout(Duration::from_millis(200));
    }
}

#[test]
fn one_visitor_takes_no_more_connections_than_its_share() {
    let (api, _read) = telling("api");
    let gateway = Place::default().service("api", &[&api]).api(json!({})).open();
    // All of them idle, from one address.
    let held: Vec<TcpStream> = (0..200).map(|_| gateway.connect()).collect();
    assert_eq!(gateway.get("/", "").status, 200, "200 idle connections hinder nobody");
    drop(held);
    assert_eq!(gateway.get("/", "").status, 200);
}

#[test]
fn a_large_answer_on_a_connection_that_carried_others_is_no_endless_head() {
    let large = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        let body = vec![7; 8 << 20];
        while read_request(&mut reader).is_some() {
            // Head and body in one piece: the gateway may read a good deal of the body with the head.
            let answer =
                [format!("HTTP/1.1 200 OK\r\ncontent-length: {}\r\n\r\n", body.len()).as_bytes(), &body]
                    .concat();
            if stream.write_all(&answer).is_err() {
                return;
            }
        }
    });
    let gateway = Place::default().service("api", &[&large]).api(json!({})).open();
    for _ in 0..20 {
        let answered = gateway.get("/", "");
        assert_eq!((answered.status, answered.body.len()), (200, 8 << 20));
    }
}
