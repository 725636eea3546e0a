//! The rule over thousands of made-up rollouts: how often a good release is found against, and a bad one missed.

use proptest::test_runner::{RngAlgorithm, TestRng};

use super::*;
use crate::latency::Latencies;
use proptest::prelude::Rng;

/// Rollouts that are replaced each claim.
const RUNS: u32 = 10_000;

struct Dice(TestRng);

impl Dice {
    fn new(seed: u8) -> Dice {
        Dice(TestRng::from_seed(RngAlgorithm::ChaCha, &[seed; 32]))
    }

    /// From 0 to 1.
    fn part(&mut self) -> f64 {
        (self.0.next_u64() >> 11) as f64 / (1u64 << 53) as f64
    }
}

/// How a release answers.
#[derive(Clone, Copy)]
struct Kind {
    /// The part of requests that fail.
    failing: f64,
    /// Milliseconds that the slowest twentieth takes, about.
    slow: f64,
}

impl Kind {
    fn answer(self, seen: &mut Answered, dice: &mut Dice) {
        seen.requests += 1;
        seen.failed += u64::from(dice.part() < self.failing);
        // A long tail, as answers have it.
        let millis = self.slow / 8.0 / (1.0 - dice.part()).max(1e-6).powf(0.7);
        seen.latencies.record((millis * 1000.0) as u64);
    }
}

/// One rollout: requests come one by one, this part of them to the new release. Gives at how many requests to the new
/// release it was found against, and for what.
fn rollout(new: Kind, old: Kind, share: f64, requests: u64, dice: &mut Dice) -> Option<(u64, Finding)> {
    let mut evidence = Evidence::default();
    for _ in 0..requests {
        if dice.part() >= share {
            old.answer(&mut evidence.old, dice);
            continue;
        }
        new.answer(&mut evidence.new, dice);
        if let Some(finding) = compare_when_due(&mut evidence, false) {
            return Some((evidence.new.requests, finding));
        }
    }
    None
}

#[test]
fn a_good_release_is_rejected_in_at_most_one_of_a_hundred_rollouts() {
    let mut dice = Dice::new(1);
    for (failing, share, requests) in
        [(0.0, 0.1, 1000), (0.001, 0.2, 1000), (0.01, 0.5, 800), (0.05, 0.25, 1000), (0.2, 0.33, 1000)]
    {
        let same = Kind { failing, slow: 40.0 };
        let found =
            (0..RUNS / 5).filter(|_| rollout(same, same, share, requests, &mut dice).is_some()).count();
        println!("{failing}: {found} of {} sent back", RUNS / 5);
        assert!(found as f64 <= f64::from(RUNS / 5) * 0.01, "failing {failing}: {found}");
    }
}

#[test]
fn one_error_in_ten_is_caught_within_a_known_number_of_requests() {
    let mut dice = Dice::new(2);
    let (old, new) = (Kind { failing: 0.001, slow: 40.0 }, Kind { failing: 0.1, slow: 40.0 });
    let mut after: Vec<u64> = Vec::new();
    for _ in 0..RUNS {
        after.extend(rollout(new, old, 0.1, 3200, &mut dice).map(|(requests, _)| requests));
    }
    after.sort_unstable();
    let caught = after.len() as f64 / f64::from(RUNS);
    let (median, most) = (after[after.len() / 2], after[after.len() * 95 / 100]);
    println!(
        "caught {:.2} %, half of them within {median} requests, 95 of 100 within {most}",
        caught * 100.0
    );
    assert!(caught >= 0.95, "{caught}");
    // Figures that docs/reliability.md states.
    assert!(median <= 40 && most <= 160, "{median} {most}");
}

#[test]
fn a_release_that_is_four_times_as_slow_is_caught() {
    let mut dice = Dice::new(3);
    let (old, new) = (Kind { failing: 0.001, slow: 40.0 }, Kind { failing: 0.001, slow: 160.0 });
    let slower = |found: Option<(u64, Finding)>| found.is_some_and(|(_, finding)| finding == Finding::Slower);
    let caught = (0..1000).filter(|_| slower(rollout(new, old, 0.2, 1600, &mut dice))).count();
    assert!(caught >= 950, "{caught} of 1000");
}

#[test]
fn one_stall_of_the_machine_does_not_fail_a_new_release() {
    let mut dice = Dice::new(5);
    let usual = Kind { failing: 0.0, slow: 10.0 };
    let stalled = Kind { failing: 0.0, slow: 400.0 };
    let mut suspected = 0;
    for length in 1..=12 {
        let mut evidence = Evidence::default();
        (0..1000).for_each(|_| usual.answer(&mut evidence.old, &mut dice));
        for number in 0..400 {
            let kind = if (15..15 + length).contains(&number) { stalled } else { usual };
            kind.answer(&mut evidence.new, &mut dice);
            usual.answer(&mut evidence.old, &mut dice);
            let found = compare_when_due(&mut evidence, false);
            assert_eq!(found, None, "after a stall of {length} requests");
            suspected += u32::from(evidence.suspected.is_some());
        }
    }
    assert!(suspected > 0, "no stall was long enough to be noticed at all");
}

#[test]
fn without_a_comparison_one_in_five_errors_is_caught_and_one_in_fifty_is_not() {
    let mut dice = Dice::new(4);
    let of = |failing| Kind { failing, slow: 40.0 };
    let found = |failing, dice: &mut Dice| {
        (0..1000).filter(|_| rollout(of(failing), of(0.0), 1.0, 640, dice).is_some()).count()
    };
    assert!(found(0.2, &mut dice) >= 950);
    assert!(found(0.02, &mut dice) <= 10);
}

#[test]
fn small_differences_are_ignored_however_significant() {
    let seen = |requests, failed| Answered { requests, failed, ..Answered::default() };
    let look = |new, old: Answered| compare(&new, &old, &old, 3);
    assert_eq!(look(seen(1_000_000, 2_500), seen(1_000_000, 1_000)), None);
    assert_eq!(look(seen(1_000_000, 6_500), seen(1_000_000, 1_000)), Some(Finding::MoreErrors));
    assert_eq!(look(seen(20, 1), seen(4_000, 0)), None, "one failure proves little");
}

#[test]
fn the_chances_of_all_comparisons_stay_below_the_whole() {
    let sum: f64 = (0..10_000).map(level).sum();
    assert!(sum < CHANCE && sum > CHANCE * 0.99, "{sum}");
    assert_eq!((due_at(0), due_at(3), due_at(200)), (20, 160, u64::MAX));
}

#[test]
fn exact_chances_agree_with_tables() {
    // The lady tasting tea: four of four right by chance is 1 in 70.
    assert!((by_chance((4, 4), (0, 4)) - 1.0 / 70.0).abs() < 1e-12);
    assert!((by_chance((3, 4), (1, 4)) - 17.0 / 70.0).abs() < 1e-12);
    assert!((beyond_binomial(2, 3, 0.5) - 0.5).abs() < 1e-12);
}

#[test]
fn slightly_slower_passes_and_twice_as_slow_fails() {
    let all_took = |millis: u64| {
        let mut latencies = Latencies::default();
        latencies.record_many(millis * 1000, 100_000);
        Answered { requests: 100_000, failed: 0, latencies }
    };
    let look = |new: u64| compare(&all_took(new), &all_took(70), &all_took(70), 3);
    assert_eq!((look(70), look(100), look(145)), (None, None, Some(Finding::Slower)));
    let quick = |new: u64| compare(&all_took(new), &all_took(4), &all_took(4), 3);
    assert_eq!(quick(16), None, "four times as slow, and still no 20 ms more");
}

#[test]
fn a_copy_fails_where_it_does_worse_than_the_visitor_fared() {
    let failed = [(200, None), (200, Some(500)), (404, Some(503)), (200, Some(404))];
    assert!(failed.iter().all(|(visitors, copys)| copy_failed(*visitors, *copys)));
    let well = [(200, Some(200)), (200, Some(302)), (404, Some(404)), (404, Some(200)), (500, Some(200))];
    assert!(!well.iter().any(|(visitors, copys)| copy_failed(*visitors, *copys)));
}
