//! Turns at a digest: what two would do with one blob is done once.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError, Weak};

use tokio::sync::OwnedMutexGuard;

/// Gives turns, one at a time for each name.
#[derive(Debug, Clone, Default)]
pub struct Turns(Arc<Mutex<HashMap<String, Weak<tokio::sync::Mutex<()>>>>>);

impl Turns {
    /// Waits for the turn at this name. It lasts as long as what is given is kept.
    pub async fn at(&self, name: &str) -> OwnedMutexGuard<()> {
        let turn = {
            let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            known.retain(|_, turn| turn.strong_count() > 0);
            let turn: Arc<_> = known.get(name).and_then(Weak::upgrade).unwrap_or_default();
            known.insert(name.to_owned(), Arc::downgrade(&turn));
            turn
        };
        turn.lock_owned().await
    }
}
