use proptest::prelude::*;

use super::*;
use crate::model::{Each, Span};

/// Requests a second that come at a time, in seconds.
type Arrivals<'a> = &'a dyn Fn(u64) -> f64;

/// How long each request takes, how many a replica works on at once, and how long it takes to start, in seconds.
const TAKES: f64 = 0.1;
const AT_ONCE: f64 = 10.0;
const STARTS_IN: u64 = 3;

/// What was wanted in a second, what could have answered everything, and what has no more than is meant for each.
#[derive(Clone, Copy)]
struct Second {
    wanted: u32,
    needed: u32,
    meant: u32,
}

/// A workload that is simulated, second by second.
struct World {
    growth: Growth,
    grower: Grower,
    wanted: u32,
    /// When each of the replicas is ready.
    ready_at: Vec<u64>,
    waiting: f64,
    /// What was answered and refused in the last seconds.
    lately: VecDeque<(f64, f64)>,
    /// Seconds without figures.
    is_lost: fn(u64) -> bool,
    is_moving: bool,
    past: Vec<Second>,
    changes: Vec<(u64, u32, u32, String)>,
}

impl World {
    fn new(growth: Growth) -> World {
        let wanted = growth.min.max(1);
        World {
            growth,
            grower: Grower::default(),
            wanted,
            ready_at: vec![0; wanted as usize],
            waiting: 0.0,
            lately: VecDeque::new(),
            is_lost: |_| false,
            is_moving: false,
            past: Vec::new(),
            changes: Vec::new(),
        }
    }

    fn second(&mut self, now: u64, arrivals: f64) {
        let ready = self.ready_at.iter().filter(|at| **at <= now).count() as u32;
        let can = f64::from(ready) * AT_ONCE / TAKES;
        let asked = arrivals + self.waiting;
        let answered = asked.min(can);
        // No more wait than are served in a second.
        let most = if ready == 0 { 1000.0 } else { can };
        self.waiting = (asked - answered).min(most);
        let refused = asked - answered - self.waiting;
        let open = if self.waiting > 0.0 { f64::from(ready) * AT_ONCE * 2.0 } else { answered * TAKES };
        self.lately.push_front((answered, refused));
        self.lately.truncate((RATE_LAGS / 1000) as usize);
        let mean =
            |of: fn(&(f64, f64)) -> f64| self.lately.iter().map(of).sum::<f64>() / self.lately.len() as f64;
        let (answered, refused) = (mean(|it| it.0), mean(|it| it.1));
        let load = Load { open, waiting: self.waiting, answered, refused, cpu: None, memory: None };
        let each = f64::from(self.growth.each.open.unwrap_or(1));
        let needed =
            |each: f64| ((arrivals * TAKES / each).ceil() as u32).clamp(self.growth.min, self.growth.max);
        self.past.push(Second { wanted: self.wanted, needed: needed(AT_ONCE), meant: needed(each) });
        let look = Look {
            at: now * 1000,
            least: self.growth.min,
            wanted: self.wanted,
            ready,
            load: (!(self.is_lost)(now)).then_some(load),
            is_moving: self.is_moving,
        };
        let Some(Resize { to, because }) = self.grower.look(&self.growth, look) else { return };
        assert_ne!(to, self.wanted, "{because}");
        self.changes.push((now, self.wanted, to, because));
        self.ready_at.resize(to as usize, now + STARTS_IN);
        self.wanted = to;
    }

    fn run(&mut self, seconds: u64, arrivals: Arrivals<'_>) {
        let begun = self.past.len() as u64;
        (begun..begun + seconds).for_each(|now| self.second(now, arrivals(now)));
    }

    /// The longest time in which fewer were wanted than needed, in seconds.
    fn longest_lack(&self) -> u64 {
        let lacks: Vec<bool> = self.past.iter().map(|it| it.wanted < it.needed).collect();
        lacks.split(|lacks| !lacks).map(|lack| lack.len() as u64).max().unwrap_or(0)
    }

    /// How often the direction changed in an hour.
    fn turns_an_hour(&self) -> f64 {
        let ups: Vec<bool> = self.changes.iter().map(|(_, from, to, _)| to > from).collect();
        let turns = ups.windows(2).filter(|pair| pair[0] != pair[1]).count();
        turns as f64 * 3600.0 / self.past.len() as f64
    }

    /// The most that was wanted beyond what was needed at any time in the window that is kept for, as a part of that.
    fn overshoot(&self) -> f64 {
        let keep = (self.growth.down.millis() / 1000 * 6 / 5 + 10) as usize;
        let over = (0..self.past.len()).map(|now| {
            let needed = self.past[now.saturating_sub(keep)..=now].iter().map(|it| it.meant).max();
            let needed = needed.unwrap_or(0).max(self.growth.min).max(1);
            // One more is no overshoot, whatever part of a few it is.
            (f64::from(self.past[now].wanted) - 1.0) / f64::from(needed) - 1.0
        });
        over.fold(0.0, f64::max)
    }
}

fn growth(min: u32, max: u32) -> Growth {
    Growth { min, max, each: Each { open: Some(7), ..Each::default() }, ..Growth::default() }
}

/// The window, the time to start, and the second of the look.
fn patience(growth: &Growth) -> u64 {
    growth.up.millis() / 1000 + STARTS_IN + 1
}

fn holds(world: &World) -> Result<(), TestCaseError> {
    let changes = &world.changes;
    prop_assert!(world.longest_lack() <= patience(&world.growth), "{} s\n{changes:?}", world.longest_lack());
    prop_assert!(world.overshoot() <= 0.2, "{}\n{changes:?}", world.overshoot());
    let turns = 2.0 * 3600.0 / (world.growth.down.millis() as f64 / 1000.0) + 2.0;
    prop_assert!(world.turns_an_hour() <= turns, "{}\n{changes:?}", world.turns_an_hour());
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]

    #[test]
    fn a_square_wave_is_followed(low in 0.0f64..300.0, high in 300.0f64..2000.0, period in 60u64..1200) {
        let mut world = World::new(growth(1, 40));
        world.run(7200, &|now| if now / period % 2 == 0 { low } else { high });
        holds(&world)?;
    }

    #[test]
    fn a_ramp_up_and_down_is_followed(high in 100.0f64..2000.0, length in 600u64..3600) {
        let mut world = World::new(growth(1, 40));
        let ramp = |now: u64| {
            let part = (now % (2 * length)) as f64 / length as f64;
            high * if part < 1.0 { part } else { 2.0 - part }
        };
        world.run(4 * length, &ramp);
        holds(&world)?;
    }

    #[test]
    fn noise_does_not_make_it_flap(mean in 50.0f64..1500.0, noise in 0.0f64..0.5, seed in any::<u64>()) {
        let mut world = World::new(growth(1, 40));
        let chance = |now: u64| {
            let mixed = (now ^ seed).wrapping_mul(0x9E37_79B9_7F4A_7C15);
            ((mixed ^ mixed >> 29).wrapping_mul(0xBF58_476D_1CE4_E5B9) >> 40) as f64 / f64::from(1u32 << 23) - 1.0
        };
        world.run(7200, &|now| mean * (1.0 + noise * chance(now)));
        // In a second it may need more than on average: that is what the queue is for.
        prop_assert!(world.overshoot() <= 0.2, "{}\n{:?}", world.overshoot(), world.changes);
        prop_assert!(world.changes.len() <= 60, "{:?}", world.changes);
        prop_assert!(world.turns_an_hour() <= 24.0, "{:?}", world.changes);
    }

    #[test]
    fn a_crowd_at_once_is_followed_and_forgotten(base in 10.0f64..200.0, at in 400u64..800, lasts in 20u64..600) {
        let mut world = World::new(growth(1, 60));
        world.run(3600, &|now| if (at..at + lasts).contains(&now) { base * 10.0 } else { base });
        holds(&world)?;
        let needed = world.past.last().expect("a past").meant;
        prop_assert_eq!(world.wanted, needed, "{:?}", &world.changes);
    }

    #[test]
    fn lost_figures_take_no_replica_away(load in 100.0f64..1500.0, gap in 1u64..900) {
        let mut world = World::new(growth(1, 40));
        world.run(400, &|_| load);
        let before = world.wanted;
        world.is_lost = |_| true;
        world.run(gap, &|_| load);
        prop_assert_eq!(world.wanted, before);
        world.is_lost = |now| now % 7 == 0;
        world.run(1200, &|_| load);
        prop_assert_eq!(world.wanted, before);
    }

    #[test]
    fn it_stays_within_its_bounds(
        min in 0u32..5, more in 0u32..20,
        loads in proptest::collection::vec(0.0f64..5000.0, 1..40),
    ) {
        let growth = Growth { sleep_after: Span::from_secs(40), ..growth(min, (min + more).max(1)) };
        let max = growth.max;
        let mut world = World::new(growth);
        world.run(loads.len() as u64 * 60, &|now| loads[(now / 60) as usize]);
        let within = world.past.iter().all(|it| (min..=max).contains(&it.wanted));
        prop_assert!(within, "{:?}", world.changes);
    }
}

#[test]
fn it_sleeps_while_nobody_asks_and_wakes_for_the_first_request() {
    let mut world = World::new(growth(0, 10));
    world.run(600, &|now| if now < 300 { 20.0 } else { 0.0 });
    assert_eq!(world.wanted, 1);
    world.run(700, &|_| 0.0);
    assert_eq!(world.wanted, 0, "{:?}", world.changes);
    assert_eq!(world.changes.last().map(|it| it.3.as_str()), Some("nobody asked for 15m"));
    world.run(2, &|_| 1.0);
    assert_eq!(world.wanted, 1);
    assert_eq!(world.changes.last().map(|it| it.3.as_str()), Some("a request came"));
}

#[test]
fn it_does_not_sleep_while_a_stream_is_open_or_a_rollout_moves() {
    let growth = growth(0, 10);
    let mut grower = Grower::default();
    let load = |open: f64| Some(Load { open, ..Load::default() });
    let look = |second: u64, open: f64, is_moving: bool| Look {
        at: second * 1000,
        least: 0,
        wanted: 1,
        ready: 1,
        load: load(open),
        is_moving,
    };
    assert!((0..3600).all(|second| grower.look(&growth, look(second, 1.0, false)).is_none()));
    assert!((3600..7200).all(|second| grower.look(&growth, look(second, 0.0, true)).is_none()));
    let asleep = grower.look(&growth, look(7200, 0.0, false)).expect("it is quiet");
    assert_eq!(asleep.to, 0);
}

#[test]
fn one_that_was_woken_does_not_sleep_again_before_anybody_tells_of_the_request() {
    let growth = growth(0, 10);
    let mut grower = Grower::default();
    let load = Some(Load::default());
    let look = |second: u64, wanted: u32| Look {
        at: second * 1000,
        least: 0,
        wanted,
        ready: wanted,
        load,
        is_moving: false,
    };
    (0..2000).for_each(|second| assert!(grower.look(&growth, look(second, 0)).is_none()));
    // A gateway woke it, and the request was answered between two looks.
    assert!((2000..2900).all(|second| grower.look(&growth, look(second, 1)).is_none()));
    assert_eq!(grower.look(&growth, look(2900, 1)).map(|resize| resize.to), Some(0));
}

#[test]
fn the_reason_has_the_numbers() {
    let mut world = World::new(growth(1, 20));
    world.run(60, &|now| if now < 20 { 10.0 } else { 400.0 });
    let because: Vec<&str> = world.changes.iter().map(|it| it.3.as_str()).collect();
    assert_eq!(because[0], "400 requests a second came and 100 were answered by 1, 100 waited");
    assert_eq!(because.last(), Some(&"40 requests were open at once, 7 for each replica"), "{because:?}");
    assert_eq!(world.wanted, 6);
    world.run(900, &|_| 10.0);
    assert_eq!(world.wanted, 1);
    let (.., because) = world.changes.last().expect("a change");
    assert_eq!(because, "in the last 5m at most 1 requests were open at once, 7 for each replica");
}

#[test]
fn what_is_used_counts_against_the_limits() {
    let each = Each { cpu: Some(50), ..Each::default() };
    let growth = Growth { each, ..growth(1, 20) };
    let mut grower = Grower::default();
    let cpu = Some(Share { used: 1.8, limit: 1.0 });
    let load = Some(Load { cpu, ..Load::default() });
    let look =
        |second: u64| Look { at: second * 1000, least: 1, wanted: 2, ready: 2, load, is_moving: false };
    let all: Vec<Resize> = (0..8).filter_map(|second| grower.look(&growth, look(second))).collect();
    assert_eq!(all[0].to, 4);
    assert_eq!(all[0].because, "90 % of the processor limit were used, 50 % of each");
}
