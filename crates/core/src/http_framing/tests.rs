use proptest::prelude::*;

use super::*;

/// Checks which part of a connection passes if its bytes come in pieces of this size, and why nothing more does.
fn read(bytes: &[u8], piece: usize) -> (Vec<u8>, Option<Violation>) {
    let (mut framing, mut inbox, mut passed) = (Framing::default(), Vec::new(), Vec::new());
    for piece in bytes.chunks(piece) {
        inbox.extend_from_slice(piece);
        loop {
            match framing.look(&inbox) {
                Ok(FramerAction::More) => break,
                Ok(FramerAction::Pass(count)) => passed.extend(inbox.drain(..count)),
                Ok(FramerAction::Drop(count)) => drop(inbox.drain(..count)),
                Err(violation) => return (passed, Some(violation)),
            }
        }
    }
    (passed, None)
}

fn sentence(head: &str) -> String {
    match read(head.as_bytes(), 7) {
        (_, Some(violation)) => format!("{} {}", violation.status, violation.sentence),
        (passed, None) => format!("passes, {} of {} bytes", passed.len(), head.len()),
    }
}

#[test]
fn accepted_and_refused_names() {
    let host = "Host: a.test\r\n";
    let chunked = format!("POST / HTTP/1.1\r\n{host}Transfer-Encoding: chunked\r\n\r\n");
    let cases = [
        ("plain", format!("GET /a?b=c HTTP/1.1\r\n{host}\r\n")),
        ("a body", format!("POST / HTTP/1.1\r\n{host}Content-Length: 3\r\n\r\nabc")),
        ("an empty line before", format!("\r\nGET / HTTP/1.1\r\n{host}\r\n")),
        ("an absolute target", format!("GET http://a.test/x HTTP/1.1\r\n{host}\r\n")),
        ("two requests in a row", format!("GET / HTTP/1.1\r\n{host}\r\nGET /2 HTTP/1.1\r\n{host}\r\n")),
        ("HTTP/1.0", format!("GET / HTTP/1.0\r\n{host}\r\n")),
        ("chunks", format!("{chunked}3\r\nabc\r\n0\r\n\r\n")),
        ("a chunk's extension", format!("{chunked}3;a=b\r\nabc\r\n0\r\n\r\n")),
        ("a trailer", format!("{chunked}0\r\nX-Sum: 1\r\n\r\n")),
        (
            "both lengths",
            format!("POST / HTTP/1.1\r\n{host}Content-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n"),
        ),
        (
            "a length twice",
            format!("POST / HTTP/1.1\r\n{host}Content-Length: 3\r\nContent-Length: 3\r\n\r\n"),
        ),
        ("a list of lengths", format!("POST / HTTP/1.1\r\n{host}Content-Length: 3, 3\r\n\r\n")),
        ("a length with a sign", format!("POST / HTTP/1.1\r\n{host}Content-Length: +3\r\n\r\n")),
        ("an encoding in disguise", format!("POST / HTTP/1.1\r\n{host}Transfer-Encoding: xchunked\r\n\r\n")),
        (
            "an encoding over the old version",
            format!("POST / HTTP/1.0\r\n{host}Transfer-Encoding: chunked\r\n\r\n"),
        ),
        ("a space before the colon", format!("GET / HTTP/1.1\r\n{host}Content-Length : 3\r\n\r\n")),
        ("a folded header", format!("GET / HTTP/1.1\r\n{host}X: a\r\n b\r\n\r\n")),
        ("a bare line feed", format!("GET / HTTP/1.1\n{host}\r\n")),
        ("a bare carriage return", format!("GET / HTTP/1.1\r\n{host}X: a\rb\r\n\r\n")),
        ("a zero byte", format!("GET / HTTP/1.1\r\n{host}X: a\0b\r\n\r\n")),
        ("an underscore in disguise", format!("GET / HTTP/1.1\r\n{host}Content_Length: 3\r\n\r\n")),
        ("two hosts", format!("GET / HTTP/1.1\r\n{host}{host}\r\n")),
        ("no host", "GET / HTTP/1.1\r\n\r\n".to_owned()),
        ("a host that is a list", "GET / HTTP/1.1\r\nHost: a.test, b.test\r\n\r\n".to_owned()),
        ("a host with a user", "GET / HTTP/1.1\r\nHost: u@a.test\r\n\r\n".to_owned()),
        ("another host in the target", format!("GET http://b.test/ HTTP/1.1\r\n{host}\r\n")),
        ("two spaces", format!("GET  / HTTP/1.1\r\n{host}\r\n")),
        ("a backslash", format!("GET /a\\b HTTP/1.1\r\n{host}\r\n")),
        ("a fragment", format!("GET /a#b HTTP/1.1\r\n{host}\r\n")),
        ("a version of its own", format!("GET / HTTP/1.2\r\n{host}\r\n")),
        ("CONNECT", format!("CONNECT a.test:443 HTTP/1.1\r\n{host}\r\n")),
        ("a chunk size with a sign", format!("{chunked}+3\r\nabc\r\n0\r\n\r\n")),
        ("a chunk size with a space", format!("{chunked}3 \r\nabc\r\n0\r\n\r\n")),
        ("a chunk size of 17 digits", format!("{chunked}00000000000000003\r\nabc\r\n")),
        ("a chunk that is too long", format!("{chunked}3\r\nabcd\r\n0\r\n\r\n")),
        ("a bare line feed in a chunk", format!("{chunked}3\nabc\r\n0\r\n\r\n")),
        ("a folded trailer", format!("{chunked}0\r\n X: 1\r\n\r\n")),
        ("TLS", "\x16\x03\x01\x02\x00".to_owned()),
        ("headers without end", format!("GET / HTTP/1.1\r\nX: {}", "a".repeat(HEAD))),
        ("a target without end", format!("GET /{} HTTP/1.1\r\n{host}\r\n", "a".repeat(9000))),
    ];
    let told: Vec<String> = cases.iter().map(|(name, head)| format!("{name}: {}", sentence(head))).collect();
    insta::assert_snapshot!(told.join("\n"));
}

fn piece() -> impl Strategy<Value = &'static str> {
    prop_oneof![
        Just("GET / HTTP/1.1\r\n"),
        Just("POST /x HTTP/1.1\r\n"),
        Just("Host: a.test\r\n"),
        Just("Content-Length: 3\r\n"),
        Just("Transfer-Encoding: chunked\r\n"),
        Just("X: y\r\n"),
        Just("\r\n"),
        Just("\n"),
        Just("\r"),
        Just("abc"),
        Just("3\r\nabc\r\n"),
        Just("0\r\n\r\n"),
        Just(" "),
        Just("\0"),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]
    #[test]
    fn chunking_does_not_change_the_outcome(
        pieces in proptest::collection::vec(piece(), 1..14), cut in 1usize..9,
    ) {
        let bytes = pieces.concat().into_bytes();
        prop_assert_eq!(read(&bytes, bytes.len()), read(&bytes, cut));
    }

    #[test]
    fn only_a_valid_prefix_passes(bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
        let (passed, refused) = read(&bytes, 16);
        let end = bytes.strip_prefix(b"\r\n".as_slice()).unwrap_or(&bytes);
        prop_assert!(refused.is_some() || end.starts_with(&passed) || bytes.starts_with(b"\r\n\r\n"));
    }
}
