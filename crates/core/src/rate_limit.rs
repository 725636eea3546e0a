//! A rate that one visitor may not exceed, with a burst (the generic cell rate algorithm of ITU-T I.371): one number is
//! remembered for each visitor.

use crate::model::Rate;

/// A rate, ready to be checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RateLimiter {
    /// Microseconds that one request stands for.
    each: u64,
    /// Microseconds by which a visitor may be ahead.
    ahead: u64,
}

impl RateLimiter {
    /// The declared rate.
    pub fn of(rate: &Rate) -> RateLimiter {
        let every = rate.every.millis().max(1).saturating_mul(1000);
        let each = (every / u64::from(rate.requests.max(1))).max(1);
        let burst = u64::from(rate.burst.unwrap_or(rate.requests).max(1));
        RateLimiter { each, ahead: each.saturating_mul(burst - 1) }
    }

    /// Whether a visitor may ask at `now`. `due` is what the last call gave, or 0; times are in microseconds of one
    /// clock. Gives the next `due`.
    ///
    /// # Errors
    /// The microseconds after which it may.
    pub fn take(self, due: u64, now: u64) -> Result<u64, u64> {
        let from = due.max(now);
        match (from - now).checked_sub(self.ahead) {
            None | Some(0) => Ok(from + self.each),
            Some(wait) => Err(wait),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Span;
    use proptest::prelude::*;

    fn rate(requests: u32, burst: u32) -> RateLimiter {
        RateLimiter::of(&Rate { requests, every: Span::from_secs(1), burst: Some(burst) })
    }

    #[test]
    fn a_burst_and_then_the_rate() {
        let pace = rate(2, 3);
        let (mut due, mut let_in) = (0, Vec::new());
        for now in (0..3_000_000).step_by(100_000) {
            if let Ok(next) = pace.take(due, now) {
                due = next;
                let_in.push(now / 1000);
            }
        }
        assert_eq!(let_in, [0, 100, 200, 500, 1000, 1500, 2000, 2500]);
        assert_eq!(pace.take(due, 2_900_000), Err(100_000), "it says when");
    }

    proptest! {
        #[test]
        fn never_more_than_burst_and_rate(
            requests in 1u32..50, burst in 1u32..20, gaps in proptest::collection::vec(0u64..200_000, 1..300),
        ) {
            let pace = rate(requests, burst);
            let (mut due, mut now, mut let_in) = (0, 1_000_000, Vec::new());
            for gap in gaps {
                now += gap;
                if let Ok(next) = pace.take(due, now) {
                    due = next;
                    let_in.push(now);
                }
            }
            for (first, from) in let_in.iter().enumerate() {
                for (last, to) in let_in.iter().enumerate().skip(first) {
                    let most = u64::from(burst) + (to - from) / (1_000_000 / u64::from(requests)) ;
                    prop_assert!((last - first + 1) as u64 <= most);
                }
            }
        }
    }
}
