//! Keepers that outlived the node agent which started them.

use std::fs;
use std::path::Path;

use mainyard_keeper::Ending;

/// A keeper that still runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Survivor {
    /// The keeper's process id.
    pub keeper: u32,
    /// The process id of the replica's init as the machine sees it, once the replica runs.
    pub init: Option<u32>,
}

/// Looks into a run directory; `None` when its keeper has ended. A process id alone is not believed: the time
/// at which the process started must be the one the keeper wrote down.
pub fn find_survivor(run_dir: &Path) -> Option<Survivor> {
    let text = fs::read_to_string(run_dir.join("pid")).ok()?;
    let (pid, started) = text.trim().split_once(' ')?;
    let keeper = pid.parse().ok()?;
    if process_started_at(keeper)? != started.parse::<u64>().ok()? {
        return None;
    }
    let init = fs::read_to_string(run_dir.join("init")).ok().and_then(|text| text.trim().parse().ok());
    Some(Survivor { keeper, init })
}

/// Clock ticks after boot at which a process started; `None` when there is none, or only its remains.
pub fn process_started_at(pid: u32) -> Option<u64> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let fields: Vec<&str> = stat.rsplit_once(')')?.1.split_whitespace().collect();
    if fields.first() == Some(&"Z") {
        return None;
    }
    fields.get(19)?.parse().ok()
}

/// How the run in this directory ended, where its keeper lived to say so.
pub fn last_ending(run_dir: &Path) -> Option<Ending> {
    Ending::parse(fs::read_to_string(run_dir.join("exit")).ok()?.trim())
}
