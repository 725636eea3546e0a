//! Which processes belong to a data directory. What counts is what the kernel says of a process, not what a file
//! remembers of it: nothing is missed whenever its parent was killed, and no stranger is taken for one of ours.

use std::io;
use std::net::{SocketAddr, TcpListener};
use std::os::fd::{FromRawFd, OwnedFd};
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use mainyard_runtime::{find_survivor, process_started_at};
use serde::{Deserialize, Serialize};

use super::instances::Instance;
use crate::args::Part;
use crate::data_dir::DataDir;

/// A process known for good by its id and the time at which it started.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Known {
    pid: u32,
    started: u64,
}

impl Known {
    /// Stands for a process that has ended already.
    pub(super) const GONE: Known = Known { pid: 0, started: 0 };

    pub(super) fn of(pid: u32) -> Option<Known> {
        Some(Known { pid, started: process_started_at(pid)? })
    }

    pub(super) fn lives(self) -> bool {
        process_started_at(self.pid) == Some(self.started)
    }

    pub(super) fn signal(self, signal: i32) {
        if self.lives() {
            // SAFETY: no memory is involved; the process was just seen to be the one that is meant.
            unsafe { libc::kill(self.pid as i32, signal) };
        }
    }
}

impl Known {
    /// Whether it runs this very program, not an older one that was replaced on disk since.
    pub(super) fn is_this_program(self) -> bool {
        let of = |process: &str| {
            let found = std::fs::metadata(format!("/proc/{process}/exe")).ok()?;
            Some((found.dev(), found.ino()))
        };
        of("self").is_some_and(|own| of(&self.pid.to_string()) == Some(own))
    }

    /// Whether it was started with the configuration of this digest.
    pub(super) fn runs_with(self, digest: &str) -> bool {
        let line = std::fs::read(format!("/proc/{}/cmdline", self.pid)).unwrap_or_default();
        line.split(|byte| *byte == 0).any(|word| word == digest.as_bytes())
    }

    /// A second descriptor for a listening socket that the process holds as its descriptor `number`; `None` when
    /// that is not a socket that listens on `address`, or this account may not have it.
    pub(super) fn listener(self, number: i32, address: SocketAddr) -> Option<TcpListener> {
        let process = descriptor(|| {
            // SAFETY: no memory is involved.
            unsafe { libc::syscall(libc::SYS_pidfd_open, self.pid, 0) }
        })?;
        let socket = descriptor(|| {
            let process = std::os::fd::AsRawFd::as_raw_fd(&process);
            // SAFETY: no memory is involved; the descriptor that comes back is new.
            unsafe { libc::syscall(libc::SYS_pidfd_getfd, process, number, 0) }
        })?;
        let listener = TcpListener::from(socket);
        (self.lives() && listener.local_addr().ok() == Some(address)).then_some(listener)
    }
}

fn descriptor(call: impl FnOnce() -> libc::c_long) -> Option<OwnedFd> {
    let fd = call();
    // SAFETY: the kernel just made it for this process, and nobody else has it.
    (fd >= 0).then(|| unsafe { OwnedFd::from_raw_fd(fd as i32) })
}

/// Every process, with its words.
fn all() -> impl Iterator<Item = (u32, Vec<String>)> {
    std::fs::read_dir("/proc").into_iter().flatten().flatten().filter_map(|entry| {
        let pid = entry.file_name().to_str()?.parse().ok()?;
        let line = std::fs::read(entry.path().join("cmdline")).ok()?;
        let words = line.split(|byte| *byte == 0).map(|word| String::from_utf8_lossy(word).into_owned());
        Some((pid, words.collect()))
    })
}

/// The parts that run for this data directory, by the words they were started with.
pub(super) fn parts(place: &DataDir) -> Vec<(Instance, Known)> {
    let data = place.data.display().to_string();
    let found = all().filter_map(|(pid, words)| {
        let [_, serve, part, option, dir, rest @ ..] = &words[..] else { return None };
        let part = Part::ALL.into_iter().find(|known| known.word() == part)?;
        let is_one = serve == "serve" && option == "--data" && *dir == data;
        let number = rest.get(1).and_then(|number| number.parse().ok()).unwrap_or(1);
        if is_one { Some((Instance { part, number }, Known::of(pid)?)) } else { None }
    });
    found.collect()
}

/// The processes that run this program file.
pub(super) fn running(program: &Path) -> Vec<Known> {
    let found = all().filter(|(pid, _)| {
        let exe: io::Result<_> = std::fs::read_link(format!("/proc/{pid}/exe"));
        exe.is_ok_and(|exe| exe == program)
    });
    found.filter_map(|(pid, _)| Known::of(pid)).collect()
}

/// The processes whose environment has a variable that begins like this.
pub(super) fn marked(mark: &str) -> Vec<Known> {
    let found = all().filter(|(pid, _)| {
        let environment = std::fs::read(format!("/proc/{pid}/environ")).unwrap_or_default();
        environment.split(|byte| *byte == 0).any(|pair| pair.starts_with(mark.as_bytes()))
    });
    found.filter_map(|(pid, _)| Known::of(pid)).collect()
}

/// Whether any replica runs.
pub(super) fn any_replica(place: &DataDir) -> bool {
    !keepers(place).is_empty()
}

/// The keepers of this place that run.
pub(super) fn keepers(place: &DataDir) -> Vec<Known> {
    let runs = std::fs::read_dir(place.file("node/replicas")).into_iter().flatten().flatten();
    runs.filter_map(|run| Known::of(find_survivor(&run.path())?.keeper)).collect()
}
