//! Which releases are kept: the newest, and whatever older one something still needs.

use std::collections::BTreeSet;

use jiff::{SignedDuration, Timestamp};

use crate::model::ReleaseNumber;

/// Releases of a workload that are kept besides those that are needed.
pub const KEPT: usize = 50;
/// Of these, so many however old they are.
pub const KEPT_OF_ANY_AGE: usize = 5;
/// The others for so long.
pub const KEPT_FOR: SignedDuration = SignedDuration::from_hours(24 * 180);

/// The releases that may go, of all that a workload has in the order of their numbers, with the time when each was made.
/// A needed one never goes, however old it is.
pub fn superfluous(
    all: impl DoubleEndedIterator<Item = (ReleaseNumber, Timestamp)>,
    needed: &BTreeSet<ReleaseNumber>,
    now: Timestamp,
) -> Vec<ReleaseNumber> {
    let goes = |place: usize, made: Timestamp| {
        place >= KEPT || (place >= KEPT_OF_ANY_AGE && now.duration_since(made) > KEPT_FOR)
    };
    let old = all.rev().enumerate().filter(|(place, (_, made))| goes(*place, *made));
    old.map(|(_, (number, _))| number).filter(|number| !needed.contains(number)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(days: i64) -> Timestamp {
        Timestamp::UNIX_EPOCH + SignedDuration::from_hours(24 * days)
    }

    #[test]
    fn what_is_needed_stays_however_old() {
        let all = || (1..=60).map(|number| (ReleaseNumber(number), day(1000)));
        let gone = |needed: &BTreeSet<ReleaseNumber>| superfluous(all(), needed, day(1001));
        assert_eq!(gone(&BTreeSet::new()), (1..=10).rev().map(ReleaseNumber).collect::<Vec<_>>());
        let needed = BTreeSet::from([ReleaseNumber(3), ReleaseNumber(60)]);
        assert!(!gone(&needed).contains(&ReleaseNumber(3)));
    }

    #[test]
    fn of_the_newest_those_of_half_a_year_ago_go_but_for_the_last_few() {
        let all = || (1..=10).map(|number| (ReleaseNumber(number), day(i64::from(number) * 10)));
        assert_eq!(superfluous(all(), &BTreeSet::new(), day(100)), []);
        let gone: Vec<u32> =
            superfluous(all(), &BTreeSet::new(), day(215)).iter().map(|number| number.0).collect();
        assert_eq!(gone, [3, 2, 1], "those of more than 180 days");
        assert_eq!(superfluous(all(), &BTreeSet::new(), day(9000)).len(), 5);
    }
}
