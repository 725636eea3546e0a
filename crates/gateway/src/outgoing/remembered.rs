//! Names that addresses were given for: a connection goes to an address, and rules name hosts.

use std::collections::HashMap;
use std::net::Ipv4Addr;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use mainyard_core::model::Target;

/// A program may use an address for so long after it was given: longer than most keep one.
const KEPT: Duration = Duration::from_secs(3600);
/// Names with addresses that are remembered of one workload; past that the oldest go.
const OF_ONE: usize = 1_000;

#[derive(Debug)]
struct Given {
    name: String,
    address: Ipv4Addr,
    until: Instant,
}

/// What was given to each workload.
#[derive(Debug, Default)]
pub(crate) struct Remembered(Mutex<HashMap<Target, Vec<Given>>>);

impl Remembered {
    /// A workload was given these addresses for a name.
    pub(crate) fn add(&self, workload: &Target, name: &str, addresses: &[Ipv4Addr]) {
        let now = Instant::now();
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let given = all.entry(workload.clone()).or_default();
        given.retain(|it| it.until > now && !(it.name == name && addresses.contains(&it.address)));
        let new = addresses.iter().map(|address| Given {
            name: name.to_owned(),
            address: *address,
            until: now + KEPT,
        });
        given.extend(new);
        let excess = given.len().saturating_sub(OF_ONE);
        given.drain(..excess);
    }

    /// The names that a workload was given an address for, the latest first.
    pub(crate) fn names(&self, workload: &Target, address: Ipv4Addr) -> Vec<String> {
        let now = Instant::now();
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let given = all.get(workload).into_iter().flatten().rev();
        given.filter(|it| it.address == address && it.until > now).map(|it| it.name.clone()).collect()
    }

    /// Forgets workloads that are gone.
    pub(crate) fn forget(&self, workload: &Target) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(workload);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_of_one_workload_and_bounded() {
        let remembered = Remembered::default();
        let target = |text: &str| text.parse::<Target>().expect("a target");
        let (api, mail) = (target("staging/api"), target("staging/mail"));
        let address = Ipv4Addr::new(192, 0, 2, 7);
        remembered.add(&api, "mail.example", &[address]);
        remembered.add(&api, "relay.example", &[address]);
        remembered.add(&api, "mail.example", &[address]);
        assert_eq!(remembered.names(&api, address), ["mail.example", "relay.example"]);
        assert!(remembered.names(&mail, address).is_empty());
        for number in 0..2 * OF_ONE {
            remembered.add(&api, &format!("host-{number}.example"), &[Ipv4Addr::new(198, 51, 100, 1)]);
        }
        assert!(remembered.names(&api, address).is_empty(), "the oldest went");
        assert_eq!(remembered.names(&api, Ipv4Addr::new(198, 51, 100, 1)).len(), OF_ONE);
        remembered.forget(&api);
        assert!(remembered.names(&api, Ipv4Addr::new(198, 51, 100, 1)).is_empty());
    }
}
