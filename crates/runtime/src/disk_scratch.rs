//! Scratch on disk: what replicas write to their root file systems, with a limit for each of them.
//!
//! A node has one file that holds a btrfs file system, mounted below its directory. Each replica has a subvolume there
//! with a quota, which holds the upper and the work directory of its overlay. A file that is full ends with "no space" in
//! that replica alone, and the node's disk never has less room than the file was made for. Nothing in it outlives its
//! replica: if it cannot be mounted any more, it is made again.
//!
//! Subvolumes and quotas are made by the kernel's own calls (linux/btrfs.h): a tenth of a millisecond each, where a program
//! would take three. Only formatting and mounting are done by Debian's `mkfs.btrfs` and `mount`, once for a node.

use std::ffi::{CString, OsStr};
use std::fs::{self, File};
use std::io;
use std::os::fd::AsRawFd;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use mainyard_core::model::Bytes;

use crate::network::is_mounted;
use crate::{Doing, Error, room_at};

/// The part of the disk's room that the file may grow to, and the least that is of use.
const SHARE_OF_ROOM: (u64, u64) = (4, 5);
const LEAST: Bytes = Bytes::mib(512);
/// What an empty subvolume counts as.
const EMPTY: u64 = 16 << 10;
/// How deep is looked for the directory that holds the most.
const DEPTH: usize = 4;
/// Most entries that are looked at for that.
const ENTRIES: usize = 50_000;

const SUBVOLUME_CREATE: u64 = 0x5000_940E;
const SUBVOLUME_DESTROY: u64 = 0x5000_940F;
const QUOTA_CONTROL: u64 = 0xC010_9428;
const QUOTA_LIMIT: u64 = 0x8030_942B;
const SUBVOLUME_INFO: u64 = 0x81F8_943C;
const FILE_SYSTEM_INFO: u64 = 0x8400_941F;
/// Of [`QUOTA_CONTROL`]: quotas that only count who made what, from Linux 6.7 on, and those of before.
const ENABLE_SIMPLE: u64 = 4;
const ENABLE: u64 = 1;
/// Of [`QUOTA_LIMIT`]: the limit is of what the subvolume refers to.
const LIMIT_REFERENCED: u64 = 1;

/// `struct btrfs_ioctl_vol_args`.
#[repr(C)]
struct Named {
    fd: i64,
    name: [u8; 4088],
}

/// A node's file system for scratch, mounted.
#[derive(Debug)]
pub struct DiskScratch {
    dir: PathBuf,
    /// Where the kernel shows the quotas.
    quotas: PathBuf,
}

impl DiskScratch {
    /// Opens the scratch of the node in `node`: makes and mounts it, where that was not done yet.
    ///
    /// # Errors
    /// When the machine has no btrfs, no loop devices, no `mkfs.btrfs`, or too little room.
    pub fn open(node: &Path) -> Result<DiskScratch, Error> {
        let (file, dir) = (node.join("scratch.btrfs"), node.join("scratch"));
        fs::create_dir_all(&dir).doing("make the directory of the scratch")?;
        if !is_mounted(&dir) {
            let mounted = file.exists() && mount(&file, &dir).is_ok();
            if !mounted {
                format(&file)?;
                mount(&file, &dir)?;
            }
        }
        let root = File::open(&dir).doing("open the scratch")?;
        enable_quotas(&root).doing("turn on the quotas of the scratch")?;
        let quotas = quotas_of(&root).doing("find the quotas of the scratch")?;
        Ok(DiskScratch { dir, quotas })
    }

    /// Unmounts the scratch of the node in `node` and removes its file. Replicas must have ended.
    pub fn close(node: &Path) {
        let dir = node.join("scratch");
        crate::uncover(&dir);
        let _ = fs::remove_dir(dir);
        let _ = fs::remove_file(node.join("scratch.btrfs"));
    }

    /// An empty directory for a replica, in which no more than `limit` can be written. What an earlier run of the same
    /// replica left is gone.
    ///
    /// # Errors
    /// When the kernel refuses it.
    pub fn prepare(&self, name: &str, limit: Bytes) -> Result<PathBuf, Error> {
        self.remove(name);
        let root = File::open(&self.dir).doing("open the scratch")?;
        control(&root, SUBVOLUME_CREATE, &mut named(name)).doing("make a replica's scratch")?;
        let path = self.dir.join(name);
        let made = File::open(&path).doing("open a replica's scratch")?;
        // `struct btrfs_ioctl_qgroup_limit_args`; 0 stands for the subvolume itself.
        let mut limit = [0, LIMIT_REFERENCED, limit.bytes() + EMPTY, 0, 0, 0_u64];
        control(&made, QUOTA_LIMIT, &mut limit).doing("limit a replica's scratch")?;
        Ok(path)
    }

    /// A directory that stays when its user ends, in which no more than `limit` can be written. It is made where it is
    /// missing; everyone may write to it.
    ///
    /// # Errors
    /// When the kernel refuses it.
    pub fn keep(&self, name: &str, limit: Bytes) -> Result<PathBuf, Error> {
        let path = self.dir.join(name);
        if !path.is_dir() {
            self.prepare(name, limit)?;
            let open = std::os::unix::fs::PermissionsExt::from_mode(0o777);
            fs::set_permissions(&path, open).doing("open a kept folder to all")?;
        }
        Ok(path)
    }

    /// The directories whose name begins so.
    pub fn named(&self, prefix: &str) -> Vec<String> {
        let entries = fs::read_dir(&self.dir).into_iter().flatten().flatten();
        let names = entries.map(|entry| entry.file_name().to_string_lossy().into_owned());
        names.filter(|name| name.starts_with(prefix)).collect()
    }

    /// The directory of a replica that has scratch.
    pub fn path_of(&self, name: &str) -> PathBuf {
        self.dir.join(name)
    }

    /// Takes a replica's scratch away, with all in it. The kernel clears it in its own time.
    pub fn remove(&self, name: &str) {
        let Ok(root) = File::open(&self.dir) else { return };
        match control(&root, SUBVOLUME_DESTROY, &mut named(name)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                tracing::warn!(name, %error, "a replica's scratch cannot be removed");
            }
            _ => {}
        }
    }

    /// Removes the scratch of all but these replicas, and what is kept beside: names that begin with one of `kept`.
    pub fn only(&self, names: &[String], kept: &[&str]) {
        for entry in fs::read_dir(&self.dir).into_iter().flatten().flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if !names.contains(&name) && !kept.iter().any(|prefix| name.starts_with(prefix)) {
                self.remove(&name);
            }
        }
    }

    /// What the replica has written and not removed, as of the last few seconds.
    pub fn written(&self, name: &str) -> Option<Bytes> {
        let opened = File::open(self.dir.join(name)).ok()?;
        // `struct btrfs_ioctl_get_subvol_info_args`; the first field is the id.
        let mut info = [0_u64; 63];
        control(&opened, SUBVOLUME_INFO, &mut info).ok()?;
        let text = fs::read_to_string(self.quotas.join(format!("0_{}/referenced", info[0]))).ok()?;
        Some(Bytes::new(text.trim().parse::<u64>().ok()?.saturating_sub(EMPTY)))
    }

    /// The directory of the replica's root that most of what it wrote is in: the deepest that holds more than half of what
    /// the one above it holds.
    pub fn most_in(&self, name: &str) -> Option<String> {
        let upper = self.dir.join(name).join("upper");
        let mut left = ENTRIES;
        let (mut path, mut inside) = (upper.clone(), String::new());
        let mut all = size_below(&path, &mut left);
        for _ in 0..DEPTH {
            let dirs = fs::read_dir(&path).ok()?.flatten().filter(|entry| {
                // A link is never followed: a replica makes them.
                entry.file_type().is_ok_and(|kind| kind.is_dir())
            });
            let sizes = dirs.map(|entry| (size_below(&entry.path(), &mut left), entry.file_name()));
            let Some((size, name)) = sizes.max().filter(|(size, _)| *size > all / 2) else { break };
            path.push(&name);
            inside = format!("{inside}/{}", printable(&name));
            all = size;
        }
        (!inside.is_empty()).then_some(inside)
    }
}

/// A name that a replica chose, without what would move a cursor.
fn printable(name: &OsStr) -> String {
    name.to_string_lossy()
        .chars()
        .map(|letter| if letter.is_control() { '?' } else { letter })
        .take(60)
        .collect()
}

/// Bytes on disk below a directory. No more than `left` entries are looked at.
fn size_below(dir: &Path, left: &mut usize) -> u64 {
    let mut look = vec![dir.to_owned()];
    let mut sum = 0;
    while let Some(dir) = look.pop() {
        for entry in fs::read_dir(dir).into_iter().flatten().flatten() {
            if *left == 0 {
                return sum;
            }
            *left -= 1;
            let Ok(found) = entry.metadata() else { continue };
            if found.is_dir() {
                look.push(entry.path());
            } else {
                sum += found.blocks() * 512;
            }
        }
    }
    sum
}

fn format(file: &Path) -> Result<(), Error> {
    let room = file.parent().and_then(room_at).unwrap_or(0);
    let size = room / SHARE_OF_ROOM.1 * SHARE_OF_ROOM.0;
    if size < LEAST.bytes() {
        let message = format!("{} are free on the disk; {LEAST} are needed", Bytes::new(size));
        return Err(io::Error::other(message)).doing("make the file for scratch");
    }
    File::create(file).and_then(|file| file.set_len(size)).doing("make the file for scratch")?;
    let path = file.as_os_str();
    // One copy of everything is enough: it is needed no longer than the replicas are.
    run("mkfs.btrfs", &["--quiet", "--force", "--data", "single", "--metadata", "single"], &[path]).map(drop)
}

fn mount(file: &Path, dir: &Path) -> Result<(), Error> {
    // A file that is mounted already, for keepers of an earlier node agent, must be mounted from the same device.
    let known = run("losetup", &["--noheadings", "--output", "NAME", "--associated"], &[file.as_os_str()])?;
    let device = match known.lines().next() {
        Some(device) => device.trim().to_owned(),
        // What is written is in memory once, as the replica's, and not again as the file's.
        None => {
            run("losetup", &["--find", "--show", "--direct-io=on"], &[file.as_os_str()])?.trim().to_owned()
        }
    };
    // Blocks that are freed are given back to the disk. Nobody needs it after a crash of the machine, so nothing waits for
    // the disk.
    let options = "nosuid,nodev,noatime,nobarrier,discard=async,commit=5";
    let mounted = run("mount", &["-t", "btrfs", "-o", options], &[OsStr::new(&device), dir.as_os_str()]);
    // A device that is in use goes with its last mount.
    run("losetup", &["--detach"], &[OsStr::new(&device)])?;
    mounted.map(drop)
}

/// Runs a program to its end; gives what it printed.
fn run(program: &str, options: &[&str], paths: &[&OsStr]) -> Result<String, Error> {
    let mut command = Command::new(program);
    command.args(options).args(paths).stdin(Stdio::null());
    let output = command.output().doing(format!("run {program}"))?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    let told = String::from_utf8_lossy(&output.stderr).trim().to_owned();
    Err(io::Error::other(told)).doing(format!("run {program}"))
}

fn enable_quotas(root: &File) -> io::Result<()> {
    // `struct btrfs_ioctl_quota_ctl_args`. Where they are on already, the kernel says so.
    for kind in [ENABLE_SIMPLE, ENABLE] {
        match control(root, QUOTA_CONTROL, &mut [kind, 0_u64]) {
            Err(error) if error.raw_os_error() == Some(libc::EINVAL) && kind == ENABLE_SIMPLE => {}
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => return Ok(()),
            other => return other,
        }
    }
    Ok(())
}

fn quotas_of(root: &File) -> io::Result<PathBuf> {
    // `struct btrfs_ioctl_fs_info_args`; the id follows two numbers of eight bytes.
    let mut info = [0_u8; 1024];
    control(root, FILE_SYSTEM_INFO, &mut info)?;
    let hex: String = info[16..32].iter().map(|byte| format!("{byte:02x}")).collect();
    let id = [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-");
    Ok(Path::new("/sys/fs/btrfs").join(id).join("qgroups"))
}

fn named(name: &str) -> Named {
    let mut named = Named { fd: 0, name: [0; 4088] };
    let bytes = CString::new(name).unwrap_or_default().into_bytes();
    let length = bytes.len().min(255);
    named.name[..length].copy_from_slice(&bytes[..length]);
    named
}

/// One call of linux/btrfs.h with its argument, whose size the call's number says.
fn control<T>(file: &File, call: u64, argument: &mut T) -> io::Result<()> {
    debug_assert!(size_of::<T>() as u64 >= call >> 16 & 0x3fff);
    // SAFETY: the argument is as large as the call's number says, and lives across it.
    let answer = unsafe { libc::ioctl(file.as_raw_fd(), call, std::ptr::from_mut(argument)) };
    if answer < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}
