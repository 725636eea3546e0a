//! The addresses of one node's private network, `10.118.0.0/16`.
//!
//! The first /20 is the service range, local to the node; each environment has one of the other fifteen.

use std::net::Ipv4Addr;

use crate::model::EnvironmentIndex;

/// The node as every replica sees it: its only neighbour.
pub const NODE_ADDRESS: Ipv4Addr = Ipv4Addr::new(10, 118, 0, 1);

/// Services' addresses, and the prefix length of their range.
pub const SERVICE_RANGE: (Ipv4Addr, u8) = (Ipv4Addr::new(10, 118, 0, 0), 20);

/// Replicas an environment can have on one node.
pub const REPLICAS_PER_NODE: u16 = 4092;

/// The address of a service, counted from zero; `None` when the range is used up.
pub fn service(number: u16) -> Option<Ipv4Addr> {
    let host = number.checked_add(16).filter(|host| *host < 4095)?;
    Some(Ipv4Addr::new(10, 118, (host >> 8) as u8, host as u8))
}

/// The address of an environment's replica, counted from zero; `None` when the range is used up.
pub fn replica(environment: EnvironmentIndex, number: u16) -> Option<Ipv4Addr> {
    let host = number.checked_add(2).filter(|_| number < REPLICAS_PER_NODE)?;
    Some(Ipv4Addr::new(10, 118, environment.get() * 16 + (host >> 8) as u8, host as u8))
}

/// Whether this is the address of a replica of any environment.
pub fn is_replica(address: Ipv4Addr) -> bool {
    environment_of(address).is_some()
}

/// The environment whose replicas have addresses like this one.
pub fn environment_of(address: Ipv4Addr) -> Option<EnvironmentIndex> {
    match address.octets() {
        [10, 118, third, _] => EnvironmentIndex::new(third / 16),
        _ => None,
    }
}

/// The lowest number from `0..limit` that is not taken.
pub fn lowest_free(
    taken: impl IntoIterator<Item = Ipv4Addr>,
    limit: u16,
    of: impl Fn(u16) -> Option<Ipv4Addr>,
) -> Option<Ipv4Addr> {
    let taken: std::collections::BTreeSet<Ipv4Addr> = taken.into_iter().collect();
    (0..limit).map_while(of).find(|address| !taken.contains(address))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_replica_address_tells_its_environment() {
        for index in 1..=15 {
            let environment = EnvironmentIndex::new(index).expect("in range");
            for number in [0, 1, 254, 255, 4091] {
                let address = replica(environment, number).expect("in range");
                assert_eq!(environment_of(address), Some(environment), "{address}");
            }
            assert_eq!(replica(environment, REPLICAS_PER_NODE), None);
        }
        assert!(!is_replica(NODE_ADDRESS));
        assert!(!is_replica(service(4000).expect("in range")));
    }
}
