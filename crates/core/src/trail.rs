//! The trail: who did what, a row for each act.
//!
//! One act changes several objects: a deploy changes a workload, makes a release and begins a rollout. They share their
//! cause and stand in one row, under the object that the act is about.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::Origin;
use crate::record::Kind;

/// The name for the platform's own acts.
const PLATFORM: &str = "platform";

/// One act of a member, or one thing that the platform did by itself.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TrailEntry {
    /// The number of the change that the row stands at: of several, the last.
    pub number: u64,
    /// The kind of what the act is about.
    pub kind: Kind,
    /// Its key.
    pub key: String,
    /// When it was written.
    pub at: Timestamp,
    /// The member or part that did it.
    pub cause: Origin,
    /// The result, in few words.
    pub so_that: String,
    /// Other changes of the same act.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<TrailChange>,
}

/// A further change of one act.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TrailChange {
    /// The kind of what changed.
    pub kind: Kind,
    /// Its key.
    pub key: String,
    /// The result, in few words.
    pub so_that: String,
}

/// The subject of an act goes before its consequences.
fn rank(kind: Kind) -> usize {
    const ORDER: [Kind; 8] = [
        Kind::Source,
        Kind::Workload,
        Kind::Route,
        Kind::Service,
        Kind::Secret,
        Kind::Certificate,
        Kind::Image,
        Kind::Release,
    ];
    ORDER.iter().position(|it| *it == kind).unwrap_or(ORDER.len())
}

/// Rows of the trail, the newest first, with one more change each: changes come the newest first too.
#[derive(Debug, Default)]
pub struct Rows {
    rows: Vec<TrailEntry>,
}

impl Rows {
    /// Takes the next older change in.
    pub fn add(&mut self, change: TrailEntry) {
        if change.cause.by == PLATFORM { self.add_of_platform(change) } else { self.add_of_member(change) }
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// The rows, the newest first.
    pub fn into_vec(mut self) -> Vec<TrailEntry> {
        self.rows.sort_by_key(|row| std::cmp::Reverse(row.number));
        self.rows
    }

    /// Of one act, several changes are one row.
    fn add_of_member(&mut self, change: TrailEntry) {
        // The changes of one act are written together, so they stand close to each other.
        let same = self.rows.iter_mut().rev().take(200).find(|row| row.cause == change.cause);
        let Some(row) = same else { return self.rows.push(change) };
        // An object that the act changed twice is shown as it was left.
        let known = (row.kind, &row.key) == (change.kind, &change.key)
            || row.also.iter().any(|it| (it.kind, &it.key) == (change.kind, &change.key));
        if known {
            return;
        }
        let mut further = TrailChange { kind: change.kind, key: change.key, so_that: change.so_that };
        if rank(further.kind) < rank(row.kind) {
            std::mem::swap(&mut row.kind, &mut further.kind);
            std::mem::swap(&mut row.key, &mut further.key);
            std::mem::swap(&mut row.so_that, &mut further.so_that);
        }
        row.also.push(further);
        row.also.sort_by(|a, b| (rank(a.kind), &a.key).cmp(&(rank(b.kind), &b.key)));
    }

    /// A sentence that the platform noted several times stands there once, as it came.
    fn add_of_platform(&mut self, change: TrailEntry) {
        let mut newer =
            self.rows.iter_mut().rev().filter(|row| (row.kind, &row.key) == (change.kind, &change.key));
        match newer.next() {
            Some(row) if row.cause.by == PLATFORM && row.so_that == change.so_that => *row = change,
            _ => self.rows.push(change),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change(number: u64, by: &str, kind: Kind, key: &str, so_that: &str) -> TrailEntry {
        let at = Timestamp::UNIX_EPOCH;
        let cause = Origin::new(by, if by == PLATFORM { "settled" } else { "deployed" }, at);
        TrailEntry { number, kind, key: key.into(), at, cause, so_that: so_that.into(), also: Vec::new() }
    }

    fn rows(changes: Vec<TrailEntry>) -> Vec<TrailEntry> {
        let mut rows = Rows::default();
        changes.into_iter().for_each(|change| rows.add(change));
        rows.into_vec()
    }

    #[test]
    fn repeated_trail_entries_of_the_platform_are_merged_in_order() {
        let shown = rows(vec![
            change(9, PLATFORM, Kind::Workload, "staging/a", "failing"),
            change(8, PLATFORM, Kind::Workload, "staging/b", "steady"),
            change(7, PLATFORM, Kind::Workload, "staging/a", "failing"),
            change(6, "mira", Kind::Workload, "staging/a", "failing"),
        ]);
        assert_eq!(shown.iter().map(|row| row.number).collect::<Vec<_>>(), [8, 7, 6]);
    }

    #[test]
    fn one_act_is_one_row_under_what_it_is_about() {
        let shown = rows(vec![
            change(5, "mira", Kind::Rollout, "staging/a@2", "starting"),
            change(4, "mira", Kind::Release, "staging/a@2", "runs l/a:2"),
            change(3, "mira", Kind::Workload, "staging/a", "3 wanted, release 2"),
            change(2, "noor", Kind::Workload, "staging/a", "3 wanted, release 1"),
        ]);
        assert_eq!(shown.len(), 2);
        assert_eq!((shown[0].kind, shown[0].key.as_str()), (Kind::Workload, "staging/a"));
        let also: Vec<Kind> = shown[0].also.iter().map(|it| it.kind).collect();
        assert_eq!(also, [Kind::Release, Kind::Rollout]);
    }

    #[test]
    fn an_object_that_an_act_changed_twice_is_shown_as_it_was_left() {
        let shown = rows(vec![
            change(5, "mira", Kind::Workload, "staging/a", "as it was left"),
            change(3, "mira", Kind::Workload, "staging/a", "in between"),
        ]);
        assert_eq!(shown.len(), 1);
        assert_eq!(shown[0].so_that, "as it was left");
    }
}
