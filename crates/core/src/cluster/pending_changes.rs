//! Changes that were made in memory and are not yet written.

use std::collections::BTreeMap;

use crate::model::Origin;
use crate::record::{Change, Kind, Object, State};

/// The name for the platform's own acts.
pub(super) const PLATFORM: &str = "platform";

/// Which object: its kind and its key.
type Index = (Kind, String);

/// The values of objects before a command touched them, and the writes that were pending.
#[derive(Debug, Clone, Default)]
pub(super) struct Undo {
    objects: BTreeMap<Index, (Option<Object>, Option<Change>)>,
}

/// The last change of each object, until all are handed out at once.
#[derive(Debug, Clone, Default)]
pub(super) struct PendingChanges {
    by_object: BTreeMap<Index, Change>,
    /// Gathered while a command runs, which may be refused half-way.
    undo: Option<Undo>,
}

impl PendingChanges {
    /// Notes that an object is now so, or is gone; `state` still has it as it was.
    ///
    /// An act that a person caused stays theirs when the platform continues it before it is written.
    pub(super) fn note(
        &mut self,
        kind: Kind,
        key: String,
        object: Option<Object>,
        cause: &Origin,
        state: &State,
    ) {
        let index = (kind, key.clone());
        let earlier = self.by_object.get(&index);
        if let Some(undo) = &mut self.undo {
            let before = || (state.object(kind, &key), earlier.cloned());
            undo.objects.entry(index.clone()).or_insert_with(before);
        }
        let theirs = earlier.filter(|_| cause.by == PLATFORM).map(|earlier| earlier.cause.clone());
        let cause = theirs.unwrap_or_else(|| cause.clone());
        self.by_object.insert(index, Change { kind, key, object, cause });
    }

    /// Which objects have changed.
    pub(super) fn objects(&self) -> impl Iterator<Item = &Index> {
        self.by_object.keys()
    }

    /// Hands all of them out.
    pub(super) fn take(&mut self) -> Vec<Change> {
        std::mem::take(&mut self.by_object).into_values().collect()
    }

    /// Forgets all of them.
    pub(super) fn clear(&mut self) {
        self.by_object.clear();
    }

    /// From here on, what objects were is kept. Gives what was kept until now.
    pub(super) fn begin_undo(&mut self) -> Option<Undo> {
        self.undo.replace(Undo::default())
    }

    /// The command was done: nothing of it is taken back any more.
    pub(super) fn end_undo(&mut self, before: Option<Undo>) {
        self.undo = before;
    }

    /// Takes back what was noted since [`PendingChanges::begin_undo`]. Gives the objects as they were.
    pub(super) fn undo(&mut self, before: Option<Undo>) -> Vec<(Index, Option<Object>)> {
        let undo = std::mem::replace(&mut self.undo, before).unwrap_or_default();
        let mut objects = Vec::new();
        for (index, (object, change)) in undo.objects {
            match change {
                Some(change) => self.by_object.insert(index.clone(), change),
                None => self.by_object.remove(&index),
            };
            objects.push((index, object));
        }
        objects
    }
}
