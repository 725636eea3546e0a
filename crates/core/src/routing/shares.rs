//! Sharing requests out: exactly, interleaved, and the same however often one looks.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Backend, ServiceEntry};
use crate::model::{ReleaseNumber, Target};

/// Of a workload's requests, the part that one of its releases gets.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Split {
    /// The workload.
    pub workload: Target,
    /// The release.
    pub release: ReleaseNumber,
    /// Of 1,000 requests so many.
    pub per_mille: u32,
    /// Whether copies of the others' requests go to it.
    #[serde(default)]
    pub shadow: bool,
}

/// Replicas that take turns, and their part of a port's requests.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lane<'a> {
    /// In proportion to the other lanes'.
    pub share: u32,
    /// The replicas that take turns.
    pub backends: Vec<&'a Backend>,
}

impl ServiceEntry {
    /// The lanes of a port: one, unless a workload's requests are shared out between releases. A part that nobody
    /// could take goes to the others of the workload.
    pub fn lanes(&self, port: u16) -> Vec<Lane<'_>> {
        let backends = self.ports.get(&port).map(Vec::as_slice).unwrap_or_default();
        let mut groups: BTreeMap<Option<(usize, bool)>, Vec<&Backend>> = BTreeMap::new();
        for backend in backends {
            let place = self.splits.iter().position(|split| split.workload == backend.replica.workload);
            let group = place.map(|place| (place, self.splits[place].release == backend.release));
            groups.entry(group).or_default().push(backend);
        }
        let sizes: BTreeMap<Option<(usize, bool)>, u64> =
            groups.iter().map(|(group, list)| (*group, list.len() as u64)).collect();
        let weight = |group: &Option<(usize, bool)>| {
            let here = sizes.get(group).copied().unwrap_or(0);
            let Some((place, of_release)) = *group else { return here * 1000 };
            let other = sizes.get(&Some((place, !of_release))).copied().unwrap_or(0);
            let part = u64::from(self.splits[place].per_mille.min(1000));
            match other {
                0 => here * 1000,
                _ => (here + other) * if of_release { part } else { 1000 - part },
            }
        };
        let weights: Vec<u64> = groups.keys().map(weight).collect();
        let shares = per_mille(&weights);
        let lanes = groups.into_values().zip(shares).map(|(backends, share)| Lane { share, backends });
        lanes.filter(|lane| lane.share > 0).collect()
    }
}

impl ServiceEntry {
    /// The replicas that get copies of a port's requests: those of a release that no visitor reaches yet.
    pub fn shadows(&self, port: u16) -> Vec<&Backend> {
        let backends = self.ports.get(&port).map(Vec::as_slice).unwrap_or_default();
        let splits = || self.splits.iter().filter(|split| split.shadow && split.per_mille == 0);
        let is = |backend: &&Backend| {
            splits().any(|it| it.workload == backend.replica.workload && it.release == backend.release)
        };
        backends.iter().filter(is).collect()
    }
}

/// Weights as parts of 1,000 that add up to it, the largest remainders rounded up; nothing of nothing.
fn per_mille(weights: &[u64]) -> Vec<u32> {
    let sum: u64 = weights.iter().sum();
    if sum == 0 {
        return vec![0; weights.len()];
    }
    let mut parts: Vec<u64> = weights.iter().map(|weight| weight * 1000 / sum).collect();
    let mut by_remainder: Vec<usize> = (0..weights.len()).collect();
    by_remainder.sort_by_key(|place| std::cmp::Reverse(weights[*place] * 1000 % sum));
    let missing = 1000 - parts.iter().sum::<u64>() as usize;
    by_remainder.into_iter().take(missing).for_each(|place| parts[place] += 1);
    parts.into_iter().map(|part| part as u32).collect()
}

/// Which of several the next request goes to, by share. Of any 1,000 requests in a row, wherever they begin, each gets
/// its share to within one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spread {
    /// The shares as they are followed.
    shares: Vec<u64>,
    sum: u64,
    stride: u64,
}

impl Spread {
    /// By these shares; they need not add up to anything.
    pub fn new(shares: &[u32]) -> Spread {
        let common = shares.iter().fold(0, |common, share| gcd(common, u64::from(*share))).max(1);
        let mut shares: Vec<u64> = shares.iter().map(|share| u64::from(*share) / common).collect();
        let mut sum: u64 = shares.iter().sum();
        let taking = shares.iter().filter(|share| **share > 0).count();
        if taking > 2 && !1000u64.is_multiple_of(sum) && sum > 3 {
            // Of three and more, parts of 1,000 come round exactly every 1,000 requests.
            shares = per_mille(&shares).into_iter().map(u64::from).collect();
            sum = 1000;
        }
        let stride = match taking {
            // With steps of its own share, the first of two gets its turn as evenly as whole numbers allow.
            2 => shares.iter().copied().find(|share| *share > 0).unwrap_or(1),
            // A stride that has no factor in common with the sum visits every place once.
            _ => (sum * 618 / 1000..).find(|stride| *stride > 0 && gcd(*stride, sum) == 1).unwrap_or(1),
        };
        Spread { shares, sum, stride }
    }

    /// The place of the one that this turn falls to; turns count requests. `None` when all shares are zero.
    pub fn pick(&self, turn: u64) -> Option<usize> {
        if self.sum == 0 {
            return None;
        }
        let mut place = turn % self.sum * self.stride % self.sum;
        self.shares.iter().position(|share| {
            let here = place < *share;
            place = place.saturating_sub(*share);
            here
        })
    }
}

fn gcd(a: u64, b: u64) -> u64 {
    if b == 0 { a } else { gcd(b, a % b) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn counts(spread: &Spread, of: usize, turns: std::ops::Range<u64>) -> Vec<u32> {
        let mut got = vec![0; of];
        turns.for_each(|turn| got[spread.pick(turn).expect("a share")] += 1);
        got
    }

    proptest! {
        #[test]
        fn of_any_thousand_requests_each_gets_its_share_to_within_one(
            shares in prop::collection::vec(0u32..1000, 1..6),
            start in 0u64..100_000,
        ) {
            let sum: u32 = shares.iter().sum();
            prop_assume!(sum > 0);
            let got = counts(&Spread::new(&shares), shares.len(), start..start + 1000);
            for (got, share) in got.iter().zip(&shares) {
                let due = f64::from(*share) * 1000.0 / f64::from(sum);
                prop_assert!((f64::from(*got) - due).abs() <= 1.0, "{shares:?}: {got} of {due}");
            }
        }

        #[test]
        fn of_two_any_run_of_requests_is_as_even_as_whole_numbers_allow(
            share in 1u32..1000, start in 0u64..100_000, length in 1u64..3000,
        ) {
            let got = counts(&Spread::new(&[share, 1000 - share]), 2, start..start + length);
            let due = f64::from(share) * length as f64 / 1000.0;
            prop_assert!((f64::from(got[0]) - due).abs() <= 1.0, "{got:?} of {due}");
        }
    }

    #[test]
    fn all_zero_leads_nowhere() {
        assert_eq!(Spread::new(&[0, 0]).pick(3), None);
        assert_eq!(Spread::new(&[]).pick(0), None);
        assert_eq!(Spread::new(&[0, 1]).pick(3), Some(1));
    }

    fn entry(splits: &[(&str, u32, u32)], replicas: &[(&str, u32)]) -> ServiceEntry {
        let backend = |(number, (workload, release)): (usize, &(&str, u32))| {
            serde_json::json!({
                "replica": format!("staging/{workload}/a{number}"), "release": release, "node": "node-1",
                "address": format!("10.118.16.{}:8080", number + 2),
            })
        };
        let split = |(workload, release, per_mille): &(&str, u32, u32)| {
            let workload = serde_json::json!({"environment": "staging", "name": workload});
            serde_json::json!({"workload": workload, "release": release, "per_mille": per_mille})
        };
        let entry = serde_json::json!({
            "target": {"environment": "staging", "name": "api"}, "environment": 1, "address": "10.118.0.16",
            "ports": {"80": replicas.iter().enumerate().map(backend).collect::<Vec<_>>()},
            "splits": splits.iter().map(split).collect::<Vec<_>>(), "reason": null,
        });
        serde_json::from_value(entry).expect("an entry")
    }

    fn shares(entry: &ServiceEntry) -> Vec<(u32, usize)> {
        entry.lanes(80).iter().map(|lane| (lane.share, lane.backends.len())).collect()
    }

    #[test]
    fn a_release_gets_its_share_however_few_its_replicas_are() {
        let old = [("api", 1), ("api", 1), ("api", 1)];
        assert_eq!(shares(&entry(&[], &old)), [(1000, 3)]);
        let both = [("api", 1), ("api", 1), ("api", 1), ("api", 2)];
        assert_eq!(shares(&entry(&[("api", 2, 100)], &both)), [(900, 3), (100, 1)]);
        assert_eq!(shares(&entry(&[("api", 2, 0)], &both)), [(1000, 3)], "none before it is its turn");
        assert_eq!(shares(&entry(&[("api", 2, 1000)], &both)), [(1000, 1)]);
    }

    #[test]
    fn copies_go_to_a_release_that_no_visitor_reaches() {
        let both = [("api", 1), ("api", 2)];
        let mut entry = entry(&[("api", 2, 0)], &both);
        assert_eq!(entry.shadows(80).len(), 0);
        entry.splits[0].shadow = true;
        assert_eq!((entry.shadows(80).len(), shares(&entry)), (1, vec![(1000, 1)]));
        entry.splits[0].per_mille = 10;
        assert_eq!(entry.shadows(80).len(), 0, "visitors come: nothing is copied any more");
    }

    #[test]
    fn a_share_without_a_ready_replica_goes_to_the_others() {
        assert_eq!(shares(&entry(&[("api", 2, 100)], &[("api", 2)])), [(1000, 1)]);
        assert_eq!(shares(&entry(&[("api", 2, 900)], &[("api", 1)])), [(1000, 1)]);
        assert_eq!(shares(&entry(&[("api", 2, 0)], &[("api", 2)])), [(1000, 1)], "better than nobody");
        assert_eq!(shares(&entry(&[("api", 2, 1000)], &[("api", 1)])), [(1000, 1)]);
        assert_eq!(shares(&entry(&[("api", 2, 100)], &[])), []);
    }

    #[test]
    fn shares_split_within_the_workloads_part_of_a_service() {
        let all = [("api", 1), ("api", 1), ("api", 2), ("map", 7)];
        assert_eq!(shares(&entry(&[("api", 2, 200)], &all)), [(250, 1), (600, 2), (150, 1)]);
    }
}
