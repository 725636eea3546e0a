//! One head: its request line and headers, and what they say of the body.

use super::{Violation, is_text};

/// Longest request target.
const TARGET: usize = 8 * 1024;
/// Most headers.
const HEADERS: usize = 100;

/// The kind of body after a head.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Body {
    /// The next head.
    None,
    /// So many bytes; none of them may be none.
    Length(u64),
    /// Chunks.
    Chunked,
}

/// Names that say how a message is framed and led, or where it comes from. Some programs take an underscore for a hyphen.
const TELLING: [&str; 10] = [
    "content-length",
    "transfer-encoding",
    "host",
    "connection",
    "upgrade",
    "forwarded",
    "x-forwarded-for",
    "x-forwarded-host",
    "x-forwarded-proto",
    "authorization",
];

/// A message's host and length, as its headers give them.
#[derive(Default)]
pub(super) struct Framed<'a> {
    /// `Host`.
    pub host: Option<&'a str>,
    /// `Content-Length`.
    pub length: Option<u64>,
    /// Whether `Transfer-Encoding` is `chunked`.
    pub chunked: bool,
}

/// Reads a whole head, its empty line included.
pub(super) fn read_head(bytes: &[u8]) -> Result<Body, Violation> {
    let mut lines = bytes.split(|byte| *byte == b'\n').map(|line| line.strip_suffix(b"\r").unwrap_or(line));
    let (target, newer) = request_line(lines.next().unwrap_or_default())?;
    let mut found = Framed::default();
    for (count, line) in lines.take_while(|line| !line.is_empty()).enumerate() {
        too_many(count + 1)?;
        let (name, value) = header(line)?;
        framing(&mut found, name, value)?;
    }
    let host = match (found.host, newer) {
        (Some(host), _) => host,
        (None, true) => return Err(Violation::bad("there is no Host header")),
        (None, false) => return Err(Violation::bad("there is no Host header, by which a route is found")),
    };
    if let Some(named) = target {
        check_same(named, host)?;
    }
    match (found.length, found.chunked) {
        (Some(_), true) => Err(Violation::bad("there is a Content-Length beside Transfer-Encoding: chunked")),
        (None, true) if !newer => Err(Violation::bad("HTTP/1.0 has no Transfer-Encoding")),
        (None, true) => Ok(Body::Chunked),
        (Some(0) | None, false) => Ok(Body::None),
        (Some(length), false) => Ok(Body::Length(length)),
    }
}

/// The host that an absolute target names, and whether the version is 1.1.
fn request_line(line: &[u8]) -> Result<(Option<&str>, bool), Violation> {
    let line = std::str::from_utf8(line)
        .ok()
        .filter(|line| line.bytes().all(|byte| byte.is_ascii_graphic() || byte == b' '))
        .ok_or_else(|| Violation::bad("the request line holds a byte that is not visible ASCII"))?;
    let parts: Vec<&str> = line.split(' ').collect();
    let [method, target, version] = parts.as_slice() else {
        return Err(Violation::bad(
            "the request line is not a method, a target and a version with one space between",
        ));
    };
    check_method(method)?;
    let newer = match *version {
        "HTTP/1.1" => true,
        "HTTP/1.0" => false,
        other if other.starts_with("HTTP/") => {
            return Err(Violation::new(505, "HTTP/1.1 and HTTP/1.0 are taken here"));
        }
        _ => return Err(Violation::bad("the request line does not end with a version such as HTTP/1.1")),
    };
    if check_target(method, target)? {
        return Ok((None, newer));
    }
    let rest = target.strip_prefix("http://").or_else(|| target.strip_prefix("https://"));
    let authority = rest.map(|rest| rest.split(['/', '?']).next().unwrap_or(rest));
    match authority {
        Some(authority) if is_authority(authority) => Ok((Some(authority), newer)),
        Some(_) => Err(Violation::bad("the target's host is not valid")),
        None => Err(Violation::bad("the target is neither a path nor a URL")),
    }
}

/// A method is capital letters.
pub(super) fn check_method(method: &str) -> Result<(), Violation> {
    let capital = |byte: u8| byte.is_ascii_uppercase() || byte == b'-';
    if !(1..=20).contains(&method.len()) || !method.bytes().all(capital) {
        return Err(Violation::bad("the method is not one to twenty capital letters"));
    }
    if method == "CONNECT" {
        return Err(Violation::new(501, "CONNECT is not offered"));
    }
    Ok(())
}

/// Checks the rules for every target; whether it is a path, or the `*` of `OPTIONS`.
pub(super) fn check_target(method: &str, target: &str) -> Result<bool, Violation> {
    if target.len() > TARGET {
        return Err(Violation::new(414, format!("the target is longer than {TARGET} bytes")));
    }
    if target.contains(['#', '\\']) {
        return Err(Violation::bad("the target holds a # or a backslash, which readers take differently"));
    }
    Ok(target.starts_with('/') || (target == "*" && method == "OPTIONS"))
}

/// More would be a burden on anyone who reads them.
pub(super) fn too_many(headers: usize) -> Result<(), Violation> {
    if headers > HEADERS {
        return Err(Violation::new(431, format!("there are more than {HEADERS} headers")));
    }
    Ok(())
}

/// One header's name and value.
pub(super) fn header(line: &[u8]) -> Result<(&[u8], &[u8]), Violation> {
    if line.first().is_some_and(|byte| matches!(byte, b' ' | b'\t')) {
        return Err(Violation::bad("a header is folded over two lines"));
    }
    let colon = line.iter().position(|byte| *byte == b':');
    let (name, value) = colon
        .map(|at| (&line[..at], &line[at + 1..]))
        .ok_or_else(|| Violation::bad("a header has no colon"))?;
    let token = |byte: &u8| byte.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(byte);
    if name.is_empty() || !name.iter().all(token) {
        return Err(Violation::bad(
            "a header's name is empty, or holds a space or another character that none has",
        ));
    }
    if !value.iter().all(|byte| is_text(*byte)) {
        let name = String::from_utf8_lossy(name);
        return Err(Violation::bad(format!("the value of {name} holds a control character")));
    }
    Ok((name, value.trim_ascii()))
}

/// Takes what one header says of host and length.
pub(super) fn framing<'a>(found: &mut Framed<'a>, name: &[u8], value: &'a [u8]) -> Result<(), Violation> {
    if name.contains(&b'_') {
        let hyphens: Vec<u8> =
            name.iter().map(|byte| if *byte == b'_' { b'-' } else { byte.to_ascii_lowercase() }).collect();
        if TELLING.iter().any(|telling| telling.as_bytes() == hyphens) {
            let (name, telling) = (String::from_utf8_lossy(name), String::from_utf8_lossy(&hyphens));
            return Err(Violation::bad(format!("{name} is read as {telling} by some programs")));
        }
        return Ok(());
    }
    let is = |known: &str| name.eq_ignore_ascii_case(known.as_bytes());
    if is("host") {
        let host = std::str::from_utf8(value).ok().filter(|host| is_authority(host));
        let host = host.ok_or_else(|| Violation::bad("the Host header is not a host"))?;
        if found.host.replace(host).is_some() {
            return Err(Violation::bad("there is more than one Host header"));
        }
    } else if is("content-length") {
        let digits = !value.is_empty() && value.len() <= 18 && value.iter().all(u8::is_ascii_digit);
        let length = std::str::from_utf8(value).ok().filter(|_| digits).and_then(|value| value.parse().ok());
        let length = length
            .ok_or_else(|| Violation::bad("the Content-Length is not one number of at most 18 digits"))?;
        if found.length.replace(length).is_some() {
            return Err(Violation::bad("there is more than one Content-Length"));
        }
    } else if is("transfer-encoding") {
        if !value.eq_ignore_ascii_case(b"chunked") {
            return Err(Violation::new(501, "the only Transfer-Encoding that is taken is chunked"));
        }
        if std::mem::replace(&mut found.chunked, true) {
            return Err(Violation::bad("there is more than one Transfer-Encoding"));
        }
    }
    Ok(())
}

/// The host that is named beside the `Host` header must be the same.
pub(super) fn check_same(named: &str, host: &str) -> Result<(), Violation> {
    if named.eq_ignore_ascii_case(host) {
        return Ok(());
    }
    Err(Violation::bad(format!("the target names the host {named}, and the Host header {host}")))
}

/// A host with or without a port: no user, no list.
pub(super) fn is_authority(text: &str) -> bool {
    let (host, port) = match text.rsplit_once(':') {
        Some((host, port)) if !text.ends_with(']') => (host, Some(port)),
        _ => (text, None),
    };
    let port_fits =
        port.is_none_or(|port| port.parse::<u16>().is_ok_and(|_| port.bytes().all(|c| c.is_ascii_digit())));
    let bracketed = host.strip_prefix('[').and_then(|host| host.strip_suffix(']'));
    let host_fits = match bracketed {
        Some(inner) => inner.parse::<std::net::Ipv6Addr>().is_ok(),
        None => {
            (1..=253).contains(&host.len())
                && host.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._".contains(&byte))
        }
    };
    port_fits && host_fits
}
