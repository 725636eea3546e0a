//! Packing what a replica wrote to its root into a layer: the upper directory of an overlay (Documentation/filesystems/
//! overlayfs.rst), as a layer of the OCI image specification 1.1.
//!
//! The same files make the same layer: entries come in the order of their paths, times are 0, owners are those inside. The
//! character device 0:0 becomes a whiteout, the attribute `trusted.overlay.opaque` an opaque one. Sockets and other devices
//! are left out. The directory belongs to a replica that has ended: nothing changes in it meanwhile.

use std::collections::HashMap;
use std::ffi::CString;
use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use ring::digest::{Context, SHA256};

use crate::content::hex;
use crate::{Digest, Doing, Error};

/// Most entries of a layer.
const ENTRIES: usize = 300_000;

/// What was packed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackedChanges {
    /// The digest of the layer, which is not compressed.
    pub digest: Digest,
    /// Its length.
    pub size: u64,
    /// Files and folders in it.
    pub entries: usize,
    /// Sockets and devices that were left out.
    pub left_out: usize,
}

/// What is packed.
#[derive(Debug, Clone)]
pub struct Changes<'a> {
    /// The upper directory.
    pub upper: &'a Path,
    /// The id outside that 0 inside stands for; 65,536 follow.
    pub first_id: u32,
    /// Paths inside that are left out with all below them; absolute.
    pub without: &'a [String],
    /// The most bytes that the layer may have: holes of sparse files count.
    pub most: u64,
}

/// Writes the layer.
///
/// # Errors
/// When something cannot be read, or there is too much.
pub fn pack_changes(changes: &Changes<'_>, to: impl Write) -> Result<PackedChanges, Error> {
    let counted = Counted { to, hash: Context::new(&SHA256), length: 0, most: changes.most };
    let mut packer = Packer {
        changes,
        archive: tar::Builder::new(counted),
        first_names: HashMap::new(),
        entries: 0,
        left_out: 0,
    };
    packer.folder(Path::new(""))?;
    let (entries, left_out) = (packer.entries, packer.left_out);
    let mut counted = packer.archive.into_inner().doing("write the layer")?;
    counted.flush().doing("write the layer")?;
    let digest = Digest::parse(&format!("sha256:{}", hex(counted.hash.finish().as_ref())))?;
    Ok(PackedChanges { digest, size: counted.length, entries, left_out })
}

struct Counted<W> {
    to: W,
    hash: Context,
    length: u64,
    most: u64,
}

impl<W: Write> Write for Counted<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let length = self.to.write(bytes)?;
        self.hash.update(&bytes[..length]);
        self.length += length as u64;
        if self.length > self.most {
            let words =
                format!("the layer has more than {} bytes, holes of sparse files among them", self.most);
            return Err(io::Error::new(io::ErrorKind::FileTooLarge, words));
        }
        Ok(length)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.to.flush()
    }
}

struct Packer<'a, W: Write> {
    changes: &'a Changes<'a>,
    archive: tar::Builder<Counted<W>>,
    /// The first name of each file that has several, by device and inode.
    first_names: HashMap<(u64, u64), PathBuf>,
    entries: usize,
    left_out: usize,
}

impl<W: Write> Packer<'_, W> {
    fn folder(&mut self, path: &Path) -> Result<(), Error> {
        let dir = self.changes.upper.join(path);
        let mut names = Vec::new();
        for entry in fs::read_dir(&dir).doing(format!("list {}", shown(path)))? {
            names.push(entry.doing(format!("list {}", shown(path)))?.file_name());
        }
        names.sort();
        for name in names {
            self.one(&path.join(name))?;
        }
        Ok(())
    }

    fn one(&mut self, path: &Path) -> Result<(), Error> {
        if self.is_left_out(path) {
            return Ok(());
        }
        self.entries += 1;
        if self.entries > ENTRIES {
            return Err(Error::TooLarge(format!("a step wrote more than {ENTRIES} files")));
        }
        let full = self.changes.upper.join(path);
        let found = fs::symlink_metadata(&full).doing(format!("look at {}", shown(path)))?;
        let kind = found.file_type();
        if kind.is_dir() {
            return self.directory(path, &full, &found);
        }
        if kind.is_char_device() && found.rdev() == 0 {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            return self.whiteout(&path.with_file_name(format!(".wh.{name}")));
        }
        if kind.is_socket() || kind.is_char_device() || kind.is_block_device() {
            (self.entries, self.left_out) = (self.entries - 1, self.left_out + 1);
            return Ok(());
        }
        if found.nlink() > 1
            && let Some(first) = self.first_names.get(&(found.dev(), found.ino()))
        {
            let mut header = self.header(&found, tar::EntryType::Link)?;
            let first = first.clone();
            return self.archive.append_link(&mut header, path, first).doing(format!("pack {}", shown(path)));
        }
        self.first_names.insert((found.dev(), found.ino()), path.to_owned());
        if kind.is_symlink() {
            let target = fs::read_link(&full).doing(format!("read the link {}", shown(path)))?;
            let mut header = self.header(&found, tar::EntryType::Symlink)?;
            return self
                .archive
                .append_link(&mut header, path, target)
                .doing(format!("pack {}", shown(path)));
        }
        self.attributes(path, &full)?;
        if kind.is_fifo() {
            let mut header = self.header(&found, tar::EntryType::Fifo)?;
            return self
                .archive
                .append_data(&mut header, path, &[][..])
                .doing(format!("pack {}", shown(path)));
        }
        let mut header = self.header(&found, tar::EntryType::Regular)?;
        header.set_size(found.len());
        let mut options = File::options();
        let file = options.read(true).custom_flags(libc::O_NOFOLLOW | libc::O_NONBLOCK).open(&full);
        let file = file.doing(format!("open {}", shown(path)))?;
        self.archive.append_data(&mut header, path, file).doing(format!("pack {}", shown(path)))
    }

    fn directory(&mut self, path: &Path, full: &Path, found: &fs::Metadata) -> Result<(), Error> {
        self.attributes(path, full)?;
        let mut header = self.header(found, tar::EntryType::Directory)?;
        let mut name = path.as_os_str().to_owned();
        name.push("/");
        self.archive
            .append_data(&mut header, Path::new(&name), &[][..])
            .doing(format!("pack {}", shown(path)))?;
        if attribute(full, "trusted.overlay.opaque").is_some_and(|value| value == b"y") {
            self.whiteout(&path.join(".wh..wh..opq"))?;
        }
        self.folder(path)
    }

    fn whiteout(&mut self, path: &Path) -> Result<(), Error> {
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(tar::EntryType::Regular);
        header.set_mode(0o644);
        self.set_owner(&mut header, (self.changes.first_id, self.changes.first_id));
        header.set_size(0);
        self.archive.append_data(&mut header, path, &[][..]).doing(format!("pack {}", shown(path)))
    }

    fn header(&self, found: &fs::Metadata, kind: tar::EntryType) -> Result<tar::Header, Error> {
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(found.mode() & 0o7777);
        header.set_mtime(0);
        header.set_size(0);
        self.set_owner(&mut header, (found.uid(), found.gid()));
        Ok(header)
    }

    /// Ids as they are inside; what is none of the replica's is root's.
    fn set_owner(&self, header: &mut tar::Header, (uid, gid): (u32, u32)) {
        let inside = |id: u32| id.checked_sub(self.changes.first_id).filter(|id| *id < 65_536).unwrap_or(0);
        header.set_uid(inside(uid).into());
        header.set_gid(inside(gid).into());
    }

    /// A file's own attributes, which an entry of its own says before it.
    fn attributes(&mut self, path: &Path, full: &Path) -> Result<(), Error> {
        let mut records = Vec::new();
        for name in
            attribute_names(full).into_iter().filter(|name| name.starts_with("user.") || name == CAPABILITY)
        {
            let Some(value) = attribute(full, &name) else { continue };
            let value = if name == CAPABILITY { self.capability_inside(value) } else { value };
            records.push((format!("SCHILY.xattr.{name}"), value));
        }
        if records.is_empty() {
            return Ok(());
        }
        let records = records.iter().map(|(name, value)| (name.as_str(), value.as_slice()));
        self.archive.append_pax_extensions(records).doing(format!("pack the attributes of {}", shown(path)))
    }

    /// A file's rights, without the id that they hold for outside (`struct vfs_ns_cap_data`, linux/capability.h): version 3
    /// becomes version 2.
    fn capability_inside(&self, value: Vec<u8>) -> Vec<u8> {
        const V2: u32 = 0x0200_0000;
        const V3: u32 = 0x0300_0000;
        let number = |at: usize| Some(u32::from_le_bytes(value.get(at..at + 4)?.try_into().ok()?));
        match (number(0), number(20)) {
            (Some(magic), Some(root)) if magic & 0xff00_0000 == V3 && root == self.changes.first_id => {
                let magic = (magic & 0x00ff_ffff) | V2;
                [&magic.to_le_bytes()[..], &value[4..20]].concat()
            }
            _ => value,
        }
    }

    fn is_left_out(&self, path: &Path) -> bool {
        self.changes.without.iter().any(|left| path.starts_with(left.trim_start_matches('/')))
    }
}

const CAPABILITY: &str = "security.capability";

fn shown(path: &Path) -> String {
    format!("/{}", path.display())
}

fn attribute_names(path: &Path) -> Vec<String> {
    let Ok(path) = CString::new(path.as_os_str().as_bytes()) else { return Vec::new() };
    let mut list = vec![0_u8; 65_536];
    // SAFETY: path and buffer live across the call, which is told the buffer's length.
    let length = unsafe { libc::llistxattr(path.as_ptr(), list.as_mut_ptr().cast(), list.len()) };
    list.truncate(usize::try_from(length).unwrap_or(0));
    let mut names: Vec<String> = list
        .split(|byte| *byte == 0)
        .filter(|name| !name.is_empty())
        .map(|name| String::from_utf8_lossy(name).into_owned())
        .collect();
    names.sort();
    names
}

fn attribute(path: &Path, name: &str) -> Option<Vec<u8>> {
    let (path, name) = (CString::new(path.as_os_str().as_bytes()).ok()?, CString::new(name).ok()?);
    let mut value = vec![0_u8; 65_536];
    // SAFETY: as above.
    let length =
        unsafe { libc::lgetxattr(path.as_ptr(), name.as_ptr(), value.as_mut_ptr().cast(), value.len()) };
    value.truncate(usize::try_from(length).ok()?);
    Some(value)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::{PermissionsExt, symlink};
    use std::time::{Duration, SystemTime};

    use super::*;

    fn packed(upper: &Path, without: &[&str]) -> (PackedChanges, Vec<u8>) {
        let without: Vec<String> = without.iter().map(ToString::to_string).collect();
        let found = fs::metadata(upper).expect("a directory");
        let mut bytes = Vec::new();
        let changes = Changes { upper, first_id: found.uid(), without: &without, most: 1 << 30 };
        let packed = pack_changes(&changes, &mut bytes).expect("packed");
        assert_eq!(packed.digest, Digest::of(&bytes));
        (packed, bytes)
    }

    fn fill(dir: &Path, later: bool) {
        fs::create_dir_all(dir.join("app/empty")).expect("a folder");
        for name in if later { ["b", "a"] } else { ["a", "b"] } {
            let path = dir.join("app").join(name);
            fs::write(&path, name).expect("a file");
            let ago = Duration::from_secs(if later { 10 } else { 90_000 });
            File::options()
                .append(true)
                .open(&path)
                .expect("it")
                .set_modified(SystemTime::now() - ago)
                .expect("a time");
        }
        fs::set_permissions(dir.join("app/a"), fs::Permissions::from_mode(0o4755)).expect("a mode");
        fs::hard_link(dir.join("app/a"), dir.join("app/c")).expect("a link");
        symlink("/nowhere", dir.join("app/d")).expect("a link");
        fs::create_dir_all(dir.join("tmp")).expect("a folder");
        fs::write(dir.join("tmp/left"), "x").expect("a file");
        drop(std::os::unix::net::UnixListener::bind(dir.join("app/socket")).expect("a socket"));
    }

    #[test]
    fn the_same_files_make_the_same_layer_whenever_they_were_written() {
        let (one, other) =
            (tempfile::tempdir().expect("a directory"), tempfile::tempdir().expect("a directory"));
        fill(one.path(), false);
        fill(other.path(), true);
        let (first, bytes) = packed(one.path(), &["/tmp"]);
        let (second, _) = packed(other.path(), &["/tmp"]);
        assert_eq!(first, second);
        assert_eq!((first.entries, first.left_out), (6, 1));
        let mut archive = tar::Archive::new(&bytes[..]);
        let entries = archive.entries().expect("entries").map(|entry| {
            let entry = entry.expect("an entry");
            let header = entry.header();
            assert_eq!((header.mtime().expect("a time"), header.uid().expect("an owner")), (0, 0));
            let link = entry.link_name().expect("a link").map(|to| format!(" -> {}", to.display()));
            let path = entry.path().expect("a path").display().to_string();
            format!("{path} {:o}{}", header.mode().expect("a mode") & 0o7777, link.unwrap_or_default())
        });
        let entries: Vec<String> = entries.collect();
        let expected = [
            "app/ 755",
            "app/a 4755",
            "app/b 644",
            "app/c 4755 -> app/a",
            "app/d 777 -> /nowhere",
            "app/empty/ 755",
        ];
        assert_eq!(entries, expected);
    }

    #[test]
    fn a_layer_that_was_packed_is_unpacked_as_it_was() {
        let from = tempfile::tempdir().expect("a directory");
        fill(from.path(), false);
        let (first, bytes) = packed(from.path(), &[]);
        let to = tempfile::tempdir().expect("a directory");
        let layer = to.path().join("layer");
        crate::unpack_layer(&bytes[..], &first.digest, &layer).expect("unpacked");
        let (second, _) = packed(&layer, &[]);
        assert_eq!(second.digest, first.digest);
    }
}
