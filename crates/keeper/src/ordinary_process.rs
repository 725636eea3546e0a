//! A replica as an ordinary process of the machine, for a node that has no rights to isolate.
//!
//! What holds here: one session of its own, its output kept, its end noticed, and nothing of it left behind.
//! Without a process namespace the last needs care: init takes in whatever the program's descendants leave
//! behind and ends it with the program; should init be killed, the keeper does the same.

use std::ffi::CString;
use std::fs::File;
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd, RawFd};

use mainyard_keeper::Spec;

use crate::syscalls::{Fault, check, control, step, text};

/// Orphans below this process become its children, not those of the machine's init.
pub(crate) fn take_in_orphans() -> Result<(), Fault> {
    step("take in orphans", control(libc::PR_SET_CHILD_SUBREAPER, 1))
}

/// Init hears of the keeper's end, and ends the replica in its turn.
pub(crate) fn hear_of_the_keepers_end(keeper: u32) -> Result<(), Fault> {
    step("tie the replica to its keeper", control(libc::PR_SET_PDEATHSIG, libc::SIGTERM as libc::c_ulong))?;
    if is_child_of(keeper) {
        return Ok(());
    }
    Err(Fault { step: "tie the replica to its keeper".into(), errno: libc::ESRCH })
}

/// Whether this process's parent lives.
pub(crate) fn is_child_of(parent: u32) -> bool {
    // SAFETY: no memory is involved.
    unsafe { libc::getppid() as u32 == parent }
}

/// Kills all children, and theirs as they come up to this process, until none is left.
pub(crate) fn end_children() {
    let own = std::process::id();
    loop {
        let list = std::fs::read_to_string(format!("/proc/self/task/{own}/children")).unwrap_or_default();
        for child in list.split_whitespace().filter_map(|word| word.parse().ok()) {
            // SAFETY: a child of this process that is not reaped yet.
            unsafe { libc::kill(child, libc::SIGKILL) };
        }
        // SAFETY: the status is not asked for.
        if unsafe { libc::waitpid(-1, std::ptr::null_mut(), 0) } < 0 {
            return;
        }
    }
}

/// Opens what a path of the image leads to, and gives where on the machine that is. Links lead within the image.
pub(crate) fn find_in_image(spec: &Spec, path: &str, flags: i32) -> std::io::Result<CString> {
    let root = File::open(spec.layers.first().map_or("/", String::as_str))?;
    let path = text(path);
    // SAFETY: the structure is plain data, zero is a valid value of each field, its size is given; the descriptor
    // is new.
    let found = unsafe {
        let mut how: libc::open_how = std::mem::zeroed();
        how.flags = (libc::O_PATH | libc::O_CLOEXEC | flags) as u64;
        how.resolve = libc::RESOLVE_IN_ROOT | libc::RESOLVE_NO_MAGICLINKS;
        let size = size_of::<libc::open_how>();
        let fd = check(libc::syscall(libc::SYS_openat2, root.as_raw_fd(), path.as_ptr(), &how, size))?;
        OwnedFd::from_raw_fd(fd as RawFd)
    };
    let there = std::fs::read_link(format!("/proc/self/fd/{}", found.as_raw_fd()))?;
    Ok(text(&there.display().to_string()))
}
