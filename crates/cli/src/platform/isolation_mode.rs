//! How replicas are kept apart on this machine: chosen when the platform starts, and kept while anything runs.

use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4, TcpListener};

use mainyard_core::address::{NODE_ADDRESS, Range};
use mainyard_runtime::IsolationMode;

use super::instances::Instance;
use super::listeners::FIRST_LISTENER;
use super::processes::{self, Known};
use crate::args::{IsolationKind, Part, Start};
use crate::data_dir::{DataDir, write_whole};
use crate::terminal::Failure;

/// A platform has a loopback range while somebody listens here in it.
const CLAIM_PORT: u16 = 8719;
/// Loopback ranges that platforms choose from; the lower ones are often used by other programs.
const RANGES: std::ops::Range<u8> = 64..250;

/// The chosen mode; for a loopback range, with the socket that keeps others out of it.
pub(super) struct Chosen {
    pub means: IsolationMode,
    pub claim: Option<TcpListener>,
}

/// The mode of this data directory's last start.
pub(super) fn kept(place: &DataDir) -> Option<IsolationMode> {
    serde_json::from_slice(&std::fs::read(place.file("means.json")).ok()?).ok()
}

/// A name for the control groups of this platform's node.
pub(super) fn groups_name(instance: &str) -> String {
    format!("mainyard-{instance}")
}

fn kind(means: &IsolationMode) -> IsolationKind {
    match means {
        IsolationMode::Isolated { .. } => IsolationKind::Kernel,
        IsolationMode::Plain { .. } => IsolationKind::None,
    }
}

pub(super) fn is_root() -> bool {
    // SAFETY: no memory is involved.
    unsafe { libc::geteuid() == 0 }
}

/// Chooses by what is asked for and what this account may do.
pub(super) fn choose(place: &DataDir, start: &Start, left: &[(Instance, Known)]) -> Result<Chosen, Failure> {
    let wanted = match (start.isolation, is_root()) {
        (Some(IsolationKind::Kernel), false) => {
            return Err(Failure::refused(
                "isolating replicas needs root: namespaces, mounts, control groups\n\
                 Start it with: sudo mainyard start    or without isolation: mainyard start --isolation none",
            ));
        }
        (Some(kind), _) => kind,
        (None, true) => IsolationKind::Kernel,
        (None, false) => IsolationKind::None,
    };
    let kept = kept(place);
    let runs = !left.is_empty() || processes::any_replica(place);
    if let Some(kept) = kept.as_ref().filter(|kept| runs && kind(kept) != wanted) {
        return Err(Failure::refused(format!(
            "what runs in {} was started with --isolation {}\nEnd it first with: mainyard stop",
            place.data.display(),
            kind(kept).word()
        )));
    }
    let chosen = match wanted {
        IsolationKind::Kernel => {
            let groups = groups_name(&place.instance()?);
            Chosen { means: IsolationMode::Isolated { groups }, claim: None }
        }
        IsolationKind::None => claim_range(place, kept.as_ref(), left)?,
    };
    let bytes = serde_json::to_vec(&chosen.means).map_err(|error| Failure::failed(error.to_string()))?;
    write_whole(&place.file("means.json"), &bytes, 0o644)?;
    Ok(chosen)
}

/// The range it had before, if nobody else has it now; otherwise another one.
fn claim_range(
    place: &DataDir,
    kept: Option<&IsolationMode>,
    left: &[(Instance, Known)],
) -> Result<Chosen, Failure> {
    let before = match kept {
        Some(IsolationMode::Plain { range }) => Some(*range),
        _ => None,
    };
    if let Some(range) = before {
        let address = SocketAddr::V4(claim_address(range));
        let holders = left.iter().filter(|(instance, _)| instance.part == Part::Gateway);
        let held = holders.into_iter().find_map(|(_, gateway)| gateway.listener(FIRST_LISTENER + 2, address));
        if let Some(claim) = held {
            return Ok(Chosen { means: IsolationMode::Plain { range }, claim: Some(claim) });
        }
    }
    let instance = u32::from_str_radix(&place.instance()?, 16).unwrap_or(0);
    let (first, count) = (u32::from(RANGES.start), u32::from(RANGES.end - RANGES.start));
    let others = (0..count).map(|turn| Range::loopback((first + (instance + turn) % count) as u8));
    for range in before.into_iter().chain(others) {
        if let Ok(claim) = TcpListener::bind(claim_address(range)) {
            return Ok(Chosen { means: IsolationMode::Plain { range }, claim: Some(claim) });
        }
    }
    Err(Failure::failed(
        "no loopback range is free for the replicas: every 127.N.0.1:8719 is taken, or there is no loopback device",
    ))
}

fn claim_address(range: Range) -> SocketAddrV4 {
    let first: Ipv4Addr = range.place(NODE_ADDRESS);
    SocketAddrV4::new(first, CLAIM_PORT)
}
