//! The sockets on which a replica's processes listen, read from the kernel's own tables.

use std::collections::BTreeSet;
use std::fs;
use std::net::Ipv4Addr;

/// Listening TCP sockets inside one replica.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Listening {
    /// Ports reached from outside the replica.
    pub open: Vec<u16>,
    /// Ports that only the replica itself can reach.
    pub loopback_only: Vec<u16>,
}

/// Reads the tables of the network namespace that a process is in: the replica's own.
pub fn listening(pid: u32) -> Listening {
    Listening::of(sockets(pid), |address| !is_loopback(address))
}

/// The sockets on which a process and its descendants listen, out of all on the machine, if the replica is reached at
/// `own`.
pub fn listening_below(pid: u32, own: Ipv4Addr) -> Listening {
    let mut theirs = BTreeSet::new();
    collect_sockets(pid, &mut theirs);
    let own = format!("{:08X}", u32::from_ne_bytes(own.octets()));
    let reached = |address: &str| address == own || address.bytes().all(|digit| digit == b'0');
    Listening::of(sockets(pid).filter(|socket| theirs.contains(&socket.inode)), reached)
}

struct Socket {
    /// In the kernel's own writing: hexadecimal, in the machine's byte order, word by word.
    address: String,
    port: u16,
    inode: u64,
}

impl Listening {
    fn of(sockets: impl Iterator<Item = Socket>, reached: impl Fn(&str) -> bool) -> Listening {
        let mut found = Listening::default();
        for socket in sockets {
            let list = if reached(&socket.address) { &mut found.open } else { &mut found.loopback_only };
            list.push(socket.port);
        }
        for list in [&mut found.open, &mut found.loopback_only] {
            list.sort_unstable();
            list.dedup();
        }
        found
    }
}

fn sockets(pid: u32) -> impl Iterator<Item = Socket> {
    let read = move |table| fs::read_to_string(format!("/proc/{pid}/net/{table}")).unwrap_or_default();
    ["tcp", "tcp6"].into_iter().flat_map(move |table| parse(&read(table)))
}

fn parse(table: &str) -> Vec<Socket> {
    let listens = "0A";
    let sockets = table.lines().skip(1).filter_map(|line| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let (address, port) = fields.get(1)?.split_once(':')?;
        let inode = fields.get(9).and_then(|text| text.parse().ok()).unwrap_or(0);
        let socket = Socket { address: address.to_owned(), port: u16::from_str_radix(port, 16).ok()?, inode };
        (fields.get(3) == Some(&listens)).then_some(socket)
    });
    sockets.collect()
}

/// 127.x.y.z ends in 7F.
fn is_loopback(address: &str) -> bool {
    match address.len() {
        8 => address.ends_with("7F"),
        _ => {
            address == "00000000000000000000000001000000"
                || address.starts_with("0000000000000000FFFF0000") && address.ends_with("7F")
        }
    }
}

/// The sockets that a process and its descendants hold, by their numbers.
fn collect_sockets(pid: u32, found: &mut BTreeSet<u64>) {
    let open = fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten();
    found.extend(open.filter_map(|entry| {
        let target = fs::read_link(entry.path()).ok()?;
        target.to_str()?.strip_prefix("socket:[")?.strip_suffix(']')?.parse::<u64>().ok()
    }));
    let tasks = fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
    for task in tasks {
        let children = fs::read_to_string(task.path().join("children")).unwrap_or_default();
        children
            .split_whitespace()
            .filter_map(|word| word.parse().ok())
            .for_each(|child| collect_sockets(child, found));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tells_open_ports_from_those_on_loopback() {
        let table = "  sl  local_address rem_address   st\n\
            0: 00000000:1F90 00000000:0000 0A 0\n\
            1: 0100007F:0050 00000000:0000 0A 0\n\
            2: 1210760A:1F90 0100760A:C001 01 0\n";
        let found = Listening::of(parse(table).into_iter(), |address| !is_loopback(address));
        assert_eq!(found, Listening { open: vec![8080], loopback_only: vec![80] });
    }

    #[test]
    fn finds_a_listener_of_this_process() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a free port");
        let port = listener.local_addr().expect("an address").port();
        let own = std::process::id();
        assert!(listening(own).loopback_only.contains(&port));
        assert!(listening_below(own, Ipv4Addr::LOCALHOST).open.contains(&port));
        assert!(listening_below(own, Ipv4Addr::new(127, 77, 0, 2)).loopback_only.contains(&port));
    }
}
