//! One change of the cluster: all of it has one time, and says who caused it.

use std::ops::{Deref, DerefMut};

use jiff::Timestamp;

use super::Cluster;
use super::pending_changes::PLATFORM;
use crate::model::{Origin, Target};
use crate::record::{Kind, Object};

/// The cluster while somebody changes it. Only here can an object be written, so that no change is without a cause and a
/// time.
///
/// Functions that read are on [`Cluster`]; functions that write are on this type.
pub struct Transaction<'c> {
    cluster: &'c mut Cluster,
    /// The author: a member, or the platform itself.
    pub(super) by: String,
    /// When it happens.
    pub(super) now: Timestamp,
    /// The cause that is recorded with each change.
    pub(super) cause: Origin,
}

impl Deref for Transaction<'_> {
    type Target = Cluster;

    fn deref(&self) -> &Cluster {
        self.cluster
    }
}

impl DerefMut for Transaction<'_> {
    fn deref_mut(&mut self) -> &mut Cluster {
        self.cluster
    }
}

impl Cluster {
    /// A member changes something now.
    pub fn transaction(&mut self, by: &str, now: Timestamp) -> Transaction<'_> {
        let cause = Origin::new(by, "asked", now);
        Transaction { cluster: self, by: by.to_owned(), now, cause }
    }

    /// The platform itself changes something now: it was told of something, or time has passed.
    pub fn at(&mut self, now: Timestamp) -> Transaction<'_> {
        let cause = Origin::new(PLATFORM, "settled", now);
        Transaction { cluster: self, by: PLATFORM.to_owned(), now, cause }
    }

    /// Lets a member do something now, whole or not at all: where it is refused, what it wrote is taken back.
    ///
    /// # Errors
    /// The refusal.
    pub(crate) fn attempt<T, E>(
        &mut self,
        by: &str,
        now: Timestamp,
        act: impl FnOnce(&mut Transaction<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        let before = self.changes.begin_undo();
        let outcome = act(&mut self.transaction(by, now));
        match &outcome {
            Ok(_) => self.changes.end_undo(before),
            Err(_) => self.undo(before),
        }
        outcome
    }
}

impl Transaction<'_> {
    /// The author.
    pub fn by(&self) -> &str {
        &self.by
    }

    /// When it happens.
    pub fn now(&self) -> Timestamp {
        self.now
    }

    /// Says what the person does: it is the cause of all that is written from here on.
    pub(super) fn act(&mut self, act: impl Into<String>) {
        self.cause = Origin::new(&self.by, act, self.now);
    }

    /// From here on the platform itself is the cause.
    pub(super) fn act_by_itself(&mut self) {
        self.cause = Origin::new(PLATFORM, "settled", self.now);
    }

    /// Writes an object as it is now.
    pub(super) fn put(&mut self, object: Object) {
        let (kind, key) = (object.kind(), object.key());
        self.note(kind, key, Some(object.clone()));
        self.cluster.state.put(object);
    }

    /// Removes an object.
    pub(super) fn remove(&mut self, kind: Kind, key: String) {
        self.note(kind, key.clone(), None);
        self.cluster.state.remove(kind, &key);
    }

    fn note(&mut self, kind: Kind, key: String, object: Option<Object>) {
        let Cluster { state, changes, table, .. } = &mut *self.cluster;
        table.mark(kind, &key);
        changes.note(kind, key, object, &self.cause, state);
    }

    /// A workload is to be decided about, and what leads to it may differ.
    pub(super) fn touch(&mut self, workload: &Target) {
        self.cluster.work.add(workload);
        self.cluster.table.touch();
    }
}
