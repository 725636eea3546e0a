//! Requests that could be read two ways: the rows of `docs/http.md`, each over a raw socket and read at the replica.

use std::io::{BufReader, Read, Write};
use std::sync::Mutex;
use std::sync::mpsc::TryRecvError;

use serde_json::json;

use crate::place::{Gateway, Place, Request, answer, telling};

/// The expected outcome of a request.
#[derive(Debug)]
enum Outcome {
    /// The gateway answers with this status, and no replica hears of it.
    Refused(u16),
    /// The replica reads exactly these lines of head, among the gateway's own, and this body.
    Passes(&'static [&'static str], &'static str),
}

use Outcome::{Passes, Refused};

/// A row: the bytes and the outcome.
struct Row {
    bytes: String,
    outcome: Outcome,
}

/// Checks what a replica read against these lines of head, among the gateway's own, and this body; it is framed once.
pub(crate) fn is_read_as(got: &Request, lines: &[&str], body: &str) {
    for line in lines {
        assert!(got.head.iter().any(|read| read == line), "{line} is not in {:#?}", got.head);
    }
    let framing = ["content-length:", "transfer-encoding:"];
    let frames = |line: &&String| framing.iter().any(|name| line.to_lowercase().starts_with(name));
    assert!(got.head.iter().filter(frames).count() <= 1, "it is framed once: {:#?}", got.head);
    assert_eq!(String::from_utf8_lossy(&got.body), body);
}

/// A gateway with one route to a replica that tells what it reads.
pub(crate) fn open() -> (Gateway, std::sync::mpsc::Receiver<Request>) {
    let (api, read) = telling("api");
    (Place::default().service("api", &[&api]).api(json!({})).open(), read)
}

impl Row {
    /// Sends the row and, behind it, a request that must be the next one that a replica reads, or none at all.
    fn hold(&self) {
        let (gateway, read) = open();
        let mut stream = gateway.connect();
        stream.write_all(self.bytes.as_bytes()).expect("sent");
        let mut reader = BufReader::new(stream.try_clone().expect("a handle"));
        match &self.outcome {
            Refused(status) => {
                let answer = answer(&mut reader).expect("an answer");
                assert_eq!(answer.status, *status, "{}", answer.text());
                assert_eq!(answer.header("connection"), Some("close"), "nothing more is read of it");
                let _ = stream.write_all(b"GET /smuggled HTTP/1.1\r\nHost: a.test\r\n\r\n");
                let mut rest = Vec::new();
                let _ = reader.read_to_end(&mut rest);
                assert_eq!(rest, b"", "nothing more is answered");
                // What a replica would have read came before the end of the connection.
                assert_eq!(read.try_recv(), Err(TryRecvError::Empty));
            }
            Passes(lines, body) => {
                stream.write_all(b"GET /next HTTP/1.1\r\nHost: a.test\r\n\r\n").expect("sent");
                for _ in 0..2 {
                    assert_eq!(answer(&mut reader).expect("an answer").status, 200);
                }
                let got = read.recv().expect("a request");
                is_read_as(&got, lines, body);
                assert_eq!(read.recv().expect("the next").head[0], "GET /next HTTP/1.1");
            }
        }
    }
}

const GET: &str = "GET / HTTP/1.1\r\nHost: a.test\r\n";
const POST: &str = "POST /p HTTP/1.1\r\nHost: a.test\r\n";
const CHUNKED: &str = "POST /p HTTP/1.1\r\nHost: a.test\r\nTransfer-Encoding: chunked\r\n\r\n";
const LINE: &[&str] = &["POST /p HTTP/1.1"];

macro_rules! rows {
    ($($name:ident: $shape:literal, $happens:literal, $bytes:expr, $outcome:expr;)*) => {
        mod row {
            use super::*;
            $(#[test] fn $name() {
                Row { bytes: $bytes.into(), outcome: $outcome }.hold();
            })*
        }

        fn all() -> Vec<Written> {
            vec![$(Written { shape: $shape, happens: $happens },)*]
        }
    };
}

rows! {
    both_lengths: "`Content-Length` and `Transfer-Encoding`", "refused, 400",
        format!("{POST}Content-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n"), Refused(400);
    both_lengths_other_order: "the same in the other order", "refused, 400",
        format!("{POST}Transfer-Encoding: chunked\r\nContent-Length: 5\r\n\r\n0\r\n\r\n"), Refused(400);
    length_twice: "`Content-Length` twice, with one value or two", "refused, 400",
        format!("{POST}Content-Length: 2\r\nContent-Length: 2\r\n\r\nhi"), Refused(400);
    length_list: "a list in `Content-Length`", "refused, 400", format!("{POST}Content-Length: 2, 2\r\n\r\nhi"), Refused(400);
    length_sign: "a sign before the length", "refused, 400", format!("{POST}Content-Length: +2\r\n\r\nhi"), Refused(400);
    length_hex: "a length that is not decimal", "refused, 400", format!("{POST}Content-Length: 0x2\r\n\r\nhi"), Refused(400);
    length_empty: "an empty length", "refused, 400", format!("{POST}Content-Length:\r\n\r\n"), Refused(400);
    length_huge: "a length of more than 18 digits", "refused, 400",
        format!("{POST}Content-Length: 1000000000000000000\r\n\r\n"), Refused(400);
    length_zeros: "zeros before the length", "goes on with the length that it is",
        format!("{POST}Content-Length: 002\r\n\r\nhi"), Passes(LINE, "hi");
    encoding_twice: "`Transfer-Encoding` twice", "refused, 400",
        format!("{POST}Transfer-Encoding: chunked\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n"), Refused(400);
    encoding_other: "any `Transfer-Encoding` but `chunked`, lists included", "refused, 501",
        format!("{POST}Transfer-Encoding: gzip, chunked\r\n\r\n0\r\n\r\n"), Refused(501);
    encoding_disguised: "`chunked` in disguise: `xchunked`, quotes, a tab inside", "refused, 501",
        format!("{POST}Transfer-Encoding: \"chunked\"\r\n\r\n0\r\n\r\n"), Refused(501);
    encoding_capitals: "`Chunked` in other capitals", "goes on as chunks",
        format!("{POST}Transfer-Encoding: CHUNKED\r\n\r\n2\r\nhi\r\n0\r\n\r\n"), Passes(LINE, "hi");
    encoding_old: "`Transfer-Encoding` over HTTP/1.0", "refused, 400",
        "POST / HTTP/1.0\r\nHost: a.test\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n", Refused(400);
    chunk_extension: "chunk extensions", "dropped; the chunks go on without them",
        format!("{CHUNKED}2;a=b;c=\"d\"\r\nhi\r\n0;e\r\n\r\n"), Passes(LINE, "hi");
    chunk_extension_long: "a chunk's size line of 256 bytes and more", "refused, 400; what was begun is broken off",
        format!("{CHUNKED}2;{}\r\nhi\r\n0\r\n\r\n", "x".repeat(300)), Refused(400);
    chunk_sign: "a chunk's size with a sign, a prefix or spaces", "refused, 400",
        format!("{CHUNKED}+2\r\nhi\r\n0\r\n\r\n"), Refused(400);
    chunk_huge: "a chunk's size of more than 16 digits", "refused, 400",
        format!("{CHUNKED}00000000000000002\r\nhi\r\n0\r\n\r\n"), Refused(400);
    chunk_long: "a chunk that is longer or shorter than its size", "refused, 400",
        format!("{CHUNKED}2\r\nhello\r\n0\r\n\r\n"), Refused(400);
    chunk_line_feed: "a line feed alone after a chunk's size", "refused, 400",
        format!("{CHUNKED}2\nhi\r\n0\r\n\r\n"), Refused(400);
    trailers: "trailers", "dropped", format!("{CHUNKED}2\r\nhi\r\n0\r\nX-Sum: 1\r\n\r\n"), Passes(LINE, "hi");
    trailer_framing: "a trailer with a space before its colon, or folded", "refused, 400",
        format!("{CHUNKED}2\r\nhi\r\n0\r\nContent-Length : 9\r\n\r\n"), Refused(400);
    line_feed: "a line feed alone at the end of a line", "refused, 400", "GET / HTTP/1.1\nHost: a.test\r\n\r\n", Refused(400);
    carriage_return: "a carriage return alone anywhere", "refused, 400", format!("{GET}X: a\rb\r\n\r\n"), Refused(400);
    folded: "a header folded over two lines", "refused, 400", format!("{GET}X: a\r\n b\r\n\r\n"), Refused(400);
    folded_first: "a space before the first header", "refused, 400", "GET / HTTP/1.1\r\n Host: a.test\r\n\r\n", Refused(400);
    name_space: "a space in a name, or between name and colon", "refused, 400",
        format!("{GET}Content-Length : 2\r\n\r\n"), Refused(400);
    name_empty: "a header without a name, or without a colon", "refused, 400", format!("{GET}: x\r\n\r\n"), Refused(400);
    name_underscore: "an underscore where a hyphen would tell of framing, host, origin or authorization", "refused, 400",
        format!("{GET}Transfer_Encoding: chunked\r\n\r\n"), Refused(400);
    value_zero: "a control character in a value; the tab is none", "refused, 400",
        format!("{GET}X: a\0b\r\n\r\n"), Refused(400);
    host_none: "no `Host`", "refused, 400", "GET / HTTP/1.1\r\n\r\n", Refused(400);
    host_twice: "`Host` twice", "refused, 400", format!("{GET}Host: a.test\r\n\r\n"), Refused(400);
    host_odd: "a `Host` with a user, a list, a path or a space", "refused, 400",
        "GET / HTTP/1.1\r\nHost: u@a.test\r\n\r\n", Refused(400);
    target_absolute: "a URL as target, of the same host", "goes on as a path",
        "GET http://a.test/x?y=1 HTTP/1.1\r\nHost: a.test\r\n\r\n", Passes(&["GET /x?y=1 HTTP/1.1", "host: a.test"], "");
    target_other: "a URL as target, of another host than `Host`", "refused, 400",
        "GET http://b.test/ HTTP/1.1\r\nHost: a.test\r\n\r\n", Refused(400);
    target_words: "a target that is neither a path nor a URL", "refused, 400", "GET x HTTP/1.1\r\nHost: a.test\r\n\r\n", Refused(400);
    target_connect: "`CONNECT`", "refused, 501", "CONNECT a.test:80 HTTP/1.1\r\nHost: a.test\r\n\r\n", Refused(501);
    target_fragment: "a `#` or a backslash in the target", "refused, 400",
        "GET /a\\..\\b HTTP/1.1\r\nHost: a.test\r\n\r\n", Refused(400);
    target_bytes: "bytes beyond visible ASCII in the request line", "refused, 400",
        "GET /\u{e9} HTTP/1.1\r\nHost: a.test\r\n\r\n", Refused(400);
    target_spaces: "more than one space in the request line, or none", "refused, 400",
        "GET  / HTTP/1.1\r\nHost: a.test\r\n\r\n", Refused(400);
    target_long: "a target of more than 8 KiB", "refused, 414",
        format!("GET /{} HTTP/1.1\r\nHost: a.test\r\n\r\n", "a".repeat(9000)), Refused(414);
    path_escapes: "letters, digits, `-`, `.`, `_`, `~` escaped in the path", "go on plain; other escapes in capitals",
        "GET /%61%2d%2f HTTP/1.1\r\nHost: a.test\r\n\r\n", Passes(&["GET /a-%2F HTTP/1.1"], "");
    version_other: "any version but 1.1 and 1.0, the beginning of HTTP/2 included", "refused, 505",
        "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n", Refused(505);
    version_old: "HTTP/1.0", "goes on as 1.1, and the connection is closed after it unless it asks otherwise",
        "GET / HTTP/1.0\r\nHost: a.test\r\nConnection: keep-alive\r\n\r\n", Passes(&["GET / HTTP/1.1"], "");
    method_small: "a method that is not capital letters", "refused, 400", "get / HTTP/1.1\r\nHost: a.test\r\n\r\n", Refused(400);
    empty_line: "empty lines before a request", "dropped", format!("\r\n\r\n{GET}\r\n"), Passes(&["GET / HTTP/1.1"], "");
    headers_many: "more than 100 headers", "refused, 431", format!("{GET}{}\r\n", "X: y\r\n".repeat(101)), Refused(431);
    headers_long: "more than 64 KiB of headers", "refused, 431",
        format!("{GET}X: {}\r\n\r\n", "a".repeat(70_000)), Refused(431);
    hop_by_hop: "headers that `Connection` names, `Keep-Alive`, `TE`, `Trailer`, `Proxy-Connection`", "dropped",
        format!("{GET}Connection: X-Away\r\nX-Away: 1\r\nTE: trailers\r\n\r\n"), Passes(&["GET / HTTP/1.1"], "");
    connection_host: "`Connection` that names `Host` or `Content-Length`", "these two stay",
        format!("{POST}Connection: Host, Content-Length\r\nContent-Length: 2\r\n\r\nhi"), Passes(&["host: a.test"], "hi");
    upgrade_other: "`Upgrade` to anything but `websocket`, HTTP/2 included", "dropped; the request goes on",
        format!("{GET}Connection: Upgrade, HTTP2-Settings\r\nUpgrade: h2c\r\nHTTP2-Settings: AAMAAABk\r\n\r\n"),
        Passes(&["GET / HTTP/1.1"], "");
    expect: "`Expect: 100-continue`", "answered by the gateway; the header goes no further",
        format!("{POST}Content-Length: 2\r\n\r\nhi"), Passes(LINE, "hi");
    tls: "TLS where plain HTTP is expected", "refused, 400", "\x16\x03\x01\x02\x00\x01", Refused(400);
}

#[test]
fn what_is_dropped_does_not_reach_the_replica() {
    let (gateway, read) = open();
    gateway.get("/", "Connection: X-Away, Upgrade\r\nX-Away: 1\r\nTE: trailers\r\nUpgrade: h2c\r\nExpect: 100-continue\r\n");
    let got = read.recv().expect("a request");
    for name in ["connection", "x-away", "te", "upgrade", "http2-settings", "expect"] {
        assert_eq!(got.header(name), None, "{name} in {:#?}", got.head);
    }
}

#[test]
fn the_table_in_the_docs_is_this_one() {
    hold_docs("| shape |", &all());
}

/// The outcome that the docs give for a row.
pub(crate) struct Written {
    pub shape: &'static str,
    pub happens: &'static str,
}

/// Checks the table of the docs that begins with this against its rows, or writes it again.
pub(crate) fn hold_docs(head: &str, rows: &[Written]) {
    static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());
    let _turn = ONE_AT_A_TIME.lock();
    let rows: String = rows.iter().map(|row| format!("| {} | {} |\n", row.shape, row.happens)).collect();
    let table = format!("{head} what happens |\n| --- | --- |\n{rows}");
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/http.md");
    let docs = std::fs::read_to_string(file).expect("docs/http.md");
    if std::env::var_os("MAINYARD_WRITE_DOCS").is_some() {
        let start = docs.find(head).unwrap_or(docs.len());
        let end = docs[start..].find("\n\n").map_or(docs.len(), |end| start + end + 1);
        std::fs::write(file, format!("{}{table}{}", &docs[..start], &docs[end..])).expect("written");
        return;
    }
    assert!(docs.contains(&table), "MAINYARD_WRITE_DOCS=1 cargo test -p mainyard-gateway writes it again");
}
