//! Rules of a route: whose requests it takes, from which pages, what it changes, and what it fails on purpose.

use std::io::{BufReader, Read, Write};

use serde_json::json;

use crate::place::{Place, answer, read_request, replica, telling};

#[test]
fn visitors_are_taken_by_their_address() {
    let (api, read) = telling("api");
    let gateway = Place::default()
        .service("api", &[&api])
        .api(json!({"visitors": {"only": ["127.0.0.0/8"]}}))
        .route(
            "far",
            json!({"host": "far.test", "to": [{"service": "api"}], "visitors": {"only": ["192.0.2.0/24"]}}),
        )
        .route(
            "not",
            json!({"host": "not.test", "to": [{"service": "api"}], "visitors": {"never": ["127.0.0.1"]}}),
        )
        .open();
    assert_eq!(gateway.get("/", "").status, 200);
    read.recv().expect("it came");
    for host in ["far.test", "not.test"] {
        // Whatever a visitor says of itself.
        let head = format!(
            "GET / HTTP/1.1\r\nHost: {host}\r\nX-Forwarded-For: 192.0.2.7\r\nForwarded: for=192.0.2.7\r\n\r\n"
        );
        let refused = gateway.send(head.as_bytes());
        assert!(
            refused.status == 403 && refused.text().contains("address-not-allowed"),
            "{}",
            refused.text()
        );
    }
    assert!(read.try_recv().is_err(), "no replica got one of them");
}

#[test]
fn a_page_from_elsewhere_may_what_is_declared() {
    let (api, read) = telling("api");
    let cors = json!({"methods": ["GET", "PUT"], "cors": {
        "origins": ["https://app.lockers.test"], "methods": ["PUT"], "headers": ["X-Desk"], "exposed": ["X-Total"],
        "credentials": true, "lasts": "5m"
    }, "enter": {"token": "door"}});
    let gateway = Place::default().service("api", &[&api]).api(cors).secret("door", "open").open();
    let ask = |origin: &str, method: &str| {
        let head = format!(
            "OPTIONS /parcels HTTP/1.1\r\nHost: a.test\r\nOrigin: {origin}\r\nAccess-Control-Request-Method: {method}\r\n\r\n"
        );
        gateway.send(head.as_bytes())
    };
    let may = ask("https://app.lockers.test", "PUT");
    assert_eq!(may.status, 204, "{}", may.head);
    for (name, value) in [
        ("access-control-allow-origin", "https://app.lockers.test"),
        ("access-control-allow-methods", "PUT"),
        ("access-control-allow-headers", "X-Desk"),
        ("access-control-allow-credentials", "true"),
        ("access-control-max-age", "300"),
    ] {
        assert_eq!(may.header(name), Some(value), "{}", may.head);
    }
    let may_not = ask("https://evil.test", "PUT");
    assert!(may_not.status == 204 && !may_not.head.contains("access-control-allow"), "{}", may_not.head);
    // Asking is no request: nothing of it is let in, and nothing reached a replica.
    assert!(read.try_recv().is_err());
    let origin = "Origin: https://app.lockers.test\r\n";
    let answered = gateway.get("/", &format!("{origin}Authorization: Bearer open\r\n"));
    assert_eq!(answered.status, 200);
    assert_eq!(answered.header("access-control-allow-origin"), Some("https://app.lockers.test"));
    assert_eq!(answered.header("access-control-expose-headers"), Some("X-Total"));
    assert!(answered.head.to_lowercase().contains("vary: origin"), "{}", answered.head);
    // A script can read why it was refused.
    let refused = gateway.get("/", origin);
    assert_eq!(
        (refused.status, refused.header("access-control-allow-origin")),
        (401, Some("https://app.lockers.test"))
    );
    let other = gateway.get("/", "Origin: https://evil.test\r\nAuthorization: Bearer open\r\n");
    assert!(other.status == 200 && other.header("access-control-allow-origin").is_none(), "{}", other.head);
}

#[test]
fn a_replicas_own_word_on_other_pages_does_not_count() {
    let api = replica(|mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while read_request(&mut reader).is_some() {
            let said = "HTTP/1.1 200 OK\r\naccess-control-allow-origin: *\r\ncontent-length: 0\r\n\r\n";
            let _ = stream.write_all(said.as_bytes());
        }
    });
    let cors = json!({"cors": {"origins": ["https://app.lockers.test"]}});
    let gateway = Place::default().service("api", &[&api]).api(cors).open();
    let answered = gateway.get("/", "Origin: https://evil.test\r\n");
    assert_eq!(answered.header("access-control-allow-origin"), None, "{}", answered.head);
}

#[test]
fn a_drill_fails_the_declared_part_and_says_so() {
    let (api, read) = telling("api");
    let gateway =
        Place::default().service("api", &[&api]).api(json!({"drill": {"share": 25, "status": 503}})).open();
    let mut failed = 0;
    for _ in 0..100 {
        let answered = gateway.get("/", "");
        if answered.status == 503 {
            assert!(answered.text().contains("\"drill\""), "{}", answered.text());
            failed += 1;
        }
    }
    assert_eq!((failed, read.try_iter().count()), (25, 75));
}

#[test]
fn headers_are_added_set_and_removed() {
    let (api, read) = telling("api");
    let change = json!({"change": {
        "request": {"remove": ["X-Old"], "set": {"X-Desk": "7"}, "add": {"Accept-Language": "de"}},
        "answer": {"add": {"Set-Cookie": "seen=1"}}
    }});
    let gateway = Place::default().service("api", &[&api]).api(change).open();
    let answered = gateway.get("/", "X-Old: 1\r\nX-Desk: 1\r\nAccept-Language: en\r\n");
    assert_eq!(answered.header("set-cookie"), Some("seen=1"));
    let request = read.recv().expect("it came");
    let all: Vec<&str> = request
        .head
        .iter()
        .filter_map(|line| line.split_once(": "))
        .filter(|(name, _)| name.eq_ignore_ascii_case("accept-language"))
        .map(|(_, value)| value)
        .collect();
    assert_eq!((request.header("x-old"), request.header("x-desk"), all), (None, Some("7"), vec!["en", "de"]));
}

#[test]
fn each_visitor_gets_the_coding_that_it_takes() {
    let text = "a locker is free\n".repeat(500);
    let body = text.clone();
    let api = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while read_request(&mut reader).is_some() {
            let head = format!(
                "HTTP/1.1 200 OK\r\ncontent-type: text/plain\r\ncontent-length: {}\r\n\r\n",
                body.len()
            );
            let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body.as_bytes()));
        }
    });
    let gateway = Place::default().service("api", &[&api]).api(json!({"compress": true})).open();
    for (accepts, coding) in [("gzip, deflate, br, zstd", "zstd"), ("gzip, br", "br"), ("gzip", "gzip")] {
        let answered = gateway.get("/", &format!("Accept-Encoding: {accepts}\r\n"));
        assert_eq!(answered.header("content-encoding"), Some(coding));
        let (packed, mut read) = (&answered.body[..], String::new());
        let done = match coding {
            "zstd" => {
                zstd::stream::read::Decoder::new(packed).and_then(|mut it| it.read_to_string(&mut read))
            }
            "br" => brotli::Decompressor::new(packed, 4096).read_to_string(&mut read),
            _ => flate2::read::GzDecoder::new(packed).read_to_string(&mut read),
        };
        assert!(done.is_ok() && read == text, "{coding}: {done:?}");
    }
    assert_eq!(gateway.get("/", "Accept-Encoding: identity\r\n").header("content-encoding"), None);
}

#[test]
fn trailers_of_an_answer_reach_those_who_take_them() {
    let api = replica(|mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while read_request(&mut reader).is_some() {
            let said = "HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\ntrailer: X-Sum\r\n\r\n2\r\nhi\r\n0\r\nX-Sum: 7\r\nX-Other: 1\r\n\r\n";
            let _ = stream.write_all(said.as_bytes());
        }
    });
    let gateway = Place::default().service("api", &[&api]).api(json!({})).open();
    let whole = |more: &str| {
        let mut stream = gateway.connect();
        stream
            .write_all(
                format!("GET / HTTP/1.1\r\nHost: a.test\r\n{more}Connection: close\r\n\r\n").as_bytes(),
            )
            .expect("sent");
        let mut text = String::new();
        stream.read_to_string(&mut text).expect("an answer");
        text.to_lowercase()
    };
    let takes = whole("TE: trailers\r\n");
    assert!(takes.contains("trailer: x-sum") && takes.ends_with("0\r\nx-sum: 7\r\n\r\n"), "{takes}");
    let takes_none = whole("");
    assert!(!takes_none.contains("x-sum") && takes_none.ends_with("0\r\n\r\n"), "{takes_none}");
}

#[test]
fn a_trusted_proxy_says_who_called_and_nobody_else_does() {
    let (api, read) = telling("api");
    let gateway = Place::default()
        .service("api", &[&api])
        .api(json!({"visitors": {"never": ["192.0.2.66"]}}))
        .behind("127.0.0.1")
        .open();
    let through = |header: &[u8]| {
        let request = b"GET / HTTP/1.1\r\nHost: a.test\r\n\r\n";
        let mut stream = gateway.connect();
        stream.write_all(&[header, request].concat()).expect("sent");
        answer(&mut BufReader::new(stream))
    };
    let answered = through(b"PROXY TCP4 192.0.2.7 127.0.0.1 4000 80\r\n").expect("an answer");
    assert_eq!(answered.status, 200);
    let request = read.recv().expect("it came");
    assert_eq!(request.header("x-forwarded-for"), Some("192.0.2.7"));
    let second =
        [b"\r\n\r\n\0\r\nQUIT\n\x21\x11\0\x0c".as_slice(), &[192, 0, 2, 66, 127, 0, 0, 1, 15, 160, 0, 80]]
            .concat();
    assert_eq!(through(&second).expect("an answer").status, 403, "the address in the header is looked at");
    assert!(through(b"").is_none(), "a connection of a proxy without its header is not taken");
    assert!(through(b"PROXY TCP4 192.0.2.7\r\n").is_none());
    // From elsewhere it is no header of HTTP.
    let (other, _read) = telling("other");
    let plain = Place::default().service("api", &[&other]).api(json!({})).open();
    assert_eq!(
        plain
            .send(b"PROXY TCP4 192.0.2.7 127.0.0.1 4000 80\r\nGET / HTTP/1.1\r\nHost: a.test\r\n\r\n")
            .status,
        400
    );
}

#[test]
fn an_answer_that_allows_it_is_given_again_until_it_is_changed() {
    let asked = std::sync::Arc::new(std::sync::atomic::AtomicU32::new(0));
    let counted = std::sync::Arc::clone(&asked);
    let api = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while let Some(request) = read_request(&mut reader) {
            let count = counted.fetch_add(1, std::sync::atomic::Ordering::SeqCst) + 1;
            let allows = if request.head[0].contains("/own") { "private" } else { "max-age=60" };
            let said = format!(
                "HTTP/1.1 200 OK\r\ncache-control: {allows}\r\ncontent-type: text/plain\r\ncontent-length: 2000\r\n\r\n{count:02000}"
            );
            let _ = stream.write_all(said.as_bytes());
        }
    });
    let gateway = Place::default().service("api", &[&api]).api(json!({"cache": {}, "compress": true})).open();
    let number = |path: &str| gateway.get(path, "").text().trim_start_matches('0').to_owned();
    assert_eq!([number("/a"), number("/a"), number("/b"), number("/a")], ["1", "1", "2", "1"]);
    assert_eq!([number("/own"), number("/own")], ["3", "4"]);
    let again = gateway.get("/a", "");
    assert_eq!(again.header("cache-status"), Some("mainyard; hit"));
    assert!(again.header("age").is_some(), "{}", again.head);
    let packed = gateway.get("/a", "Accept-Encoding: gzip\r\n");
    assert_eq!(
        (packed.header("content-encoding"), packed.header("cache-status")),
        (Some("gzip"), Some("mainyard; hit"))
    );
    let mut stream = gateway.connect();
    stream.write_all(b"HEAD /a HTTP/1.1\r\nHost: a.test\r\nConnection: close\r\n\r\n").expect("sent");
    let mut head = String::new();
    stream.read_to_string(&mut head).expect("an answer");
    assert!(head.starts_with("HTTP/1.1 200") && head.ends_with("\r\n\r\n"), "{head}");
    assert_eq!((200, asked.load(std::sync::atomic::Ordering::SeqCst)), (200, 4), "no replica was asked");
    let changed = gateway.send(b"POST /a HTTP/1.1\r\nHost: a.test\r\nContent-Length: 0\r\n\r\n");
    assert_eq!((changed.status, number("/a").as_str()), (200, "6"), "what is changed is asked for again");
    assert_eq!(number("/b"), "2");
}
