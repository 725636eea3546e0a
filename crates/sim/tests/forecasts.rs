//! A forecast is what then happens: at any moment of any seed. `MAINYARD_SEED` replays one; `MAINYARD_SEEDS` says how many.

use mainyard_sim::forecasts::{Act, Compared, compare};

const SEEDS: u64 = 2000;

fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

fn held(seed: u64) -> Option<Compared> {
    let compared = compare(seed).unwrap_or_else(|broken| panic!("{broken}"))?;
    let broken = compared.broken_promises();
    assert!(
        broken.is_empty(),
        "seed {seed}, {:?} of {}: {}\nforetold: {}\nreplay it with: MAINYARD_SEED={seed} cargo test -p mainyard-sim --test forecasts",
        compared.act,
        compared.foretold.workload,
        broken.join("; "),
        compared.foretold.words,
    );
    Some(compared)
}

#[test]
fn a_forecast_at_any_moment_of_any_seed_matches_what_happens() {
    if let Some(seed) = number("MAINYARD_SEED") {
        println!("{:#?}", held(seed));
        return;
    }
    let seeds = number("MAINYARD_SEEDS").unwrap_or(SEEDS);
    let workers = std::thread::available_parallelism().map_or(1, usize::from) as u64;
    let hold_some =
        |worker: u64| (worker..seeds).step_by(workers as usize).filter_map(held).collect::<Vec<_>>();
    let compared: Vec<Compared> = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..workers).map(|worker| scope.spawn(move || hold_some(worker))).collect();
        threads.into_iter().flat_map(|thread| thread.join().expect("every forecast held")).collect()
    });
    let of = |which: fn(&Act) -> bool| compared.iter().filter(|it| which(&it.act)).count() as u64;
    let (deploys, scales) = (of(|it| matches!(it, Act::Deploy(_))), of(|it| matches!(it, Act::Scale(_))));
    let (restarts, rollbacks) = (of(|it| *it == Act::Restart), of(|it| *it == Act::Rollback));
    let mut ratios: Vec<f64> = compared
        .iter()
        .filter_map(|it| Some(it.happened.took_millis? as f64 / (it.foretold.took_millis? as f64).max(1.0)))
        .collect();
    ratios.sort_by(f64::total_cmp);
    println!(
        "{} forecasts held: {deploys} deploys, {scales} scales, {restarts} restarts, {rollbacks} rollbacks; \
         half took at most {:.2} times as long as foretold",
        compared.len(),
        ratios[ratios.len() / 2]
    );
    // A property that compares nothing would prove nothing.
    assert!([deploys, scales, restarts].iter().all(|count| *count > seeds / 20) && rollbacks > seeds / 100);
    // Simulated time, from the seeds alone: on the whole a forecast is neither hasty nor timid.
    assert!((0.3..3.0).contains(&ratios[ratios.len() / 2]), "{}", ratios[ratios.len() / 2]);
}
