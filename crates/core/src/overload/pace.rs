//! How many may wait where each may wait for so long: as many as are served in that time.

/// The pace is measured over so many milliseconds.
const MEASURED_MS: u64 = 100;
/// A slower measurement than before takes effect bit by bit: one moment of waiting is no slower pace.
const KEPT: f64 = 0.9;
/// The first measurements of a crowd that has just come tell of how it came.
const FIRST: u32 = 10;
/// So many may wait whatever the pace is: where almost nothing is served, a few must still be able to wait for it.
const LEAST: usize = 16;

/// How fast those that wait are served.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Pace {
    /// When the measurement began, in milliseconds of any clock.
    began: u64,
    served: u64,
    measurements: u32,
    per_second: f64,
}

impl Pace {
    /// One that waited was served.
    pub fn serve(&mut self, now: u64) {
        self.look(now);
        self.served += 1;
    }

    /// Nothing waited until now: a new measurement begins. What was known stays known.
    pub fn begin(&mut self, now: u64) {
        (self.began, self.served) = (now, 0);
    }

    /// How many may wait, of `most`, where each may wait for so many milliseconds.
    pub fn room(&mut self, now: u64, most: usize, wait_ms: u64) -> usize {
        self.look(now);
        if self.measurements < FIRST {
            return most;
        }
        let served = (self.per_second * wait_ms as f64 / 1000.0) as usize;
        served.max(LEAST).min(most)
    }

    fn look(&mut self, now: u64) {
        let millis = now.saturating_sub(self.began);
        if millis < MEASURED_MS {
            return;
        }
        let measured = self.served as f64 * 1000.0 / millis as f64;
        self.per_second = measured.max(self.per_second * KEPT);
        self.measurements = self.measurements.saturating_add(1);
        self.begin(now);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn as_many_may_wait_as_are_served_in_their_time() {
        let mut pace = Pace::default();
        pace.begin(0);
        assert_eq!(pace.room(50, 1000, 1000), 1000, "nothing is known yet");
        // Two hundred a second.
        for at in 0..300 {
            pace.serve(at * 5);
        }
        let room = pace.room(1500, 1000, 500);
        assert!((90..=110).contains(&room), "{room}");
        pace.begin(60_000);
        assert_eq!(pace.room(60_001, 1000, 500), room, "what was known stays known");
        assert!(pace.room(90_000, 1000, 500) < room, "nothing was served since");
        (1..60).for_each(|time| _ = pace.room(90_000 + time * 1000, 1000, 500));
        assert_eq!((pace.room(200_000, 1000, 500), pace.room(200_000, 10, 500)), (16, 10));
    }
}
