//! Right size: what replicas used of what they may use, by the kernel's own figures, and which limit would fit.
//!
//! Two figures tell of memory. What was *needed* is memory that the kernel cannot take back (anonymous and shared
//! memory), looked at once a second. The *peak* is the most that was ever charged, kept by the kernel without a gap; it
//! counts cached files too, which the kernel gives back before it ends anybody. So below what was needed a replica would
//! have been ended; at the peak or above it would not; between the two nobody can tell.

mod usage;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Bytes, ReleaseNumber, ReplicaId, Rollout, RolloutState};
pub use usage::{ReleaseUsage, WorkloadUsage, usage_of};

/// How far back is looked.
pub const DAYS: i32 = 7;
/// Limits are advised in steps of this.
const STEP: Bytes = Bytes::mib(16);
/// What is written is told again when it has grown by more than this, in bytes.
const DISK_STEP: u64 = 1 << 20;

/// Usage of one replica since the last report.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Usage {
    /// Which replica.
    pub replica: ReplicaId,
    /// Of which release.
    pub release: ReleaseNumber,
    /// The most memory it needed, in bytes.
    pub needed: u64,
    /// The most memory that was charged to it, in bytes.
    pub peak: u64,
    /// Its memory limit, in bytes.
    pub limit: u64,
    /// How often the kernel killed for memory.
    pub kills: u64,
    /// For how long it was held back because its processor time was used up, in microseconds.
    pub held_back: u64,
    /// Over how long that was, in microseconds.
    pub watched: u64,
    /// The most processes and threads.
    pub processes: u64,
    /// The most that it had written to its root file system, in bytes.
    #[serde(default)]
    pub disk: u64,
    /// What it uses now. It is not recorded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub now: Option<UsedNow>,
}

/// What a replica used in the last seconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UsedNow {
    /// Thousandths of a processor.
    pub cpu: u64,
    /// Memory that the kernel cannot take back, in bytes.
    pub memory: u64,
}

impl Usage {
    /// Whether it has anything to record.
    pub fn is_to_be_recorded(&self) -> bool {
        self.peak > 0
    }

    /// Of the same replica, with nothing measured.
    pub fn bare(&self) -> Usage {
        let Usage { replica, release, limit, .. } = self.clone();
        let (needed, peak, kills, held_back, watched, processes, disk) = Default::default();
        Usage { replica, release, needed, peak, limit, kills, held_back, watched, processes, disk, now: None }
    }

    /// Adds what was told later of the same replica.
    pub fn add(&mut self, later: &Usage) {
        self.needed = self.needed.max(later.needed);
        self.peak = self.peak.max(later.peak);
        self.limit = later.limit;
        self.kills += later.kills;
        self.held_back += later.held_back;
        self.watched += later.watched;
        self.processes = self.processes.max(later.processes);
        self.disk = self.disk.max(later.disk);
        self.now = later.now.or(self.now);
    }

    /// Whether it tells anything that `told` does not: a new height, a kill, or time that it was held back.
    pub fn tells_more_than(&self, told: &Usage) -> bool {
        self.needed > told.needed
            || self.peak > told.peak
            || self.processes > told.processes
            || self.disk > told.disk + DISK_STEP
            || self.kills > 0
            || self.held_back > 0
    }
}

/// Whether what a release used tells of the limits that its workload needs: one that failed may have failed by them.
pub fn tells(rollout: &Rollout) -> bool {
    rollout.state == RolloutState::Done || rollout.state.is_open() && rollout.state != RolloutState::GoingBack
}

/// The effect that a memory limit would have had on replicas that were seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Fit {
    /// The limit.
    pub limit: Bytes,
    /// How many replicas were seen.
    pub replicas: u32,
    /// How many it would have ended.
    pub ends: u32,
    /// How many it might have ended.
    pub may_end: u32,
    /// The most that one needed, in bytes.
    pub needed: u64,
    /// Whether the kernel ended one of them: what it would have grown to is not known.
    pub ended: bool,
    /// A limit that is large enough and not larger than it need be; `None` where nothing was seen.
    pub advised: Option<Bytes>,
}

/// Checks a limit against what was seen.
pub fn fit(limit: Bytes, seen: &[Usage]) -> Fit {
    let bytes = limit.bytes();
    let ends = |usage: &&Usage| usage.needed > bytes || (usage.kills > 0 && usage.limit >= bytes);
    let may_end = |usage: &&Usage| !ends(usage) && needs(usage) > bytes;
    let number = |list: usize| u32::try_from(list).unwrap_or(u32::MAX);
    Fit {
        limit,
        replicas: number(seen.len()),
        ends: number(seen.iter().filter(ends).count()),
        may_end: number(seen.iter().filter(may_end).count()),
        needed: seen.iter().map(|usage| usage.needed).max().unwrap_or(0),
        ended: seen.iter().any(|usage| usage.kills > 0),
        advised: seen.iter().map(needs).max().map(|most| rounded_up(most.max(1))),
    }
}

/// The memory that certainly suffices for one replica. A peak at the limit says no more than the limit itself: then the
/// memory that was needed counts, and a quarter more. If the kernel ended the replica, half as much again as it had.
fn needs(usage: &Usage) -> u64 {
    if usage.kills > 0 {
        return usage.limit + usage.limit / 2;
    }
    let with_room = usage.needed + usage.needed / 4;
    if usage.peak < usage.limit { usage.peak.max(usage.needed) } else { with_room }
}

fn rounded_up(bytes: u64) -> Bytes {
    Bytes::new(bytes.div_ceil(STEP.bytes()) * STEP.bytes())
}

impl Fit {
    /// Whether no replica would have been ended for certain or perhaps.
    pub fn does(&self) -> bool {
        self.ends == 0 && self.may_end == 0
    }

    /// One sentence with numbers, and the line to write where another limit is better.
    pub fn words(&self) -> String {
        let Fit { limit, replicas, ends, may_end, needed, ended, advised } = self;
        let days = format!("in the last {DAYS} days");
        let Some(advised) = advised else { return format!("no replica was measured {days}") };
        let needed = format!("{:.1} MiB", *needed as f64 / f64::from(1 << 20));
        let some = |number: &u32| match replicas {
            1 => format!("the one replica measured {days}"),
            _ => format!("{number} of {replicas} replicas {days}"),
        };
        let line = format!("limits = {{ memory = \"{advised}\" }}");
        // What was ended might have gone on growing.
        let fits = if *ended { format!("try {advised}: {line}") } else { format!("{advised} fits: {line}") };
        let most = format!("the most that any of {replicas} needed {days} was {needed}");
        match (ends, may_end) {
            (0, 0) if advised < limit => format!("{limit} fits: {most}; {advised} is enough: {line}"),
            (0, 0) => format!("{limit} fits: {most}"),
            (0, may) => format!("{limit} might have ended {}; {fits}", some(may)),
            (ends, _) => format!("{limit} would have ended {}; {fits}", some(ends)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(number: u32, needed: u64, peak: u64) -> Usage {
        let mib = 1 << 20;
        Usage {
            replica: format!("staging/locker-api/a{number}").parse().expect("an id"),
            release: ReleaseNumber(1),
            needed: needed * mib,
            peak: peak * mib,
            limit: 128 * mib,
            kills: 0,
            held_back: 0,
            watched: 0,
            processes: 1,
            disk: 0,
            now: None,
        }
    }

    #[test]
    fn a_limit_below_the_need_fails_above_the_peak_fits_and_between_is_unknown() {
        let all = [seen(0, 20, 30), seen(1, 70, 90), seen(2, 71, 88), seen(3, 60, 80)];
        let words = |mib| fit(Bytes::mib(mib), &all).words();
        assert_eq!(
            words(64),
            "64 MiB would have ended 2 of 4 replicas in the last 7 days; 96 MiB fits: limits = { memory = \"96 MiB\" }"
        );
        assert_eq!(
            words(80),
            "80 MiB might have ended 2 of 4 replicas in the last 7 days; 96 MiB fits: limits = { memory = \"96 MiB\" }"
        );
        assert_eq!(words(90), "90 MiB fits: the most that any of 4 needed in the last 7 days was 71.0 MiB");
        assert!(fit(Bytes::mib(96), &all).does() && !fit(Bytes::mib(89), &all).does());
        assert!(words(256).ends_with("96 MiB is enough: limits = { memory = \"96 MiB\" }"), "{}", words(256));
        assert_eq!(fit(Bytes::mib(64), &[]).words(), "no replica was measured in the last 7 days");
    }

    #[test]
    fn a_peak_at_the_limit_is_cache_and_a_kill_is_not() {
        // It read files until the kernel gave them back.
        let cached = fit(Bytes::mib(64), &[seen(0, 40, 128)]);
        assert_eq!((cached.ends, cached.may_end, cached.advised), (0, 0, Some(Bytes::mib(64))));
        let killed = Usage { kills: 1, ..seen(0, 40, 128) };
        let fits = fit(Bytes::mib(128), &[killed]);
        assert_eq!((fits.ends, fits.advised), (1, Some(Bytes::mib(192))));
        assert_eq!(
            fits.words(),
            "128 MiB would have ended the one replica measured in the last 7 days; try 192 MiB: limits = { memory = \"192 MiB\" }"
        );
    }

    #[test]
    fn usage_peaks_are_maxima_and_totals_are_sums() {
        let mut usage = Usage { held_back: 5, watched: 10, ..seen(0, 20, 30) };
        usage.add(&Usage { held_back: 1, watched: 10, kills: 1, ..seen(0, 10, 40) });
        assert_eq!((usage.needed, usage.peak, usage.kills), (20 << 20, 40 << 20, 1));
        assert_eq!((usage.held_back, usage.watched), (6, 20));
        assert!(!seen(0, 20, 30).tells_more_than(&usage));
        assert!(seen(0, 21, 30).tells_more_than(&usage));
    }
}
