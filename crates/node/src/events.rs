//! The messages that the agent's loop handles.

use std::sync::Arc;

use mainyard_core::link::NodeOrder;
use mainyard_core::model::ReplicaId;
use mainyard_core::replica_lifecycle::Event;

use crate::images::Prepared;

/// A message for the agent's loop.
pub(crate) enum Message {
    /// From control.
    Order(NodeOrder),
    /// The link was made again: control knows nothing of what happened meanwhile.
    Linked,
    /// Something about a replica; the number is that of its slot, so that what an earlier one of the same name
    /// left behind is not taken for it.
    Event(ReplicaId, u64, Event),
    /// The image is prepared.
    Prepared(ReplicaId, u64, Arc<Prepared>),
    /// The program runs; the process ids of keeper and init.
    Started(ReplicaId, u64, u32, u32),
    /// The report of this number was taken by control, or not.
    Reported(u64, bool),
}
