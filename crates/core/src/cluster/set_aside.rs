//! Replicas that are set aside: out of every table and of the workload's count, with a fresh one in their place. They run
//! on, to be studied, until their time is over.

use jiff::Timestamp;

use super::{Cluster, Refusal, RefusalKind, Transaction};
use crate::model::{Aside, Replica, ReplicaId, ReplicaState, Span};
use crate::record::Object;

/// Longest time that a replica stays aside.
pub(super) const LONGEST: Span = Span::from_secs(24 * 3600);

impl Cluster {
    /// Replicas that are aside.
    pub(super) fn asides(&self) -> impl Iterator<Item = &Replica> {
        self.state.replicas.values().filter(|replica| replica.aside.is_some())
    }
}

impl Transaction<'_> {
    /// Sets a replica aside for so long, or for so long from now on where it is aside already.
    ///
    /// # Errors
    /// When there is none, or it is on its way out.
    pub fn set_aside(&mut self, id: &ReplicaId, lasts: Span) -> Result<Timestamp, Refusal> {
        let now = self.now;
        if lasts > LONGEST || lasts.millis() == 0 {
            return Refusal::new(
                RefusalKind::Invalid,
                format!("a replica stays aside for up to {LONGEST}, not {lasts}"),
            );
        }
        let mut replica = self.replica(id)?.clone();
        let may = replica.state.is_staying() || replica.state == ReplicaState::SetAside;
        if !may || replica.node.is_none() || replica.once.is_some() {
            let message = format!("{id} is {}, and cannot be set aside", replica.state);
            return Refusal::new(RefusalKind::Conflict, message);
        }
        self.act("set aside");
        let until = now + lasts.signed();
        replica.aside = Some(Aside { until, origin: self.cause.clone() });
        if replica.state != ReplicaState::SetAside {
            (replica.state, replica.since) = (ReplicaState::SetAside, now);
        }
        self.put(Object::Replica(replica));
        self.table.touch();
        self.touch(&id.workload);
        Ok(until)
    }

    /// Ends a replica that is set aside.
    ///
    /// # Errors
    /// When there is none, or it is not aside.
    pub fn end_aside(&mut self, id: &ReplicaId) -> Result<(), Refusal> {
        if self.replica(id)?.aside.is_none() {
            return Refusal::new(RefusalKind::Conflict, format!("{id} is not set aside"));
        }
        self.act("ended");
        self.let_go(id);
        Ok(())
    }

    /// Those whose time is over end.
    pub(super) fn end_asides(&mut self) {
        let now = self.now;
        let over = |replica: &&Replica| {
            replica.state == ReplicaState::SetAside
                && replica.aside.as_ref().is_some_and(|aside| aside.until <= now)
        };
        let over: Vec<ReplicaId> = self.asides().filter(over).map(|replica| replica.id.clone()).collect();
        for id in over {
            self.let_go(&id);
        }
    }
}
