//! Unpacking a layer into a directory that overlayfs takes as a lower layer.
//!
//! Owners, modes, links, times and a file's own attributes are kept; holes of sparse files stay holes. A whiteout `.wh.NAME` becomes the character device 0:0 that overlayfs
//! reads as "not there"; `.wh..wh..opq` becomes the attribute that hides what lies below. Every entry is placed
//! by a path walk that the kernel confines to the layer (`openat2` with `RESOLVE_BENEATH`), so no `..`, link or
//! absolute path can lead outside. Device nodes are not taken. An owner past 65,535 becomes 65,534, which stands for
//! nobody: an environment has 65,536 ids.
//!
//! Where there is no overlayfs available, [`merge_layer`] puts the layers of an image on top of each other in one
//! directory: whiteouts remove what they hide, and everything belongs to the account that unpacks.

use std::collections::HashSet;
use std::ffi::CString;
use std::fs::{self, File};
use std::io::{self, Read};
use std::os::fd::{AsRawFd, OwnedFd, RawFd};
use std::path::{Path, PathBuf};

use crate::beneath::{c_text, open_beneath, open_dir};
use crate::extended::{Extended, copy_with_holes};
use crate::layout::decompressed;
use crate::sums::{SummingReader, Sums};
use crate::{Digest, Doing, Error, hash_reader};

/// Most entries of a layer, and most bytes unpacked.
const ENTRIES: usize = 300_000;
const BYTES: u64 = 16 << 30;
/// Stands for owners that an environment has no id for.
const NOBODY: u32 = 65_534;

/// Unpacks the layer into `dir`, which appears only when all of it was taken and its digest is `diff_id`.
pub fn unpack_layer(packed: impl Read, diff_id: &Digest, dir: &Path) -> Result<(), Error> {
    if dir.is_dir() {
        return Ok(());
    }
    let parent = dir.parent().unwrap_or(Path::new("/"));
    let partial =
        tempfile::Builder::new().prefix("unpacking-").tempdir_in(parent).doing("make a layer's directory")?;
    let root = partial.path().join("root");
    fs::create_dir(&root).doing("make a layer's directory")?;
    unpack(packed, diff_id, Unpacker::new(open_dir(&root)?, false))?.write(dir)?;
    match fs::rename(&root, dir) {
        Err(_) if dir.is_dir() => Ok(()), // someone else was quicker with the same content
        other => other.doing("keep the unpacked layer"),
    }
}

/// Puts the layer on top of what is in `root` already: the next one of an image, the lowest first. What is there
/// after an error is of no use.
pub fn merge_layer(packed: impl Read, diff_id: &Digest, root: &Path) -> Result<(), Error> {
    unpack(packed, diff_id, Unpacker::new(open_dir(root)?, true)).map(drop)
}

fn unpack(packed: impl Read, diff_id: &Digest, mut into: Unpacker) -> Result<Sums, Error> {
    let mut plain = hash_reader(decompressed(packed)?);
    into.all(&mut plain)?;
    // What follows the end of the archive counts towards the digest.
    io::copy(&mut plain, &mut io::sink()).doing("read the layer to its end")?;
    let found = plain.digest();
    if found != *diff_id {
        let (expected, found) = (diff_id.to_string(), found.to_string());
        return Err(Error::DigestMismatch { what: "an unpacked layer".to_owned(), expected, found });
    }
    Ok(into.sums)
}

struct Unpacker {
    root: OwnedFd,
    bytes: u64,
    /// Whether the layers of an image are put on top of each other here.
    merged: bool,
    /// This layer's entries so far, which its own whiteouts do not hide.
    own: HashSet<PathBuf>,
    /// What this layer's whiteouts have hidden so far: a directory that comes back here shows nothing from below.
    hidden: HashSet<PathBuf>,
    /// What its files are, for a later look.
    sums: Sums,
}

impl Unpacker {
    fn new(root: OwnedFd, merged: bool) -> Unpacker {
        Unpacker {
            root,
            bytes: 0,
            merged,
            own: HashSet::new(),
            hidden: HashSet::new(),
            sums: Sums::default(),
        }
    }

    fn all(&mut self, plain: &mut impl Read) -> Result<(), Error> {
        let mut archive = tar::Archive::new(plain);
        for (count, entry) in archive.entries().doing("read the layer")?.enumerate() {
            let mut entry = entry.doing("read the layer: it is cut short, or no tar archive")?;
            if count >= ENTRIES {
                return Err(Error::TooLarge(format!("the layer has more than {ENTRIES} entries")));
            }
            let extended = Extended::of(&mut entry)?;
            let sparse_name = extended.sparse.as_ref().and_then(|sparse| sparse.name.clone());
            let name =
                sparse_name.unwrap_or_else(|| String::from_utf8_lossy(&entry.path_bytes()).into_owned());
            self.one(&mut entry, &name, &extended).map_err(|error| match error {
                Error::Io { doing, source } if source.raw_os_error() == Some(libc::EXDEV) => {
                    let problem = format!("would leave the image ({doing})");
                    Error::Escapes { entry: name.clone(), problem }
                }
                Error::Io { doing, source } => Error::Io { doing: format!("{doing} {name:?}"), source },
                other => other,
            })?;
        }
        Ok(())
    }

    fn one(
        &mut self,
        entry: &mut tar::Entry<'_, impl Read>,
        name: &str,
        extended: &Extended,
    ) -> Result<(), Error> {
        let path = clean(name)?;
        let header = entry.header().clone();
        let kind = header.entry_type();
        if matches!(kind, tar::EntryType::XGlobalHeader) {
            return Ok(());
        }
        let Some(file_name) = path.file_name().map(|part| part.to_string_lossy().into_owned()) else {
            return self.own_attributes(&self.root, &header, extended); // the root itself
        };
        let above = path.parent().unwrap_or(Path::new(""));
        let parent = self.parent(above)?;
        if let Some(hidden) = file_name.strip_prefix(".wh.") {
            return self.hide(&parent, above, hidden, name);
        }
        self.own.extend(path.ancestors().map(Path::to_owned));
        let leaf = c_text(&file_name);
        if kind != tar::EntryType::Directory {
            self.sums.remove(&path);
        }
        match kind {
            tar::EntryType::Directory => {
                remove_unless_dir(&parent, &leaf)?;
                // SAFETY: descriptor and string live across the call.
                let made = unsafe { libc::mkdirat(parent.as_raw_fd(), leaf.as_ptr(), 0o755) };
                ignore_existing(made).doing("make the directory")?;
                let dir = open_beneath(&parent, &file_name, libc::O_RDONLY | libc::O_DIRECTORY)
                    .doing("open the directory")?;
                if self.hidden.contains(&path) && !self.merged {
                    opaque(&dir)?;
                }
                self.own_attributes(&dir, &header, extended)
            }
            tar::EntryType::Regular | tar::EntryType::Continuous | tar::EntryType::GNUSparse => {
                self.file(entry, path, (&parent, &file_name), extended)
            }
            tar::EntryType::Symlink => {
                let target = link_target(entry, name)?;
                remove(&parent, &leaf)?;
                // SAFETY: descriptor and strings live across the calls.
                let made =
                    unsafe { libc::symlinkat(c_text(&target).as_ptr(), parent.as_raw_fd(), leaf.as_ptr()) };
                check(made).doing("make the link")?;
                if self.merged {
                    return Ok(());
                }
                let (uid, gid) = owner(&header)?;
                let flags = libc::AT_SYMLINK_NOFOLLOW;
                // SAFETY: as above.
                check(unsafe { libc::fchownat(parent.as_raw_fd(), leaf.as_ptr(), uid, gid, flags) })
                    .doing("set the owner of")
            }
            tar::EntryType::Link => self.hard_link(&link_target(entry, name)?, &parent, &leaf, name),
            tar::EntryType::Fifo => {
                remove(&parent, &leaf)?;
                // SAFETY: descriptor and string live across the call.
                check(unsafe { libc::mkfifoat(parent.as_raw_fd(), leaf.as_ptr(), 0o644) })
                    .doing("make the pipe")
            }
            // A root file system that was packed whole has some. Replicas have devices of their own, and make no others.
            tar::EntryType::Char | tar::EntryType::Block => remove(&parent, &leaf),
            other => {
                let kind = char::from(other.as_byte());
                let problem = format!(
                    "is of the kind {kind:?}; known are files, directories, links, pipes and devices"
                );
                Err(Error::Escapes { entry: name.to_owned(), problem })
            }
        }
    }

    /// A file with its content, whose sum is kept.
    fn file(
        &mut self,
        entry: &mut tar::Entry<'_, impl Read>,
        path: PathBuf,
        (parent, name): (&OwnedFd, &str),
        extended: &Extended,
    ) -> Result<(), Error> {
        self.bytes += entry.size();
        let length = extended.sparse.as_ref().map_or(0, |sparse| sparse.length);
        if self.bytes > BYTES || length > BYTES {
            return Err(Error::TooLarge("the layer unpacks to more than 16 GiB".to_owned()));
        }
        remove(parent, &c_text(name))?;
        let flags = libc::O_WRONLY | libc::O_CREAT | libc::O_EXCL;
        let mut file = File::from(open_beneath(parent, name, flags).doing("make the file")?);
        let header = entry.header().clone();
        match &extended.sparse {
            Some(sparse) => {
                sparse.write(entry, &mut file)?;
                self.sums.add(path, sparse.length, None);
            }
            None => {
                let mut content = SummingReader::new(entry);
                copy_with_holes(&mut content, &mut file).doing("write the file")?;
                let (length, crc) = content.sum();
                self.sums.add(path, length, Some(crc));
            }
        }
        self.own_attributes(&OwnedFd::from(file), &header, extended)
    }

    /// A whiteout: hides what lower layers have, and nothing of this layer, wherever in it that comes (OCI image
    /// specification, "Whiteouts").
    fn hide(&mut self, parent: &OwnedFd, above: &Path, hidden: &str, name: &str) -> Result<(), Error> {
        if hidden == ".wh..opq" {
            return if self.merged { clear(parent, above, &self.own) } else { opaque(parent) };
        }
        let leaf = hidden_name(hidden, name)?;
        let path = above.join(hidden);
        if !self.own.contains(&path) {
            self.hidden.insert(path);
            return if self.merged { remove(parent, &leaf) } else { whiteout(parent, &leaf) };
        }
        // This layer's own file takes the place of what lies below; its own directory would let that through.
        match open_beneath(parent, hidden, libc::O_RDONLY | libc::O_DIRECTORY | libc::O_NOFOLLOW) {
            Ok(dir) if self.merged => clear(&dir, &path, &self.own),
            Ok(dir) => opaque(&dir),
            Err(_) => Ok(()),
        }
    }

    /// A further name for a file of this layer. The target's last part is never followed.
    fn hard_link(&self, target: &str, parent: &OwnedFd, leaf: &CString, name: &str) -> Result<(), Error> {
        let target_path = clean(target)?;
        let missing = || Error::Escapes {
            entry: name.to_owned(),
            problem: format!("is a hard link to {target:?}, which is not in this layer"),
        };
        let target_name = target_path.file_name().ok_or_else(missing)?.to_string_lossy().into_owned();
        let dir = target_path.parent().unwrap_or(Path::new("")).to_string_lossy().into_owned();
        let dir = if dir.is_empty() { ".".to_owned() } else { dir };
        let flags = libc::O_RDONLY | libc::O_DIRECTORY;
        let dir = open_beneath(&self.root, &dir, flags).map_err(|error| match error.raw_os_error() {
            Some(libc::EXDEV) => Error::Escapes {
                entry: name.to_owned(),
                problem: format!("leads outside through {target:?}"),
            },
            _ => missing(),
        })?;
        remove(parent, leaf)?;
        let from = c_text(&target_name);
        // SAFETY: descriptors and strings live across the call.
        let made =
            unsafe { libc::linkat(dir.as_raw_fd(), from.as_ptr(), parent.as_raw_fd(), leaf.as_ptr(), 0) };
        check(made).map_err(|_| missing())
    }

    /// Opens the directory an entry belongs in, making what is missing.
    fn parent(&self, path: &Path) -> Result<OwnedFd, Error> {
        let flags = libc::O_RDONLY | libc::O_DIRECTORY;
        let text =
            if path.as_os_str().is_empty() { ".".to_owned() } else { path.to_string_lossy().into_owned() };
        match open_beneath(&self.root, &text, flags) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                let above = self.parent(path.parent().unwrap_or(Path::new("")))?;
                let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
                // SAFETY: descriptor and string live across the call.
                let made = unsafe { libc::mkdirat(above.as_raw_fd(), c_text(&name).as_ptr(), 0o755) };
                ignore_existing(made).doing("make a directory for")?;
                open_beneath(&above, &name, flags).doing("open a directory for")
            }
            other => other.doing("open a directory for"),
        }
    }

    fn own_attributes(&self, file: &OwnedFd, header: &tar::Header, extended: &Extended) -> Result<(), Error> {
        let (uid, gid) = owner(header)?;
        let mut mode = if is_blank(&header.as_old().mode) {
            0
        } else {
            header.mode().doing("read the mode of")? & 0o7777
        };
        if self.merged {
            // It belongs to this account, which must be able to go on unpacking; nobody takes on its rights.
            mode = mode & 0o777 | if header.entry_type().is_dir() { 0o700 } else { 0o400 };
        }
        let mtime = || header.mtime().unwrap_or(0).min(i64::MAX as u64) as i64;
        let mtime = extended.mtime.unwrap_or_else(mtime);
        let moment = libc::timespec { tv_sec: mtime, tv_nsec: 0 };
        let fd = file.as_raw_fd();
        // SAFETY: the descriptor is open, the times are two as the call expects. The owner comes first: changing
        // it clears set-id bits.
        unsafe {
            if !self.merged {
                check(libc::fchown(fd, uid, gid)).doing("set the owner of")?;
                for (name, value) in &extended.attributes {
                    set_attribute(fd, name, value)?;
                }
            }
            check(libc::fchmod(fd, mode)).doing("set the mode of")?;
            check(libc::futimens(fd, [moment, moment].as_ptr())).doing("set the time of")
        }
    }
}

/// Sets one attribute. A file system that has none, or a value that the kernel does not take, leaves the file without it.
fn set_attribute(fd: RawFd, name: &str, value: &[u8]) -> Result<(), Error> {
    let name = c_text(name);
    // SAFETY: the descriptor is open; name and value live across the call, the length is the value's.
    let set = unsafe { libc::fsetxattr(fd, name.as_ptr(), value.as_ptr().cast(), value.len(), 0) };
    match check(set) {
        Err(error) if matches!(error.raw_os_error(), Some(libc::EOPNOTSUPP | libc::EINVAL | libc::EPERM)) => {
            Ok(())
        }
        other => other.doing("set an attribute of"),
    }
}

fn owner(header: &tar::Header) -> Result<(u32, u32), Error> {
    let id = |field: &[u8], id: io::Result<u64>| {
        let id = if is_blank(field) { 0 } else { id.doing("read the owner of")? };
        Ok(u32::try_from(id).ok().filter(|id| *id < 65_536).unwrap_or(NOBODY))
    };
    let fields = header.as_old();
    Ok((id(&fields.uid, header.uid())?, id(&fields.gid, header.gid())?))
}

/// Whether a number of a header was left out, as some programs do: it stands for 0 then.
fn is_blank(field: &[u8]) -> bool {
    field.iter().all(|byte| matches!(byte, 0 | b' '))
}

fn link_target(entry: &tar::Entry<'_, impl Read>, name: &str) -> Result<String, Error> {
    let target = entry.link_name_bytes().map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
    target
        .filter(|target| !target.is_empty())
        .ok_or_else(|| Error::Invalid(format!("the link {name:?} has no target")))
}

/// The entry's path without `.` parts; with `..` or a root it is refused.
pub(crate) fn clean(name: &str) -> Result<PathBuf, Error> {
    let refuse = |problem: &str| Error::Escapes { entry: name.to_owned(), problem: problem.to_owned() };
    if name.len() > 4096 || name.contains('\0') {
        return Err(refuse("has a name that is too long or holds a zero byte"));
    }
    if name.starts_with('/') {
        return Err(refuse("has an absolute path"));
    }
    let mut path = PathBuf::new();
    for part in name.split('/') {
        match part {
            "" | "." => {}
            ".." => return Err(refuse("climbs out by `..`")),
            part => path.push(part),
        }
    }
    Ok(path)
}

fn check(answer: i32) -> io::Result<()> {
    if answer < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

fn ignore_existing(answer: i32) -> io::Result<()> {
    match check(answer) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        other => other,
    }
}

/// Removes an earlier entry of the same name; a directory with what is in it.
fn remove(parent: &OwnedFd, leaf: &CString) -> Result<(), Error> {
    // SAFETY: descriptor and string live across the call.
    match check(unsafe { libc::unlinkat(parent.as_raw_fd(), leaf.as_ptr(), 0) }) {
        Ok(()) => Ok(()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) if error.raw_os_error() == Some(libc::EISDIR) => {
            let path = format!("/proc/self/fd/{}/{}", parent.as_raw_fd(), leaf.to_string_lossy());
            fs::remove_dir_all(path).doing("replace the directory")
        }
        Err(error) => Err(error).doing("replace"),
    }
}

fn remove_unless_dir(parent: &OwnedFd, leaf: &CString) -> Result<(), Error> {
    // SAFETY: descriptor and string live across the call; the structure is filled by it.
    let is_dir = unsafe {
        let mut found: libc::stat = std::mem::zeroed();
        libc::fstatat(parent.as_raw_fd(), leaf.as_ptr(), &mut found, libc::AT_SYMLINK_NOFOLLOW) == 0
            && found.st_mode & libc::S_IFMT == libc::S_IFDIR
    };
    if is_dir { Ok(()) } else { remove(parent, leaf) }
}

/// The name that a whiteout hides.
fn hidden_name(hidden: &str, name: &str) -> Result<CString, Error> {
    if hidden.is_empty() || hidden == "." || hidden == ".." {
        let problem = "hides nothing that has a name".to_owned();
        return Err(Error::Escapes { entry: name.to_owned(), problem });
    }
    Ok(c_text(hidden))
}

/// Removes what lower layers put into the directory.
fn clear(dir: &OwnedFd, path: &Path, own: &HashSet<PathBuf>) -> Result<(), Error> {
    let entries = fs::read_dir(format!("/proc/self/fd/{}", dir.as_raw_fd())).doing("read the directory")?;
    for entry in entries {
        let name = entry.doing("read the directory")?.file_name();
        if !own.contains(&path.join(&name)) {
            remove(dir, &c_text(&name.to_string_lossy()))?;
        }
    }
    Ok(())
}

fn whiteout(parent: &OwnedFd, leaf: &CString) -> Result<(), Error> {
    remove(parent, leaf)?;
    // SAFETY: descriptor and string live across the call.
    check(unsafe { libc::mknodat(parent.as_raw_fd(), leaf.as_ptr(), libc::S_IFCHR, 0) })
        .doing("make the whiteout")
}

fn opaque(dir: &OwnedFd) -> Result<(), Error> {
    // SAFETY: name and value are constants, the length is the value's.
    let set = unsafe {
        libc::fsetxattr(dir.as_raw_fd(), c"trusted.overlay.opaque".as_ptr(), c"y".as_ptr().cast(), 1, 0)
    };
    check(set).doing("make the directory opaque")
}
