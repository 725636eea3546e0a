//! Holding visitors to a route's rate, each by its address. What is remembered is bounded.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use mainyard_core::model::Rate;
use mainyard_core::rate_limit::RateLimiter;

/// Visitors remembered at once; past that, the ones that could ask anyway are forgotten first, then all.
const REMEMBERED: usize = 100_000;

/// One route's visitors.
#[derive(Debug)]
pub struct Limiter {
    /// As it was declared.
    pub rate: Rate,
    pace: RateLimiter,
    began: Instant,
    due: Mutex<HashMap<IpAddr, u64>>,
}

impl Limiter {
    /// No request came yet.
    pub fn new(rate: Rate) -> Limiter {
        Limiter { pace: RateLimiter::of(&rate), rate, began: Instant::now(), due: Mutex::default() }
    }

    /// Whether this visitor may ask now.
    ///
    /// # Errors
    /// The whole seconds after which it may.
    pub fn take(&self, visitor: IpAddr) -> Result<(), u64> {
        // One network of IPv6 is one visitor: its owner has 2^64 addresses of it.
        let visitor = match visitor {
            IpAddr::V6(address) => IpAddr::V6((u128::from(address) >> 64 << 64).into()),
            plain => plain,
        };
        let now = self.began.elapsed().as_micros() as u64;
        let mut due = self.due.lock().unwrap_or_else(PoisonError::into_inner);
        if due.len() >= REMEMBERED && !due.contains_key(&visitor) {
            due.retain(|_, due| *due > now);
            if due.len() >= REMEMBERED {
                due.clear();
            }
        }
        let known = due.entry(visitor).or_insert(0);
        match self.pace.take(*known, now) {
            Ok(next) => {
                *known = next;
                Ok(())
            }
            Err(wait) => Err(wait.div_ceil(1_000_000)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mainyard_core::model::Span;

    #[test]
    fn each_visitor_has_its_own_rate() {
        let limiter = Limiter::new(Rate { requests: 2, every: Span::from_secs(3600), burst: None });
        let visitor = |last: u8| IpAddr::from([127, 0, 0, last]);
        assert_eq!((limiter.take(visitor(1)), limiter.take(visitor(1))), (Ok(()), Ok(())));
        assert_eq!(limiter.take(visitor(1)), Err(1800));
        assert_eq!(limiter.take(visitor(2)), Ok(()));
        let v6 = |text: &str| text.parse::<IpAddr>().expect("an address");
        assert!(limiter.take(v6("2001:db8::1")).is_ok() && limiter.take(v6("2001:db8::2")).is_ok());
        assert!(limiter.take(v6("2001:db8::3")).is_err(), "one network is one visitor");
    }
}
