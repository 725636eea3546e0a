//! Opening the platform's listening sockets, and naming the program that is in the way.

use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener};

use super::instances::Instance;
use super::processes::Known;
use crate::args::{Part, Start};
use crate::data_dir::{DataDir, write_whole};
use crate::terminal::Failure;

/// Listening sockets are handed down from this descriptor on.
pub(super) const FIRST_LISTENER: i32 = 3;

/// The sockets that are handed down to the parts.
pub(super) struct Listeners {
    /// The API without TLS, for this machine alone where there is one with TLS.
    pub api: TcpListener,
    /// The API over TLS.
    pub api_tls: Option<TcpListener>,
    pub http: TcpListener,
    pub https: TcpListener,
    /// Keeps other platforms out of this one's loopback range; nobody calls there.
    pub claim: Option<TcpListener>,
}

impl Listeners {
    /// Those that parts which still run already hold, so that nobody is refused in between; the others new.
    pub(super) fn open(
        start: &Start,
        api: &Api,
        running: &[(Instance, Known)],
        claim: Option<TcpListener>,
    ) -> Result<Listeners, Failure> {
        let held = |part: Part, place: i32, address: SocketAddr| {
            let of_it = running.iter().filter(|(of, _)| of.part == part);
            of_it.into_iter().find_map(|(_, process)| process.listener(FIRST_LISTENER + place, address))
        };
        let open = |part, place, address, option| match held(part, place, address) {
            Some(listener) => Ok(listener),
            None => bind(address, option),
        };
        Ok(Listeners {
            api: open(Part::Control, 0, api.local, "--api")?,
            api_tls: api.tls.map(|address| open(Part::Control, 1, address, "--api")).transpose()?,
            http: open(Part::Gateway, 0, start.http, "--http")?,
            https: open(Part::Gateway, 1, start.https, "--https")?,
            claim,
        })
    }
}

/// The API's address.
#[derive(Debug, Clone, Copy)]
pub(super) struct Api {
    /// Without TLS, always on this machine alone.
    pub local: SocketAddr,
    /// Over TLS, where it was asked for.
    pub tls: Option<SocketAddr>,
}

impl Api {
    /// By how the platform is started. With TLS, the parts and this machine's client use a loopback port that stays
    /// the same.
    pub(super) fn of(place: &DataDir, start: &Start) -> Result<Api, Failure> {
        if start.api_tls.is_none() {
            if !start.api.ip().is_loopback() {
                let message = format!(
                    "--api {} can be reached from outside this machine, so it needs TLS\nAdd --api-tls for a \
                     certificate of the local authority, or --api-tls CHAIN.pem --api-tls-key KEY.pem for your own",
                    start.api
                );
                return Err(Failure::refused(message));
            }
            return Ok(Api { local: start.api, tls: None });
        }
        let file = place.file("local-api-port");
        let kept = std::fs::read_to_string(&file).ok().and_then(|text| text.trim().parse().ok());
        let port = match kept {
            Some(port) => port,
            None => {
                let free =
                    TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).and_then(|listener| listener.local_addr());
                let port = free
                    .map_err(|error| Failure::failed(format!("no loopback port is free: {error}")))?
                    .port();
                write_whole(&file, port.to_string().as_bytes(), 0o600)?;
                port
            }
        };
        Ok(Api { local: SocketAddr::from((Ipv4Addr::LOCALHOST, port)), tls: Some(start.api) })
    }

    /// All addresses that it answers at.
    pub(super) fn addresses(&self) -> Vec<SocketAddr> {
        [self.local].into_iter().chain(self.tls).collect()
    }
}

fn bind(address: SocketAddr, option: &str) -> Result<TcpListener, Failure> {
    TcpListener::bind(address).map_err(|error| {
        let other = SocketAddr::new(address.ip(), address.port().saturating_add(10));
        let message = match error.kind() {
            std::io::ErrorKind::AddrInUse => {
                let holder = holder(address.port()).map_or("another process".to_owned(), |holder| holder);
                format!(
                    "{address} is taken by {holder}\nStop it, or choose another address: {option} {other}"
                )
            }
            std::io::ErrorKind::AddrNotAvailable => {
                format!(
                    "{} is not an address of this machine\nChoose one that is: {option} 127.0.0.1:{}",
                    address.ip(),
                    address.port()
                )
            }
            std::io::ErrorKind::PermissionDenied => {
                format!(
                    "{address} may not be taken by this account\nChoose a port above 1023: {option} {other}"
                )
            }
            _ => format!("{address} cannot be taken: {error}"),
        };
        Failure::failed(message)
    })
}

/// The process that listens on a port, by the kernel's tables: its name and id.
fn holder(port: u16) -> Option<String> {
    let suffix = format!(":{port:04X}");
    let read = |table: &str| std::fs::read_to_string(table).unwrap_or_default();
    let tables = read("/proc/net/tcp") + &read("/proc/net/tcp6");
    let inodes: Vec<String> = tables
        .lines()
        .map(|line| line.split_whitespace().collect::<Vec<_>>())
        .filter(|fields| fields.len() > 9 && fields[1].ends_with(&suffix) && fields[3] == "0A")
        .map(|fields| format!("socket:[{}]", fields[9]))
        .collect();
    for process in std::fs::read_dir("/proc").ok()?.flatten() {
        let Some(pid) = process.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else {
            continue;
        };
        let descriptors = std::fs::read_dir(process.path().join("fd")).into_iter().flatten().flatten();
        for descriptor in descriptors {
            let target = std::fs::read_link(descriptor.path()).unwrap_or_default();
            if inodes.iter().any(|inode| target.as_os_str() == inode.as_str()) {
                let name = std::fs::read_to_string(process.path().join("comm")).unwrap_or_default();
                return Some(format!("{} (process {pid})", name.trim()));
            }
        }
    }
    None
}

/// The address by which a listener is reached from this machine.
pub(super) fn reachable(address: SocketAddr) -> SocketAddr {
    match address.ip() {
        IpAddr::V4(ip) if ip.is_unspecified() => SocketAddr::new(Ipv4Addr::LOCALHOST.into(), address.port()),
        IpAddr::V6(ip) if ip.is_unspecified() => SocketAddr::new(Ipv4Addr::LOCALHOST.into(), address.port()),
        _ => address,
    }
}
