//! The replica's file system: the image's layers below, scratch above, a small `/dev`, `/proc` and `/sys`.
//!
//! All mounts live in the keeper's own mount namespace: the machine's list of mounts never shows them, and they
//! go with the keeper. Scratch is a directory on disk that the node bounds; where the node has none it is memory, counted
//! against the replica's limit and bounded by `spec.scratch`.
//! Nothing is mounted by a path inside the image before the root is changed, so a link in an image can only
//! ever lead into the image.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::fd::OwnedFd;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, chown, symlink};
use std::path::Path;

use mainyard_keeper::Spec;
use rustix::fs::{CWD, FileType, Mode, makedev, mknodat};
use rustix::io::Errno;
use rustix::mount::{
    MountFlags, MountPropagationFlags, UnmountFlags, mount_bind, mount_bind_recursive, mount_change,
    mount_remount, unmount,
};
use rustix::process::pivot_root;
use rustix::thread::UnshareFlags;

use crate::syscalls::{Fault, mount, move_mount, open_tree, shift_owners, step, unshare};

const NO_DEVICES: MountFlags = MountFlags::NOSUID.union(MountFlags::NODEV);
/// Memory that the stage takes beside files: mount points, hosts and the memory file.
const STAGE: u64 = 1 << 20;
const PAGE: usize = 4096;
const DATA_ONLY: MountFlags = NO_DEVICES.union(MountFlags::NOEXEC);

/// Mounts the scratch and the layered root at `root` below the stage, which becomes the working directory.
pub(crate) fn stage(spec: &Spec) -> Result<(), Fault> {
    step("make a mount namespace", unshare(UnshareFlags::NEWNS))?;
    let private = MountPropagationFlags::PRIVATE | MountPropagationFlags::REC;
    step("make the mounts private", mount_change("/", private))?;
    let on_disk = match spec.scratch_dir.as_str() {
        "" => None,
        dir => Some(step("open the scratch on disk", open_tree(dir))?),
    };
    let files: usize = spec.files.iter().map(|(_, content)| content.len() + PAGE).sum();
    let room = if on_disk.is_some() { STAGE + files as u64 } else { spec.scratch + files as u64 };
    let options = format!("mode=0755,size={room},nr_inodes={}", spec.inodes);
    step("mount the stage", mount("tmpfs", &spec.stage, NO_DEVICES, &options))?;
    step("enter the stage", std::env::set_current_dir(&spec.stage))?;
    for dir in ["scratch", "files", "root"] {
        step("prepare the stage", fs::create_dir(dir))?;
    }
    if let Some(tree) = on_disk {
        step("mount the scratch", move_mount(&tree, "scratch"))?;
    }
    for dir in ["scratch/upper", "scratch/work"] {
        step("prepare the scratch", fs::create_dir(dir))?;
    }
    step("prepare the scratch", chown("scratch/upper", Some(spec.id_base), Some(spec.id_base)))?;
    step("prepare the stage", fs::write("hosts", &spec.hosts))?;
    step("prepare the stage", fs::write("meminfo", &spec.meminfo))?;

    let users = step("open the id map", File::open(&spec.id_map))?;
    let mut lower = String::new();
    for (number, layer) in spec.layers.iter().enumerate() {
        let place = format!("l{number}");
        step("prepare the stage", fs::create_dir(&place))?;
        let tree = step("open an image layer", open_tree(layer))?;
        step("shift the owners of an image layer", shift_owners(&tree, &users))?;
        step("mount an image layer", move_mount(&tree, &place))?;
        lower = if lower.is_empty() { place } else { format!("{place}:{lower}") };
    }
    let options = format!("lowerdir={lower},upperdir=scratch/upper,workdir=scratch/work");
    step("mount the image", mount("overlay", "root", NO_DEVICES, &options))
}

/// Changes the root to the image and furnishes it. Called in the new namespaces, as a member of the replica's groups.
pub(crate) fn furnish(spec: &Spec) -> Result<(), Fault> {
    let hosts = step("open the hosts file", open_tree("hosts"))?;
    let meminfo = step("open the memory file", open_tree("meminfo"))?;
    let files = step("prepare the files", stage_files(spec))?;
    let folders = spec.folders.iter().map(|(outside, _)| open_tree(outside)).collect::<Result<Vec<_>, _>>();
    let folders = step("open the folders of the node", folders)?;
    let groups = step("open the control groups", open_groups(spec))?;
    // The copy of the mount can be pivoted to, whatever the first one was locked by.
    step("enter the image", std::env::set_current_dir("root"))?;
    step("change the root", pivot())?;
    for dir in ["/proc", "/dev", "/etc", "/tmp", "/run", "/sys"] {
        step("furnish the root", ensure_dir(dir, spec.id_base))?;
    }
    // Before /proc is there, every link in the image leads into the image.
    for dir in spec.volumes.iter().chain([&spec.cwd]) {
        step(format!("make the directory {dir}"), ensure_dirs(dir, spec.id_base))?;
    }
    if spec.tmp > 0 {
        let options = format!("mode=1777,size={},nr_inodes={}", spec.tmp, spec.inodes);
        step("mount /tmp", mount("tmpfs", "/tmp", NO_DEVICES, &options))?;
    }
    for ((_, path), tree) in spec.folders.iter().zip(&folders) {
        step(format!("put the folder {path} there"), put_folder(tree, path, spec.id_base))?;
    }
    for ((path, _), tree) in spec.files.iter().zip(&files) {
        step(format!("put the file {path} there"), put_content(tree, path, spec.id_base))?;
    }
    step("furnish /dev", devices(spec))?;
    step("furnish /etc/hosts", put_file(&hosts, "/etc/hosts", spec.id_base))?;
    step("furnish /etc/hostname", put_text(spec, "/etc/hostname", &format!("{}\n", spec.hostname)))?;
    step("furnish /etc/resolv.conf", put_text(spec, "/etc/resolv.conf", &spec.resolver))?;
    step("mount /proc", mount("proc", "/proc", DATA_ONLY, ""))?;
    step("mask /proc", move_mount(&meminfo, "/proc/meminfo"))?;
    mask()?;
    step("furnish /sys", processors_and_groups(spec, &groups))?;
    if spec.read_only { step("make the root read-only", lock_root(spec)) } else { Ok(()) }
}

/// Writes the files that are put into the root: into memory, whatever the root is on, so that they are never on disk.
fn stage_files(spec: &Spec) -> io::Result<Vec<OwnedFd>> {
    let staged = spec.files.iter().enumerate().map(|(number, (_, content))| {
        let path = format!("files/{number}");
        let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o400).open(&path)?;
        file.write_all(content)?;
        // The program's own user alone may read it.
        chown(&path, Some(spec.id_base + spec.uid), Some(spec.id_base + spec.gid))?;
        Ok(open_tree(&path)?)
    });
    staged.collect()
}

/// The replica's own control groups, for programs that look for their limits there.
fn open_groups(spec: &Spec) -> io::Result<Vec<OwnedFd>> {
    spec.groups.iter().map(|group| Ok(open_tree(&group.dir)?)).collect()
}

/// What programs look for below `/sys`: how many processors there are, and their control groups. All of it is read-only,
/// and nothing else of the machine's `/sys` is there.
fn processors_and_groups(spec: &Spec, groups: &[OwnedFd]) -> io::Result<()> {
    mount("tmpfs", "/sys", DATA_ONLY, "mode=0755,size=256k,nr_inodes=64")?;
    for dir in ["/sys/fs/cgroup", "/sys/devices/system/cpu"] {
        fs::create_dir_all(dir)?;
    }
    // The kernel's own form (Documentation/admin-guide/cputopology.rst).
    let all = if spec.processors > 1 { format!("0-{}\n", spec.processors - 1) } else { "0\n".to_owned() };
    for file in ["online", "possible", "present"] {
        fs::write(format!("/sys/devices/system/cpu/{file}"), &all)?;
    }
    for (group, tree) in spec.groups.iter().zip(groups) {
        let target = match group.shown_as.as_str() {
            "" => "/sys/fs/cgroup".to_owned(),
            name => format!("/sys/fs/cgroup/{name}"),
        };
        fs::create_dir_all(&target)?;
        move_mount(tree, &target)?;
        mount_remount(&target, DATA_ONLY | MountFlags::RDONLY | MountFlags::BIND, "")?;
        // A hierarchy of several controllers is looked for by the name of each.
        for controller in group.shown_as.split(',').filter(|_| group.shown_as.contains(',')) {
            symlink(&group.shown_as, format!("/sys/fs/cgroup/{controller}"))?;
        }
    }
    Ok(mount_remount("/sys", DATA_ONLY | MountFlags::RDONLY, "")?)
}

/// What is mounted here is masked by further mounts, which a mount of the same directory over it would take away.
const FURNISHED: [&str; 3] = ["/dev", "/proc", "/sys"];

/// Makes the root read-only. What stays writable is a mount of its own, of the same files.
fn lock_root(spec: &Spec) -> io::Result<()> {
    let in_memory = spec.tmp > 0;
    let writable = ["/run", "/tmp"].into_iter().filter(|dir| *dir != "/tmp" || !in_memory);
    for dir in writable.chain(spec.volumes.iter().map(String::as_str)) {
        // A link of the image may lead anywhere in its root.
        let dir = fs::canonicalize(dir)?;
        let is_furnished = FURNISHED.iter().any(|own| dir.starts_with(own));
        if !is_furnished && dir != Path::new("/") {
            mount_bind_recursive(&dir, &dir)?;
        }
    }
    Ok(mount_remount("/", NO_DEVICES | MountFlags::RDONLY | MountFlags::BIND, "")?)
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

/// Puts a file of memory at a path of the root.
fn put_content(tree: &OwnedFd, path: &str, id_base: u32) -> io::Result<()> {
    if let Some((above, _)) = path.rsplit_once('/') {
        ensure_dirs(above, id_base)?;
    }
    if fs::symlink_metadata(path).is_ok_and(|found| !found.is_file()) {
        fs::remove_file(path)?;
    }
    fs::OpenOptions::new().create(true).append(true).open(path)?;
    Ok(move_mount(tree, path)?)
}

/// Puts a folder of the node at a path of the root. No set-uid bit and no device file means anything in it.
fn put_folder(tree: &OwnedFd, path: &str, id_base: u32) -> io::Result<()> {
    ensure_dirs(path, id_base)?;
    move_mount(tree, path)?;
    Ok(mount_remount(path, NO_DEVICES | MountFlags::BIND, "")?)
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
    let shared = format!("mode=1777,size={},nr_inodes={}", spec.shared_memory, spec.inodes);
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
