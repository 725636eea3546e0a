//! Who really called, where another proxy stands between: the PROXY protocol, versions 1 and 2, in from proxies that are
//! trusted, and out to replicas whose route says so.

use std::net::SocketAddr;
use std::time::Duration;

use mainyard_core::model::{AddressRange, ProxyVersion};
use ppp::v2::{Builder, Command, Protocol, Version};
use ppp::{HeaderResult, v1, v2};
use tokio::io::AsyncReadExt;
use tokio::net::TcpStream;

/// The longest header that is read: an extension may make one of version 2 long.
const LONGEST: usize = 4 * 1024;
/// The longest line of version 1.
const LONGEST_LINE: usize = 107;
/// It must be here within this time.
const WITHIN: Duration = Duration::from_secs(5);

/// Whether a peer is a proxy that may say who called.
pub(crate) fn is_trusted(proxies: &[AddressRange], peer: SocketAddr) -> bool {
    proxies.iter().any(|range| range.contains(peer.ip()))
}

/// Reads the header that a trusted proxy begins a connection with. Gives who called: the proxy itself where it says that it
/// calls for nobody.
///
/// # Errors
/// When there is none, or it cannot be read: anything else could be somebody who goes by the proxy's address.
pub(crate) async fn read(stream: &mut TcpStream, proxy: SocketAddr) -> Result<SocketAddr, &'static str> {
    let header = tokio::time::timeout(WITHIN, read_header(stream));
    let header = header.await.map_err(|_| "no PROXY header came in time")??;
    caller(&header, proxy)
}

/// Takes the header off the stream, and not a byte more.
async fn read_header(stream: &mut TcpStream) -> Result<Vec<u8>, &'static str> {
    let mut seen = vec![0; LONGEST];
    loop {
        let count = stream.peek(&mut seen).await.map_err(|_| "the connection was broken off")?;
        if count == 0 {
            return Err("the connection ended before a PROXY header");
        }
        match length(&seen[..count])? {
            Some(length) => {
                let mut header = vec![0; length];
                stream.read_exact(&mut header).await.map_err(|_| "the connection was broken off")?;
                return Ok(header);
            }
            None if count == LONGEST => return Err("the PROXY header is too long"),
            // What is there stays there, so that more of it cannot be waited for without looking again.
            None => tokio::time::sleep(Duration::from_millis(2)).await,
        }
    }
}

/// How long the header at the beginning is; nothing where more of it is to come.
fn length(bytes: &[u8]) -> Result<Option<usize>, &'static str> {
    const NONE: &str = "the connection does not begin with a PROXY header";
    let begins = |with: &[u8]| bytes.iter().zip(with).all(|(one, other)| one == other);
    if begins(v2::PROTOCOL_PREFIX) {
        // Signature, version and command, family, and the length of what follows.
        let Some(rest) = bytes.get(14..16) else { return Ok(None) };
        let length = 16 + usize::from(u16::from_be_bytes([rest[0], rest[1]]));
        return match length {
            _ if length > LONGEST => Err("the PROXY header is too long"),
            _ => Ok((bytes.len() >= length).then_some(length)),
        };
    }
    if !begins(v1::PROTOCOL_PREFIX.as_bytes()) {
        return Err(NONE);
    }
    match bytes.windows(2).position(|pair| pair == b"\r\n") {
        Some(end) if end + 2 <= LONGEST_LINE => Ok(Some(end + 2)),
        None if bytes.len() < LONGEST_LINE => Ok(None),
        _ => Err(NONE),
    }
}

fn caller(header: &[u8], proxy: SocketAddr) -> Result<SocketAddr, &'static str> {
    match HeaderResult::parse(header) {
        HeaderResult::V1(Ok(header)) => Ok(match header.addresses {
            v1::Addresses::Tcp4(it) => (it.source_address, it.source_port).into(),
            v1::Addresses::Tcp6(it) => (it.source_address, it.source_port).into(),
            v1::Addresses::Unknown => proxy,
        }),
        // A proxy that looks whether the gateway is there calls for nobody.
        HeaderResult::V2(Ok(header)) if header.command == Command::Local => Ok(proxy),
        HeaderResult::V2(Ok(header)) => Ok(match header.addresses {
            v2::Addresses::IPv4(it) => (it.source_address, it.source_port).into(),
            v2::Addresses::IPv6(it) => (it.source_address, it.source_port).into(),
            v2::Addresses::Unspecified | v2::Addresses::Unix(_) => proxy,
        }),
        _ => Err("the connection does not begin with a PROXY header"),
    }
}

/// The header for a replica: who called, and what was called.
pub(crate) fn header(version: ProxyVersion, caller: SocketAddr, called: SocketAddr) -> Vec<u8> {
    let plain = |address: SocketAddr| SocketAddr::new(address.ip().to_canonical(), address.port());
    let (caller, called) = (plain(caller), plain(called));
    match version {
        ProxyVersion::V1 => v1::Addresses::from((caller, called)).to_string().into_bytes(),
        ProxyVersion::V2 => {
            let addresses = v2::Addresses::from((caller, called));
            let builder = Builder::with_addresses(Version::Two | Command::Proxy, Protocol::Stream, addresses);
            // A header without extensions always has room.
            builder.build().unwrap_or_default()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn address(text: &str) -> SocketAddr {
        text.parse().expect("an address")
    }

    #[test]
    fn what_is_written_is_read_again_and_no_more_than_that() {
        let proxy = address("10.0.0.1:9");
        for version in [ProxyVersion::V1, ProxyVersion::V2] {
            for (from, to) in [("192.0.2.7:4000", "127.0.0.1:80"), ("[2001:db8::7]:4000", "[::1]:80")] {
                let written = header(version, address(from), address(to));
                let followed = [&written[..], b"GET / HTTP/1.1\r\n"].concat();
                assert_eq!(length(&followed), Ok(Some(written.len())));
                assert_eq!(caller(&written, proxy), Ok(address(from)), "{version:?}");
                for cut in 0..written.len() {
                    assert_eq!(length(&written[..cut]), Ok(None), "{version:?}: {cut} bytes");
                }
            }
        }
        let mapped = header(ProxyVersion::V1, address("[::ffff:192.0.2.7]:4000"), address("127.0.0.1:80"));
        assert_eq!(mapped, b"PROXY TCP4 192.0.2.7 127.0.0.1 4000 80\r\n");
    }

    #[test]
    fn what_is_no_header_is_refused() {
        let proxy = address("10.0.0.1:9");
        for bytes in [&b"GET / HTTP/1.1\r\n\r\n"[..], b"\x16\x03\x01", b"PROXI TCP4", &[b'P'; 2]] {
            assert!(length(bytes).is_err(), "{:?}", String::from_utf8_lossy(bytes));
        }
        for line in ["PROXY TCP4 1.2.3.4 nonsense\r\n", "PROXY TCP4 999.0.0.1 1.1.1.1 1 1\r\n", "PROXY\r\n"] {
            let read = length(line.as_bytes()).and_then(|_| caller(line.as_bytes(), proxy));
            assert!(read.is_err(), "{line}");
        }
        let endless = [b"PROXY TCP4 ".as_slice(), &[b'1'; 200]].concat();
        assert!(length(&endless).is_err());
        assert_eq!(caller(b"PROXY UNKNOWN\r\n", proxy), Ok(proxy));
    }
}
