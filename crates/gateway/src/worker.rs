//! What a worker has at hand.

use std::sync::Arc;

use crate::backend::Pool;
use crate::serving::Serving;

/// What a worker forwards with.
#[derive(Clone)]
pub struct Forwarder {
    /// Shared by all workers.
    pub serving: Arc<Serving>,
    /// This worker's number, from 0.
    pub worker: usize,
    /// This worker's own.
    pub pool: Pool,
}
