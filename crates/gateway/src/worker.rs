//! The state of one worker thread.

use std::cell::Cell;
use std::rc::Rc;
use std::sync::Arc;
use std::time::Instant;

use crate::backend::Pool;
use crate::request_log::Note;
use crate::serving::Serving;

/// Connections and settings that a worker forwards with.
#[derive(Clone)]
pub(crate) struct Forwarder {
    /// Shared by all workers.
    pub serving: Arc<Serving>,
    /// This worker's number, from 0.
    pub worker: usize,
    /// This worker's own.
    pub pool: Pool,
    /// When it last copied a request.
    pub last_copy: Rc<Cell<Option<Instant>>>,
    /// Counts the copies.
    pub copies: Rc<Cell<usize>>,
}

impl Forwarder {
    /// Of the worker with this number.
    pub(crate) fn new(serving: Arc<Serving>, worker: usize) -> Forwarder {
        let (pool, last_copy, copies) = Default::default();
        Forwarder { serving, worker, pool, last_copy, copies }
    }

    /// Remembers a request that ended.
    pub(crate) fn remember(&self, note: Note, micros: u64, received: u64, sent: u64) {
        self.serving.seen.remember(self.worker, note, micros, received, sent);
    }
}
