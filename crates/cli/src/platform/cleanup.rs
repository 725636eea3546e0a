//! Ending everything that belongs to a data directory, no matter who started it, and leaving no trace on the machine.

use std::time::{Duration, Instant};

use mainyard_runtime::{DiskScratch, Groups, HOSTS_VARIABLE, Isolation, IsolationMode, NodeNetwork};
use private_postgres::Postgres;

use super::isolation_mode;
use super::processes::{self, Known};
use crate::data_dir::DataDir;
use crate::terminal::Failure;

/// Ends parts: asked first, killed when they take too long.
pub(super) fn end(processes: &[Known], patience: Duration) {
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
pub(super) fn reap() {
    // SAFETY: the status is not asked for.
    while unsafe { libc::waitpid(-1, std::ptr::null_mut(), libc::WNOHANG) } > 0 {}
}

/// Ends the parts that run for this data directory; replicas are left running.
pub(super) fn end_parts(place: &DataDir) {
    let parts: Vec<Known> = processes::parts(place).into_iter().map(|(_, process)| process).collect();
    end(&parts, Duration::from_secs(3));
}

/// Ends parts, replicas and PostgreSQL, and removes control groups and the network namespace.
pub(super) fn clean(place: &DataDir) -> Result<(), Failure> {
    let failed = |error: &dyn std::fmt::Display| Failure::failed(error.to_string());
    end_parts(place);
    end(&processes::keepers(place), Duration::from_secs(4));
    forget_ends(place);
    // One that was started a moment ago may not have written down its id yet.
    end(&processes::running(&place.file("node/keeper")), Duration::ZERO);
    // A replica whose keeper was killed ends with it; should one not, it is ended by its group, or by its mark.
    match isolation_mode::kept(place) {
        Some(IsolationMode::Plain { .. }) => {
            let mark = format!("{HOSTS_VARIABLE}={}/", place.file("node/replicas").display());
            end(&processes::marked(&mark), Duration::ZERO);
        }
        _ => {
            let groups = Groups::open(&isolation_mode::groups_name(&place.instance()?))
                .map_err(|error| failed(&error))?;
            for pid in groups.members() {
                if let Some(process) = Known::of(pid) {
                    process.signal(libc::SIGKILL);
                }
            }
            groups.remove().map_err(|error| failed(&error))?;
            mainyard_runtime::uncover(&place.file("node/layers"));
            DiskScratch::close(&place.file("node"));
            let network = NodeNetwork::at(&Isolation::network_file(&place.file("node")));
            network.remove().map_err(|error| failed(&error))?;
        }
    }
    if place.file("postgres/data").exists() {
        Postgres::open(&place.file("postgres")).map_err(|error| failed(&error))?.stop();
    }
    let _ = std::fs::remove_file(place.file("supervisor.json"));
    Ok(())
}

/// Replicas that ended because the platform was stopped are not reported as trouble at the next start.
fn forget_ends(place: &DataDir) {
    let runs = std::fs::read_dir(place.file("node/replicas")).into_iter().flatten().flatten();
    for run in runs {
        let _ = std::fs::remove_file(run.path().join("exit"));
    }
}
