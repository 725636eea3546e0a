//! The addresses of one node's network: `10.118.0.0/16`, private to the node.
//!
//! The first /20 is the service range, local to the node; each environment has one of the other fifteen. A node
//! that cannot give replicas a network of their own has them at the same places of a loopback range instead
//! ([`Range`]).

use std::net::Ipv4Addr;

use serde::{Deserialize, Serialize};

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

/// Steps of builds that can have an address at once.
pub const STEPS: u8 = 15;

/// The address of a step of a build, counted from zero; `None` when all are used up. It is one at the end of an
/// environment's range, which no replica gets.
pub fn step(number: u8) -> Option<Ipv4Addr> {
    let range = number.checked_add(1).filter(|_| number < STEPS)?;
    let host = REPLICAS_PER_NODE + 2;
    Some(Ipv4Addr::new(10, 118, range * 16 + (host >> 8) as u8, host as u8))
}

/// Whether this is the address of a replica of any environment.
pub fn is_replica(address: Ipv4Addr) -> bool {
    environment_of(address).is_some()
}

/// Whether the address is of the platform's own range, whatever it is for.
pub fn is_ours(address: Ipv4Addr) -> bool {
    Range::PRIVATE.place(address) == address
}

/// The environment whose replicas have addresses like this one.
pub fn environment_of(address: Ipv4Addr) -> Option<EnvironmentIndex> {
    match address.octets() {
        [10, 118, third, _] => EnvironmentIndex::new(third / 16),
        _ => None,
    }
}

/// The first half of the addresses a node gives: what its replicas are reached at.
/// Written as `10.118.0.0/16`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Range([u8; 2]);

impl From<Range> for String {
    fn from(Range([first, second]): Range) -> String {
        format!("{first}.{second}.0.0/16")
    }
}

impl TryFrom<String> for Range {
    type Error = String;

    fn try_from(text: String) -> Result<Range, String> {
        let address = text.strip_suffix(".0.0/16").and_then(|half| half.split_once('.'));
        let halves = address.and_then(|(first, second)| Some([first.parse().ok()?, second.parse().ok()?]));
        halves.map(Range).ok_or_else(|| format!("{text:?} is not a range such as 10.118.0.0/16"))
    }
}

impl Default for Range {
    fn default() -> Range {
        Range::PRIVATE
    }
}

impl Range {
    /// That of a node with a network of its own.
    pub const PRIVATE: Range = Range([10, 118]);

    /// One of the machine's loopback ranges, for a node whose replicas are ordinary processes.
    pub const fn loopback(second: u8) -> Range {
        Range([127, second])
    }

    /// Whether the replicas of such a node have a network of their own.
    pub fn is_private(self) -> bool {
        self == Range::PRIVATE
    }

    /// The same place in this range.
    pub fn place(self, address: Ipv4Addr) -> Ipv4Addr {
        let [.., third, fourth] = address.octets();
        Ipv4Addr::new(self.0[0], self.0[1], third, fourth)
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
    fn no_replica_has_the_address_of_a_step() {
        let last = |index| replica(EnvironmentIndex::new(index).expect("an index"), REPLICAS_PER_NODE - 1);
        assert_eq!(last(1), Some(Ipv4Addr::new(10, 118, 31, 253)));
        assert_eq!(
            (step(0), step(14)),
            (Some(Ipv4Addr::new(10, 118, 31, 254)), Some(Ipv4Addr::new(10, 118, 255, 254)))
        );
        assert_eq!(step(15), None);
    }

    #[test]
    fn an_address_has_the_same_offset_in_every_range() {
        let environment = EnvironmentIndex::new(3).expect("in range");
        let address = replica(environment, 300).expect("in range");
        let there = Range::loopback(77).place(address);
        assert_eq!(there, Ipv4Addr::new(127, 77, 49, 46));
        assert_eq!(Range::PRIVATE.place(there), address);
        assert_eq!(environment_of(there), None);
        for range in [Range::PRIVATE, Range::loopback(77)] {
            assert_eq!(Range::try_from(String::from(range)), Ok(range));
        }
        assert!(Range::try_from("127.300.0.0/16".to_owned()).is_err());
    }

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
