//! A workload's replicas, distinguished by what the present move makes of them.

use jiff::Timestamp;

use super::{View, is_fault};
use crate::model::{Reason, Replica, ReplicaState};

/// Replicas of the wanted release, and all others that stay.
pub(super) struct Counts<'a> {
    /// Of the wanted release.
    pub new: Vec<&'a Replica>,
    /// Of any other.
    pub old: Vec<&'a Replica>,
    /// How many are on their way out.
    pub leaving: usize,
    /// Of the new ones, how many stayed ready long enough to count.
    pub counted: usize,
    /// When the next one will count.
    pub settled_at: Option<Timestamp>,
}

impl<'a> Counts<'a> {
    pub(super) fn of(view: View<'a>, now: Timestamp) -> Counts<'a> {
        let target = view.workload.release;
        let staying = view.replicas.iter().filter(|replica| replica.state.is_staying());
        let (new, old): (Vec<_>, Vec<_>) = staying.partition(|replica| replica.release == target);
        let settle = view.workload.rule.settle.signed();
        let ready = new.iter().filter(|replica| replica.state == ReplicaState::Ready);
        let settled: Vec<Timestamp> = ready.map(|replica| replica.since + settle).collect();
        let leaving = view.replicas.iter().filter(|replica| replica.state == ReplicaState::Draining).count();
        Counts {
            counted: settled.iter().filter(|at| **at <= now).count(),
            settled_at: settled.into_iter().filter(|at| *at > now).min(),
            new,
            old,
            leaving,
        }
    }

    /// Of the new ones, how many take requests.
    pub(super) fn new_ready(&self) -> usize {
        ready(&self.new)
    }

    /// Of the others, how many take requests.
    pub(super) fn old_ready(&self) -> usize {
        ready(&self.old)
    }

    /// The reason why a new replica would never be ready.
    pub(super) fn fault(&self) -> Option<&'a Reason> {
        self.new.iter().filter_map(|replica| replica.reason.as_ref()).find(|reason| is_fault(reason))
    }
}

/// How many of these take requests.
pub(super) fn ready(list: &[&Replica]) -> usize {
    list.iter().filter(|replica| replica.state == ReplicaState::Ready).count()
}

/// In the order in which they are drained: those that take no requests first, then the youngest.
pub(super) fn first_to_go<'a>(list: &[&'a Replica]) -> impl Iterator<Item = &'a Replica> + use<'a> {
    let mut sorted: Vec<&Replica> = list.to_vec();
    sorted.sort_by_key(|replica| (replica.state == ReplicaState::Ready, std::cmp::Reverse(replica.created)));
    sorted.into_iter()
}
