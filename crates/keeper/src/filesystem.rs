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

use mainyard_keeper::Spec;
use rustix::fs::{CWD, FileType, Mode, makedev, mknodat};
use rustix::io::Errno;
use rustix::mount::{
    MountFlags, MountPropagationFlags, UnmountFlags, mount_bind, mount_change, mount_remount, unmount,
};
use rustix::process::pivot_root;
use rustix::thread::UnshareFlags;

use crate::syscalls::{Fault, mount, move_mount, open_tree, shift_owners, step, unshare};

const NO_DEVICES: MountFlags = MountFlags::NOSUID.union(MountFlags::NODEV);
const DATA_ONLY: MountFlags = NO_DEVICES.union(MountFlags::NOEXEC);

/// Mounts the scratch and the layered root at `root` below the stage, which becomes the working directory.
pub(crate) fn stage(spec: &Spec) -> Result<(), Fault> {
    step("make a mount namespace", unshare(UnshareFlags::NEWNS))?;
    let private = MountPropagationFlags::PRIVATE | MountPropagationFlags::REC;
    step("make the mounts private", mount_change("/", private))?;
    let options = format!("mode=0755,size={},nr_inodes={}", spec.scratch, spec.inodes);
    step("mount the scratch", mount("tmpfs", &spec.stage, NO_DEVICES, &options))?;
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
    step("mount the image", mount("overlay", "root", NO_DEVICES, &options))
}

/// Changes the root to the image and furnishes it. Called in the new namespaces.
pub(crate) fn furnish(spec: &Spec) -> Result<(), Fault> {
    let hosts = step("open the hosts file", open_tree("hosts"))?;
    let meminfo = step("open the memory file", open_tree("meminfo"))?;
    // The copy of the mount can be pivoted to, whatever the first one was locked by.
    step("enter the image", std::env::set_current_dir("root"))?;
    step("change the root", pivot())?;
    for dir in ["/proc", "/dev", "/etc", "/tmp", "/run"] {
        step("furnish the root", ensure_dir(dir, spec.id_base))?;
    }
    // Before /proc is there, every link in the image leads into the image.
    step("make the working directory", ensure_dirs(&spec.cwd, spec.id_base))?;
    for (path, content) in &spec.files {
        step(format!("put the file {path} there"), put_content(spec, path, content))?;
    }
    step("furnish /dev", devices(spec))?;
    step("furnish /etc/hosts", put_file(&hosts, "/etc/hosts", spec.id_base))?;
    step("furnish /etc/hostname", put_text(spec, "/etc/hostname", &format!("{}\n", spec.hostname)))?;
    step("furnish /etc/resolv.conf", put_text(spec, "/etc/resolv.conf", &spec.resolver))?;
    step("mount /proc", mount("proc", "/proc", DATA_ONLY, ""))?;
    step("mask /proc", move_mount(&meminfo, "/proc/meminfo"))?;
    mask()
}

fn pivot() -> io::Result<()> {
    // The old root lies over the new one and is taken away (pivot_root(2), "pivot_root(".", ".")").
    pivot_root(".", ".")?;
    unmount(".", UnmountFlags::DETACH)?;
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

/// Makes the missing directories of a path; one without a slash in front begins at the root.
fn ensure_dirs(path: &str, id_base: u32) -> io::Result<()> {
    let ends = path.match_indices('/').map(|(end, _)| end).chain([path.len()]);
    ends.filter(|end| *end > 0).try_for_each(|end| ensure_dir(&path[..end], id_base))
}

fn put_file(tree: &OwnedFd, path: &str, id_base: u32) -> io::Result<()> {
    // An image may ship the file as a link; what is put there must be a plain file.
    if fs::symlink_metadata(path).is_ok_and(|found| !found.is_file()) {
        fs::remove_file(path)?;
    }
    fs::OpenOptions::new().create(true).append(true).open(path)?;
    chown(path, Some(id_base), Some(id_base))?;
    Ok(move_mount(tree, path)?)
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
    let flags = MountFlags::NOSUID | MountFlags::NOEXEC;
    mount("tmpfs", "/dev", flags, "mode=0755,size=64k")?;
    // The kernel's own numbers (devices.txt); 5:0 is the terminal of the process that opens it.
    let devices =
        [("null", 1, 3), ("zero", 1, 5), ("full", 1, 7), ("random", 1, 8), ("urandom", 1, 9), ("tty", 5, 0)];
    for (name, major, minor) in devices {
        let path = format!("/dev/{name}");
        mknodat(CWD, &path, FileType::CharacterDevice, Mode::from_raw_mode(0o666), makedev(major, minor))?;
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
    mount("devpts", "/dev/pts", flags, &terminals)?;
    fs::create_dir("/dev/shm")?;
    let shared = format!("mode=1777,size={},nr_inodes={}", spec.scratch, spec.inodes);
    Ok(mount("tmpfs", "/dev/shm", DATA_ONLY, &shared)?)
}

/// Paths that reveal or change the machine, hidden or made read-only.
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
        match mount_bind("/dev/null", &path) {
            Err(Errno::NOENT) => {}
            other => step("mask /proc", other)?,
        }
    }
    for dir in ["acpi", "scsi", "irq", "bus", "fs", "driver", "tty"] {
        match mount("tmpfs", &format!("/proc/{dir}"), MountFlags::RDONLY | NO_DEVICES, "size=0") {
            Err(Errno::NOENT) => {}
            other => step("mask /proc", other)?,
        }
    }
    step("lock /proc/sys", mount_bind("/proc/sys", "/proc/sys"))?;
    step("lock /proc/sys", mount_remount("/proc/sys", DATA_ONLY | MountFlags::RDONLY | MountFlags::BIND, ""))
}
