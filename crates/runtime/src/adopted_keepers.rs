//! Keepers that outlived the node agent which started them.

use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use mainyard_keeper::Ending;

/// A keeper that still runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AdoptedKeeper {
    /// The keeper's process id.
    pub keeper: u32,
    /// The process id of the replica's init as the machine sees it, once the replica runs.
    pub init: Option<u32>,
}

/// Looks into a run directory; `None` when its keeper has ended. A process id alone is not believed: the time
/// at which the process started must be the one the keeper wrote down.
pub fn find_survivor(run_dir: &Path) -> Option<AdoptedKeeper> {
    let text = fs::read_to_string(run_dir.join("pid")).ok()?;
    let (pid, started) = text.trim().split_once(' ')?;
    let keeper = pid.parse().ok()?;
    if process_started_at(keeper)? != started.parse::<u64>().ok()? {
        return None;
    }
    let init = fs::read_to_string(run_dir.join("init")).ok().and_then(|text| text.trim().parse().ok());
    Some(AdoptedKeeper { keeper, init })
}

/// The same; where the keeper is still bringing its program up, once it has done so or given up.
pub fn find_settled_survivor(run_dir: &Path, within: Duration) -> Option<AdoptedKeeper> {
    let deadline = Instant::now() + within;
    loop {
        let found = find_survivor(run_dir)?;
        if found.init.is_some() || Instant::now() >= deadline {
            return Some(found);
        }
        std::thread::sleep(Duration::from_millis(2));
    }
}

/// Whether the keeper of this run said that it gave up before the program began: not a step of it was done.
pub fn never_began(run_dir: &Path) -> bool {
    let gave_up = || fs::read_to_string(run_dir.join("exit")).is_ok_and(|text| text.starts_with("failed "));
    !run_dir.join("init").exists() && gave_up()
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

#[cfg(test)]
mod tests {
    use super::*;

    fn keeper(dir: &Path) {
        let (pid, started) = (std::process::id(), process_started_at(std::process::id()).expect("it lives"));
        fs::write(dir.join("pid"), format!("{pid} {started}\n")).expect("written");
    }

    #[test]
    fn a_new_agent_waits_for_a_keeper_that_is_starting_its_program() {
        let dir = tempfile::tempdir().expect("a directory");
        let long = Duration::from_secs(600);
        assert_eq!(find_settled_survivor(dir.path(), long), None);
        keeper(dir.path());
        let init = dir.path().join("init");
        let coming = std::thread::spawn(move || fs::write(init, "77\n").expect("written"));
        let found = find_settled_survivor(dir.path(), long).expect("it lives");
        assert_eq!((found.keeper, found.init), (std::process::id(), Some(77)));
        coming.join().expect("written");
        fs::remove_file(dir.path().join("init")).expect("removed");
        let silent = find_settled_survivor(dir.path(), Duration::from_millis(10)).expect("it lives");
        assert_eq!(silent.init, None, "not without end");
    }

    #[test]
    fn a_run_that_never_began_differs_from_one_that_ended() {
        let dir = tempfile::tempdir().expect("a directory");
        assert!(!never_began(dir.path()), "nothing is known");
        fs::write(dir.path().join("exit"), "failed 3 write the id map\n").expect("written");
        assert!(never_began(dir.path()));
        fs::write(dir.path().join("init"), "77\n").expect("written");
        assert!(!never_began(dir.path()), "it ran before the keeper failed");
    }
}
