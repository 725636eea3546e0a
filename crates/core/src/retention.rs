//! Which releases are kept: the newest, and whatever older one something still needs. And which changes: any moment of the
//! past is known by them.

use std::collections::{BTreeMap, BTreeSet};

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::model::{ImageRecord, ImageRef, ReleaseNumber, Span};
use crate::record::State;

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

/// A blob that no image and no release needs is kept for so long: an upload may name it in a moment.
pub const BLOB_KEPT: Span = Span::from_secs(3600);
/// A sealed value that no secret names is kept for so long.
pub const SEALED_KEPT: Span = Span::from_secs(3600);

/// The digests of the manifests that are needed: of images that have a name, and of releases.
pub fn needed_manifests(state: &State) -> BTreeSet<String> {
    let named = state.images.values().map(|image| &image.digest);
    let released = state.releases.values().filter_map(|release| release.digest.as_ref());
    named.chain(released).cloned().collect()
}

/// The blobs that are needed: each needed manifest, and its configuration and layers.
///
/// `parts` has what each manifest names. Where one could not be read, it is not known what it needs, and `Err` names it:
/// then nothing may be removed.
///
/// ```
/// use std::collections::{BTreeMap, BTreeSet};
/// use mainyard_core::retention::needed_blobs;
///
/// let parts = BTreeMap::from([("sha256:m".to_owned(), vec!["sha256:config".to_owned(), "sha256:layer".to_owned()])]);
/// let manifests = BTreeSet::from(["sha256:m".to_owned()]);
/// let needed = needed_blobs(&manifests, &parts).unwrap();
/// assert_eq!(needed, BTreeSet::from(["sha256:config", "sha256:layer", "sha256:m"]));
///
/// let manifests = BTreeSet::from(["sha256:other".to_owned()]);
/// assert_eq!(needed_blobs(&manifests, &parts), Err("sha256:other"));
/// ```
///
/// # Errors
/// The digest of a needed manifest whose parts are not known.
pub fn needed_blobs<'a>(
    manifests: &'a BTreeSet<String>,
    parts: &'a BTreeMap<String, Vec<String>>,
) -> Result<BTreeSet<&'a str>, &'a str> {
    let mut needed = BTreeSet::new();
    for manifest in manifests {
        let parts = parts.get(manifest).ok_or(manifest.as_str())?;
        needed.insert(manifest.as_str());
        needed.extend(parts.iter().map(String::as_str));
    }
    Ok(needed)
}

/// Which images a pruning takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ImageRule {
    /// How many of each repository stay, the newest first.
    pub keep: usize,
    /// Only images that were added longer ago than this.
    pub older_than: SignedDuration,
    /// Only images of this repository.
    pub repository: Option<String>,
}

/// The images that may go by a rule, by name. One that a workload runs, that a release was made with, or that one waits for,
/// never goes.
pub fn superfluous_images(state: &State, rule: &ImageRule, now: Timestamp) -> Vec<ImageRef> {
    let released: BTreeSet<&str> =
        state.releases.values().filter_map(|release| release.digest.as_deref()).collect();
    let awaited: BTreeSet<&ImageRef> =
        state.releases.values().filter(|release| release.digest.is_none()).map(|it| &it.spec.image).collect();
    let mut by_repository: BTreeMap<&str, Vec<&ImageRecord>> = BTreeMap::new();
    for image in state.images.values() {
        by_repository.entry(&image.image.repository).or_default().push(image);
    }
    let mut list = Vec::new();
    for (repository, mut images) in by_repository {
        if rule.repository.as_deref().is_some_and(|only| only != repository) {
            continue;
        }
        images.sort_by(|a, b| b.origin.at.cmp(&a.origin.at).then_with(|| b.image.tag.cmp(&a.image.tag)));
        let old = images.into_iter().skip(rule.keep);
        let goes = old.filter(|image| {
            now.duration_since(image.origin.at) >= rule.older_than
                && !released.contains(image.digest.as_str())
                && !awaited.contains(&image.image)
        });
        list.extend(goes.map(|image| image.image.clone()));
    }
    list
}

/// How long changes stay in the journal. People's acts stay for good.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Journal {
    /// So many stay whole in any case.
    pub least: u64,
    /// However many there are, those that long stay whole.
    pub whole: SignedDuration,
    /// But no more than these.
    pub most: u64,
    /// Of what is declared, changes stay for so long.
    pub declared: SignedDuration,
}

impl Default for Journal {
    fn default() -> Journal {
        Journal {
            least: 50_000,
            whole: SignedDuration::from_hours(24),
            most: 1_000_000,
            declared: SignedDuration::from_hours(24 * 90),
        }
    }
}

/// Up to which change the journal is thinned out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Old {
    /// Of what comes and goes by itself.
    pub whole: u64,
    /// Of what is declared.
    pub declared: u64,
}

impl Journal {
    /// Old entries, where `latest` is the last change, and `before_whole` and `before_declared` the last ones that are older
    /// than the rule's times. `None` if there are none.
    pub fn old(&self, latest: u64, before_whole: u64, before_declared: u64) -> Option<Old> {
        let aged = before_whole.min(latest.saturating_sub(self.least));
        let whole = aged.max(latest.saturating_sub(self.most));
        (whole > 0).then_some(Old { whole, declared: before_declared.min(whole) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_day_stays_whole_and_fifty_thousand_changes_but_not_more_than_a_million() {
        let old = |latest, before_whole, before_declared| {
            Journal::default().old(latest, before_whole, before_declared).map(|old| (old.whole, old.declared))
        };
        assert_eq!(old(60_000, 0, 0), None, "all of it is of today");
        assert_eq!(old(60_000, 59_000, 0), Some((10_000, 0)));
        assert_eq!(old(40_000, 39_000, 30_000), None, "there are few");
        assert_eq!(old(3_000_000, 100, 50), Some((2_000_000, 50)));
        assert_eq!(old(3_000_000, 2_900_000, 2_800_000), Some((2_900_000, 2_800_000)));
    }

    fn day(days: i64) -> Timestamp {
        Timestamp::UNIX_EPOCH + SignedDuration::from_hours(24 * days)
    }

    #[test]
    fn needed_releases_are_kept_at_any_age() {
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
