//! What the layers of an image hold, without unpacking them: for people who look at an image or compare two.

use std::collections::BTreeMap;
use std::io::{self, Read};

use crate::content::hash_reader;
use crate::extended::Extended;
use crate::layout::decompressed;
use crate::outline::{Whiteout, is_at_or_below, whiteout};
use crate::unpack::clean;
use crate::{Doing, Error};

/// Most entries of one layer that are listed.
const ENTRIES: usize = 300_000;

/// One file of an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedFile {
    /// Its kind.
    pub kind: FileKind,
    /// Its mode: permissions, and set-id bits.
    pub mode: u32,
    /// Its owner and group.
    pub owner: (u64, u64),
    /// Its length in bytes.
    pub size: u64,
    /// The digest of its content, or where a link leads; empty for others.
    pub content: String,
}

/// The kind of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileKind {
    /// With content.
    File,
    /// A directory.
    Directory,
    /// A symbolic link, or a further name of another file.
    Link,
    /// A named pipe.
    Pipe,
}

/// What one layer holds.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LayerListing {
    /// Files by path.
    pub files: BTreeMap<String, ListedFile>,
    /// Paths of lower layers that it hides.
    pub hidden: Vec<String>,
    /// Directories that show nothing of lower layers.
    pub opaque: Vec<String>,
    /// Device files, which no replica gets from its image.
    pub devices: u32,
    /// Files whose owner an environment has no id for.
    pub foreign_owners: u32,
}

impl LayerListing {
    /// Reads a layer, packed as it is kept.
    ///
    /// # Errors
    /// When it is no tar archive, or has too many entries.
    pub fn read(packed: impl Read) -> Result<LayerListing, Error> {
        let mut listing = LayerListing::default();
        let mut archive = tar::Archive::new(decompressed(packed)?);
        for (count, entry) in archive.entries().doing("read the layer")?.enumerate() {
            let mut entry = entry.doing("read the layer: it is cut short, or no tar archive")?;
            if count >= ENTRIES {
                return Err(Error::TooLarge(format!("the layer has more than {ENTRIES} entries")));
            }
            listing.add(&mut entry)?;
        }
        Ok(listing)
    }

    fn add(&mut self, entry: &mut tar::Entry<'_, impl Read>) -> Result<(), Error> {
        let extended = Extended::of(entry)?;
        let sparse = extended.sparse.as_ref();
        let name = sparse.and_then(|sparse| sparse.name.clone());
        let name = name.unwrap_or_else(|| String::from_utf8_lossy(&entry.path_bytes()).into_owned());
        let path = clean(&name)?.to_string_lossy().into_owned();
        match whiteout(&path) {
            Some(Whiteout::Opaque(folder)) => {
                self.opaque.push(folder);
                return Ok(());
            }
            Some(Whiteout::Hidden(hidden)) => {
                self.hidden.push(hidden);
                return Ok(());
            }
            None => {}
        }
        let header = entry.header().clone();
        let kind = match header.entry_type() {
            tar::EntryType::Directory => FileKind::Directory,
            tar::EntryType::Symlink | tar::EntryType::Link => FileKind::Link,
            tar::EntryType::Fifo => FileKind::Pipe,
            tar::EntryType::Char | tar::EntryType::Block => {
                self.devices += 1;
                return Ok(());
            }
            tar::EntryType::Regular | tar::EntryType::Continuous | tar::EntryType::GNUSparse => {
                FileKind::File
            }
            _ => return Ok(()),
        };
        let owner = (header.uid().unwrap_or(0), header.gid().unwrap_or(0));
        self.foreign_owners += u32::from(owner.0 > 65_535 || owner.1 > 65_535);
        let size = sparse.map_or(entry.size(), |sparse| sparse.length);
        let content = match kind {
            FileKind::Link => entry.link_name_bytes().map(|to| String::from_utf8_lossy(&to).into_owned()),
            FileKind::File => {
                let mut content = hash_reader(entry);
                io::copy(&mut content, &mut io::sink()).doing("read the layer")?;
                Some(content.digest().to_string())
            }
            FileKind::Directory | FileKind::Pipe => None,
        };
        let file = ListedFile {
            kind,
            mode: header.mode().unwrap_or(0) & 0o7777,
            owner,
            size: if kind == FileKind::File { size } else { 0 },
            content: content.unwrap_or_default(),
        };
        self.files.insert(path, file);
        Ok(())
    }
}

/// The files of an image, by its layers with the lowest first.
pub fn merge(layers: &[LayerListing]) -> BTreeMap<String, ListedFile> {
    let mut all: BTreeMap<String, ListedFile> = BTreeMap::new();
    for layer in layers {
        let hides = |path: &str| {
            layer.hidden.iter().any(|hidden| is_at_or_below(path, hidden))
                || layer.opaque.iter().any(|dir| dir.is_empty() || path != dir && is_at_or_below(path, dir))
        };
        all.retain(|path, _| !hides(path));
        all.extend(layer.files.iter().map(|(path, file)| (path.clone(), file.clone())));
    }
    all
}

/// A file that two images have differently.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileChange {
    /// Its path.
    pub path: String,
    /// As the first image has it.
    pub before: Option<ListedFile>,
    /// As the second image has it.
    pub after: Option<ListedFile>,
}

/// The files that differ between two images, by path. Times do not count.
pub fn changes(
    before: &BTreeMap<String, ListedFile>,
    after: &BTreeMap<String, ListedFile>,
) -> Vec<FileChange> {
    let mut paths: Vec<&String> = before.keys().chain(after.keys()).collect();
    paths.sort();
    paths.dedup();
    let change = |path: &String| {
        let (before, after) = (before.get(path), after.get(path));
        (before != after).then(|| FileChange {
            path: path.clone(),
            before: before.cloned(),
            after: after.cloned(),
        })
    };
    paths.into_iter().filter_map(change).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(content: &str) -> ListedFile {
        let (kind, owner) = (FileKind::File, (0, 0));
        ListedFile { kind, mode: 0o644, owner, size: content.len() as u64, content: content.to_owned() }
    }

    fn layer(files: &[(&str, &str)], hidden: &[&str], opaque: &[&str]) -> LayerListing {
        LayerListing {
            files: files.iter().map(|(path, content)| ((*path).to_owned(), file(content))).collect(),
            hidden: hidden.iter().map(ToString::to_string).collect(),
            opaque: opaque.iter().map(ToString::to_string).collect(),
            ..LayerListing::default()
        }
    }

    #[test]
    fn upper_layers_replace_and_hide_what_lies_below() {
        let lower =
            layer(&[("app/tool", "1"), ("app/old", "1"), ("cache/a", "1"), ("cache-b", "1")], &[], &[]);
        let upper = layer(&[("app/tool", "2"), ("cache/new", "2")], &["app/old"], &["cache"]);
        let all: Vec<String> =
            merge(&[lower, upper]).iter().map(|(path, file)| format!("{path} {}", file.content)).collect();
        assert_eq!(all, ["app/tool 2", "cache-b 1", "cache/new 2"]);
    }

    #[test]
    fn what_differs_is_told_by_path() {
        let before = merge(&[layer(&[("a", "1"), ("b", "1"), ("c", "1")], &[], &[])]);
        let after = merge(&[layer(&[("a", "1"), ("b", "2"), ("d", "1")], &[], &[])]);
        let found = changes(&before, &after);
        let paths: Vec<(&str, bool, bool)> =
            found.iter().map(|it| (it.path.as_str(), it.before.is_some(), it.after.is_some())).collect();
        assert_eq!(paths, [("b", true, true), ("c", true, false), ("d", false, true)]);
    }
}
