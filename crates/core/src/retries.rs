//! Whether a request that failed is sent to another replica.
//!
//! A request whose first byte never left may always go to another replica; that is no retry. Anything else may have taken
//! effect. So only idempotent requests without a body are sent again (RFC 9110, section 9.2.2): once where an idle
//! connection turned out to be closed, and as often as the route declares for the failures that it names.

use crate::model::{Repeat, RepeatOn};

/// How a request failed after it was sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Failure {
    /// The connection broke before an answer began.
    Broken {
        /// Whether the connection had carried requests before: then it may have been closed while it was idle.
        reused: bool,
    },
    /// The answer did not begin in time.
    Late,
    /// The replica answered with this status.
    Answered(u16),
}

/// The retries that one request has left.
#[derive(Debug, Clone)]
pub struct Retries<'a> {
    declared: Option<&'a Repeat>,
    idempotent: bool,
    left: u32,
    sent_again: bool,
}

impl<'a> Retries<'a> {
    /// Of a request with this method; `bodiless` where no byte of a body follows its head.
    pub fn new(method: &str, bodiless: bool, declared: Option<&'a Repeat>) -> Retries<'a> {
        let idempotent = matches!(method, "GET" | "HEAD") && bodiless;
        let declared = declared.filter(|_| idempotent);
        Retries { declared, idempotent, left: declared.map_or(0, |repeat| repeat.times), sent_again: false }
    }

    /// How many retries that the route declares are left.
    pub fn left(&self) -> u32 {
        self.left
    }

    /// Whether the request may be sent again at all, whatever happens.
    pub fn is_idempotent(&self) -> bool {
        self.idempotent
    }

    /// Whether it may still be sent again, so that a copy of it is worth keeping.
    pub fn remain(&self) -> bool {
        self.idempotent && (!self.sent_again || self.left > 0)
    }

    /// Whether it is sent again after this failure; if so, that retry is used up.
    pub fn again(&mut self, failure: Failure) -> bool {
        if !self.idempotent {
            return false;
        }
        // Nothing was answered on a connection that was closed while idle, and a second GET changes nothing.
        let closed_while_idle = failure == Failure::Broken { reused: true } && !self.sent_again;
        let declared = self.left > 0 && self.declares(failure);
        if !closed_while_idle {
            self.left -= u32::from(declared);
        }
        self.sent_again |= closed_while_idle || declared;
        closed_while_idle || declared
    }

    fn declares(&self, failure: Failure) -> bool {
        let on = match failure {
            Failure::Broken { .. } => RepeatOn::Broken,
            Failure::Late => RepeatOn::Late,
            Failure::Answered(502..=504) => RepeatOn::Unavailable,
            Failure::Answered(_) => return false,
        };
        self.declared.is_some_and(|repeat| repeat.on.contains(&on))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn failures() -> impl Strategy<Value = Failure> {
        prop_oneof![
            any::<bool>().prop_map(|reused| Failure::Broken { reused }),
            Just(Failure::Late),
            (200u16..600).prop_map(Failure::Answered),
        ]
    }

    fn declared(times: u32, on: &[RepeatOn]) -> Repeat {
        Repeat { times, on: on.iter().copied().collect() }
    }

    proptest! {
        #[test]
        fn a_request_is_sent_again_at_most_once_more_than_declared(
            all in prop::collection::vec(failures(), 0..20),
            times in 0u32..5,
        ) {
            let repeat = declared(times, &[RepeatOn::Broken, RepeatOn::Late, RepeatOn::Unavailable]);
            let mut retries = Retries::new("GET", true, Some(&repeat));
            let again = all.into_iter().filter(|failure| retries.again(*failure)).count();
            prop_assert!(again <= times as usize + 1);
        }

        #[test]
        fn a_request_that_may_have_taken_effect_is_never_retried(
            all in prop::collection::vec(failures(), 0..20),
            method in prop_oneof![Just("POST"), Just("PUT"), Just("DELETE"), Just("PATCH"), Just("OPTIONS")],
        ) {
            let repeat = declared(4, &[RepeatOn::Broken, RepeatOn::Late, RepeatOn::Unavailable]);
            let mut retries = Retries::new(method, true, Some(&repeat));
            prop_assert!(!retries.remain() && all.iter().all(|failure| !retries.again(*failure)));
            let mut with_body = Retries::new("GET", false, Some(&repeat));
            prop_assert!(all.into_iter().all(|failure| !with_body.again(failure)));
        }
    }

    #[test]
    fn a_request_on_a_stale_pooled_connection_is_retried_once() {
        let mut retries = Retries::new("GET", true, None);
        assert!(retries.again(Failure::Broken { reused: true }));
        assert!(!retries.again(Failure::Broken { reused: true }) && !retries.remain());
        assert!(!Retries::new("GET", true, None).again(Failure::Broken { reused: false }));
    }

    #[test]
    fn only_failures_that_the_route_names_use_up_its_retries() {
        let repeat = declared(1, &[RepeatOn::Unavailable]);
        let mut retries = Retries::new("GET", true, Some(&repeat));
        assert!(!retries.again(Failure::Late) && !retries.again(Failure::Answered(500)));
        assert!(retries.again(Failure::Answered(503)));
        assert!(!retries.again(Failure::Answered(503)));
    }
}
