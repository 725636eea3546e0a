//! What an image's layers have at which path, without their content: to find files in it, and to follow its links.

use std::collections::BTreeMap;
use std::io::Read;

use crate::layout::decompressed;
use crate::unpack::clean;
use crate::{Doing, Error, FileKind};

/// Most entries of one layer.
const ENTRIES: usize = 300_000;
/// Links that are followed for one path (as many as the kernel follows, path_resolution(7)).
const LINKS: usize = 40;

/// One path of a layer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutlinedFile {
    /// Its kind; a further name of another file is [`FileKind::File`].
    pub kind: FileKind,
    /// Where a symbolic link leads.
    pub leads_to: Option<String>,
    /// The path of this layer that a hard link is a further name of.
    pub same_as: Option<String>,
}

/// The paths of one layer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LayerOutline {
    files: BTreeMap<String, OutlinedFile>,
    hidden: Vec<String>,
    opaque: Vec<String>,
}

/// The paths of an image, each with the layer that has it.
#[derive(Debug, Clone, Default)]
pub struct ImageOutline {
    files: BTreeMap<String, (usize, OutlinedFile)>,
}

impl LayerOutline {
    /// Reads a layer, packed as it is kept.
    ///
    /// # Errors
    /// When it is no tar archive, or has too many entries.
    pub fn read(packed: impl Read) -> Result<LayerOutline, Error> {
        let mut outline = LayerOutline::default();
        let mut archive = tar::Archive::new(decompressed(packed)?);
        for (count, entry) in archive.entries().doing("read the layer")?.enumerate() {
            let entry = entry.doing("read the layer: it is cut short, or no tar archive")?;
            if count >= ENTRIES {
                return Err(Error::TooLarge(format!("the layer has more than {ENTRIES} entries")));
            }
            outline.add(&entry)?;
        }
        Ok(outline)
    }

    /// Keeps only the paths that are wanted; each is told with whether it is a directory.
    pub fn retain(&mut self, wanted: impl Fn(&str, bool) -> bool) {
        self.files.retain(|path, file| wanted(path, file.kind == FileKind::Directory));
    }

    fn add(&mut self, entry: &tar::Entry<'_, impl Read>) -> Result<(), Error> {
        let path = path_of(entry)?;
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
        let link = || entry.link_name_bytes().map(|to| String::from_utf8_lossy(&to).into_owned());
        let (kind, leads_to, same_as) = match entry.header().entry_type() {
            tar::EntryType::Directory => (FileKind::Directory, None, None),
            tar::EntryType::Symlink => (FileKind::Link, link(), None),
            tar::EntryType::Link => {
                let same = link().unwrap_or_default();
                (FileKind::File, None, Some(clean(&same)?.to_string_lossy().into_owned()))
            }
            tar::EntryType::Fifo => (FileKind::Pipe, None, None),
            tar::EntryType::Regular | tar::EntryType::Continuous | tar::EntryType::GNUSparse => {
                (FileKind::File, None, None)
            }
            _ => return Ok(()),
        };
        if path.is_empty() {
            return Ok(());
        }
        // Folders that the archive does not name are made when it is unpacked.
        for (end, _) in path.match_indices('/') {
            let folder = OutlinedFile { kind: FileKind::Directory, leads_to: None, same_as: None };
            self.files.entry(path[..end].to_owned()).or_insert(folder);
        }
        self.files.insert(path, OutlinedFile { kind, leads_to, same_as });
        Ok(())
    }
}

/// What an entry hides of lower layers (OCI image specification, "Whiteouts").
pub(crate) enum Whiteout {
    /// All that lower layers have in this directory.
    Opaque(String),
    /// This path of theirs.
    Hidden(String),
}

/// What the entry at a path hides; nothing where it is a file.
pub(crate) fn whiteout(path: &str) -> Option<Whiteout> {
    let (above, leaf) = path.rsplit_once('/').unwrap_or(("", path));
    let hidden = leaf.strip_prefix(".wh.")?;
    Some(match (hidden, above) {
        (".wh..opq", _) => Whiteout::Opaque(above.to_owned()),
        (_, "") => Whiteout::Hidden(hidden.to_owned()),
        _ => Whiteout::Hidden(format!("{above}/{hidden}")),
    })
}

/// The path of an entry, relative to the root.
pub(crate) fn path_of(entry: &tar::Entry<'_, impl Read>) -> Result<String, Error> {
    let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
    Ok(clean(&name)?.to_string_lossy().into_owned())
}

impl ImageOutline {
    /// Puts another layer on top.
    pub fn push(&mut self, number: usize, layer: &LayerOutline) {
        let hides = |path: &str| {
            layer.hidden.iter().any(|hidden| is_at_or_below(path, hidden))
                || layer.opaque.iter().any(|dir| dir.is_empty() || path != dir && is_at_or_below(path, dir))
        };
        if !layer.hidden.is_empty() || !layer.opaque.is_empty() {
            self.files.retain(|path, _| !hides(path));
        }
        for (path, file) in &layer.files {
            // What is no directory takes the place of all that lay below that path.
            let was_dir = self.files.get(path).is_some_and(|(_, old)| old.kind == FileKind::Directory);
            if was_dir && file.kind != FileKind::Directory {
                self.files.retain(|other, _| other == path || !is_at_or_below(other, path));
            }
            self.files.insert(path.clone(), (number, file.clone()));
        }
    }

    /// The file at a path, after the links in the directories above it.
    pub fn get(&self, path: &str) -> Option<&OutlinedFile> {
        self.files.get(&self.resolve(path)).map(|(_, file)| file)
    }

    /// The same path without links in the directories above its last word; relative to the root.
    pub fn resolve(&self, path: &str) -> String {
        self.walk(path, false)
    }

    /// The same path without any link.
    pub fn resolve_fully(&self, path: &str) -> String {
        self.walk(path, true)
    }

    fn walk(&self, path: &str, last_too: bool) -> String {
        let mut left: Vec<String> = words(path);
        left.reverse();
        let (mut at, mut followed) = (Vec::<String>::new(), 0);
        while let Some(word) = left.pop() {
            if word == ".." {
                at.pop();
                continue;
            }
            at.push(word);
            let found = self.files.get(&at.join("/"));
            let Some(target) = found.and_then(|(_, file)| file.leads_to.as_deref()) else { continue };
            if followed == LINKS || left.is_empty() && !last_too {
                continue;
            }
            followed += 1;
            if target.starts_with('/') {
                at.clear();
            } else {
                at.pop();
            }
            left.extend(words(target).into_iter().rev());
        }
        at.join("/")
    }

    /// The number of the layer that has a path.
    pub fn layer_of(&self, path: &str) -> Option<usize> {
        self.files.get(path).map(|(layer, _)| *layer)
    }

    /// All paths at or below one, with the layer that has each.
    pub fn below<'o>(&'o self, path: &'o str) -> impl Iterator<Item = (&'o str, usize, &'o OutlinedFile)> {
        let all = self.files.iter().filter(move |(other, _)| path.is_empty() || is_at_or_below(other, path));
        all.map(|(path, (layer, file))| (path.as_str(), *layer, file))
    }

    /// Every path.
    pub fn paths(&self) -> impl Iterator<Item = &str> {
        self.files.keys().map(String::as_str)
    }
}

fn words(path: &str) -> Vec<String> {
    path.split('/').filter(|word| !word.is_empty() && *word != ".").map(str::to_owned).collect()
}

/// Whether a path is another one, or lies below it.
pub(crate) fn is_at_or_below(path: &str, dir: &str) -> bool {
    path.strip_prefix(dir).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn outline(layers: &[&[(&str, Option<&str>)]]) -> ImageOutline {
        let mut image = ImageOutline::default();
        for (number, files) in layers.iter().enumerate() {
            let mut layer = LayerOutline::default();
            for (path, link) in *files {
                let kind = match (link, path.ends_with('/')) {
                    (Some(_), _) => FileKind::Link,
                    (None, true) => FileKind::Directory,
                    (None, false) => FileKind::File,
                };
                let file = OutlinedFile { kind, leads_to: link.map(str::to_owned), same_as: None };
                layer.files.insert(path.trim_end_matches('/').to_owned(), file);
            }
            image.push(number, &layer);
        }
        image
    }

    #[test]
    fn links_above_a_path_are_followed_inside_the_image() {
        let image = outline(&[&[
            ("usr/bin/", None),
            ("bin", Some("usr/bin")),
            ("usr/bin/sh", Some("dash")),
            ("deep/er", Some("../../../../bin")),
            ("loop", Some("loop")),
        ]]);
        assert_eq!(image.resolve("/bin/app"), "usr/bin/app");
        assert_eq!(image.resolve("/bin/sh"), "usr/bin/sh");
        assert_eq!(image.resolve_fully("/bin/sh"), "usr/bin/dash");
        assert_eq!(image.resolve("deep/er/app"), "usr/bin/app", "never above the root");
        assert_eq!(image.resolve("new/place"), "new/place");
        let _ends = image.resolve("loop/x");
    }

    #[test]
    fn the_uppermost_layer_has_a_path() {
        let image = outline(&[
            &[("a/", None), ("a/x", None), ("b/", None), ("b/y", None)],
            &[("a/x", None), ("b", Some("a"))],
        ]);
        let all: Vec<(&str, usize)> = image.below("").map(|(path, layer, _)| (path, layer)).collect();
        assert_eq!(all, [("a", 0), ("a/x", 1), ("b", 1)]);
        assert_eq!(image.below("a").count(), 2);
    }
}
