//! GuessLimit at what opens a route, by visitor: each failure after the first few makes the next one wait longer.

use std::net::IpAddr;
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use mainyard_core::sign_in_backoff::SignInBackoff;

/// Failed attempts of visitors.
#[derive(Debug)]
pub struct GuessLimit {
    attempts: Mutex<SignInBackoff>,
    begun: Instant,
}

impl Default for GuessLimit {
    fn default() -> GuessLimit {
        // Many visitors of a busy route mistype their passwords: only each one's own failures count.
        GuessLimit { attempts: Mutex::new(SignInBackoff::by_address_only()), begun: Instant::now() }
    }
}

impl GuessLimit {
    fn with<T>(&self, act: impl FnOnce(&mut SignInBackoff, u64) -> T) -> T {
        let now = self.begun.elapsed().as_millis() as u64;
        act(&mut self.attempts.lock().unwrap_or_else(PoisonError::into_inner), now)
    }

    /// Whether a visitor may try now.
    ///
    /// # Errors
    /// The whole seconds that it has to wait.
    pub fn may_try(&self, visitor: IpAddr) -> Result<(), u64> {
        self.with(|attempts, now| attempts.may_try(visitor, now)).map_err(|wait| wait.div_ceil(1000))
    }

    /// A visitor showed what does not open the route.
    pub fn failed(&self, visitor: IpAddr) {
        self.with(|attempts, now| attempts.failed(visitor, now));
    }

    /// A visitor was let in.
    pub fn succeeded(&self, visitor: IpAddr) {
        self.with(|attempts, _| attempts.succeeded(visitor));
    }
}
