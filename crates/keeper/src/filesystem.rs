//! The replica's file system: the image's layers below, scratch in memory above, a small `/dev` and `/proc`.
//!
//! All mounts live in the keeper's own mount namespace: the machine's list of mounts never shows them, and they
//! go with the keeper. Scratch is memory, counted against the replica's limit and bounded by `spec.scratch`.
//! Nothing is mounted by a path inside the image before the root is changed, so a link in an image can only
//! ever lead into the image.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::fd::OwnedFd;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, chown, symlink};

use libc::{MS_BIND, MS_NODEV, MS_NOEXEC, MS_NOSUID, MS_PRIVATE, MS_RDONLY, MS_REC, MS_REMOUNT};
use mainyard_keeper::Spec;

use crate::syscalls::{Fault, check, mount, move_mount, open_tree, shift_owners, step, text, unshare};

/// Mounts the scratch and the layered root at `root` below the stage, which becomes the working directory.
pub(crate) fn stage(spec: &Spec) -> Result<(), Fault> {
    step("make a mount namespace", unshare(libc::CLONE_NEWNS))?;
    step("make the mounts private", mount("", "/", "", MS_PRIVATE | MS_REC, ""))?;
    let options = format!("mode=0755,size={},nr_inodes={}", spec.scratch, spec.inodes);
    step("mount the scratch", mount("scratch", &spec.stage, "tmpfs", MS_NOSUID | MS_NODEV, &options))?;
    step("enter the scratch", std::env::set_current_dir(&spec.stage))?;
    for dir in ["upper", "work", "root"] {
        step("prepare the scratch", fs::create_dir(dir))?;
    }
    step("prepare the scratch", chown("upper", Some(spec.id_base), Some(spec.id_base)))?;
    step("prepare the scratch", fs::write("hosts", &spec.hosts))?;
    step("prepare the scratch", fs::write("meminfo", &spec.meminfo))?;

    let users = step("open the id map", File::open(&spec.id_map))?;
    let mut lower = String::new();
    for (number, layer) in spec.layers.iter().enumerate() {
        let place = format!("l{number}");
        step("prepare the scratch", fs::create_dir(&place))?;
        let tree = step("open an image layer", open_tree(layer))?;
        step("shift the owners of an image layer", shift_owners(&tree, &users))?;
        step("mount an image layer", move_mount(&tree, &place))?;
        lower = if lower.is_empty() { place } else { format!("{place}:{lower}") };
    }
    let options = format!("lowerdir={lower},upperdir=upper,workdir=work");
    step("mount the image", mount("image", "root", "overlay", MS_NOSUID | MS_NODEV, &options))
}

/// Changes the root to the image and furnishes it. Called in the new namespaces.
pub(crate) fn furnish(spec: &Spec) -> Result<(), Fault> {
    let hosts = step("open the hosts file", open_tree("hosts"))?;
    let meminfo = step("open the memory file", open_tree("meminfo"))?;
    // The copy of the mount can be pivoted to, whatever the first one was locked by.
    step("enter the image", std::env::set_current_dir("root"))?;
    step("change the root", pivot())?;
    for dir in ["/proc", "/dev", "/etc", "/tmp"] {
        step("furnish the root", ensure_dir(dir, spec.id_base))?;
    }
    // Before /proc is there, every link in the image leads into the image.
    for (path, content) in &spec.files {
        step(format!("put the file {path} there"), put_content(spec, path, content))?;
    }
    step("furnish /dev", devices(spec))?;
    step("furnish /etc/hosts", put_file(&hosts, "/etc/hosts", spec.id_base))?;
    step("furnish /etc/resolv.conf", put_text(spec, "/etc/resolv.conf", &spec.resolver))?;
    let flags = MS_NOSUID | MS_NODEV | MS_NOEXEC;
    step("mount /proc", mount("proc", "/proc", "proc", flags, ""))?;
    step("mask /proc", move_mount(&meminfo, "/proc/meminfo"))?;
    mask()
}

fn pivot() -> io::Result<()> {
    // SAFETY: strings are constants.
    unsafe {
        check(libc::syscall(libc::SYS_pivot_root, c".".as_ptr(), c".".as_ptr()))?;
        check(libc::umount2(c".".as_ptr(), libc::MNT_DETACH).into())?;
    }
    std::env::set_current_dir("/")
}

/// A directory of the image where it has one; otherwise a new one that belongs to the replica's root.
fn ensure_dir(path: &str, id_base: u32) -> io::Result<()> {
    match fs::create_dir(path) {
        Ok(()) => {
            chown(path, Some(id_base), Some(id_base))?;
            let mode = if path == "/tmp" { 0o1777 } else { 0o755 };
            fs::set_permissions(path, fs::Permissions::from_mode(mode))
        }
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        Err(error) => Err(error),
    }
}

fn put_file(tree: &OwnedFd, path: &str, id_base: u32) -> io::Result<()> {
    // An image may ship the file as a link; what is put there must be a plain file.
    if fs::symlink_metadata(path).is_ok_and(|found| !found.is_file()) {
        fs::remove_file(path)?;
    }
    fs::OpenOptions::new().create(true).append(true).open(path)?;
    chown(path, Some(id_base), Some(id_base))?;
    move_mount(tree, path)
}

/// A file that everybody inside may read.
fn put_text(spec: &Spec, path: &str, text: &str) -> io::Result<()> {
    if fs::symlink_metadata(path).is_ok() {
        fs::remove_file(path)?;
    }
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o644).open(path)?;
    file.write_all(text.as_bytes())?;
    chown(path, Some(spec.id_base), Some(spec.id_base))
}

/// A file that the program's own user alone may read, in scratch: it is memory and goes with the replica.
fn put_content(spec: &Spec, path: &str, content: &[u8]) -> io::Result<()> {
    for (end, _) in path.match_indices('/').skip(1) {
        ensure_dir(&path[..end], spec.id_base)?;
    }
    if fs::symlink_metadata(path).is_ok() {
        fs::remove_file(path)?;
    }
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o400).open(path)?;
    file.write_all(content)?;
    chown(path, Some(spec.id_base + spec.uid), Some(spec.id_base + spec.gid))
}

fn devices(spec: &Spec) -> io::Result<()> {
    let flags = MS_NOSUID | MS_NOEXEC;
    mount("dev", "/dev", "tmpfs", flags, "mode=0755,size=64k")?;
    for (name, minor) in [("null", 3), ("zero", 5), ("full", 7), ("random", 8), ("urandom", 9)] {
        let path = format!("/dev/{name}");
        // SAFETY: the string lives across the call.
        let made =
            unsafe { libc::mknod(text(&path).as_ptr(), libc::S_IFCHR | 0o666, libc::makedev(1, minor)) };
        check(made.into())?;
        fs::set_permissions(&path, fs::Permissions::from_mode(0o666))?;
    }
    for (name, target) in [
        ("fd", "/proc/self/fd"),
        ("stdin", "/proc/self/fd/0"),
        ("stdout", "/proc/self/fd/1"),
        ("stderr", "/proc/self/fd/2"),
        ("ptmx", "pts/ptmx"),
    ] {
        symlink(target, format!("/dev/{name}"))?;
    }
    fs::create_dir("/dev/pts")?;
    let terminals =
        format!("newinstance,ptmxmode=0666,mode=0620,gid={},max={}", spec.id_base + 5, spec.terminals);
    mount("devpts", "/dev/pts", "devpts", flags, &terminals)?;
    fs::create_dir("/dev/shm")?;
    let shared = format!("mode=1777,size={},nr_inodes={}", spec.scratch, spec.inodes);
    mount("shm", "/dev/shm", "tmpfs", MS_NOSUID | MS_NODEV | MS_NOEXEC, &shared)
}

/// What tells of the machine or changes it, hidden or made read-only.
fn mask() -> Result<(), Fault> {
    for file in [
        "kcore",
        "kmsg",
        "keys",
        "key-users",
        "kallsyms",
        "modules",
        "sysrq-trigger",
        "timer_list",
        "sched_debug",
        "vmallocinfo",
        "slabinfo",
        "pagetypeinfo",
        "cmdline",
        "config.gz",
        "diskstats",
        "partitions",
        "swaps",
        "interrupts",
    ] {
        let path = format!("/proc/{file}");
        match mount("/dev/null", &path, "", MS_BIND, "") {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            other => step("mask /proc", other)?,
        }
    }
    for dir in ["acpi", "scsi", "irq", "bus", "fs", "driver", "tty"] {
        match mount("none", &format!("/proc/{dir}"), "tmpfs", MS_RDONLY | MS_NOSUID | MS_NODEV, "size=0") {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            other => step("mask /proc", other)?,
        }
    }
    let locked = MS_NOSUID | MS_NODEV | MS_NOEXEC | MS_RDONLY | MS_BIND;
    step("lock /proc/sys", mount("/proc/sys", "/proc/sys", "", MS_BIND, ""))?;
    step("lock /proc/sys", mount("", "/proc/sys", "", locked | MS_REMOUNT, ""))
}
