//! Opening files below a directory: the kernel keeps every path there.

use std::ffi::CString;
use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd, RawFd};
use std::path::Path;

use crate::{Doing, Error};

pub(crate) fn c_text(text: &str) -> CString {
    CString::new(text.replace('\0', "")).expect("no zero byte is left")
}

pub(crate) fn open_dir(path: &Path) -> Result<OwnedFd, Error> {
    File::open(path).map(OwnedFd::from).doing("open the layer's directory")
}

/// Opens a path that must stay below `dir`; links on the way may lead anywhere below it.
pub(crate) fn open_beneath(dir: &OwnedFd, path: &str, flags: i32) -> io::Result<OwnedFd> {
    let path = c_text(path);
    // SAFETY: the structure is plain data, zero is a valid value of each field, its size is given.
    unsafe {
        let mut how: libc::open_how = std::mem::zeroed();
        how.flags =
            (flags | libc::O_CLOEXEC | (libc::O_NOFOLLOW * i32::from(flags & libc::O_CREAT != 0))) as u64;
        how.mode = if flags & libc::O_CREAT == 0 { 0 } else { 0o600 };
        how.resolve = libc::RESOLVE_BENEATH | libc::RESOLVE_NO_MAGICLINKS;
        let size = size_of::<libc::open_how>();
        let fd = libc::syscall(libc::SYS_openat2, dir.as_raw_fd(), path.as_ptr(), &how, size);
        if fd < 0 { Err(io::Error::last_os_error()) } else { Ok(OwnedFd::from_raw_fd(fd as RawFd)) }
    }
}
