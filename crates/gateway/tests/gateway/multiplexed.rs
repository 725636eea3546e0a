//! Requests over HTTP/2 that could be read two ways once they have gone on as HTTP/1.1: rows of `docs/http.md`, each in
//! frames of its own and read at the replica.

use std::sync::mpsc::TryRecvError;

use serde_json::json;

use crate::frames::{End, Field, Visitor};
use crate::place::{Place, telling};
use crate::reading::{Written, hold_docs, is_read_as, open};

/// The expected outcome of a request.
#[derive(Debug)]
enum Outcome {
    /// The gateway answers with this status, and no replica hears of it.
    Refused(u16),
    /// The stream or the connection ends without an answer, and no replica hears of it.
    Ended,
    /// The request to the replica is broken off: the replica never reads a whole request.
    BrokenOff,
    /// The replica reads exactly these lines of head, among the gateway's own, and this body.
    Passes(&'static [&'static str], &'static str),
}

use Outcome::{BrokenOff, Ended, Passes, Refused};

/// A row: the request and the outcome.
struct Row {
    fields: Vec<Field>,
    body: Option<&'static [&'static str]>,
    trailers: Vec<Field>,
    outcome: Outcome,
}

impl Row {
    /// Sends the row and then, on another connection, a request that must be the next one that a replica reads.
    fn hold(&self) {
        let (gateway, read) = open();
        let mut visitor = Visitor::of(&gateway, "a.test");
        let stream = visitor.send(&self.fields, self.body, &self.trailers);
        let end = visitor.end(stream);
        match &self.outcome {
            Refused(status) => {
                assert!(matches!(&end, End::Answer(got, _) if got == status), "{end:?}");
            }
            Ended => assert!(matches!(end, End::Reset | End::Away), "{end:?}"),
            BrokenOff => assert!(!matches!(end, End::Answer(200, _)), "{end:?}"),
            Passes(lines, body) => {
                assert_eq!(end, End::Answer(200, b"api".to_vec()));
                let got = read.recv().expect("a request");
                is_read_as(&got, lines, body);
            }
        }
        assert_eq!(gateway.get("/next", "").status, 200);
        assert_eq!(read.recv().expect("the next").head[0], "GET /next HTTP/1.1");
        assert_eq!(read.try_recv(), Err(TryRecvError::Empty));
    }
}

/// A request's own fields, with some of them in another way or (where that is nothing) not at all, and headers.
fn with(
    method: &str,
    changed: &[(&'static str, Option<&str>)],
    headers: &[(&'static str, &str)],
) -> Vec<Field> {
    let own = [(":method", method), (":scheme", "https"), (":path", "/p"), (":authority", "a.test")];
    let own = own.into_iter().filter_map(|(name, value)| {
        let changed = changed.iter().find(|(of, _)| *of == name);
        Some((name, changed.map_or(Some(value), |(_, value)| *value)?.to_owned()))
    });
    own.chain(headers.iter().map(|(name, value)| (*name, (*value).to_owned()))).collect()
}

fn get(headers: &[(&'static str, &str)]) -> Vec<Field> {
    with("GET", &[], headers)
}

fn post(headers: &[(&'static str, &str)]) -> Vec<Field> {
    with("POST", &[], headers)
}

const HI: Option<&[&str]> = Some(&["h", "i"]);
const ONE: Option<&[&str]> = Some(&["hi"]);
const SMUGGLED: Option<&[&str]> = Some(&["0\r\n\r\nGET /smuggled HTTP/1.1\r\nHost: a.test\r\n\r\n"]);

macro_rules! rows {
    ($($name:ident: $shape:literal, $happens:literal, $fields:expr, $body:expr, $trailers:expr, $outcome:expr;)*) => {
        mod row {
            use super::*;
            $(#[test] fn $name() {
                let (fields, body, trailers) = ($fields, $body, $trailers);
                Row { fields, body, trailers, outcome: $outcome }.hold();
            })*
        }

        fn all() -> Vec<Written> {
            vec![$(Written { shape: $shape, happens: $happens },)*]
        }
    };
}

rows! {
    plain: "a request as it should be", "goes on as HTTP/1.1",
        get(&[]), None, vec![], Passes(&["GET /p HTTP/1.1", "host: a.test", "x-forwarded-proto: https"], "");
    length: "a body with its length", "goes on with its length",
        post(&[("content-length", "2")]), HI, vec![], Passes(&["POST /p HTTP/1.1", "content-length: 2"], "hi");
    length_none: "a body without a length, of a `GET` too", "goes on as chunks",
        get(&[]), HI, vec![], Passes(&["GET /p HTTP/1.1", "transfer-encoding: chunked"], "hi");
    length_short: "a body that is shorter than its length", "ended; what was begun is broken off",
        post(&[("content-length", "3")]), HI, vec![], BrokenOff;
    length_long: "a body that is longer than its length", "ended; no more than its length goes on",
        post(&[("content-length", "1")]), ONE, vec![], BrokenOff;
    length_alone: "a length and no body", "ended",
        post(&[("content-length", "2")]), None, vec![], Ended;
    length_twice: "`content-length` twice", "refused, 400",
        post(&[("content-length", "2"), ("content-length", "2")]), HI, vec![], Refused(400);
    length_sign: "a length with a sign, a list, or nothing", "ended",
        post(&[("content-length", "+2")]), HI, vec![], Ended;
    encoding: "`transfer-encoding`", "ended",
        post(&[("transfer-encoding", "chunked")]), SMUGGLED, vec![], Ended;
    connection: "`connection`, `keep-alive`, `proxy-connection`, `upgrade`", "ended",
        get(&[("connection", "content-length")]), None, vec![], Ended;
    encodings: "`te` that asks for more than trailers", "ended", get(&[("te", "gzip")]), None, vec![], Ended;
    feed: "a line feed, a carriage return or a zero in a value", "ended",
        get(&[("x", "a\r\nTransfer-Encoding: chunked")]), None, vec![], Ended;
    control: "another control character in a value", "ended", get(&[("x", "a\u{1}b")]), None, vec![], Ended;
    name_feed: "a line feed, a colon or a space in a name", "ended",
        get(&[("x: y\r\nhost", "b.test")]), None, vec![], Ended;
    name_capital: "a capital letter in a name", "ended", get(&[("X", "y")]), None, vec![], Ended;
    name_underscore: "an underscore where a hyphen would tell of framing, host, origin or authorization", "refused, 400",
        post(&[("content_length", "9")]), HI, vec![], Refused(400);
    host_other: "`host` beside another `:authority`", "refused, 400",
        get(&[("host", "b.test")]), None, vec![], Refused(400);
    host_same: "`host` beside the same `:authority`", "goes on once",
        get(&[("host", "a.test")]), None, vec![], Passes(&["host: a.test"], "");
    host_alone: "`host` without `:authority`", "goes on",
        with("GET", &[(":authority", None)], &[("host", "a.test")]), None, vec![], Passes(&["host: a.test"], "");
    host_none: "neither", "refused, 400", with("GET", &[(":authority", None)], &[]), None, vec![], Refused(400);
    host_odd: "an authority with a user", "refused, 400",
        with("GET", &[(":authority", Some("u@a.test"))], &[]), None, vec![], Refused(400);
    path_none: "no `:path`, or an empty one", "ended", with("GET", &[(":path", None)], &[]), None, vec![], Ended;
    path_twice: "`:path` twice, or after a header", "ended", get(&[(":path", "/q")]), None, vec![], Ended;
    path_words: "a path without its slash, a URL included", "ended",
        with("GET", &[(":path", Some("https://b.test/p"))], &[]), None, vec![], Ended;
    path_feed: "a line feed or a space in the path", "ended",
        with("GET", &[(":path", Some("/p HTTP/1.1\r\nhost: b.test"))], &[]), None, vec![], Ended;
    path_bytes: "a backslash, or bytes beyond visible ASCII, in the path", "refused, 400",
        with("GET", &[(":path", Some("/a\\..\\b"))], &[]), None, vec![], Refused(400);
    path_fragment: "a `#` in the path", "goes on without what follows it",
        with("GET", &[(":path", Some("/p#/../q"))], &[]), None, vec![], Passes(&["GET /p HTTP/1.1"], "");
    path_long: "a path of more than 8 KiB", "refused, 414",
        with("GET", &[(":path", Some(&format!("/{}", "a".repeat(9000))))], &[]), None, vec![], Refused(414);
    pseudo_unknown: "a field of its own kind that is unknown", "ended",
        get(&[(":protocol", "websocket")]), None, vec![], Ended;
    method_small: "a method that is not capital letters", "refused, 400", with("get", &[], &[]), None, vec![], Refused(400);
    method_feed: "a space or a line feed in the method", "ended",
        with("GET / HTTP/1.1\r\nhost: b.test\r\n\r\nGET", &[], &[]), None, vec![], Ended;
    protocol_other: "`CONNECT` for another protocol than `websocket`", "refused, 501",
        with("CONNECT", &[], &[(":protocol", "connect-udp")]), None, vec![], Refused(501);
    connect: "`CONNECT`", "refused, 501",
        with("CONNECT", &[(":scheme", None), (":path", None)], &[]), None, vec![], Refused(501);
    cookies: "cookies in pieces", "go on as one header",
        get(&[("cookie", "a=1"), ("cookie", "b=2")]), None, vec![], Passes(&["cookie: a=1; b=2"], "");
    expect: "`expect: 100-continue`", "dropped; the request goes on",
        post(&[("expect", "100-continue")]), HI, vec![], Passes(&["POST /p HTTP/1.1"], "hi");
    trailers: "trailers", "dropped", post(&[]), HI, vec![("x-sum", "1".to_owned())], Passes(&["POST /p HTTP/1.1"], "hi");
    trailers_own: "a request's own fields among trailers", "dropped",
        post(&[]), HI, vec![(":path", "/q".to_owned())], Passes(&["POST /p HTTP/1.1"], "hi");
    headers_many: "more than 100 headers", "refused, 431", get(&[("x", "y"); 101]), None, vec![], Refused(431);
    headers_long: "more than 64 KiB of headers", "refused, 431",
        get(&[("x", &"a".repeat(70_000))]), None, vec![], Refused(431);
}

#[test]
fn many_requests_share_a_connection_and_one_that_is_refused_ends_alone() {
    let (gateway, read) = open();
    let mut visitor = Visitor::of(&gateway, "a.test");
    let first = visitor.send(&get(&[]), None, &[]);
    let bad = visitor.send(&with("get", &[], &[]), None, &[]);
    let last = visitor.send(&post(&[]), HI, &[]);
    assert!(matches!(visitor.end(bad), End::Answer(400, _)));
    // Answers may have come in any order, and were passed over while the refusal was waited for; the replica read both.
    let mut lines = [(); 2].map(|()| read.recv().expect("a request").head[0].clone());
    lines.sort();
    assert_eq!(lines, ["GET /p HTTP/1.1", "POST /p HTTP/1.1"]);
    assert!(first < bad && bad < last);
    let more = visitor.send(&get(&[]), None, &[]);
    assert_eq!(visitor.end(more), End::Answer(200, b"api".to_vec()), "the connection goes on");
}

#[test]
fn http_2_for_a_tls_passthrough_host_gets_a_new_connection() {
    let (api, read) = telling("api");
    let gateway = Place::default()
        .service("api", &[&api])
        .api(json!({}))
        .route("own", json!({"host": "own.test", "to": [{"service": "api"}], "tls": {"untouched": true}}))
        .open();
    let mut visitor = Visitor::of(&gateway, "a.test");
    let stream = visitor.send(&with("GET", &[(":authority", Some("own.test"))], &[]), None, &[]);
    let end = visitor.end(stream);
    let End::Answer(421, told) = end else { panic!("{end:?}") };
    assert!(String::from_utf8_lossy(&told).contains("other-connection"));
    assert_eq!(read.try_recv(), Err(TryRecvError::Empty));
}

#[test]
fn the_table_of_http_2_in_the_docs_is_this_one() {
    hold_docs("| shape, over HTTP/2 |", &all());
}
