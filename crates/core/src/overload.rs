//! What keeps a service answering when more is asked than its replicas can take.
//!
//! Each replica takes a limited number of requests at once: the declared one, or one that is found ([`AdaptiveLimit`]). What
//! is more waits in a queue that visitors share fairly ([`FairQueue`]) and that is no longer than can be served in time
//! ([`Pace`]), and what is more than that is refused at once.
//! So a replica does as much useful work under any load as at its best, and an answer that is given is given in time.

mod adaptive_limit;
mod fair_queue;
mod pace;

pub use adaptive_limit::{AdaptiveLimit, Window};
pub use fair_queue::{FairQueue, Pushed};
pub use pace::Pace;
