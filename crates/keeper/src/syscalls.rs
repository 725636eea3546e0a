//! Thin covers over the system calls that the standard library does not have.

use std::borrow::Cow;
use std::ffi::CString;
use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd, RawFd};

/// What was being done, and the kernel's error number.
#[derive(Debug)]
pub(crate) struct Fault {
    pub step: Cow<'static, str>,
    pub errno: i32,
}

/// Names the step that an error belongs to.
pub(crate) fn step<T>(step: impl Into<Cow<'static, str>>, result: io::Result<T>) -> Result<T, Fault> {
    result.map_err(|error| Fault { step: step.into(), errno: error.raw_os_error().unwrap_or(libc::EIO) })
}

/// The answer of a system call as a result.
pub(crate) fn check(value: libc::c_long) -> io::Result<i64> {
    if value < 0 { Err(io::Error::last_os_error()) } else { Ok(value) }
}

pub(crate) fn text(value: &str) -> CString {
    CString::new(value.replace('\0', "")).expect("no zero byte is left")
}

pub(crate) struct Pipe {
    pub read: OwnedFd,
    pub write: OwnedFd,
}

impl Pipe {
    /// Both ends are closed when a program is started.
    pub(crate) fn new() -> Result<Pipe, Fault> {
        let mut ends = [0; 2];
        // SAFETY: the array has room for the two descriptors.
        step("make a pipe", check(unsafe { libc::pipe2(ends.as_mut_ptr(), libc::O_CLOEXEC) }.into()))?;
        // SAFETY: both were just opened and nobody else owns them.
        unsafe { Ok(Pipe { read: OwnedFd::from_raw_fd(ends[0]), write: OwnedFd::from_raw_fd(ends[1]) }) }
    }
}

pub(crate) fn become_own_session() {
    // SAFETY: no memory is involved; it fails only if this is a group's leader, which changes nothing.
    unsafe { libc::setsid() };
}

/// Clock ticks after boot at which this process started: with the id, it names the process for good.
pub(crate) fn start_time() -> u64 {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap_or_default();
    let after_name = stat.rsplit_once(')').map_or("", |(_, rest)| rest);
    after_name.split_whitespace().nth(19).and_then(|ticks| ticks.parse().ok()).unwrap_or(0)
}

/// Blocks the signals that the keeper acts on and gives a descriptor to read them from.
pub(crate) fn take_signals() -> Result<OwnedFd, Fault> {
    // SAFETY: the set is initialised by sigemptyset before it is read.
    unsafe {
        let mut set = std::mem::zeroed();
        libc::sigemptyset(&mut set);
        for signal in [libc::SIGTERM, libc::SIGINT, libc::SIGCHLD, libc::SIGHUP, libc::SIGQUIT] {
            libc::sigaddset(&mut set, signal);
        }
        libc::sigprocmask(libc::SIG_BLOCK, &set, std::ptr::null_mut());
        libc::signal(libc::SIGPIPE, libc::SIG_IGN);
        let fd = libc::signalfd(-1, &set, libc::SFD_CLOEXEC | libc::SFD_NONBLOCK);
        step("listen for signals", check(fd.into()))?;
        Ok(OwnedFd::from_raw_fd(fd))
    }
}

pub(crate) fn set_namespace(file: &File, kind: i32) -> io::Result<()> {
    // SAFETY: the descriptor is open for the length of the call.
    check(unsafe { libc::setns(file.as_raw_fd(), kind) }.into()).map(drop)
}

pub(crate) fn enter_network(path: &str) -> Result<(), Fault> {
    let file = step("open the node's network namespace", File::open(path))?;
    step("enter the node's network namespace", set_namespace(&file, libc::CLONE_NEWNET))
}

pub(crate) fn unshare(kind: i32) -> io::Result<()> {
    // SAFETY: no memory is involved.
    check(unsafe { libc::unshare(kind) }.into()).map(drop)
}

/// Like `fork`, with new mount, pid, network, ipc and uts namespaces. The keeper has one thread, so the child
/// may go on using its memory.
pub(crate) fn clone_into_namespaces() -> Result<u32, Fault> {
    let flags = libc::CLONE_NEWNS
        | libc::CLONE_NEWPID
        | libc::CLONE_NEWNET
        | libc::CLONE_NEWIPC
        | libc::CLONE_NEWUTS
        | libc::SIGCHLD;
    // SAFETY: a null stack means copy-on-write of ours, as fork does; one thread only.
    let pid = unsafe { libc::syscall(libc::SYS_clone, flags, 0, 0, 0, 0) };
    Ok(step("make the namespaces", check(pid))? as u32)
}

/// An ordinary child.
pub(crate) fn fork() -> Result<u32, Fault> {
    // SAFETY: one thread only, so the child may go on using its memory.
    Ok(step("fork", check(unsafe { libc::fork() }.into()))? as u32)
}

pub(crate) fn mount(
    source: &str,
    target: &str,
    kind: &str,
    flags: libc::c_ulong,
    options: &str,
) -> io::Result<()> {
    let (source, target, kind, options) = (text(source), text(target), text(kind), text(options));
    // SAFETY: all four strings live across the call.
    let answer = unsafe {
        libc::mount(source.as_ptr(), target.as_ptr(), kind.as_ptr(), flags, options.as_ptr().cast())
    };
    check(answer.into()).map(drop)
}

/// A detached copy of the mount at `path`.
pub(crate) fn open_tree(path: &str) -> io::Result<OwnedFd> {
    let path = text(path);
    let flags = 1 | libc::O_CLOEXEC; // OPEN_TREE_CLONE
    // SAFETY: the string lives across the call; the descriptor is new.
    unsafe {
        let fd = check(libc::syscall(libc::SYS_open_tree, libc::AT_FDCWD, path.as_ptr(), flags))?;
        Ok(OwnedFd::from_raw_fd(fd as RawFd))
    }
}

/// Puts a detached mount at `target`.
pub(crate) fn move_mount(tree: &OwnedFd, target: &str) -> io::Result<()> {
    let target = text(target);
    let from_descriptor = 4; // MOVE_MOUNT_F_EMPTY_PATH
    // SAFETY: descriptor and strings live across the call.
    let answer = unsafe {
        libc::syscall(
            libc::SYS_move_mount,
            tree.as_raw_fd(),
            c"".as_ptr(),
            libc::AT_FDCWD,
            target.as_ptr(),
            from_descriptor,
        )
    };
    check(answer).map(drop)
}

#[repr(C)]
struct MountAttributes {
    set: u64,
    clear: u64,
    propagation: u64,
    user_namespace: u64,
}

/// Shows a detached mount read-only, without devices or set-user-id, its owners shifted by a user namespace.
pub(crate) fn shift_owners(tree: &OwnedFd, users: &File) -> io::Result<()> {
    let read_only_nosuid_nodev = 1 | 2 | 4;
    let shifted = 0x0010_0000;
    let attributes = MountAttributes {
        set: read_only_nosuid_nodev | shifted,
        clear: 0,
        propagation: 0,
        user_namespace: users.as_raw_fd() as u64,
    };
    // SAFETY: the structure is the kernel's and its size is given.
    let answer = unsafe {
        libc::syscall(
            libc::SYS_mount_setattr,
            tree.as_raw_fd(),
            c"".as_ptr(),
            libc::AT_EMPTY_PATH,
            &attributes,
            size_of::<MountAttributes>(),
        )
    };
    check(answer).map(drop)
}

/// A proc file system that is mounted nowhere, reached through the descriptor alone.
pub(crate) fn detached_proc() -> io::Result<OwnedFd> {
    let create = 6; // FSCONFIG_CMD_CREATE
    let null = std::ptr::null::<libc::c_char>();
    // SAFETY: descriptors are checked before use, strings are constants.
    unsafe {
        let context = check(libc::syscall(libc::SYS_fsopen, c"proc".as_ptr(), 1))?;
        let context = OwnedFd::from_raw_fd(context as RawFd);
        check(libc::syscall(libc::SYS_fsconfig, context.as_raw_fd(), create, null, null, 0))?;
        let fd = check(libc::syscall(libc::SYS_fsmount, context.as_raw_fd(), 1, 0))?;
        Ok(OwnedFd::from_raw_fd(fd as RawFd))
    }
}

/// Writes a short value into a file below an open directory.
pub(crate) fn write_below(dir: &OwnedFd, path: &str, value: &str) -> io::Result<()> {
    let path = text(path);
    // SAFETY: the string lives across the call; the descriptor is new and then owned by the file.
    let mut file = unsafe {
        let fd =
            check(libc::openat(dir.as_raw_fd(), path.as_ptr(), libc::O_WRONLY | libc::O_CLOEXEC).into())?;
        File::from_raw_fd(fd as RawFd)
    };
    io::Write::write_all(&mut file, value.as_bytes())
}

pub(crate) fn control(option: i32, value: libc::c_ulong) -> io::Result<()> {
    // SAFETY: the options used here take plain numbers.
    check(unsafe { libc::prctl(option, value, 0, 0, 0) }.into()).map(drop)
}
