//! Giving waiting replicas a node and an address.

use std::collections::BTreeSet;
use std::net::Ipv4Addr;

use super::incarnations::Incarnations;
use crate::address;
use crate::model::{EnvironmentIndex, ImageRef, Name, Reason, ReasonCode, Release, Replica};
use crate::placement::{Occupied, place};
use crate::record::State;

/// The start of the search for the next address.
#[derive(Debug, Clone, Default)]
pub(super) struct ReplicaPlacement {
    /// Addresses go round, so that one that was given up is not another's for a long time.
    next_address: u16,
}

/// Addresses and room that are left while replicas are placed.
struct FreeRoom<'s> {
    state: &'s State,
    rooms: Vec<Occupied>,
    taken: BTreeSet<(Name, Ipv4Addr)>,
}

impl ReplicaPlacement {
    /// Each control begins elsewhere: it does not know what an earlier one gave up a moment ago.
    pub(super) fn of_epoch(epoch: u64) -> ReplicaPlacement {
        let begin = epoch.wrapping_mul(401) % u64::from(address::REPLICAS_PER_NODE);
        ReplicaPlacement { next_address: begin as u16 }
    }

    /// The waiting replicas that have a place now, or another reason why they have none.
    pub(super) fn place_waiting(&mut self, state: &State, agents: &Incarnations) -> Vec<Replica> {
        let waiting: Vec<&Replica> = state.replicas.values().filter(|it| it.node.is_none()).collect();
        if waiting.is_empty() {
            return Vec::new();
        }
        let taken = state.replicas.values().filter_map(|it| Some((it.node.clone()?, it.address?))).collect();
        let mut free = FreeRoom { state, rooms: rooms(state), taken };
        waiting.into_iter().filter_map(|replica| self.place_one(replica, &mut free, agents)).collect()
    }

    /// The replica with its place or its new reason; `None` where nothing differs.
    fn place_one(
        &mut self,
        waiting: &Replica,
        free: &mut FreeRoom<'_>,
        agents: &Incarnations,
    ) -> Option<Replica> {
        let state = free.state;
        let target = &waiting.id.workload;
        let release = state.releases.get(&(target.clone(), waiting.release))?;
        let environment = state.environments.get(&target.environment)?;
        let mut replica = waiting.clone();
        let reason = match node_for(release, free) {
            Err(reason) => reason,
            Ok(node) => {
                // Only an agent that is known can be asked later whether it began.
                let incarnation = agents.of_node(&node);
                match &mut replica.once {
                    Some(_) if incarnation.is_none() => return None,
                    Some(once) => once.incarnation = incarnation,
                    None => {}
                }
                if let Some(address) = self.address_on(&node, environment.index, free) {
                    (replica.node, replica.address, replica.reason) = (Some(node), Some(address), None);
                    return Some(replica);
                }
                let sentence = format!("{node} has no free address for {}", target.environment);
                Reason::new(ReasonCode::NoRoom, sentence)
            }
        };
        (replica.reason.as_ref() != Some(&reason)).then_some(Replica { reason: Some(reason), ..replica })
    }

    fn address_on(
        &mut self,
        node: &Name,
        environment: EnvironmentIndex,
        free: &mut FreeRoom<'_>,
    ) -> Option<Ipv4Addr> {
        let range = free.state.nodes.get(node).map(|node| node.range).unwrap_or_default();
        let numbers = (self.next_address..address::REPLICAS_PER_NODE).chain(0..self.next_address);
        let mut all =
            numbers.filter_map(|number| Some((number, range.place(address::replica(environment, number)?))));
        let (number, address) = all.find(|(_, address)| !free.taken.contains(&(node.clone(), *address)))?;
        self.next_address = (number + 1) % address::REPLICAS_PER_NODE;
        free.taken.insert((node.clone(), address));
        Some(address)
    }
}

/// The node that takes a replica of this release, with its reservation noted.
fn node_for(release: &Release, free: &mut FreeRoom<'_>) -> Result<Name, Reason> {
    if release.digest.is_none() {
        return Err(image_missing(free.state, &release.workload.environment, &release.spec.image));
    }
    place(release.spec.reserve, &mut free.rooms)
}

/// Why there is no image yet: it is being pulled, or it could not be, or nobody has it.
fn image_missing(state: &State, environment: &Name, image: &ImageRef) -> Reason {
    let known = state.images.get(&image.to_string());
    if let Some(unsigned) = known.and_then(|known| state.unsigned(environment, image, &known.digest)) {
        return unsigned;
    }
    if let Some(registry) = state.registry_of(image) {
        let pulled = || {
            let sentence = format!("{image} is pulled from {}", registry.host);
            Reason::new(ReasonCode::ImageAwaited, sentence)
        };
        return registry.problems.get(&image.to_string()).cloned().unwrap_or_else(pulled);
    }
    if let Some(source) = state.code_of(image) {
        let says = source.builds.as_ref().map_or("its first build is awaited", |builds| builds.says.as_str());
        let sentence = format!("{image} is built by the source {}: {says}", source.target);
        return Reason::new(ReasonCode::ImageAwaited, sentence);
    }
    Reason::new(ReasonCode::ImageNotFound, state.no_image_words(image))
}

/// The reservations on each node.
fn rooms(state: &State) -> Vec<Occupied> {
    let rooms = state.nodes.values().map(|node| {
        let here = state.replicas.values().filter(|replica| replica.node.as_ref() == Some(&node.name));
        let reserved = here.filter_map(|replica| {
            Some(state.releases.get(&(replica.id.workload.clone(), replica.release))?.spec.reserve)
        });
        Occupied::of(node, reserved)
    });
    rooms.collect()
}
