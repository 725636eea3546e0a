//! How routes change requests and answers.

use std::collections::BTreeMap;
use std::io::{BufReader, Read, Write};

use flate2::read::GzDecoder;
use serde_json::json;

use crate::place::{Place, answer, read_request, replica, telling};

#[test]
fn host_path_method_and_header_lead_to_services() {
    let (api, _read_api) = telling("api");
    let (desk, _read_desk) = telling("desk");
    let (early, _read_early) = telling("early");
    let to = |name: &str| json!([{"service": name}]);
    let gateway = Place::default()
        .service("api", &[&api])
        .service("desk", &[&desk])
        .service("early", &[&early])
        .route("all", json!({"host": "a.test", "to": to("api")}))
        .route("desk", json!({"host": "a.test", "path": "/desk", "methods": ["GET"], "to": to("desk")}))
        .route(
            "early",
            json!({"host": "a.test", "path": "/desk", "headers": {"X-Ring": "early"}, "to": to("early")}),
        )
        .route("exact", json!({"host": "b.test", "path": "/only", "exact": true, "to": to("desk")}))
        .route("any", json!({"host": "*.b.test", "to": to("early")}))
        .open();
    let ask = |method: &str, host: &str, path: &str, more: &str| {
        let answer = gateway.send(
            format!("{method} {path} HTTP/1.1\r\nHost: {host}\r\n{more}Content-Length: 0\r\n\r\n").as_bytes(),
        );
        if answer.status == 200 { answer.text() } else { answer.status.to_string() }
    };
    assert_eq!(ask("GET", "a.test", "/", ""), "api");
    assert_eq!(ask("GET", "A.Test.:80", "/desk/7?x=1", ""), "desk");
    assert_eq!(ask("POST", "a.test", "/desk/7", ""), "api", "what takes no POST gives way");
    assert_eq!(ask("GET", "a.test", "//desk", ""), "desk", "two slashes count as one");
    assert_eq!(ask("GET", "a.test", "/%64esk", ""), "desk", "an escape that means nothing hides nothing");
    assert_eq!(ask("GET", "a.test", "/desk", "X-Ring: early\r\n"), "early");
    assert_eq!(ask("GET", "x.b.test", "/", ""), "early");
    assert_eq!(ask("GET", "b.test", "/only", ""), "desk");
    assert_eq!(ask("GET", "b.test", "/only/more", ""), "404");
    assert_eq!(ask("GET", "y.x.b.test", "/", ""), "404");
    let refused = gateway.get("/a/../desk", "");
    assert_eq!(refused.status, 400, "{}", refused.text());
}

#[test]
fn a_wrong_method_is_refused_with_the_allowed_ones() {
    let (api, _read) = telling("api");
    let gateway = Place::default().service("api", &[&api]).api(json!({"methods": ["GET", "HEAD"]})).open();
    let refused = gateway.send(b"DELETE / HTTP/1.1\r\nHost: a.test\r\n\r\n");
    assert_eq!((refused.status, refused.header("allow")), (405, Some("GET, HEAD")), "{}", refused.text());
}

#[test]
fn shares_are_exact_and_zero_gets_nothing() {
    let (one, _read_one) = telling("one");
    let (two, _read_two) = telling("two");
    let (none, _read_none) = telling("none");
    let gateway = Place::default()
        .service("one", &[&one])
        .service("two", &[&two])
        .service("none", &[&none])
        .route("a", json!({"host": "a.test", "to": [
            {"service": "one", "share": 3}, {"service": "two", "share": 1}, {"service": "none", "share": 0}]}))
        .route("b", json!({"host": "b.test", "to": [{"service": "one", "share": 0}]}))
        .open();
    let mut seen: BTreeMap<String, u32> = BTreeMap::new();
    let mut stream = gateway.connect();
    let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
    for _ in 0..40 {
        // One connection is one worker's, whose requests are shared out exactly.
        stream.write_all(b"GET / HTTP/1.1\r\nHost: a.test\r\n\r\n").expect("sent");
        *seen.entry(answer(&mut reader).expect("an answer").text()).or_default() += 1;
    }
    assert_eq!(seen, BTreeMap::from([("one".to_owned(), 30), ("two".to_owned(), 10)]));
    let silenced = gateway.send(b"GET / HTTP/1.1\r\nHost: b.test\r\n\r\n");
    assert!(silenced.status == 503 && silenced.text().contains("all-shares-zero"), "{}", silenced.text());
}

#[test]
fn a_rewrite_a_redirect_and_changed_headers() {
    let (api, read) = telling("api");
    let gateway = Place::default()
        .service("api", &[&api])
        .api(json!({"path": "/v1", "rewrite": "/inner", "change": {
            "request": {"set": {"X-Desk": "7"}, "remove": ["Cookie"]}, "answer": {"set": {"X-From": "yard"}, "remove": ["content-type"]}}}))
        .route("old", json!({"host": "a.test", "path": "/old", "redirect": {"to": "https://new.test/shop", "status": 301}}))
        .open();
    let answered = gateway.get("/v1/parcels/3?open=1", "Cookie: a=1\r\n");
    let got = read.recv().expect("a request");
    assert_eq!(got.head[0], "GET /inner/parcels/3?open=1 HTTP/1.1");
    assert_eq!((got.header("x-desk"), got.header("cookie")), (Some("7"), None));
    assert_eq!((answered.header("x-from"), answered.header("content-type")), (Some("yard"), None));
    gateway.get("/v1", "");
    assert_eq!(read.recv().expect("a request").head[0], "GET /inner HTTP/1.1");
    let sent = gateway.get("/old/7?x=1", "");
    assert_eq!((sent.status, sent.header("location")), (301, Some("https://new.test/shop/7?x=1")));
}

#[test]
fn forwarding_headers_come_from_the_gateway_alone() {
    let (api, read) = telling("api");
    let gateway = Place::default().service("api", &[&api]).api(json!({})).open();
    let trace = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
    let answered = gateway.get(
        "/",
        &format!(
            "X-Forwarded-For: 9.9.9.9\r\nForwarded: for=9.9.9.9\r\nX-Real-IP: 9.9.9.9\r\nX-Request-Id: mine-is-longer\r\n\
             traceparent: {trace}\r\nConnection: X-Secret\r\nX-Secret: 1\r\n"
        ),
    );
    let got = read.recv().expect("a request");
    assert_eq!(got.header("forwarded"), Some("for=127.0.0.1;host=\"a.test\";proto=http"));
    assert_eq!((got.header("x-forwarded-for"), got.header("x-real-ip")), (Some("127.0.0.1"), None));
    assert_eq!((got.header("traceparent"), got.header("x-secret")), (Some(trace), None));
    let id = got.header("x-request-id").expect("an id");
    assert!(id != "mine-is-longer" && answered.header("x-request-id") == Some(id), "{id}");
}

#[test]
fn a_body_over_the_routes_limit_is_refused_with_or_without_a_length() {
    let (api, _read) = telling("api");
    let gateway = Place::default().service("api", &[&api]).api(json!({"limits": {"body": "8 B"}})).open();
    let post = "POST / HTTP/1.1\r\nHost: a.test\r\n";
    let whole = gateway.send(format!("{post}Content-Length: 8\r\n\r\n12345678").as_bytes());
    assert_eq!(whole.status, 200);
    let told = gateway.send(format!("{post}Content-Length: 9\r\n\r\n123456789").as_bytes());
    assert!(told.status == 413 && told.text().contains("body-too-large"), "{}", told.text());
    let chunked = gateway.send(
        format!("{post}Transfer-Encoding: chunked\r\n\r\n4\r\n1234\r\n5\r\n56789\r\n0\r\n\r\n").as_bytes(),
    );
    assert!(chunked.status == 413 && chunked.text().contains("body-too-large"), "{}", chunked.text());
}

#[test]
fn one_visitor_is_held_to_its_rate() {
    let (api, _read) = telling("api");
    let rate = json!({"rate": {"requests": 3, "every": "1h"}});
    let gateway = Place::default().service("api", &[&api]).api(rate).open();
    let statuses: Vec<u16> = (0..5).map(|_| gateway.get("/", "").status).collect();
    assert_eq!(statuses, [200, 200, 200, 429, 429]);
    let refused = gateway.get("/", "");
    assert!(refused.header("retry-after").is_some_and(|after| after.parse::<u32>().is_ok_and(|s| s > 60)));
}

#[test]
fn a_visitor_with_an_affinity_cookie_stays_with_its_replica() {
    let names = ["one", "two", "three"].map(telling);
    let all: Vec<_> = names.iter().map(|(replica, _)| replica).collect();
    let gateway = Place::default().service("api", &all).api(json!({"sticky": {}})).open();
    let first = gateway.get("/", "");
    let cookie = first.header("set-cookie").expect("a seat").to_owned();
    let pair = cookie.split(';').next().expect("a pair");
    for _ in 0..6 {
        let again = gateway.get("/", &format!("Cookie: other=1; {pair}\r\n"));
        assert_eq!((again.text(), again.header("set-cookie")), (first.text(), None));
    }
    let elsewhere = gateway.get("/", "Cookie: yard-seat=0000000000000001\r\n");
    assert!(elsewhere.header("set-cookie").is_some(), "a seat that is gone is given again");
}

#[test]
fn text_is_compressed_for_visitors_that_accept_gzip() {
    let page = "lockers ".repeat(1000);
    let text = page.clone();
    let api = replica(move |mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while read_request(&mut reader).is_some() {
            let length = page.len();
            let head = format!(
                "HTTP/1.1 200 OK\r\ncontent-type: text/html\r\netag: \"1\"\r\ncontent-length: {length}\r\n\r\n"
            );
            let _ = stream.write_all(format!("{head}{page}").as_bytes());
        }
    });
    let gateway = Place::default().service("api", &[&api]).api(json!({"compress": true})).open();
    let zipped = gateway.get("/", "Accept-Encoding: br;q=0.5, gzip\r\n");
    assert_eq!((zipped.header("content-encoding"), zipped.header("etag")), (Some("gzip"), Some("W/\"1\"")));
    let mut plain = String::new();
    GzDecoder::new(zipped.body.as_slice()).read_to_string(&mut plain).expect("gzip");
    assert!(plain == text && zipped.body.len() < text.len() / 10, "{} bytes", zipped.body.len());
    let plain = gateway.get("/", "");
    assert_eq!((plain.header("content-encoding"), plain.text()), (None, text));
}

#[test]
fn a_get_is_retried_where_the_route_says_so_and_a_post_never() {
    let (good, _read) = telling("good");
    let broken = replica(|stream| {
        let mut reader = BufReader::new(stream);
        read_request(&mut reader);
    });
    let busy = replica(|mut stream| {
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        while read_request(&mut reader).is_some() {
            let _ = stream.write_all(b"HTTP/1.1 503 Busy\r\ncontent-length: 0\r\n\r\n");
        }
    });
    let all = [&broken, &busy, &good];
    let repeat = json!({"repeat": {"times": 2, "on": ["broken", "unavailable"]}});
    let gateway = Place::default().service("api", &all).api(repeat).open();
    for _ in 0..6 {
        assert_eq!(gateway.get("/", "").text(), "good");
    }
    let post = |_| gateway.send(b"POST / HTTP/1.1\r\nHost: a.test\r\nContent-Length: 2\r\n\r\nhi").status;
    // One that fails again and again gets less for a while, and its turn comes later.
    let mut statuses = std::collections::BTreeSet::new();
    for number in 0..200 {
        statuses.insert(post(number));
    }
    assert_eq!(statuses, [200, 502, 503].into());
}

#[test]
fn an_answer_that_does_not_come_in_time_is_given_up() {
    let late = replica(|stream| {
        let mut reader = BufReader::new(stream);
        read_request(&mut reader);
        let _ = reader.read(&mut [0; 1]);
    });
    let limits = json!({"limits": {"answer": "100ms"}});
    let gateway = Place::default().service("api", &[&late]).api(limits).open();
    let given_up = gateway.get("/", "");
    assert!(given_up.status == 504 && given_up.text().contains("answer-late"), "{}", given_up.text());
    let paused = json!({"limits": {"pause": "100ms"}});
    let gateway = Place::default().service("api", &[&late]).api(paused).open();
    let stalled = gateway.send(b"POST / HTTP/1.1\r\nHost: a.test\r\nContent-Length: 5\r\n\r\nhi");
    assert!(stalled.status == 408 && stalled.text().contains("body-stalled"), "{}", stalled.text());
}

#[test]
fn other_tcp_is_passed_on_as_it_is() {
    let echo = replica(|mut stream| {
        let mut word = [0; 5];
        while stream.read_exact(&mut word).is_ok() {
            word.reverse();
            let _ = stream.write_all(&word);
        }
    });
    let port = std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("free").port();
    let spec = json!({"port": port, "to": [{"service": "echo"}]});
    let gateway = Place::default().service("echo", &[&echo]).route("echo", spec).open();
    gateway.connect();
    let address = (gateway.http.ip(), port);
    let mut stream = std::iter::repeat_with(|| std::net::TcpStream::connect(address))
        .take(1000)
        .find_map(|stream| stream.map_err(|_| std::thread::sleep(std::time::Duration::from_millis(10))).ok())
        .expect("the port opens");
    stream.write_all(b"abcde").expect("sent");
    let mut back = [0; 5];
    stream.read_exact(&mut back).expect("an answer");
    assert_eq!(&back, b"edcba");
}
