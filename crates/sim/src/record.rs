//! The record: what was written, by whom, and who may write.

use mainyard_core::record::{Change, State};

/// How long a control decides without renewing, in milliseconds.
pub(crate) const LEASE: u64 = 10_000;

/// The record, with its lease.
#[derive(Debug, Default)]
pub(crate) struct Record {
    pub state: State,
    pub number: u64,
    pub epoch: u64,
    pub holder: usize,
    pub lease_until: u64,
}

impl Record {
    /// As the store does it: under its own name at once, otherwise when the lease has run out.
    pub(crate) fn take_lease(&mut self, control: usize, now: u64) -> Option<u64> {
        if self.epoch > 0 && self.holder != control && self.lease_until >= now {
            return None;
        }
        self.epoch += 1;
        (self.holder, self.lease_until) = (control, now + LEASE);
        Some(self.epoch)
    }

    pub(crate) fn renew(&mut self, epoch: u64, now: u64) -> bool {
        if epoch == self.epoch {
            self.lease_until = now + LEASE;
        }
        epoch == self.epoch
    }

    /// All or nothing; nothing for a control that was superseded.
    pub(crate) fn write(&mut self, epoch: u64, changes: &[Change], now: u64) -> bool {
        if !self.renew(epoch, now) {
            return false;
        }
        for change in changes {
            self.number += 1;
            match &change.object {
                Some(object) => self.state.put(object.clone()),
                None => self.state.remove(change.kind, &change.key),
            }
        }
        true
    }
}
