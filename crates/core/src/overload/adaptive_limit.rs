//! How many requests at once a replica takes, found from what it gets done.
//!
//! While requests wait for the replica, the limit moves, in one of two ways.
//!
//! As long as the fastest of its answers are about as fast as they usually are, and it answers more when it is given more,
//! nobody waits inside the replica: the limit grows quickly. So it does where so few are answered that their rate tells
//! nothing, because many take long and wait for something to happen.
//!
//! Otherwise the limit moves by small steps, and the rate of answers before and after each step is
//! compared. A replica that has room answers more when it is given more: then the limit goes up. One that is busy answers as
//! many as before, only later: then it goes down. So it stays near the smallest number that keeps the replica busy; and one
//! that became slow because what it calls became slow is given more, not less.
//!
//! A replica that breaks connections has more than it can hold: it has no thread or no descriptor for another one. The limit
//! then stays below what it had, with room for its checks, and tries more only now and then.

/// Bounds of the limit.
const LEAST: f64 = 4.0;
const MOST: f64 = 1024.0;
/// Where it begins: enough for most, and little enough for the others to go on while better is found.
const FIRST: f64 = 32.0;
/// A step, as a part of the limit, while nobody waits inside the replica, and once some do.
const QUICK_STEP: f64 = 0.5;
const STEP: f64 = 0.125;
/// A step back where one of so many requests fails.
const BACK_STEP: f64 = 0.25;
const FAILED_PART: u64 = 10;
/// The part of what a replica held when it broke connections that it is given from then on. With fewer, what broke was not
/// their number.
const HELD_PART: f64 = 0.75;
const HELD_LEAST: u32 = 16;
/// The part of it that may be open at all, in use or idle.
const KEPT_PART: f64 = 0.9;
/// How long it holds that before it is given a little more, at first and at most; longer each time that it breaks again.
const TRIED_AFTER_MS: u64 = 10_000;
const TRIED_AFTER_MOST_MS: u64 = 320_000;
const TRIED_STEP: f64 = 1.125;
/// How much of a step the rate must follow for the step to count as useful.
const FOLLOWS: f64 = 0.4;
/// The fastest answers are slow where they take so many times as long as usual, and so much longer in microseconds.
const SLOW: f64 = 1.5;
const SLOW_BY: f64 = 1000.0;
/// How far what is usual follows slower answers, while there is room.
const DRIFT: f64 = 0.1;
/// Answers whose rate tells something; how long they are waited for before the limit grows without, and how often it does.
const TELLING: u64 = 20;
const BLIND_AFTER_MS: u64 = 500;
const BLIND_STEPS: u32 = 4;
/// Answers for each request of the limit that a step is judged by, so that chance has little part in it.
const ANSWERS_EACH: f64 = 4.0;
const LONGEST_MS: u64 = 2_000;
const SHORTEST_MS: u64 = 100;

/// What happened since the last step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Window {
    /// How long it was, in milliseconds.
    pub millis: u64,
    /// Requests that were answered.
    pub answered: u64,
    /// Requests that failed because the replica took no connection, broke it, or did not answer.
    pub failed: u64,
    /// The fewest connections that the replica held, in use or idle, when it broke one.
    pub broke_at: Option<u32>,
    /// How long the fastest of those that were answered took, in microseconds.
    pub fastest: Option<u64>,
    /// Whether requests waited for this replica all the time.
    pub was_full: bool,
}

/// The limit of one replica.
#[derive(Debug, Clone, PartialEq)]
pub struct AdaptiveLimit {
    limit: f64,
    /// Some wait inside the replica, since it last had room: it moves by small steps.
    is_careful: bool,
    /// How often it grew although too few answers came to tell whether that was of use.
    blind: u32,
    /// How much it grows next while nobody waits inside: less after some did, then more and more.
    step: f64,
    /// How long the fastest answers usually take, in microseconds.
    usual: Option<f64>,
    /// The limit and the rate of answers, in answers a second, of the window before.
    before: Option<(f64, f64)>,
    /// What it can hold, once it broke connections.
    held: Option<Held>,
}

/// What a replica is known to hold.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Held {
    at_most: f64,
    /// It was given more since it last broke connections.
    was_raised: bool,
    /// Milliseconds of full windows since it broke them or was given more, and after how many it is given more again.
    unbroken: u64,
    tried_after: u64,
}

impl Default for AdaptiveLimit {
    fn default() -> AdaptiveLimit {
        AdaptiveLimit {
            limit: FIRST,
            is_careful: false,
            blind: 0,
            step: QUICK_STEP,
            usual: None,
            before: None,
            held: None,
        }
    }
}

impl AdaptiveLimit {
    /// Requests at once.
    pub fn limit(&self) -> u32 {
        self.limit as u32
    }

    /// Connections that it is known to hold, with a few left for its checks; `None` where it never broke one.
    pub fn holds(&self) -> Option<u32> {
        self.held.map(|held| (held.at_most / HELD_PART * KEPT_PART) as u32)
    }

    /// Whether a window is long enough to be judged.
    pub fn is_due(&self, window: Window) -> bool {
        if window.millis < SHORTEST_MS {
            return false;
        }
        let fails = window.failed * FAILED_PART > window.answered;
        if window.millis >= LONGEST_MS || !window.was_full || fails {
            return true;
        }
        if self.is_careful || self.is_slow(window) {
            return window.answered as f64 >= self.limit * ANSWERS_EACH;
        }
        let may_be_blind = self.blind < BLIND_STEPS && window.millis >= BLIND_AFTER_MS;
        // Where nothing is known at all, no answer is no sign of trouble.
        let is_unknown = self.usual.is_none() && window.answered == 0;
        window.answered >= TELLING || may_be_blind || is_unknown
    }

    /// Takes a window; gives the limit from now on.
    pub fn take(&mut self, window: Window) -> u32 {
        let is_slow = self.is_slow(window);
        self.learn(window);
        self.learn_what_it_holds(window);
        if !window.was_full || window.millis == 0 {
            // Nothing is learned of the limit from what was not used up.
            (self.before, self.is_careful, self.blind) = (None, false, 0);
            return self.grow(0.0);
        }
        if window.failed * FAILED_PART > window.answered {
            // It has more than it can hold, and not only more than it can work on.
            (self.before, self.is_careful) = (None, true);
            return self.grow(-BACK_STEP);
        }
        let rate = window.answered as f64 * 1000.0 / window.millis as f64;
        let followed = self.before.map(|before| self.followed(before, rate));
        let before = self.before.replace((self.limit, rate));
        let is_useless = followed.is_some_and(|part| part <= FOLLOWS) && window.answered >= TELLING;
        if !(self.is_careful || is_slow || is_useless) {
            self.blind = if window.answered >= TELLING { 0 } else { self.blind + 1 };
            let step = self.step;
            self.step = (step * 1.25).min(QUICK_STEP);
            return self.grow(step);
        }
        (self.is_careful, self.step) = (true, STEP);
        let goes_up = match (before, followed) {
            // Upwards it was useful where the rate followed; downwards it did harm where the rate followed.
            (Some((limit, _)), Some(part)) if limit != self.limit => part > FOLLOWS,
            // At a bound it looks the other way.
            (Some(_), _) => self.limit <= LEAST,
            // It begins by looking downwards: some wait in the replica already.
            (None, _) => false,
        };
        self.grow(if goes_up { STEP } else { -STEP })
    }

    /// Which part of the limit's move the rate of answers made with it.
    fn followed(&self, (limit, before): (f64, f64), rate: f64) -> f64 {
        let moved = self.limit / limit - 1.0;
        let followed = rate / before.max(f64::MIN_POSITIVE) - 1.0;
        if moved == 0.0 { 0.0 } else { followed / moved }
    }

    fn grow(&mut self, part: f64) -> u32 {
        let step = if part == 0.0 { 0.0 } else { (self.limit * part.abs()).max(1.0).copysign(part) };
        let most = self.held.map_or(MOST, |held| held.at_most);
        self.limit = (self.limit + step).clamp(LEAST, most);
        self.limit()
    }

    fn learn_what_it_holds(&mut self, window: Window) {
        let breaks = window.failed * FAILED_PART > window.answered;
        if let Some(at) = window.broke_at.filter(|at| breaks && *at >= HELD_LEAST) {
            let at_most = (f64::from(at) * HELD_PART).max(LEAST);
            let mut held = self.held.unwrap_or(Held {
                at_most,
                was_raised: false,
                unbroken: 0,
                tried_after: TRIED_AFTER_MS,
            });
            if held.was_raised {
                held.tried_after = (held.tried_after * 2).min(TRIED_AFTER_MOST_MS);
            }
            let at_most = at_most.min(held.at_most);
            self.held = Some(Held { at_most, was_raised: false, unbroken: 0, ..held });
        } else if let Some(held) = self.held.as_mut().filter(|_| window.was_full) {
            held.unbroken += window.millis;
            if held.unbroken >= held.tried_after {
                held.at_most = (held.at_most * TRIED_STEP).min(MOST);
                (held.was_raised, held.unbroken) = (true, 0);
            }
        }
    }

    /// Whether even the fastest answers are slow. Where there was none, that is no news of one whose answers take long.
    fn is_slow(&self, window: Window) -> bool {
        let Some(usual) = self.usual else { return false };
        let since = || (window.millis * 1000) as f64;
        let fastest = window.fastest.map_or_else(since, |fastest| fastest as f64);
        fastest > usual * SLOW && fastest > usual + SLOW_BY
    }

    fn learn(&mut self, window: Window) {
        let Some(fastest) = window.fastest.map(|fastest| fastest as f64) else { return };
        let usual = self.usual.get_or_insert(fastest);
        if fastest < *usual {
            *usual = fastest;
        } else if !window.was_full {
            *usual += (fastest - *usual) * DRIFT;
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// A replica in numbers: where it is given so many requests at once, the answers a second, and how long the fastest
    /// takes, in milliseconds.
    type Replica<'a> = &'a dyn Fn(f64) -> (f64, f64);

    /// One that is known when it is not busy.
    fn known(replica: Replica<'_>) -> AdaptiveLimit {
        let mut limit = AdaptiveLimit::default();
        let fastest = Some((replica(1.0).1 * 1000.0) as u64);
        limit.take(Window { millis: 1000, answered: 10, fastest, ..Window::default() });
        limit
    }

    /// Runs the limit for so many seconds while requests always wait, with chance in each window; gives the answers a second
    /// of the last half, and the limit.
    fn run(
        limit: &mut AdaptiveLimit,
        seconds: u64,
        replica: Replica<'_>,
        chances: &mut dyn FnMut() -> f64,
    ) -> (f64, f64) {
        let (mut now, mut answered, mut late, mut sum, mut windows) = (0, 0.0, 0, 0.0, 0.0);
        while now < seconds * 1000 {
            let at = f64::from(limit.limit());
            let (each, fastest) = replica(at);
            let mut window = Window { was_full: true, ..Window::default() };
            while window.millis == 0 || !limit.is_due(window) {
                window.millis += 100;
                // The fewer answers, the more chance has a part in their number.
                let count = each * window.millis as f64 / 1000.0;
                window.answered = (count + chances() * count.sqrt() * 0.5).max(0.0) as u64;
                window.fastest = (window.answered > 0).then_some((fastest * 1000.0) as u64);
            }
            limit.take(window);
            now += window.millis;
            if now > seconds * 500 {
                (answered, late) = (answered + window.answered as f64, late + window.millis);
                (sum, windows) = (sum + at, windows + 1.0);
            }
        }
        (answered * 1000.0 / late as f64, sum / windows)
    }

    /// So many workers that take so many milliseconds each, first come, first served.
    fn workers(count: f64, millis: f64) -> impl Fn(f64) -> (f64, f64) {
        move |at| (at.min(count) * 1000.0 / millis, millis * (at / count).max(1.0))
    }

    #[test]
    fn it_settles_near_what_keeps_the_workers_busy() {
        for (count, millis) in [(4.0, 5.0), (8.0, 10.0), (16.0, 100.0), (64.0, 20.0), (200.0, 50.0)] {
            let first_come = workers(count, millis);
            // Where the last one that comes may be the first, some are always fast.
            let unfair = |at: f64| (first_come(at).0, millis);
            for replica in [&first_come as Replica<'_>, &unfair] {
                let (rate, at) = run(&mut known(replica), 120, replica, &mut || 0.0);
                let best = count * 1000.0 / millis;
                assert!(rate >= best * 0.9, "{count} workers of {millis} ms: {rate} of {best}");
                assert!(at <= count * 2.5 + 4.0, "{count} workers of {millis} ms: {at}");
            }
        }
    }

    #[test]
    fn one_that_gets_slower_the_more_it_is_given_is_kept_from_that() {
        // Beyond sixteen at once it loses time to changing between them.
        let thrashing = |at: f64| {
            let rate = if at <= 16.0 { at * 50.0 } else { 800.0 * 16.0 / at };
            (rate, at * 1000.0 / rate)
        };
        let (rate, at) = run(&mut known(&thrashing), 60, &thrashing, &mut || 0.0);
        assert!(rate >= 600.0 && at < 24.0, "{rate} at {at}");
    }

    #[test]
    fn one_that_waits_for_something_slow_is_given_more() {
        let quick = workers(16.0, 10.0);
        let mut limit = known(&quick);
        run(&mut limit, 30, &quick, &mut || 0.0);
        // From now on each takes half a second, and hundreds may wait at once.
        let (rate, _) = run(&mut limit, 240, &workers(400.0, 500.0), &mut || 0.0);
        assert!(rate >= 600.0, "{rate} of 800");
    }

    #[test]
    fn many_that_only_wait_do_not_keep_others_out() {
        // Each waits half a minute for news, but for some that are answered at once.
        let news = |at: f64| (at / 30.0 + 5.0, 2.0);
        let mut limit = known(&news);
        let (_, at) = run(&mut limit, 30, &news, &mut || 0.0);
        assert!(at >= 800.0, "after some seconds there is room for {at}");
        // Where nothing is known yet, no answer is no sign of trouble.
        let mut limit = AdaptiveLimit::default();
        let silent = Window { millis: 100, was_full: true, ..Window::default() };
        assert!(limit.is_due(silent) && limit.take(silent) == 48);
    }

    #[test]
    fn one_that_breaks_under_what_it_is_given_is_given_less() {
        let mut limit = AdaptiveLimit::default();
        let breaks = Window {
            millis: 100,
            answered: 30,
            failed: 10,
            broke_at: None,
            fastest: Some(900),
            was_full: true,
        };
        assert!(limit.is_due(breaks));
        assert_eq!((limit.take(breaks), limit.take(breaks)), (24, 18));
    }

    #[test]
    fn one_that_has_few_threads_is_kept_from_running_out_of_them() {
        // Each request waits for something, and each connection beyond the sixty-fourth is closed at once.
        const THREADS: u32 = 64;
        let mut limit = AdaptiveLimit::default();
        let (mut broken, mut of) = (0, 0);
        for second in 0..600 {
            for _ in 0..10 {
                let at = limit.limit();
                let failed = u64::from(at.saturating_sub(THREADS)) * 10;
                let answered = u64::from(at.min(THREADS));
                let broke_at = (failed > 0).then_some(THREADS);
                let fastest = Some(100_000);
                limit.take(Window { millis: 100, answered, failed, broke_at, fastest, was_full: true });
                (broken, of) = (broken + failed.min(1), of + 1);
            }
            assert!(second < 5 || limit.limit() >= 32, "{} after {second} s", limit.limit());
        }
        assert!(broken <= 8, "{broken} of {of} windows had broken connections");
    }

    #[test]
    fn nothing_is_learned_where_nobody_waited() {
        let mut limit = AdaptiveLimit::default();
        let idle = Window { millis: 1000, answered: 3, fastest: Some(900), ..Window::default() };
        assert_eq!((limit.take(idle), limit.take(idle)), (32, 32));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        #[test]
        fn chance_does_not_lead_it_astray(seed in any::<u64>(), count in 4u32..128, millis in 2u32..200) {
            let mut state = seed | 1;
            let mut chance = || {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                (state >> 33) as f64 / f64::from(1u32 << 30) - 1.0
            };
            let (count, millis) = (f64::from(count), f64::from(millis));
            let replica = workers(count, millis);
            let (rate, at) = run(&mut known(&replica), 240, &replica, &mut chance);
            let best = count * 1000.0 / millis;
            prop_assert!(rate >= best * 0.85, "{rate} of {best} at {at}");
            prop_assert!(at <= count * 2.5 + 8.0, "{at} for {count} workers");
        }

        #[test]
        fn it_stays_within_its_bounds(
            windows in proptest::collection::vec((0u64..5000, 0u64..100_000, 0u64..9_000_000, any::<bool>()), 1..300),
        ) {
            let mut limit = AdaptiveLimit::default();
            for (millis, answered, fastest, was_full) in windows {
                let fastest = (answered > 0).then_some(fastest);
                let taken = limit.take(Window { millis, answered, fastest, was_full, ..Window::default() });
                prop_assert!((4..=1024).contains(&taken), "{taken}");
            }
        }
    }
}
