//! Ending everything that belongs to a data directory, whoever started it, and leaving no trace on the machine.

use std::time::{Duration, Instant};

use mainyard_runtime::{Groups, Isolation, NodeNetwork, find_survivor, process_started_at};
use private_postgres::Postgres;
use serde::{Deserialize, Serialize};

use crate::place::{Place, write_whole};
use crate::words::Failure;

/// A process that the supervisor started, known for good by its id and the time at which it started.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Known {
    pid: u32,
    started: u64,
}

impl Known {
    pub fn of(pid: u32) -> Option<Known> {
        Some(Known { pid, started: process_started_at(pid)? })
    }

    pub fn lives(self) -> bool {
        process_started_at(self.pid) == Some(self.started)
    }

    pub fn signal(self, signal: i32) {
        if self.lives() {
            // SAFETY: no memory is involved; the process was just seen to be the one that is meant.
            unsafe { libc::kill(self.pid as i32, signal) };
        }
    }
}

/// A name for the control groups of this platform's node.
pub fn groups_name(instance: &str) -> String {
    format!("mainyard-{instance}")
}

/// Remembers the parts, for whoever cleans up after a killed supervisor.
pub fn remember(place: &Place, parts: &[Known]) -> Result<(), Failure> {
    let bytes = serde_json::to_vec(parts).map_err(|error| Failure::failed(error.to_string()))?;
    write_whole(&place.file("parts.json"), &bytes, 0o644)
}

fn remembered(place: &Place) -> Vec<Known> {
    let bytes = std::fs::read(place.file("parts.json")).unwrap_or_default();
    serde_json::from_slice(&bytes).unwrap_or_default()
}

/// Ends parts: asked first, killed when they take too long.
pub fn end(processes: &[Known], patience: Duration) {
    let begun = Instant::now();
    processes.iter().for_each(|process| process.signal(libc::SIGTERM));
    while processes.iter().any(|process| process.lives()) {
        if begun.elapsed() > patience {
            processes.iter().for_each(|process| process.signal(libc::SIGKILL));
        }
        reap();
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// Takes the exit statuses of children that have ended.
pub fn reap() {
    // SAFETY: the status is not asked for.
    while unsafe { libc::waitpid(-1, std::ptr::null_mut(), libc::WNOHANG) } > 0 {}
}

/// Parts that an earlier supervisor left; replicas are left running.
pub fn end_left_parts(place: &Place) {
    end(&remembered(place), Duration::from_secs(3));
}

/// Ends parts, replicas and PostgreSQL, and removes control groups and the network namespace.
pub fn clean(place: &Place) -> Result<(), Failure> {
    let failed = |error: &dyn std::fmt::Display| Failure::failed(error.to_string());
    end_left_parts(place);
    end(&keepers(place), Duration::from_secs(4));
    let groups = Groups::open(&groups_name(&place.instance()?)).map_err(|error| failed(&error))?;
    // A replica whose keeper was killed ends with it; should one not, it is ended by its group.
    for pid in groups.members() {
        if let Some(process) = Known::of(pid) {
            process.signal(libc::SIGKILL);
        }
    }
    groups.remove().map_err(|error| failed(&error))?;
    let network = NodeNetwork::at(&Isolation::network_file(&place.file("node")));
    network.remove().map_err(|error| failed(&error))?;
    if place.file("postgres/data").exists() {
        Postgres::open(&place.file("postgres")).map_err(|error| failed(&error))?.stop();
    }
    for file in ["parts.json", "supervisor.json"] {
        let _ = std::fs::remove_file(place.file(file));
    }
    Ok(())
}

fn keepers(place: &Place) -> Vec<Known> {
    let runs = std::fs::read_dir(place.file("node/replicas")).into_iter().flatten().flatten();
    runs.filter_map(|run| Known::of(find_survivor(&run.path())?.keeper)).collect()
}
