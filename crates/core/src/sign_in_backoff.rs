//! How often signing in may be tried: a delay that doubles with each failure, for each address and for all together.

use std::collections::BTreeMap;
use std::net::IpAddr;

/// Failures that cost nothing: a person may paste an old link.
const FREE: u32 = 5;
/// The first delay, in milliseconds; each further failure doubles it.
const FIRST_DELAY: u64 = 1_000;
/// The longest delay.
const LONGEST_DELAY: u64 = 5 * 60_000;
/// Failures are forgotten after so long without another.
const FORGOTTEN_AFTER: u64 = 15 * 60_000;
/// Failures of all addresses together that cost nothing.
const FREE_IN_TOTAL: u32 = 100;
/// Addresses that are remembered; one more makes room by forgetting the one that failed longest ago.
const REMEMBERED: usize = 10_000;

#[derive(Debug, Clone, Copy, Default)]
struct Failures {
    count: u32,
    last: u64,
}

impl Failures {
    fn fail(&mut self, now: u64) {
        *self = Failures { count: self.current(now).saturating_add(1), last: now };
    }

    fn current(&self, now: u64) -> u32 {
        if now.saturating_sub(self.last) > FORGOTTEN_AFTER { 0 } else { self.count }
    }

    /// Milliseconds until the next attempt is taken.
    fn wait(&self, now: u64, free: u32) -> u64 {
        let beyond = self.current(now).saturating_sub(free);
        if beyond == 0 {
            return 0;
        }
        let delay = FIRST_DELAY.checked_shl(beyond - 1).unwrap_or(LONGEST_DELAY).min(LONGEST_DELAY);
        (self.last + delay).saturating_sub(now)
    }
}

/// Failed attempts to sign in.
#[derive(Debug, Default)]
pub struct SignInBackoff {
    by_address: BTreeMap<IpAddr, Failures>,
    total: Failures,
    /// Whether failures of all addresses together count too.
    each_alone: bool,
}

impl SignInBackoff {
    /// Counted for each address apart.
    pub fn by_address_only() -> SignInBackoff {
        SignInBackoff { each_alone: true, ..SignInBackoff::default() }
    }

    /// Whether an address may try now.
    ///
    /// # Errors
    /// The milliseconds that it has to wait.
    pub fn may_try(&self, address: IpAddr, now: u64) -> Result<(), u64> {
        let own = self.by_address.get(&address).map_or(0, |failures| failures.wait(now, FREE));
        let total = if self.each_alone { 0 } else { self.total.wait(now, FREE_IN_TOTAL) };
        match own.max(total) {
            0 => Ok(()),
            wait => Err(wait),
        }
    }

    /// An attempt failed. Times are milliseconds of any clock that does not go back.
    pub fn failed(&mut self, address: IpAddr, now: u64) {
        if self.by_address.len() >= REMEMBERED && !self.by_address.contains_key(&address) {
            let oldest = self.by_address.iter().min_by_key(|(_, failures)| failures.last);
            if let Some(oldest) = oldest.map(|(address, _)| *address) {
                self.by_address.remove(&oldest);
            }
        }
        self.by_address.entry(address).or_default().fail(now);
        self.total.fail(now);
    }

    /// An attempt succeeded: the address begins afresh.
    pub fn succeeded(&mut self, address: IpAddr) {
        self.by_address.remove(&address);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn address(last: u8) -> IpAddr {
        IpAddr::from([127, 0, 0, last])
    }

    #[test]
    fn the_delay_doubles_up_to_five_minutes_and_is_forgotten() {
        let mut attempts = SignInBackoff::default();
        let mut now = 0;
        let mut delays = Vec::new();
        for _ in 0..16 {
            attempts.failed(address(1), now);
            let wait = attempts.may_try(address(1), now).err().unwrap_or(0);
            delays.push(wait / 1000);
            now += wait;
        }
        assert_eq!(delays, [0, 0, 0, 0, 0, 1, 2, 4, 8, 16, 32, 64, 128, 256, 300, 300]);
        assert!(attempts.may_try(address(2), now).is_ok(), "another address does not wait");
        attempts.succeeded(address(1));
        assert!(attempts.may_try(address(1), now).is_ok());
        attempts.failed(address(3), now);
        assert!(attempts.may_try(address(3), now + FORGOTTEN_AFTER + 1).is_ok());
    }

    #[test]
    fn many_addresses_together_wait_too_and_none_fills_the_memory() {
        let mut attempts = SignInBackoff::default();
        for number in 0..=FREE_IN_TOTAL {
            attempts.failed(IpAddr::from(number.to_be_bytes()), 0);
        }
        assert!(attempts.may_try(address(9), 0).is_err(), "all together tried too often");
        for number in 0..2 * REMEMBERED as u32 {
            attempts.failed(IpAddr::from(number.to_be_bytes()), u64::from(number));
        }
        assert!(attempts.by_address.len() <= REMEMBERED);
    }
}
