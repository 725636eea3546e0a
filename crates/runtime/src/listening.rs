//! What a replica's processes listen on, read from the kernel's own tables.

use std::fs;

/// Listening TCP sockets inside one replica.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Listening {
    /// Ports reached from outside the replica.
    pub open: Vec<u16>,
    /// Ports that only the replica itself can reach.
    pub loopback_only: Vec<u16>,
}

/// Reads `/proc/PID/net/tcp` and `tcp6` of a process in the replica's network namespace.
pub fn listening(pid: u32) -> Listening {
    let read = |table| fs::read_to_string(format!("/proc/{pid}/net/{table}")).unwrap_or_default();
    let mut found = Listening::default();
    parse(&read("tcp"), &mut found);
    parse(&read("tcp6"), &mut found);
    for list in [&mut found.open, &mut found.loopback_only] {
        list.sort_unstable();
        list.dedup();
    }
    found
}

fn parse(table: &str, found: &mut Listening) {
    let listens = "0A";
    for line in table.lines().skip(1) {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let (Some(local), Some(&state)) = (fields.get(1), fields.get(3)) else { continue };
        let Some((address, port)) = local.split_once(':') else { continue };
        let Ok(port) = u16::from_str_radix(port, 16) else { continue };
        if state != listens {
            continue;
        }
        // The address is in the machine's byte order, word by word: 127.x.y.z ends in 7F.
        let loopback = match address.len() {
            8 => address.ends_with("7F"),
            _ => {
                address == "00000000000000000000000001000000"
                    || address.starts_with("0000000000000000FFFF0000") && address.ends_with("7F")
            }
        };
        if loopback { found.loopback_only.push(port) } else { found.open.push(port) }
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
        let mut found = Listening::default();
        parse(table, &mut found);
        assert_eq!(found, Listening { open: vec![8080], loopback_only: vec![80] });
    }

    #[test]
    fn sees_a_listener_of_this_very_process() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a free port");
        let port = listener.local_addr().expect("an address").port();
        assert!(listening(std::process::id()).loopback_only.contains(&port));
    }
}
