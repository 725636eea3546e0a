//! Names of services, as replicas ask for them: `NAME`, `NAME.ENVIRONMENT` and `NAME.ENVIRONMENT.internal` (a top-level
//! domain that is kept for such use), and `_PORT._tcp.…` for named ports (RFC 2782).
//!
//! Anyone who asks is known by its address, and so is its environment. A service that is not open to the caller is named all
//! the same: the gateway then says why it lets nobody in, which a missing name would not.

use std::net::Ipv4Addr;

use crate::address::environment_of;
use crate::model::{EnvironmentIndex, Name, Target};
use crate::routing::{ServiceEntry, Table};

/// The domain that all services are in.
pub const DOMAIN: &str = "internal";
/// How long an answer may be kept, in seconds: names come and go with declarations.
pub const KEEP: u32 = 5;

/// A question about a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Question {
    /// Its IPv4 address.
    Address,
    /// The port number and hosts of a named port.
    Port,
    /// Anything else.
    Other,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Resolved {
    /// The address.
    Address(Ipv4Addr),
    /// A port, and the name of the service in full.
    Port {
        /// The service's port.
        port: u16,
        /// Such as `locker-api.staging.internal`.
        host: String,
        /// Its address.
        address: Ipv4Addr,
    },
    /// The name is there, and has nothing of this kind.
    Nothing,
    /// There is no such name.
    Unknown,
}

/// The addresses behind a name, for a caller with this address.
pub fn resolve(table: &Table, caller: Ipv4Addr, name: &str, asked: Question) -> Resolved {
    let name = name.trim_end_matches('.').to_ascii_lowercase();
    let plain = name.strip_suffix(DOMAIN).and_then(|rest| rest.strip_suffix('.')).unwrap_or(&name);
    let own = environment_of(caller);
    let labels: Vec<&str> = plain.split('.').collect();
    let (port, rest) = match labels.as_slice() {
        [port, "_tcp", rest @ ..] => match port.strip_prefix('_') {
            Some(port) => (Some(port), rest),
            None => return Resolved::Unknown,
        },
        rest => (None, rest),
    };
    let found = match rest {
        [service] => of(table, own, service),
        [service, environment] => {
            let target = environment.parse().ok().zip(service.parse().ok());
            target.and_then(|(environment, name): (Name, Name)| {
                table.services.get(&Target::new(&environment, &name).to_string())
            })
        }
        _ => None,
    };
    let Some(service) = found else { return Resolved::Unknown };
    match (port, asked) {
        (None, Question::Address) => Resolved::Address(service.address),
        (None, _) => Resolved::Nothing,
        (Some(port), _) => match port.parse().ok().and_then(|port: Name| service.named.get(&port)) {
            None => Resolved::Unknown,
            Some(_) if asked != Question::Port => Resolved::Nothing,
            Some(number) => Resolved::Port {
                port: *number,
                host: format!("{}.{}.{DOMAIN}", service.target.name, service.target.environment),
                address: service.address,
            },
        },
    }
}

/// A service of the caller's own environment.
fn of<'t>(table: &'t Table, own: Option<EnvironmentIndex>, name: &str) -> Option<&'t ServiceEntry> {
    let own = own?;
    let environment = table.services.values().find(|service| service.environment == own)?;
    let name: Name = name.parse().ok()?;
    table.services.get(&Target::new(&environment.target.environment, &name).to_string())
}

/// The content of a replica's `/etc/resolv.conf`: the node as server, and where short names are looked for.
pub fn resolver_file(node: Ipv4Addr, environment: &Name) -> String {
    format!(
        "nameserver {node}\nsearch {environment}.{DOMAIN} {DOMAIN}\noptions ndots:1 timeout:1 attempts:3\n"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table() -> Table {
        let service = |environment: &str, index: u8, name: &str, last: u8| {
            let entry = serde_json::json!({
                "target": {"environment": environment, "name": name}, "environment": index,
                "address": Ipv4Addr::new(10, 118, 0, last), "ports": {"80": [], "9000": []},
                "named": {"http": 80, "admin": 9000}, "reason": null,
            });
            (format!("{environment}/{name}"), serde_json::from_value(entry).expect("an entry"))
        };
        let services = [
            service("staging", 1, "locker-api", 16),
            service("production", 2, "locker-api", 17),
            service("production", 2, "lockers-db", 18),
        ];
        Table { services: services.into_iter().collect(), ..Table::default() }
    }

    #[test]
    fn short_names_are_of_the_callers_own_environment() {
        let table = table();
        let ask = |caller: [u8; 4], name| resolve(&table, caller.into(), name, Question::Address);
        let at = |last| Resolved::Address(Ipv4Addr::new(10, 118, 0, last));
        let (staging, production) = ([10, 118, 16, 2], [10, 118, 32, 2]);
        assert_eq!((ask(staging, "locker-api"), ask(production, "locker-api.")), (at(16), at(17)));
        assert_eq!(ask(staging, "LOCKER-API.production"), at(17));
        assert_eq!(ask(staging, "locker-api.production.internal"), at(17));
        assert_eq!(ask(staging, "lockers-db"), Resolved::Unknown);
        assert_eq!(ask(staging, "locker-api.production.staging.internal"), Resolved::Unknown);
        for outside in [
            "example.org",
            "",
            ".",
            "a..b",
            "_http._tcp",
            "internal",
            "locker-api.staging.internal.internal.x",
        ] {
            assert_eq!(ask(staging, outside), Resolved::Unknown, "{outside}");
        }
        assert_eq!(ask([127, 0, 0, 1], "locker-api"), Resolved::Unknown, "nobody's environment");
    }

    #[test]
    fn named_ports_are_told() {
        let table = table();
        let ask = |name, asked| resolve(&table, [10, 118, 16, 2].into(), name, asked);
        let host = "locker-api.staging.internal".to_owned();
        let address = Ipv4Addr::new(10, 118, 0, 16);
        assert_eq!(
            ask("_admin._tcp.locker-api.staging.internal", Question::Port),
            Resolved::Port { port: 9000, host, address }
        );
        assert_eq!(ask("_nothing._tcp.locker-api", Question::Port), Resolved::Unknown);
        assert_eq!(ask("_admin._tcp.locker-api", Question::Address), Resolved::Nothing);
        assert_eq!(ask("locker-api", Question::Port), Resolved::Nothing);
        assert_eq!(ask("locker-api", Question::Other), Resolved::Nothing);
    }
}
