//! A visitor that writes the frames of HTTP/2 (RFC 9113) by hand, so that it can send what no client would.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use rustls::{ClientConnection, StreamOwned};

use crate::place::Gateway;
use crate::tls::connect;

const DATA: u8 = 0;
const HEADERS: u8 = 1;
const RESET: u8 = 3;
const SETTINGS: u8 = 4;
const PING: u8 = 6;
const AWAY: u8 = 7;
const CONTINUATION: u8 = 9;

const END_STREAM: u8 = 1;
const END_HEADERS: u8 = 4;
const ACK: u8 = 1;

/// Longest frame that is sent (RFC 9113, section 4.2).
const FRAME: usize = 16 * 1024;

/// A field of a request, or of its trailers.
pub(crate) type Field = (&'static str, String);

/// How a request ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum End {
    /// An answer with this status and body.
    Answer(u16, Vec<u8>),
    /// The stream was reset.
    Reset,
    /// The connection was ended.
    Away,
}

/// A connection.
pub(crate) struct Visitor {
    stream: StreamOwned<ClientConnection, TcpStream>,
    next: u32,
}

impl Visitor {
    /// Connects to the host's certificate of the local authority.
    pub(crate) fn of(gateway: &Gateway, host: &str) -> Visitor {
        // Anyone who answers has made it.
        assert_eq!(gateway.send(b"GET / HTTP/1.1\r\nHost: nowhere.test\r\n\r\n").status, 404);
        let authority = std::fs::read_to_string(gateway.dir.path().join("authority.pem"));
        let stream = connect(gateway, &authority.expect("the local authority"), host, &["h2"]).expect("TLS");
        assert_eq!(stream.conn.alpn_protocol(), Some(b"h2".as_slice()));
        let mut visitor = Visitor { stream, next: 1 };
        visitor.stream.write_all(b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n").expect("sent");
        visitor.frame(SETTINGS, 0, 0, &[]);
        visitor
    }

    fn frame(&mut self, kind: u8, flags: u8, stream: u32, payload: &[u8]) {
        let length = (payload.len() as u32).to_be_bytes();
        let mut bytes = length[1..].to_vec();
        bytes.extend([kind, flags]);
        bytes.extend(stream.to_be_bytes());
        bytes.extend(payload);
        // A connection that was ended takes nothing; what it answered is read.
        let _ = self.stream.write_all(&bytes);
    }

    /// Sends a request: its fields as they are, its body in pieces, its trailers. Gives its stream.
    pub(crate) fn send(&mut self, fields: &[Field], body: Option<&[&str]>, trailers: &[Field]) -> u32 {
        let stream = self.next;
        self.next += 2;
        self.fields(stream, fields, body.is_none());
        let pieces = body.unwrap_or_default();
        for (place, piece) in pieces.iter().enumerate() {
            let last = place + 1 == pieces.len() && trailers.is_empty();
            self.frame(DATA, if last { END_STREAM } else { 0 }, stream, piece.as_bytes());
        }
        if !trailers.is_empty() {
            self.fields(stream, trailers, true);
        }
        stream
    }

    /// Each as a literal that nobody remembers, in plain letters (RFC 7541, section 6.2.2).
    fn fields(&mut self, stream: u32, fields: &[Field], last: bool) {
        let mut block = Vec::new();
        for (name, value) in fields {
            block.push(0);
            for text in [name.as_bytes(), value.as_bytes()] {
                length(&mut block, text.len());
                block.extend(text);
            }
        }
        let pieces: Vec<&[u8]> = block.chunks(FRAME).collect();
        for (place, piece) in pieces.iter().enumerate() {
            let kind = if place == 0 { HEADERS } else { CONTINUATION };
            let ends = if place + 1 == pieces.len() { END_HEADERS } else { 0 };
            let flags = ends | if last && place == 0 { END_STREAM } else { 0 };
            self.frame(kind, flags, stream, piece);
        }
    }

    /// A frame as it is.
    pub(crate) fn raw(&mut self, kind: u8, flags: u8, stream: u32, payload: &[u8]) {
        self.frame(kind, flags, stream, payload);
    }

    /// Takes a request back.
    pub(crate) fn take_back(&mut self, stream: u32) {
        self.frame(RESET, 0, stream, &8u32.to_be_bytes());
    }

    /// Waits until the gateway has read everything so far; whether the connection goes on.
    pub(crate) fn is_heard(&mut self) -> bool {
        self.frame(PING, 0, 0, b"are you?");
        loop {
            match self.read() {
                Some((PING, flags, ..)) if flags & ACK != 0 => return true,
                Some((AWAY, ..)) | None => return false,
                Some(_) => {}
            }
        }
    }

    /// A frame: its kind, flags, stream and payload; `None` at the connection's end.
    fn read(&mut self) -> Option<(u8, u8, u32, Vec<u8>)> {
        let mut head = [0; 9];
        self.stream.read_exact(&mut head).ok()?;
        let length = u32::from_be_bytes([0, head[0], head[1], head[2]]) as usize;
        let stream = u32::from_be_bytes([head[5] & 0x7f, head[6], head[7], head[8]]);
        let mut payload = vec![0; length];
        self.stream.read_exact(&mut payload).ok()?;
        Some((head[3], head[4], stream, payload))
    }

    /// Reads, and answers what keeps the connection alive, until the gateway ends it or the time is over; whether it
    /// ended it. Room for more of an answer is never made.
    pub(crate) fn is_sent_away(&mut self, within: Duration) -> bool {
        let began = Instant::now();
        while began.elapsed() < within {
            match self.read() {
                Some((AWAY, ..)) | None => return true,
                Some((SETTINGS, flags, ..)) if flags & ACK == 0 => self.frame(SETTINGS, ACK, 0, &[]),
                Some((PING, flags, _, payload)) if flags & ACK == 0 => self.frame(PING, ACK, 0, &payload),
                Some(_) => {}
            }
        }
        false
    }

    /// Reads until the request of this stream has ended.
    pub(crate) fn end(&mut self, wanted: u32) -> End {
        let (mut status, mut body) = (0, Vec::new());
        loop {
            let Some((kind, flags, stream, payload)) = self.read() else { return End::Away };
            match kind {
                SETTINGS if flags & ACK == 0 => self.frame(SETTINGS, ACK, 0, &[]),
                PING if flags & ACK == 0 => self.frame(PING, ACK, 0, &payload),
                AWAY => return End::Away,
                RESET if stream == wanted => return End::Reset,
                HEADERS if stream == wanted => status = status_of(&payload),
                DATA if stream == wanted => body.extend(&payload),
                _ => continue,
            }
            if matches!(kind, HEADERS | DATA) && stream == wanted && flags & END_STREAM != 0 {
                return End::Answer(status, body);
            }
        }
    }
}

/// An integer with seven bits in its first byte (RFC 7541, section 5.1).
fn length(block: &mut Vec<u8>, length: usize) {
    if length < 127 {
        block.push(length as u8);
        return;
    }
    block.push(127);
    let mut rest = length - 127;
    while rest >= 128 {
        block.push((rest % 128) as u8 | 128);
        rest /= 128;
    }
    block.push(rest as u8);
}

/// The status, which comes first: by its place in the static table, or as a literal in Huffman's code (RFC 7541,
/// appendices A and B).
fn status_of(block: &[u8]) -> u16 {
    // A change of the dynamic table's size may come before.
    let block = match block {
        [first, rest @ ..] if first & 0xe0 == 0x20 => rest,
        block => block,
    };
    match block {
        [indexed, ..] if indexed & 0x80 != 0 => match indexed & 0x7f {
            8 => 200,
            9 => 204,
            10 => 206,
            11 => 304,
            12 => 400,
            13 => 404,
            14 => 500,
            other => panic!("field {other} is no status"),
        },
        [literal, length, rest @ ..] if [8, 0x48].contains(literal) => {
            let text = &rest[..usize::from(length & 0x7f)];
            let digits =
                if length & 0x80 == 0 { String::from_utf8_lossy(text).into_owned() } else { digits(text) };
            digits.parse().expect("a status")
        }
        other => panic!("no status comes first: {other:x?}"),
    }
}

/// Three digits: 0, 1 and 2 have five bits, the others six.
fn digits(text: &[u8]) -> String {
    let mut bits = text.iter().flat_map(|byte| (0..8).rev().map(move |place| u32::from(byte >> place & 1)));
    let mut take = |count: usize, first: u32| bits.by_ref().take(count).fold(first, |sum, bit| sum * 2 + bit);
    let digit = |_| {
        let five = take(5, 0);
        let digit = if five < 3 { five } else { take(1, five) - 0x19 + 3 };
        char::from_digit(digit, 10).expect("a digit")
    };
    (0..3).map(digit).collect()
}
