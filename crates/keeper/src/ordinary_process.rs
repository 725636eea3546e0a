//! A replica as an ordinary process of the machine, for a node that has no rights to isolate.
//!
//! It has one session of its own, its output is kept, its end noticed, and nothing of it is left behind.
//! Without a process namespace the last needs care: init takes in whatever the program's descendants leave
//! behind and ends it with the program; should init be killed, the keeper does the same.

use std::ffi::CString;
use std::fs::File;
use std::os::fd::AsRawFd;

use mainyard_keeper::Spec;
use rustix::fs::{Mode, OFlags, ResolveFlags};
use rustix::process::{Pid, Signal, WaitOptions, getpid, getppid, kill_process, set_child_subreaper};

use crate::syscalls::{Fault, end_with_parent, step, text};

/// Orphans below this process become its children, not those of the machine's init.
pub(crate) fn take_in_orphans() -> Result<(), Fault> {
    step("adopt orphaned processes", set_child_subreaper(Some(getpid())))
}

/// Init hears of the keeper's end, and ends the replica in its turn.
pub(crate) fn end_with_the_keeper(keeper: u32) -> Result<(), Fault> {
    end_with_parent(Signal::TERM)?;
    if is_child_of(keeper) {
        return Ok(());
    }
    Err(Fault { step: "tie the replica to its keeper".into(), errno: libc::ESRCH })
}

/// Whether this process's parent lives.
pub(crate) fn is_child_of(parent: u32) -> bool {
    getppid().is_some_and(|above| above.as_raw_pid() as u32 == parent)
}

/// Kills all children, and theirs as they come up to this process, until none is left.
pub(crate) fn end_children() {
    let own = std::process::id();
    loop {
        let list = std::fs::read_to_string(format!("/proc/self/task/{own}/children")).unwrap_or_default();
        let children = list.split_whitespace().filter_map(|word| Pid::from_raw(word.parse().ok()?));
        for child in children {
            // A child that is not reaped yet keeps its id, so nobody else is hit.
            let _ = kill_process(child, Signal::KILL);
        }
        if rustix::process::wait(WaitOptions::empty()).is_err() {
            return;
        }
    }
}

/// Opens what a path of the image leads to, and gives where on the machine that is. Links lead within the image.
pub(crate) fn find_in_image(spec: &Spec, path: &str, flags: OFlags) -> std::io::Result<CString> {
    let root = File::open(spec.layers.first().map_or("/", String::as_str))?;
    let flags = OFlags::PATH | OFlags::CLOEXEC | flags;
    let resolve = ResolveFlags::IN_ROOT | ResolveFlags::NO_MAGICLINKS;
    let found = rustix::fs::openat2(root, path, flags, Mode::empty(), resolve)?;
    let there = std::fs::read_link(format!("/proc/self/fd/{}", found.as_raw_fd()))?;
    Ok(text(&there.display().to_string()))
}
