//! Which releases are kept: the newest, and whatever older one something still needs.

use std::collections::BTreeSet;

use crate::model::ReleaseNumber;

/// Releases of a workload that are kept besides those that are needed.
pub const KEPT: usize = 50;

/// The releases that may go, of all that a workload has in the order of their numbers. A needed one never goes,
/// however old it is.
pub fn superfluous(
    all: impl DoubleEndedIterator<Item = ReleaseNumber>,
    needed: &BTreeSet<ReleaseNumber>,
) -> Vec<ReleaseNumber> {
    all.rev().skip(KEPT).filter(|number| !needed.contains(number)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_needed_stays_however_old() {
        let all = || (1..=60).map(ReleaseNumber);
        assert_eq!(
            superfluous(all(), &BTreeSet::new()),
            (1..=10).rev().map(ReleaseNumber).collect::<Vec<_>>()
        );
        let needed = BTreeSet::from([ReleaseNumber(3), ReleaseNumber(60)]);
        assert!(!superfluous(all(), &needed).contains(&ReleaseNumber(3)));
        assert_eq!(superfluous((1..=50).map(ReleaseNumber), &BTreeSet::new()), []);
    }
}
