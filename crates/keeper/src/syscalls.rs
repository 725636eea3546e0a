//! The system calls of the keeper: `rustix` where it has them, and thin covers over `libc` for the rest (clone, signals,
//! owners of mounts).

use std::borrow::Cow;
use std::ffi::CString;
use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd};

use rustix::fs::{CWD, Mode, OFlags};
use rustix::io::Errno;
use rustix::mount::{FsMountFlags, FsOpenFlags, MountAttrFlags, MountFlags, MoveMountFlags, OpenTreeFlags};
use rustix::pipe::PipeFlags;
use rustix::process::Signal;
use rustix::thread::{LinkNameSpaceType, UnshareFlags};

/// The operation that failed, and the kernel's error number.
#[derive(Debug)]
pub(crate) struct Fault {
    pub step: Cow<'static, str>,
    pub errno: i32,
}

/// Names the step that an error belongs to.
pub(crate) fn step<T>(
    step: impl Into<Cow<'static, str>>,
    result: Result<T, impl Into<io::Error>>,
) -> Result<T, Fault> {
    result.map_err(|error| {
        let errno = error.into().raw_os_error().unwrap_or(libc::EIO);
        Fault { step: step.into(), errno }
    })
}

/// The answer of a system call that was made through `libc`, as a result.
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
        let (read, write) = step("make a pipe", rustix::pipe::pipe_with(PipeFlags::CLOEXEC))?;
        Ok(Pipe { read, write })
    }

    /// The same for a program's output. Programs open it again, as `/dev/stdout` and `/proc/self/fd/1`, also after they
    /// have changed to another account. Nobody but the program's own processes can reach it there.
    pub(crate) fn open_to_all() -> Result<Pipe, Fault> {
        let pipe = Pipe::new()?;
        let everybody = Mode::from_raw_mode(0o666);
        step("open the output to the program's accounts", rustix::fs::fchmod(&pipe.write, everybody))?;
        Ok(pipe)
    }
}

pub(crate) fn become_own_session() {
    // It fails only if this is a group's leader, which changes nothing.
    let _ = rustix::process::setsid();
}

/// Clock ticks after boot at which this process started: with the id, it names the process for good.
pub(crate) fn start_time() -> u64 {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap_or_default();
    let after_name = stat.rsplit_once(')').map_or("", |(_, rest)| rest);
    after_name.split_whitespace().nth(19).and_then(|ticks| ticks.parse().ok()).unwrap_or(0)
}

/// Overwrites the words that this process was started with: programs inside can read them of the first process, and they
/// hold a path of the machine.
pub(crate) fn hide_words() -> io::Result<()> {
    let stat = std::fs::read_to_string("/proc/self/stat")?;
    let after_name = stat.rsplit_once(')').map_or("", |(_, rest)| rest);
    // Fields 48 and 49 of proc(5), counted from the third: where the words begin and end in memory.
    let mut fields = after_name.split_whitespace().skip(45).map(|field| field.parse::<usize>().ok());
    let (Some(Some(begin)), Some(Some(end))) = (fields.next(), fields.next()) else {
        return Err(io::ErrorKind::InvalidData.into());
    };
    let length = end.saturating_sub(begin);
    let name = &b"init"[..length.min(4)];
    // SAFETY: the kernel says that these bytes of this process's own stack are its words; nobody reads them after main began.
    unsafe {
        let words = begin as *mut u8;
        words.write_bytes(0, length);
        words.copy_from_nonoverlapping(name.as_ptr(), name.len());
    }
    Ok(())
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

pub(crate) fn enter_network(path: &str) -> Result<(), Fault> {
    use std::os::fd::AsFd;
    let file = step("open the node's network namespace", File::open(path))?;
    let entered = rustix::thread::move_into_link_name_space(file.as_fd(), Some(LinkNameSpaceType::Network));
    step("enter the node's network namespace", entered)
}

pub(crate) fn unshare(kind: UnshareFlags) -> Result<(), Errno> {
    // SAFETY: only a shared table of descriptors would matter here, and no namespace touches that.
    unsafe { rustix::thread::unshare_unsafe(kind) }
}

/// The replica ends with its keeper: by this signal to the caller, when its parent has ended.
pub(crate) fn end_with_parent(signal: Signal) -> Result<(), Fault> {
    step("tie the replica to its keeper", rustix::process::set_parent_process_death_signal(Some(signal)))
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

/// Mounts a file system of this kind.
pub(crate) fn mount(kind: &str, target: &str, flags: MountFlags, options: &str) -> Result<(), Errno> {
    rustix::mount::mount(kind, target, kind, flags, text(options).as_c_str())
}

/// A detached copy of the mount at `path`.
pub(crate) fn open_tree(path: &str) -> Result<OwnedFd, Errno> {
    let flags = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC;
    rustix::mount::open_tree(CWD, path, flags)
}

/// Puts a detached mount at `target`.
pub(crate) fn move_mount(tree: &OwnedFd, target: &str) -> Result<(), Errno> {
    rustix::mount::move_mount(tree, "", CWD, target, MoveMountFlags::MOVE_MOUNT_F_EMPTY_PATH)
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
pub(crate) fn detached_proc() -> Result<OwnedFd, Errno> {
    let context = rustix::mount::fsopen("proc", FsOpenFlags::FSOPEN_CLOEXEC)?;
    rustix::mount::fsconfig_create(&context)?;
    rustix::mount::fsmount(&context, FsMountFlags::FSMOUNT_CLOEXEC, MountAttrFlags::empty())
}

/// Writes a short value into a file below an open directory.
pub(crate) fn write_below(dir: &OwnedFd, path: &str, value: &str) -> io::Result<()> {
    let file = rustix::fs::openat(dir, path, OFlags::WRONLY | OFlags::CLOEXEC, Mode::empty())?;
    io::Write::write_all(&mut File::from(file), value.as_bytes())
}
