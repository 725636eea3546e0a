//! A mount namespace with a root of its own: the system's programs and libraries, and what was named.
//!
//! Everything is prepared before the fork; after it there are only system calls, and nothing is allocated.

use std::ffi::CString;
use std::fs;
use std::io;
use std::os::fd::{AsRawFd as _, FromRawFd as _, OwnedFd};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{DirBuilderExt as _, MetadataExt as _, chown};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::check;

/// A root directory for processes of one account.
#[derive(Debug, Clone)]
pub struct View {
    /// The user and group that it is for.
    account: u32,
    /// The mount point of the new root, in a mount namespace of its own.
    root: PathBuf,
}

/// Paths that stay visible besides programs and libraries.
#[derive(Debug, Default)]
pub struct Visible<'a> {
    /// Folders and files that it may write.
    pub own: Vec<&'a Path>,
    /// Files that it may read.
    pub read: Vec<&'a Path>,
    /// A repository of this machine, and whether it is written to.
    pub folder: Option<(&'a Path, bool)>,
    /// Whether it reaches hosts.
    pub network: bool,
}

/// Programs, libraries, and what names and certificates are looked up by.
const SYSTEM: [&str; 13] = [
    "/usr",
    "/bin",
    "/lib",
    "/lib32",
    "/lib64",
    "/etc/ssl",
    "/etc/resolv.conf",
    "/etc/hosts",
    "/etc/nsswitch.conf",
    "/etc/ld.so.cache",
    "/dev/null",
    "/dev/zero",
    "/dev/urandom",
];
/// Processes that the account may have at once.
const PROCESSES: u64 = 128;

impl View {
    /// In this folder, as this user and group id, which nothing else of the machine has.
    pub fn new(dir: &Path, account: u32) -> io::Result<View> {
        let root = dir.join("root");
        fs::DirBuilder::new().recursive(true).mode(0o700).create(&root)?;
        Ok(View { account, root })
    }

    /// Gives a folder with everything in it to the account.
    pub fn own(&self, path: &Path) -> io::Result<()> {
        let found = fs::symlink_metadata(path)?;
        if found.is_symlink() {
            return Ok(());
        }
        if found.uid() != self.account {
            chown(path, Some(self.account), Some(self.account))?;
        }
        if found.is_dir() {
            for entry in fs::read_dir(path)? {
                self.own(&entry?.path())?;
            }
        }
        Ok(())
    }

    /// Everything that is done after the fork.
    pub fn plan(&self, visible: &Visible<'_>, enter: &Path) -> io::Result<Plan> {
        // A repository may lie below the machine's own `/tmp`: the new one is there before anything else.
        let tmp = self.inside(Path::new("/tmp"))?;
        let mut steps = vec![
            ViewStep::Root(text(&self.root)?),
            ViewStep::Folder(tmp.clone(), 0o1777),
            ViewStep::Scratch(tmp),
        ];
        for path in SYSTEM.iter().map(Path::new) {
            match fs::symlink_metadata(path) {
                Ok(found) if found.is_symlink() && !path.starts_with("/etc") => {
                    let target = text(&fs::read_link(path)?)?;
                    steps.push(ViewStep::Link { target, at: self.inside(path)? });
                }
                Ok(_) => self.bind(&mut steps, path, path, Access::Read)?,
                Err(_) => {}
            }
        }
        for path in &visible.read {
            self.bind(&mut steps, path, path, Access::Read)?;
        }
        for path in &visible.own {
            self.bind(&mut steps, path, path, Access::Write)?;
        }
        if let Some((folder, written)) = visible.folder {
            let found = fs::metadata(folder)?;
            let shift = id_map(found.uid(), found.gid(), self.account).ok().map(Arc::new);
            let access = if written { Access::ShiftedWrite } else { Access::Shifted };
            self.bind(&mut steps, folder, folder, access)?;
            if let Some(ViewStep::Bind { users, .. }) = steps.last_mut() {
                *users = shift;
            }
        }
        self.file(&mut steps, "/etc/passwd", format!("yard:x:{0}:{0}::/tmp:/bin/false\n", self.account))?;
        self.file(&mut steps, "/etc/group", format!("yard:x:{}:\n", self.account))?;
        Ok(Plan { steps, enter: text(enter)?, account: self.account, network: visible.network })
    }

    fn inside(&self, path: &Path) -> io::Result<CString> {
        text(&self.root.join(path.strip_prefix("/").unwrap_or(path)))
    }

    fn folders(&self, steps: &mut Vec<ViewStep>, path: &Path) -> io::Result<()> {
        let mut above: Vec<&Path> = path.ancestors().skip(1).filter(|path| *path != Path::new("/")).collect();
        above.reverse();
        for folder in above {
            steps.push(ViewStep::Folder(self.inside(folder)?, 0o755));
        }
        Ok(())
    }

    fn bind(&self, steps: &mut Vec<ViewStep>, from: &Path, at: &Path, access: Access) -> io::Result<()> {
        self.folders(steps, at)?;
        if fs::metadata(from)?.is_dir() {
            steps.push(ViewStep::Folder(self.inside(at)?, 0o755));
        } else {
            steps.push(ViewStep::File(self.inside(at)?, Vec::new()));
        }
        steps.push(ViewStep::Bind { from: text(from)?, at: self.inside(at)?, access, users: None });
        Ok(())
    }

    fn file(&self, steps: &mut Vec<ViewStep>, at: &str, content: String) -> io::Result<()> {
        let at = Path::new(at);
        self.folders(steps, at)?;
        steps.push(ViewStep::File(self.inside(at)?, content.into_bytes()));
        Ok(())
    }
}

fn text(path: &Path) -> io::Result<CString> {
    CString::new(path.as_os_str().as_bytes()).map_err(io::Error::other)
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Access {
    Read,
    Write,
    /// Its owner's files are shown as the account's.
    Shifted,
    ShiftedWrite,
}

#[derive(Debug)]
enum ViewStep {
    Root(CString),
    Scratch(CString),
    Folder(CString, libc::mode_t),
    File(CString, Vec<u8>),
    Link { target: CString, at: CString },
    Bind { from: CString, at: CString, access: Access, users: Option<Arc<OwnedFd>> },
}

/// Steps after the fork.
#[derive(Debug)]
pub struct Plan {
    steps: Vec<ViewStep>,
    enter: CString,
    account: u32,
    network: bool,
}

#[repr(C)]
pub(crate) struct MountAttributes {
    pub(crate) set: u64,
    pub(crate) clear: u64,
    pub(crate) propagation: u64,
    pub(crate) users: u64,
}

pub(crate) const MOUNT_ATTR_RDONLY: u64 = 1;
pub(crate) const MOUNT_ATTR_NOSUID: u64 = 2;
pub(crate) const MOUNT_ATTR_NODEV: u64 = 4;
const MOUNT_ATTR_IDMAP: u64 = 0x10_0000;
const OPEN_TREE_CLONE: libc::c_uint = 1;
const MOVE_MOUNT_F_EMPTY_PATH: libc::c_uint = 4;

impl Plan {
    /// Shuts the calling process in and gives up its rights: for between fork and exec. Allocates nothing.
    pub fn carry_out(&self) -> io::Result<()> {
        self.enter()?;
        // SAFETY: structures live across the calls.
        unsafe {
            for (kind, most) in [(libc::RLIMIT_NPROC, PROCESSES), (libc::RLIMIT_CORE, 0)] {
                let limit = libc::rlimit { rlim_cur: most, rlim_max: most };
                check(libc::setrlimit(kind, &limit).into())?;
            }
            // The library's versions would signal other threads, which this process does not have.
            let none: *const libc::gid_t = std::ptr::null();
            check(libc::syscall(libc::SYS_setgroups, 0, none))?;
            check(libc::syscall(libc::SYS_setresgid, self.account, self.account, self.account))?;
            check(libc::syscall(libc::SYS_setresuid, self.account, self.account, self.account))?;
            check(libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0).into())?;
        }
        Ok(())
    }

    /// Changes what the calling thread sees, and what threads see that it starts later.
    pub fn enter(&self) -> io::Result<()> {
        let mut flags = libc::CLONE_NEWNS | libc::CLONE_NEWIPC | libc::CLONE_NEWUTS;
        if !self.network {
            flags |= libc::CLONE_NEWNET;
        }
        // SAFETY: strings and structures live across the calls.
        unsafe {
            check(libc::unshare(flags).into())?;
            let all_private = libc::MS_PRIVATE | libc::MS_REC;
            let none = std::ptr::null();
            check(libc::mount(none, c"/".as_ptr(), none, all_private, none.cast()).into())?;
            for step in &self.steps {
                step.carry_out()?;
            }
            check(libc::syscall(libc::SYS_pivot_root, c".".as_ptr(), c".".as_ptr()))?;
            check(libc::umount2(c".".as_ptr(), libc::MNT_DETACH).into())?;
            let locked = libc::MS_REMOUNT | libc::MS_RDONLY | libc::MS_NOSUID | libc::MS_NODEV;
            check(libc::mount(none, c"/".as_ptr(), none, locked, none.cast()).into())?;
            check(libc::chdir(self.enter.as_ptr()).into()).map(drop)
        }
    }
}

impl ViewStep {
    unsafe fn carry_out(&self) -> io::Result<()> {
        // SAFETY: as the caller's.
        unsafe {
            match self {
                ViewStep::Root(at) => {
                    let flags = libc::MS_NOSUID | libc::MS_NODEV;
                    let options = c"mode=0755,size=1m".as_ptr().cast();
                    check(
                        libc::mount(c"view".as_ptr(), at.as_ptr(), c"tmpfs".as_ptr(), flags, options).into(),
                    )?;
                    check(libc::chdir(at.as_ptr()).into()).map(drop)
                }
                ViewStep::Scratch(at) => {
                    let flags = libc::MS_NOSUID | libc::MS_NODEV | libc::MS_NOEXEC;
                    let options = c"mode=1777,size=64m".as_ptr().cast();
                    check(libc::mount(c"tmp".as_ptr(), at.as_ptr(), c"tmpfs".as_ptr(), flags, options).into())
                        .map(drop)
                }
                ViewStep::Folder(at, mode) => {
                    if libc::mkdir(at.as_ptr(), *mode) != 0 {
                        let error = io::Error::last_os_error();
                        return if error.raw_os_error() == Some(libc::EEXIST) { Ok(()) } else { Err(error) };
                    }
                    // Not as the process's mask would have it.
                    check(libc::chmod(at.as_ptr(), *mode).into()).map(drop)
                }
                ViewStep::File(at, content) => {
                    let fd = check(
                        libc::open(at.as_ptr(), libc::O_WRONLY | libc::O_CREAT | libc::O_CLOEXEC, 0o644)
                            .into(),
                    )?;
                    let fd = OwnedFd::from_raw_fd(fd as i32);
                    // Not as the process's mask would have it.
                    check(libc::fchmod(fd.as_raw_fd(), 0o644).into())?;
                    check(libc::write(fd.as_raw_fd(), content.as_ptr().cast(), content.len()) as libc::c_long)
                        .map(drop)
                }
                ViewStep::Link { target, at } => {
                    check(libc::symlink(target.as_ptr(), at.as_ptr()).into()).map(drop)
                }
                ViewStep::Bind { from, at, access, users } => bind(from, at, *access, users.as_deref()),
            }
        }
    }
}

unsafe fn bind(from: &CString, at: &CString, access: Access, users: Option<&OwnedFd>) -> io::Result<()> {
    // SAFETY: as the caller's.
    unsafe {
        let flags = OPEN_TREE_CLONE | libc::O_CLOEXEC as libc::c_uint | libc::AT_RECURSIVE as libc::c_uint;
        let tree = check(libc::syscall(libc::SYS_open_tree, libc::AT_FDCWD, from.as_ptr(), flags))?;
        let tree = OwnedFd::from_raw_fd(tree as i32);
        let mut set = MOUNT_ATTR_NOSUID;
        if matches!(access, Access::Read | Access::Shifted) {
            set |= MOUNT_ATTR_RDONLY;
        }
        if access != Access::Read {
            set |= MOUNT_ATTR_NODEV;
        }
        // The machine may be read-only to who makes the view.
        let clear =
            if matches!(access, Access::Write | Access::ShiftedWrite) { MOUNT_ATTR_RDONLY } else { 0 };
        let attributes = MountAttributes { set, clear, propagation: 0, users: 0 };
        change(&tree, libc::AT_RECURSIVE, &attributes)?;
        if let Some(users) = users {
            let shifted = MountAttributes {
                set: MOUNT_ATTR_IDMAP,
                clear: 0,
                propagation: 0,
                users: users.as_raw_fd() as u64,
            };
            // A file system that cannot show other owners is read by what everybody may read.
            let _ = change(&tree, 0, &shifted);
        }
        let moved = libc::syscall(
            libc::SYS_move_mount,
            tree.as_raw_fd(),
            c"".as_ptr(),
            libc::AT_FDCWD,
            at.as_ptr(),
            MOVE_MOUNT_F_EMPTY_PATH,
        );
        check(moved).map(drop)
    }
}

unsafe fn change(tree: &OwnedFd, flags: i32, attributes: &MountAttributes) -> io::Result<()> {
    // SAFETY: the structure lives across the call and has the size that is said.
    let changed = unsafe {
        libc::syscall(
            libc::SYS_mount_setattr,
            tree.as_raw_fd(),
            c"".as_ptr(),
            libc::AT_EMPTY_PATH | flags,
            attributes,
            size_of::<MountAttributes>(),
        )
    };
    check(changed).map(drop)
}

/// A user namespace that exists only as a map: what belongs to `user` and `group` is shown as the account's.
fn id_map(user: u32, group: u32, account: u32) -> io::Result<OwnedFd> {
    let flags = libc::CLONE_NEWUSER | libc::SIGCHLD;
    // SAFETY: as after a fork; the child makes one system call at a time and touches no memory of ours.
    let pid = check(unsafe { libc::syscall(libc::SYS_clone, flags, 0, 0, 0, 0) })?;
    if pid == 0 {
        // SAFETY: waits for the signal below, and goes with the parent if that never comes.
        unsafe {
            libc::syscall(libc::SYS_prctl, libc::PR_SET_PDEATHSIG, libc::SIGKILL);
            // Its maps are opened by who made it, who may trace nobody.
            libc::syscall(libc::SYS_prctl, libc::PR_SET_DUMPABLE, 1, 0, 0, 0);
            libc::syscall(libc::SYS_kill, libc::syscall(libc::SYS_getpid), libc::SIGSTOP);
            loop {
                libc::syscall(libc::SYS_pause);
            }
        }
    }
    // SAFETY: no memory is involved: nothing is asked but whether it has stopped.
    check(unsafe { libc::waitpid(pid as i32, std::ptr::null_mut(), libc::WUNTRACED) }.into())?;
    let opened = (|| {
        fs::write(format!("/proc/{pid}/uid_map"), format!("{user} {account} 1\n"))?;
        fs::write(format!("/proc/{pid}/gid_map"), format!("{group} {account} 1\n"))?;
        fs::File::open(format!("/proc/{pid}/ns/user"))
    })();
    // SAFETY: the child is ours and has not been waited for.
    unsafe {
        libc::kill(pid as i32, libc::SIGKILL);
        libc::waitpid(pid as i32, std::ptr::null_mut(), 0);
    }
    opened.map(OwnedFd::from)
}
