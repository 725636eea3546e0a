//! A request of HTTP/2 (RFC 9113). Its frames say where it begins and ends; what its fields say is held to the rules of a
//! head, since it goes on as HTTP/1.1.

use super::head::{Framed, check_method, check_same, check_target, framing, is_authority, too_many};
use super::{Violation, is_text};

/// A request's pseudo-headers (RFC 9113, section 8.3.1).
#[derive(Debug, Clone, Copy)]
pub struct Fields<'a> {
    /// `:method`.
    pub method: &'a str,
    /// `:path`.
    pub path: &'a str,
    /// `:authority`.
    pub authority: Option<&'a str>,
}

/// The host that the request is for.
///
/// # Errors
/// It could be read in two ways after it has gone on, or is one that is taken in no version.
pub fn read_fields<'a>(
    fields: Fields<'a>,
    headers: impl IntoIterator<Item = (&'a str, &'a [u8])>,
) -> Result<&'a str, Violation> {
    check_method(fields.method)?;
    if !fields.path.bytes().all(|byte| byte.is_ascii_graphic()) {
        return Err(Violation::bad("the path holds a byte that is not visible ASCII"));
    }
    if !check_target(fields.method, fields.path)? {
        return Err(Violation::bad("the path does not begin with a slash"));
    }
    let mut found = Framed::default();
    for (count, (name, value)) in headers.into_iter().enumerate() {
        too_many(count + 1)?;
        if !value.iter().all(|byte| is_text(*byte)) {
            return Err(Violation::bad(format!("the value of {name} holds a control character")));
        }
        framing(&mut found, name.as_bytes(), value.trim_ascii())?;
    }
    if found.chunked {
        return Err(Violation::bad("HTTP/2 has no Transfer-Encoding"));
    }
    let named = fields.authority.map(|authority| {
        let fits = is_authority(authority);
        fits.then_some(authority).ok_or_else(|| Violation::bad("the authority is not a host"))
    });
    match (named.transpose()?, found.host) {
        (Some(named), Some(host)) => check_same(named, host).map(|()| named),
        (Some(host), None) | (None, Some(host)) => Ok(host),
        (None, None) => Err(Violation::bad("the request names no host")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sentence(method: &str, path: &str, authority: Option<&str>, headers: &[(&str, &str)]) -> String {
        let headers = headers.iter().map(|(name, value)| (*name, value.as_bytes()));
        match read_fields(Fields { method, path, authority }, headers) {
            Ok(host) => format!("passes, for {host}"),
            Err(violation) => format!("{} {}", violation.status, violation.sentence),
        }
    }

    #[test]
    fn fields_are_held_to_the_rules_of_a_head() {
        let host = Some("a.test");
        let many = vec![("x", "y"); 101];
        let long = format!("/{}", "x".repeat(8 * 1024));
        let cases = [
            ("plain", sentence("GET", "/a?b=c", host, &[("content-length", "3")])),
            ("the host as a header", sentence("GET", "/", None, &[("host", "a.test:8743")])),
            ("the same host twice", sentence("GET", "/", host, &[("host", "A.test")])),
            ("two hosts", sentence("GET", "/", host, &[("host", "b.test")])),
            ("the header twice", sentence("GET", "/", None, &[("host", "a.test"), ("host", "a.test")])),
            ("no host", sentence("GET", "/", None, &[])),
            ("a host that is none", sentence("GET", "/", Some("mira@a.test"), &[])),
            ("a path without a slash", sentence("GET", "a", host, &[])),
            ("all of the server", sentence("OPTIONS", "*", host, &[])),
            ("a star for another method", sentence("GET", "*", host, &[])),
            ("a backslash", sentence("GET", "/a\\b", host, &[])),
            ("a byte beyond ASCII", sentence("GET", "/ä", host, &[])),
            ("a long path", sentence("GET", &long, host, &[])),
            ("a method in small letters", sentence("get", "/", host, &[])),
            ("a tunnel", sentence("CONNECT", "/", host, &[])),
            ("two lengths", sentence("POST", "/", host, &[("content-length", "3"), ("content-length", "3")])),
            ("a length with a sign", sentence("POST", "/", host, &[("content-length", "+3")])),
            ("chunks", sentence("POST", "/", host, &[("transfer-encoding", "chunked")])),
            ("an underscore", sentence("POST", "/", host, &[("content_length", "3")])),
            ("a control character", sentence("GET", "/", host, &[("x", "a\u{1}b")])),
            ("many headers", sentence("GET", "/", host, &many)),
        ];
        let lines: Vec<String> = cases.iter().map(|(case, said)| format!("{case}: {said}")).collect();
        insta::assert_snapshot!(lines.join("\n"));
    }
}
