//! A part of root's that keeps some rights: the machine is read-only to it but for the folders that it writes, other
//! parts' folders are empty, and it has a few capabilities only.

use std::ffi::CString;
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use crate::check;
use crate::view::{MOUNT_ATTR_NODEV, MOUNT_ATTR_NOSUID, MOUNT_ATTR_RDONLY, MountAttributes};

/// Rights of a part on the machine's files.
#[derive(Debug, Default)]
pub struct Confinement {
    /// Folders that it may write.
    pub writable: Vec<PathBuf>,
    /// Folders that are empty for it.
    pub hidden: Vec<PathBuf>,
}

/// Capabilities that building namespaces for Git needs: mounts, other accounts and their files, a network of its own.
const FOR_NAMESPACES: [u32; 11] = [
    0,  // CAP_CHOWN
    1,  // CAP_DAC_OVERRIDE
    2,  // CAP_DAC_READ_SEARCH
    3,  // CAP_FOWNER
    5,  // CAP_KILL
    6,  // CAP_SETGID
    7,  // CAP_SETUID
    8,  // CAP_SETPCAP
    12, // CAP_NET_ADMIN
    21, // CAP_SYS_ADMIN
    24, // CAP_SYS_RESOURCE
];
/// There are no more: the kernel has room for these.
const CAPABILITIES: u32 = 64;
const CAPABILITY_VERSION: u32 = 0x2008_0522;

impl Confinement {
    /// Changes what the calling thread sees, and threads that it starts later. For the beginning of a process.
    pub fn enter(&self) -> io::Result<()> {
        let none = std::ptr::null();
        // SAFETY: strings live across the calls.
        unsafe {
            check(libc::unshare(libc::CLONE_NEWNS).into())?;
            // What is mounted on the machine later is seen; what is mounted here is nobody else's.
            let one_way = libc::MS_SLAVE | libc::MS_REC;
            check(libc::mount(none, c"/".as_ptr(), none, one_way, none.cast()).into())?;
        }
        change(Path::new("/"), libc::AT_RECURSIVE, MOUNT_ATTR_RDONLY, 0)?;
        change(Path::new("/proc"), 0, 0, MOUNT_ATTR_RDONLY)?;
        for folder in &self.writable {
            let at = text(folder)?;
            // With the disks that are mounted in it.
            let with_all = libc::MS_BIND | libc::MS_REC;
            // SAFETY: the string lives across the call.
            check(unsafe { libc::mount(at.as_ptr(), at.as_ptr(), none, with_all, none.cast()) }.into())?;
            change(folder, libc::AT_RECURSIVE, MOUNT_ATTR_NOSUID | MOUNT_ATTR_NODEV, MOUNT_ATTR_RDONLY)?;
        }
        for folder in &self.hidden {
            hide(folder)?;
        }
        Ok(())
    }
}

/// Covers a folder with an empty one.
fn hide(folder: &Path) -> io::Result<()> {
    let at = text(folder)?;
    let flags = libc::MS_NOSUID | libc::MS_NODEV | libc::MS_NOEXEC | libc::MS_RDONLY;
    let options = c"mode=0500,size=4k".as_ptr().cast();
    // SAFETY: strings live across the call.
    let hidden = unsafe { libc::mount(c"hidden".as_ptr(), at.as_ptr(), c"tmpfs".as_ptr(), flags, options) };
    check(hidden.into()).map(drop)
}

fn change(at: &Path, flags: i32, set: u64, clear: u64) -> io::Result<()> {
    let at = text(at)?;
    let attributes = MountAttributes { set, clear, propagation: 0, users: 0 };
    // SAFETY: string and structure live across the call, and the structure has the size that is said.
    let changed = unsafe {
        libc::syscall(
            libc::SYS_mount_setattr,
            libc::AT_FDCWD,
            at.as_ptr(),
            flags,
            &attributes,
            size_of::<MountAttributes>(),
        )
    };
    check(changed).map(drop)
}

fn text(path: &Path) -> io::Result<CString> {
    CString::new(path.as_os_str().as_bytes()).map_err(io::Error::other)
}

#[repr(C)]
struct Header {
    version: u32,
    process: i32,
}

#[repr(C)]
#[derive(Clone, Copy, Default)]
struct Half {
    effective: u32,
    permitted: u32,
    inheritable: u32,
}

/// Leaves the calling thread, and what it starts later, with the capabilities that building namespaces takes.
pub fn keep_capabilities_for_namespaces() -> io::Result<()> {
    for number in (0..CAPABILITIES).filter(|number| !FOR_NAMESPACES.contains(number)) {
        // SAFETY: no memory is involved. Numbers that the kernel does not know are refused, and nobody has them.
        unsafe { libc::prctl(libc::PR_CAPBSET_DROP, number, 0, 0, 0) };
    }
    let header = Header { version: CAPABILITY_VERSION, process: 0 };
    let mut halves = [Half::default(); 2];
    // SAFETY: both structures live across the call and are as the version says.
    check(unsafe { libc::syscall(libc::SYS_capget, &header, halves.as_mut_ptr()) })?;
    // A machine may itself have less to give.
    let kept = FOR_NAMESPACES.iter().fold(0, |bits, number| bits | 1 << number) & halves[0].permitted;
    halves = [Half { effective: kept, permitted: kept, inheritable: 0 }, Half::default()];
    // SAFETY: as above.
    check(unsafe { libc::syscall(libc::SYS_capset, &header, halves.as_ptr()) }).map(drop)
}
