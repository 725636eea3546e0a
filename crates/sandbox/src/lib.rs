//! The sandbox of a platform process: which files it sees, as which account it runs, and which system
//! calls it may make.
//!
//! - [`View`]: a mount namespace with a root of its own, for `git` and for the gateway
//! - [`Confinement`]: the machine's own files, read-only but for some folders, for control
//! - [`drop_to`]: an account that owns nothing, without capabilities
//! - [`filter`]: system call filters for replicas and for the platform's parts

mod confine;
pub mod filter;
mod system_calls;
mod view;

pub use confine::{Confinement, keep_capabilities_for_namespaces};
pub use view::{Plan, View, Visible};

use std::io;

fn check(value: libc::c_long) -> io::Result<libc::c_long> {
    if value < 0 { Err(io::Error::last_os_error()) } else { Ok(value) }
}

/// Forbids this process and all that it starts to gain rights by running a set-uid program, and to leave its memory
/// in a core dump. For the beginning of a process: threads that run already are not changed.
pub fn forbid_new_rights() -> io::Result<()> {
    let none = libc::rlimit { rlim_cur: 0, rlim_max: 0 };
    // SAFETY: the structure lives across the call.
    unsafe {
        check(libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0).into())?;
        check(libc::setrlimit(libc::RLIMIT_CORE, &none).into())?;
        // An ordinary account's processes must stay open to each other: one adopts what another left running.
        if libc::geteuid() == 0 {
            check(libc::prctl(libc::PR_SET_DUMPABLE, 0, 0, 0, 0).into())?;
        }
    }
    Ok(())
}

/// Makes every thread of this process run as an account without rights; capabilities go with root.
pub fn drop_to(account: u32) -> io::Result<()> {
    // SAFETY: no memory is involved. The library's functions change all threads.
    unsafe {
        check(libc::setgroups(0, std::ptr::null()).into())?;
        check(libc::setresgid(account, account, account).into())?;
        check(libc::setresuid(account, account, account).into())?;
        // Changing the account made it readable for that account again.
        check(libc::prctl(libc::PR_SET_DUMPABLE, 0, 0, 0, 0).into())?;
    }
    Ok(())
}
