//! The replicas that a request is sent to, one after the other, as they have room.

use std::net::IpAddr;
use std::sync::Arc;

use mainyard_core::model::Name;

use crate::backend_order::Port;
use crate::rejections::Refused;
use crate::replica::{Replica, Slot};
use crate::waiting::overloaded;

/// The replicas that one request tries, each with a slot of it.
pub(crate) struct Candidates<'a, I> {
    port: &'a Port,
    /// The one that the visitor's cookie names.
    bound: Option<&'a Arc<Replica>>,
    order: Option<I>,
    /// The first was looked at.
    has_begun: bool,
    /// One that is given less for now.
    eased: Option<&'a Arc<Replica>>,
    /// One of them has no room.
    is_full: bool,
}

impl<'a, I: Iterator<Item = &'a Arc<Replica>>> Candidates<'a, I> {
    /// The one that the visitor is bound to, then the others in this order.
    pub(crate) fn new(port: &'a Port, bound: Option<&'a Arc<Replica>>, order: I) -> Candidates<'a, I> {
        // Who came before goes before; but a session stays where it is as long as there is room.
        let is_full = !port.waiting.is_empty();
        Candidates { port, bound, order: (!is_full).then_some(order), has_begun: false, eased: None, is_full }
    }

    /// The next one that has room. Where none has, it waits once for any of them.
    pub(crate) async fn next(&mut self, visitor: IpAddr, service: &Name) -> Result<Option<Slot>, Refused> {
        for replica in self.bound.take().into_iter().chain(self.order.iter_mut().flatten()) {
            // Whose turn it is was chosen with care; for the others it is a last resort.
            if std::mem::replace(&mut self.has_begun, true) && replica.is_eased() {
                self.eased.get_or_insert(replica);
                continue;
            }
            match Slot::take(replica).filter(|_| !replica.is_full()) {
                Some(slot) => return Ok(Some(slot)),
                None => self.is_full = true,
            }
        }
        self.order = None;
        if !std::mem::take(&mut self.is_full) {
            return Ok(self.eased.take().and_then(Slot::take));
        }
        let port = self.port;
        let slot = port.wait(visitor).await;
        slot.map(Some).map_err(|why| overloaded(service.as_str(), why, port.queue, port.queue_time))
    }
}
