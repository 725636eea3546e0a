//! Which node has room for one more replica.

use crate::model::{Bytes, Cpu, Name, Node, Reason, ReasonCode, Reserve};

/// A node and what is kept on it already.
#[derive(Debug, Clone, PartialEq)]
pub struct Occupied {
    /// Its name.
    pub node: Name,
    /// Processors not kept by anyone.
    pub cpu: Cpu,
    /// Memory not kept by anyone.
    pub memory: Bytes,
}

impl Occupied {
    /// The room left on a node beside these reserves.
    pub fn of(node: &Node, kept: impl IntoIterator<Item = Reserve>) -> Occupied {
        let mut room = Occupied { node: node.name.clone(), cpu: node.cpu, memory: node.memory };
        kept.into_iter().for_each(|reserve| room.take(reserve));
        room
    }

    /// Keeps room for one more.
    pub fn take(&mut self, reserve: Reserve) {
        self.cpu = Cpu::from_milli(self.cpu.milli().saturating_sub(reserve.cpu.milli()));
        self.memory = Bytes::new(self.memory.bytes().saturating_sub(reserve.memory.bytes()));
    }

    fn fits(&self, reserve: Reserve) -> bool {
        self.cpu >= reserve.cpu && self.memory >= reserve.memory
    }
}

/// The node with the most memory left among those with room; it is taken from at once.
///
/// # Errors
/// The reason, with what is asked for and what is free.
pub fn place(reserve: Reserve, nodes: &mut [Occupied]) -> Result<Name, Reason> {
    let best = nodes.iter_mut().filter(|node| node.fits(reserve)).max_by_key(|node| node.memory);
    if let Some(node) = best {
        node.take(reserve);
        return Ok(node.node.clone());
    }
    let free: Vec<String> =
        nodes.iter().map(|node| format!("{} has {} cpu and {}", node.node, node.cpu, node.memory)).collect();
    let free =
        if free.is_empty() { "there is no node".to_owned() } else { format!("free: {}", free.join(", ")) };
    let sentence = format!("a replica asks for {} cpu and {}; {free}", reserve.cpu, reserve.memory);
    Err(Reason::new(ReasonCode::NoRoom, sentence))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn node(name: &str, milli: u64, mib: u64) -> Occupied {
        Occupied { node: name.parse().expect("a name"), cpu: Cpu::from_milli(milli), memory: Bytes::mib(mib) }
    }

    #[test]
    fn spreads_by_room_and_says_what_is_missing() {
        let reserve = Reserve { cpu: Cpu::from_milli(500), memory: Bytes::mib(100) };
        let mut nodes = [node("node-a", 1000, 300), node("node-b", 500, 400)];
        let placed: Vec<String> =
            (0..3).filter_map(|_| place(reserve, &mut nodes).ok()).map(String::from).collect();
        assert_eq!(placed, ["node-b", "node-a", "node-a"]);
        let refused = place(reserve, &mut nodes).expect_err("no room is left");
        assert_eq!(
            refused.to_string(),
            "no-room: a replica asks for 0.5 cpu and 100 MiB; free: node-a has 0 cpu and 100 MiB, node-b has 0 cpu and 300 MiB"
        );
    }
}
