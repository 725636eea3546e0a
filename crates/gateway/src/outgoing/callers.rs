//! Which workload calls from an address, and what it may reach.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr};
use std::sync::{Arc, PoisonError, RwLock};

use mainyard_core::link::StepCaller;
use mainyard_core::model::{OutgoingMode, Target};
use mainyard_core::routing::{OutgoingEntry, Policy};

/// A replica that may call.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct OutgoingCaller {
    /// Its workload.
    pub workload: Target,
    /// What it may reach.
    pub policy: Policy,
}

/// Callers by their addresses.
type ByAddress = HashMap<Ipv4Addr, Arc<OutgoingCaller>>;

/// All of them.
#[derive(Debug, Default)]
pub(crate) struct Callers {
    replicas: RwLock<ByAddress>,
    /// Steps of builds, which are in no table.
    steps: RwLock<ByAddress>,
}

impl Callers {
    /// The caller with this address.
    pub(crate) fn at(&self, address: IpAddr) -> Option<Arc<OutgoingCaller>> {
        let IpAddr::V4(address) = address else { return None };
        let known =
            |of: &RwLock<ByAddress>| of.read().unwrap_or_else(PoisonError::into_inner).get(&address).cloned();
        known(&self.replicas).or_else(|| known(&self.steps))
    }

    /// Takes the steps of builds that reach something outside, all of them.
    pub(crate) fn set_steps(&self, steps: Vec<StepCaller>) {
        let caller = |step: StepCaller| {
            let policy = Policy { mode: OutgoingMode::Listed, rules: step.rules };
            (step.address, Arc::new(OutgoingCaller { workload: step.counted_as, policy }))
        };
        *self.steps.write().unwrap_or_else(PoisonError::into_inner) = steps.into_iter().map(caller).collect();
    }

    /// Takes what changed of one workload.
    pub(crate) fn change(&self, before: Option<&OutgoingEntry>, after: Option<&OutgoingEntry>) {
        let mut all = self.replicas.write().unwrap_or_else(PoisonError::into_inner);
        for address in before.iter().flat_map(|entry| &entry.releases).flat_map(|it| &it.replicas) {
            // Another workload's replica may have it by now.
            let own = before.map(|entry| &entry.workload);
            if all.get(address).map(|caller| &caller.workload) == own {
                all.remove(address);
            }
        }
        if let Some(entry) = after {
            for release in &entry.releases {
                let (workload, policy) = (entry.workload.clone(), release.policy.clone());
                let caller = Arc::new(OutgoingCaller { workload, policy });
                all.extend(release.replicas.iter().map(|address| (*address, Arc::clone(&caller))));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mainyard_core::model::ReleaseNumber;
    use mainyard_core::routing::OutgoingRelease;

    fn entry(workload: &str, replicas: &[u8]) -> OutgoingEntry {
        let policy = Policy { mode: OutgoingMode::All, rules: Vec::new() };
        let replicas = replicas.iter().map(|last| Ipv4Addr::new(10, 118, 16, *last)).collect();
        let release = OutgoingRelease { release: ReleaseNumber(1), policy, replicas };
        OutgoingEntry { workload: workload.parse().expect("a target"), releases: vec![release] }
    }

    #[test]
    fn an_address_belongs_to_whom_it_was_given_last() {
        let callers = Callers::default();
        let at = |last: u8| {
            let caller = callers.at(IpAddr::from([10, 118, 16, last]));
            caller.map(|caller| caller.workload.name.to_string())
        };
        let (api, mail) = (entry("staging/api", &[2, 3]), entry("staging/mail", &[3]));
        callers.change(None, Some(&api));
        assert_eq!((at(2), at(3), at(4)), (Some("api".into()), Some("api".into()), None));
        // The other's change comes first: taking the address from the one who had it must not take it from both.
        callers.change(None, Some(&mail));
        callers.change(Some(&api), Some(&entry("staging/api", &[2])));
        assert_eq!((at(2), at(3)), (Some("api".into()), Some("mail".into())));
        callers.change(Some(&entry("staging/api", &[2])), None);
        assert_eq!(at(2), None);
    }
}
