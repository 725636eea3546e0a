//! A user namespace that exists only as an id map, to show image layers with an environment's owners.

use std::fs::{self, File};

use crate::{Doing, Error};

/// Opens a user namespace in which `0` stands for `base` and 65,536 ids follow.
pub(crate) fn id_map(base: u32) -> Result<File, Error> {
    let flags = libc::CLONE_NEWUSER | libc::SIGCHLD;
    // SAFETY: as after a fork; the child makes one system call at a time and touches no memory of ours.
    let pid = unsafe { libc::syscall(libc::SYS_clone, flags, 0, 0, 0, 0) };
    if pid < 0 {
        return Err(std::io::Error::last_os_error()).doing("make a user namespace");
    }
    if pid == 0 {
        // SAFETY: waits for the signal below, and goes with the parent if that never comes.
        unsafe {
            libc::syscall(libc::SYS_prctl, libc::PR_SET_PDEATHSIG, libc::SIGKILL);
            loop {
                libc::syscall(libc::SYS_pause);
            }
        }
    }
    let opened = (|| {
        let map = format!("0 {base} 65536\n");
        fs::write(format!("/proc/{pid}/uid_map"), &map).doing("write a user map")?;
        fs::write(format!("/proc/{pid}/gid_map"), &map).doing("write a group map")?;
        File::open(format!("/proc/{pid}/ns/user")).doing("open a user namespace")
    })();
    // SAFETY: the child is ours and has not been waited for.
    unsafe {
        libc::kill(pid as i32, libc::SIGKILL);
        libc::waitpid(pid as i32, std::ptr::null_mut(), 0);
    }
    opened
}
