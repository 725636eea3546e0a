//! Making a layer of files that are taken from a tree, or from other layers.
//!
//! The same files make the same layer: entries come in the order of their paths, without names of owners. What is taken
//! from a tree belongs to root and has the mode 0755 or 0644; what is taken from layers stays as it is.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{Read, Write};

use crate::layout::decompressed;
use crate::outline::path_of;
use crate::{Doing, Error, FileKind, ImageOutline};

/// Where the files of a layer come from.
#[derive(Debug)]
pub struct TakenFrom<'a> {
    /// What is there, by path and layer.
    pub outline: &'a ImageOutline,
    /// The layers as they are kept, in the order of the outline's numbers.
    pub layers: Vec<File>,
    /// Owners and modes are made the same for all.
    pub plain: bool,
}

/// Why files cannot be taken.
#[derive(Debug, thiserror::Error)]
pub enum TakeError {
    /// There is no such path.
    #[error("{0} is not there")]
    Missing(String),
    /// Two files would be in one place.
    #[error("{path} is a file, and {other} would be in it")]
    InAFile {
        /// The file.
        path: String,
        /// The other.
        other: String,
    },
    /// A layer cannot be read or written.
    #[error(transparent)]
    Layer(#[from] Error),
}

/// Where each path goes: source to target, both relative to their roots.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Placing(BTreeMap<String, Vec<String>>);

impl Placing {
    /// Works out where files go. A path that ends in `/` stands for what is in that folder, `.` for the whole tree; another
    /// one keeps its last word. One file alone may get another name.
    ///
    /// # Errors
    /// When a path is not there, or a target lies below a file.
    pub fn new(
        from: &ImageOutline,
        paths: &[String],
        into: &ImageOutline,
        to: &str,
    ) -> Result<Placing, TakeError> {
        let mut placing = Placing::default();
        let folder = into.resolve_fully(to);
        for path in paths {
            let source = from.resolve_fully(path.trim_end_matches('/'));
            let is_whole = source.is_empty();
            let found = from.get(&source);
            if found.is_none() && !is_whole {
                return Err(TakeError::Missing(path.clone()));
            }
            let content_only = is_whole || path.ends_with('/') || path == ".";
            let is_folder = is_whole || found.is_some_and(|file| file.kind == FileKind::Directory);
            let is_there = into.get(&folder).is_some_and(|file| file.kind == FileKind::Directory);
            let renamed =
                !is_folder && paths.len() == 1 && !to.ends_with('/') && !is_there && !folder.is_empty();
            let leaf = path.trim_end_matches('/').rsplit('/').next().unwrap_or_default();
            let top = match (content_only && is_folder) || renamed {
                true => folder.clone(),
                false => join(&folder, leaf),
            };
            placing.add_all(from, &source, &top, content_only && is_folder);
        }
        placing.check(into)?;
        Ok(placing)
    }

    fn add_all(&mut self, from: &ImageOutline, source: &str, top: &str, content_only: bool) {
        for (path, ..) in from.below(source) {
            let rest = path[source.len()..].trim_start_matches('/');
            if rest.is_empty() && content_only {
                continue;
            }
            self.0.entry(path.to_owned()).or_default().push(join(top, rest));
        }
    }

    fn check(&self, into: &ImageOutline) -> Result<(), TakeError> {
        for target in self.targets() {
            let mut above = target.as_str();
            while let Some((parent, _)) = above.rsplit_once('/') {
                if into.get(parent).is_some_and(|file| file.kind == FileKind::File) {
                    let (path, other) = (format!("/{parent}"), format!("/{target}"));
                    return Err(TakeError::InAFile { path, other });
                }
                above = parent;
            }
        }
        Ok(())
    }

    fn targets(&self) -> BTreeSet<&String> {
        self.0.values().flatten().collect()
    }

    /// How many files and folders are placed.
    pub fn len(&self) -> usize {
        self.0.values().map(Vec::len).sum()
    }

    /// Whether nothing is placed.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

fn join(dir: &str, leaf: &str) -> String {
    match (dir, leaf) {
        ("", leaf) => leaf.to_owned(),
        (dir, "") => dir.to_owned(),
        (dir, leaf) => format!("{dir}/{leaf}"),
    }
}

/// Writes the layer. `time_of` gives the time of a source path, in seconds since 1970.
///
/// # Errors
/// When a layer cannot be read or written.
pub fn write_taken(
    from: &mut TakenFrom<'_>,
    placing: &Placing,
    into: &ImageOutline,
    time_of: &dyn Fn(&str) -> u64,
    to: impl Write,
) -> Result<(), TakeError> {
    let mut writer = Writer { archive: tar::Builder::new(to), plain: from.plain, folders: BTreeSet::new() };
    let mut wanted: BTreeMap<usize, BTreeSet<&str>> = BTreeMap::new();
    for source in placing.0.keys() {
        if let Some(layer) = from.outline.layer_of(source) {
            wanted.entry(layer).or_default().insert(source);
        }
    }
    let taken = placing.targets();
    for target in &taken {
        writer.folders_above(target, into, &taken)?;
    }
    for (layer, sources) in wanted {
        let Some(file) = from.layers.get(layer) else { continue };
        let mut archive = tar::Archive::new(decompressed(file).map_err(TakeError::Layer)?);
        for entry in archive.entries().doing("read a layer")? {
            let mut entry = entry.doing("read a layer")?;
            let path = path_of(&entry)?;
            let Some(targets) = placing.0.get(&path).filter(|_| sources.contains(path.as_str())) else {
                continue;
            };
            writer.entry(&mut entry, targets, time_of(&path), placing)?;
        }
    }
    writer.archive.into_inner().and_then(|mut to| to.flush()).doing("write a layer")?;
    Ok(())
}

struct Writer<W: Write> {
    archive: tar::Builder<W>,
    plain: bool,
    folders: BTreeSet<String>,
}

impl<W: Write> Writer<W> {
    /// Folders above a target that are neither there nor taken.
    fn folders_above(
        &mut self,
        target: &str,
        into: &ImageOutline,
        taken: &BTreeSet<&String>,
    ) -> Result<(), Error> {
        let ends: Vec<usize> = target.match_indices('/').map(|(at, _)| at).collect();
        for folder in ends.into_iter().map(|end| &target[..end]) {
            let is_new = into.get(folder).is_none() && !taken.contains(&folder.to_owned());
            if is_new && self.folders.insert(folder.to_owned()) {
                let mut header = header_of(tar::EntryType::Directory, 0o755, 0);
                self.archive
                    .append_data(&mut header, format!("{folder}/"), &[][..])
                    .doing("write a layer")?;
            }
        }
        Ok(())
    }

    /// One entry, at each place that it goes to.
    fn entry(
        &mut self,
        entry: &mut tar::Entry<'_, impl Read>,
        targets: &[String],
        time: u64,
        placing: &Placing,
    ) -> Result<(), Error> {
        let found = entry.header().clone();
        let mode = found.mode().doing("read a mode")? & 0o7777;
        let kind = found.entry_type();
        let mut header = header_of(kind, mode, time);
        if self.plain {
            header.set_mode(if kind.is_dir() || mode & 0o111 != 0 { 0o755 } else { 0o644 });
        } else {
            header.set_uid(found.uid().unwrap_or(0));
            header.set_gid(found.gid().unwrap_or(0));
        }
        let link = entry.link_name_bytes().map(|to| String::from_utf8_lossy(&to).into_owned());
        let Some((first, more)) = targets.split_first() else { return Ok(()) };
        match kind {
            tar::EntryType::Directory => {
                for target in targets {
                    let path = format!("{target}/");
                    self.archive.append_data(&mut header, path, &[][..]).doing("write a layer")?;
                }
            }
            tar::EntryType::Symlink => {
                header.set_mode(0o777);
                for target in targets {
                    self.archive
                        .append_link(&mut header, target, link.clone().unwrap_or_default())
                        .doing("write a layer")?;
                }
            }
            tar::EntryType::Link => {
                self.further_name(&mut header, targets, &link.unwrap_or_default(), placing)?
            }
            _ => {
                header.set_entry_type(tar::EntryType::Regular);
                header.set_size(entry.size());
                self.archive.append_data(&mut header, first, entry).doing("write a layer")?;
                for target in more {
                    let mut further = header_of(tar::EntryType::Link, mode, time);
                    self.archive.append_link(&mut further, target, first).doing("write a layer")?;
                }
            }
        }
        Ok(())
    }

    /// A further name of a file that is taken as well.
    fn further_name(
        &mut self,
        header: &mut tar::Header,
        targets: &[String],
        link: &str,
        placing: &Placing,
    ) -> Result<(), Error> {
        let source = crate::unpack::clean(link)?.to_string_lossy().into_owned();
        let known = placing.0.get(&source).and_then(|targets| targets.first());
        let Some(known) = known else {
            return Err(Error::Invalid(format!(
                "/{} is a further name of /{source}, which is not taken: take both",
                targets[0]
            )));
        };
        header.set_size(0);
        for target in targets {
            self.archive.append_link(header, target, known).doing("write a layer")?;
        }
        Ok(())
    }
}

fn header_of(kind: tar::EntryType, mode: u32, time: u64) -> tar::Header {
    let mut header = tar::Header::new_gnu();
    header.set_entry_type(kind);
    header.set_mode(mode);
    header.set_mtime(time);
    header.set_uid(0);
    header.set_gid(0);
    header.set_size(0);
    header
}

#[cfg(test)]
mod tests {
    use std::io::Seek;

    use super::*;
    use crate::{FileEntry, LayerOutline};

    fn kept(layer: &[FileEntry]) -> File {
        let mut file = tempfile::tempfile().expect("a file");
        file.write_all(&crate::pack::tar_of(&layer.to_vec()).expect("a layer")).expect("written");
        file.rewind().expect("rewound");
        file
    }

    fn outline(layers: &mut [File]) -> ImageOutline {
        let mut image = ImageOutline::default();
        for (number, layer) in layers.iter_mut().enumerate() {
            image.push(number, &LayerOutline::read(&mut *layer).expect("a layer"));
            layer.rewind().expect("rewound");
        }
        image
    }

    fn taken(
        tree: &[FileEntry],
        base: &[FileEntry],
        paths: &[&str],
        to: &str,
    ) -> Result<Vec<String>, TakeError> {
        let (mut from, mut into) = ([kept(tree)], [kept(base)]);
        let (source, target) = (outline(&mut from), outline(&mut into));
        let paths: Vec<String> = paths.iter().map(ToString::to_string).collect();
        let placing = Placing::new(&source, &paths, &target, to)?;
        let mut bytes = Vec::new();
        let layers = from.into_iter().collect();
        let mut from = TakenFrom { outline: &source, layers, plain: true };
        write_taken(&mut from, &placing, &target, &|_| 0, &mut bytes)?;
        let mut archive = tar::Archive::new(&bytes[..]);
        let entries = archive.entries().expect("entries").map(|entry| {
            let entry = entry.expect("an entry");
            format!(
                "{} {:o}",
                entry.path().expect("a path").display(),
                entry.header().mode().expect("a mode")
            )
        });
        Ok(entries.collect())
    }

    fn tree() -> Vec<FileEntry> {
        vec![
            FileEntry::Dir("src/".into(), 0o700),
            FileEntry::File("src/main.rs".into(), b"fn main".to_vec(), 0o600),
            FileEntry::File("start".into(), b"#!".to_vec(), 0o711),
        ]
    }

    #[test]
    fn files_go_where_cp_would_put_them() {
        let base =
            [FileEntry::Dir("usr/bin/".into(), 0o755), FileEntry::Link("bin".into(), "usr/bin".into())];
        let take = |paths: &[&str], to: &str| taken(&tree(), &base, paths, to).expect("taken");
        assert_eq!(
            take(&["."], "/code"),
            ["code/ 755", "code/src/ 755", "code/src/main.rs 644", "code/start 755"]
        );
        assert_eq!(take(&["src"], "/code"), ["code/ 755", "code/src/ 755", "code/src/main.rs 644"]);
        assert_eq!(take(&["src/"], "/code"), ["code/ 755", "code/main.rs 644"]);
        assert_eq!(take(&["start"], "/app/run"), ["app/ 755", "app/run 755"]);
        assert_eq!(take(&["start"], "/app/"), ["app/ 755", "app/start 755"]);
        assert_eq!(take(&["start"], "/bin"), ["usr/bin/start 755"], "the base's link is followed");
    }

    #[test]
    fn what_is_not_there_and_what_cannot_be_is_refused() {
        let base = [FileEntry::File("app".into(), Vec::new(), 0o644)];
        let missing = taken(&tree(), &base, &["scr"], "/code").expect_err("missing");
        assert_eq!(missing.to_string(), "scr is not there");
        let inside = taken(&tree(), &base, &["start"], "/app/run").expect_err("in a file");
        assert_eq!(inside.to_string(), "/app is a file, and /app/run would be in it");
    }
}
