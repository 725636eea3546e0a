//! The way out: whether a replica may look up a name, or open a connection, outside the platform.
//!
//! A gateway asks with what it knows: the replica's address, the destination, and the names that the destination was
//! given for. What was looked up, and how, is the gateway's affair.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::all_of;
use crate::model::{
    OutgoingHosts, OutgoingMode, OutgoingRule, ReleaseNumber, Target, Workload, is_never_reached,
};
use crate::record::State;

/// What a workload's replicas may reach, as gateways have it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct OutgoingEntry {
    /// The workload.
    pub workload: Target,
    /// Its replicas, by what their releases list.
    pub releases: Vec<OutgoingRelease>,
}

/// What the replicas of one release may reach.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct OutgoingRelease {
    /// The release.
    pub release: ReleaseNumber,
    /// The rules.
    pub policy: Policy,
    /// Addresses of its replicas, in the platform's range.
    pub replicas: Vec<Ipv4Addr>,
}

/// What a replica may reach.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub struct Policy {
    /// The environment's part.
    pub mode: OutgoingMode,
    /// The workload's.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<OutgoingRule>,
}

/// Whether a connection may be opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Admission {
    /// By this rule; by none where everything is allowed.
    Allowed(Option<OutgoingRule>),
    /// No rule allows it.
    NotListed,
    /// No rule could.
    Never,
}

impl Policy {
    /// Whether a name outside is looked up.
    pub fn looks_up(&self, name: &str) -> bool {
        match self.mode {
            OutgoingMode::None => false,
            OutgoingMode::Listed => self.rules.iter().any(|rule| rule.names(name)),
            OutgoingMode::All => true,
        }
    }

    /// Names of rules for this port: their addresses decide whether one that is in no range is reached.
    pub fn names_for(&self, port: u16) -> impl Iterator<Item = &str> {
        let listed =
            self.rules.iter().filter(move |rule| rule.takes(port) && self.mode == OutgoingMode::Listed);
        listed.filter_map(|rule| match &rule.hosts {
            OutgoingHosts::Name(name) => Some(name.as_str()),
            OutgoingHosts::Below(_) | OutgoingHosts::Range(..) => None,
        })
    }

    /// Whether a connection to an address may be opened, which these names were looked up for.
    pub fn admits<'n>(
        &self,
        address: IpAddr,
        port: u16,
        names: impl IntoIterator<Item = &'n str>,
    ) -> Admission {
        if is_never_reached(address) {
            return Admission::Never;
        }
        let covers = |rule: &&OutgoingRule| match address.to_canonical() {
            IpAddr::V4(address) => rule.covers(address),
            IpAddr::V6(_) => false,
        };
        let mut for_port = self.rules.iter().filter(|rule| rule.takes(port));
        match self.mode {
            OutgoingMode::None => Admission::NotListed,
            OutgoingMode::All => Admission::Allowed(None),
            OutgoingMode::Listed => {
                let names: Vec<&str> = names.into_iter().collect();
                let found = for_port.find(|rule| covers(rule) || names.iter().any(|name| rule.names(name)));
                found.map_or(Admission::NotListed, |rule| Admission::Allowed(Some(rule.clone())))
            }
        }
    }
}

/// What a release of a workload may reach.
pub fn outgoing_policy(state: &State, workload: &Target, release: ReleaseNumber) -> Policy {
    let mode = state.environments.get(&workload.environment).map_or(OutgoingMode::None, |it| it.outgoing);
    let release = state.releases.get(&(workload.clone(), release));
    Policy { mode, rules: release.map(|release| release.spec.outgoing.clone()).unwrap_or_default() }
}

/// The entry of a workload; `None` where no replica of it has an address. What reaches nothing is here too, so that what
/// it tries is told.
pub fn outgoing_entry(state: &State, workload: &Workload) -> Option<OutgoingEntry> {
    let mut releases: BTreeMap<ReleaseNumber, OutgoingRelease> = BTreeMap::new();
    for replica in all_of(&state.replicas, &workload.target) {
        let Some(address) = replica.address else { continue };
        let policy = || outgoing_policy(state, &workload.target, replica.release);
        let release = releases.entry(replica.release).or_insert_with(|| OutgoingRelease {
            release: replica.release,
            policy: policy(),
            replicas: Vec::new(),
        });
        release.replicas.push(address);
    }
    let releases: Vec<_> = releases.into_values().collect();
    (!releases.is_empty()).then(|| OutgoingEntry { workload: workload.target.clone(), releases })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn policy(mode: OutgoingMode, rules: &[&str]) -> Policy {
        Policy { mode, rules: rules.iter().map(|rule| rule.parse().expect("a rule")).collect() }
    }

    #[test]
    fn what_is_listed_is_reached_and_nothing_else() {
        let listed =
            policy(OutgoingMode::Listed, &["mail.example:25", "*.example.org:443", "192.0.2.0/24:5432"]);
        let allowed = |rule: &str| Admission::Allowed(Some(rule.parse().expect("a rule")));
        let mail: IpAddr = [198, 51, 100, 7].into();
        assert_eq!(listed.admits(mail, 25, ["mail.example"]), allowed("mail.example:25"));
        assert_eq!(listed.admits(mail, 26, ["mail.example"]), Admission::NotListed);
        assert_eq!(listed.admits(mail, 25, []), Admission::NotListed);
        assert_eq!(listed.admits(mail, 443, ["a.example.org"]), allowed("*.example.org:443"));
        assert_eq!(listed.admits([192, 0, 2, 9].into(), 5432, []), allowed("192.0.2.0/24:5432"));
        assert!(listed.looks_up("mail.example") && !listed.looks_up("other.example"));
        assert_eq!(listed.names_for(25).collect::<Vec<_>>(), ["mail.example"]);
        assert!(!policy(OutgoingMode::None, &["mail.example:25"]).looks_up("mail.example"));
        assert_eq!(
            policy(OutgoingMode::Listed, &[]).admits(mail, 25, ["mail.example"]),
            Admission::NotListed
        );
        assert_eq!(policy(OutgoingMode::All, &[]).admits(mail, 1, []), Admission::Allowed(None));
    }

    proptest! {
        #[test]
        fn a_name_that_turns_to_the_machine_or_its_neighbours_opens_nothing(
            last in any::<[u8; 2]>(), port in 1u16.., mode in 0..3,
        ) {
            let mode = [OutgoingMode::None, OutgoingMode::Listed, OutgoingMode::All][mode as usize];
            let mut opened = policy(mode, &["*.example:1-65535", "0.0.0.0/0:1-65535"]);
            let [third, fourth] = last;
            for (first, second) in [(127, 0), (169, 254), (10, 118), (0, 0), (224, 1), (255, 255)] {
                let address = IpAddr::from([first, second, third, fourth]);
                prop_assert_eq!(opened.admits(address, port, ["a.example"]), Admission::Never);
                let mapped = Ipv4Addr::new(first, second, third, fourth).to_ipv6_mapped();
                prop_assert_eq!(opened.admits(mapped.into(), port, ["a.example"]), Admission::Never);
            }
            opened.mode = OutgoingMode::None;
            prop_assert_eq!(opened.admits([192, 0, 2, 1].into(), port, ["a.example"]), Admission::NotListed);
        }
    }
}
