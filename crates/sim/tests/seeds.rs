//! Thousands of seeds in which everything goes wrong. `MAINYARD_SEED` replays one; `MAINYARD_SEEDS` says how many.

use mainyard_sim::{Outcome, run};

const SEEDS: u64 = 2000;

fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

#[test]
fn no_seed_breaks_a_rule() {
    if let Some(seed) = number("MAINYARD_SEED") {
        let outcome = run(seed).unwrap_or_else(|broken| panic!("{broken}"));
        println!("seed {seed}: {outcome:?}");
        return;
    }
    let seeds = number("MAINYARD_SEEDS").unwrap_or(SEEDS);
    let workers = std::thread::available_parallelism().map_or(1, usize::from) as u64;
    let run_some = |worker: u64| {
        let mut total = Outcome::default();
        for seed in (worker..seeds).step_by(workers as usize) {
            let one = run(seed).unwrap_or_else(|broken| {
                panic!("{broken}\nreplay it with: MAINYARD_SEED={seed} cargo test -p mainyard-sim")
            });
            total.happenings += one.happenings;
            total.answered += one.answered;
            total.refused += one.refused;
            total.broken += one.broken;
            total.acts += one.acts;
            total.drained += one.drained;
            total.epochs += one.epochs;
            total.rollouts += one.rollouts;
            total.first_runs += one.first_runs;
            total.first_unknown += one.first_unknown;
            total.went_back += one.went_back;
        }
        total
    };
    let totals: Vec<Outcome> = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..workers).map(|worker| scope.spawn(move || run_some(worker))).collect();
        threads.into_iter().map(|thread| thread.join().expect("no rule was broken")).collect()
    });
    let sum = |of: fn(&Outcome) -> u64| totals.iter().map(of).sum::<u64>();
    println!(
        "{seeds} seeds: {} happenings, {} requests answered, {} found nobody, {} broken by faults, {} acts, {} drains, {} take-overs, {} rollouts ended, {} of them went back, {} first runs, {} of them of unknown end",
        sum(|o| o.happenings),
        sum(|o| o.answered),
        sum(|o| o.refused),
        sum(|o| o.broken),
        sum(|o| o.acts),
        sum(|o| o.drained),
        sum(|o| o.epochs),
        sum(|o| o.rollouts),
        sum(|o| o.went_back),
        sum(|o| o.first_runs),
        sum(|o| o.first_unknown),
    );
    // A simulation in which nothing happens would prove nothing.
    assert!(sum(|o| o.rollouts) > 2 * seeds && sum(|o| o.went_back) > seeds / 3);
    assert!(sum(|o| o.first_runs) > seeds / 2 && sum(|o| o.first_unknown) > seeds / 20);
    assert!(sum(|o| o.drained) > seeds && sum(|o| o.epochs) > seeds && sum(|o| o.acts) > 5 * seeds);
}

#[test]
fn the_same_seed_is_the_same_run() {
    assert_eq!(run(42), run(42));
    assert_ne!(run(42), run(43));
}
