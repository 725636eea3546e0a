//! Code as it comes: a tar archive of a tree, and what is read of it.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read;
use std::path::Path;

use mainyard_builds::recipe::{FILE_NAME, Recipe};
use mainyard_builds::{IgnoreRules, recipe};
use mainyard_images::{Digest, FileKind, ImageOutline, LayerListing, LayerOutline};

/// Most files of a tree.
const FILES: usize = 100_000;
/// Longest recipe, and longest list of dependencies, that is read.
const TEXT: u64 = 16 << 20;

/// What was found in a tree.
pub(crate) struct Tree {
    pub recipe: Recipe,
    /// Files of it, and their bytes.
    pub files: u64,
    pub size: u64,
    /// The digest of all paths, contents and modes, whatever the archive says beside.
    pub content: Digest,
    /// The content of each path.
    contents: BTreeMap<String, String>,
}

impl Tree {
    /// Files that differ from those that were there, each with a mark before its path.
    pub(super) fn changes_since(&self, before: &Times) -> Vec<String> {
        let now = self.contents.iter().filter(|(_, content)| !content.is_empty());
        let changed = now.filter_map(|(path, content)| match before.get(path) {
            None => Some(format!("+ {path}")),
            Some((known, _)) => (known != content).then(|| format!("~ {path}")),
        });
        let gone = before
            .iter()
            .filter(|(path, (content, _))| !content.is_empty() && !self.contents.contains_key(*path));
        changed.chain(gone.map(|(path, _)| format!("- {path}"))).collect()
    }
}

/// Why a tree is refused.
#[derive(Debug)]
pub(super) enum TreeError {
    /// The recipe is wrong.
    Recipe(Vec<mainyard_core::manifest::Problem>),
    /// The archive or what is in it cannot be taken.
    Archive(String),
}

impl From<mainyard_images::Error> for TreeError {
    fn from(error: mainyard_images::Error) -> TreeError {
        TreeError::Archive(format!("the code cannot be read: {error}"))
    }
}

fn open(archive: &Path) -> Result<File, TreeError> {
    File::open(archive).map_err(|error| TreeError::Archive(format!("the code cannot be read: {error}")))
}

/// Reads what a tree is, by its archive.
pub(super) fn look_at(archive: &Path, folder: &str) -> Result<Tree, TreeError> {
    let place = in_folder(folder, FILE_NAME);
    let Some(text) = file_of(archive, &place)? else {
        return Err(TreeError::Archive(format!(
            "the code has no {place}: `mainyard recipe suggest` writes one that fits many trees"
        )));
    };
    let recipe = recipe::read(&place, &text).map_err(TreeError::Recipe)?;
    let listing = LayerListing::read(open(archive)?)?;
    if listing.files.len() > FILES {
        return Err(TreeError::Archive(format!("the code has more than {FILES} files")));
    }
    let files = listing.files.values().filter(|file| file.kind != FileKind::Directory);
    let (count, size) = files.fold((0, 0), |(count, size), file| (count + 1, size + file.size));
    let content = content(&listing);
    let contents = listing.files.into_iter().map(|(path, file)| (path, file.content)).collect();
    Ok(Tree { recipe, files: count, size, content, contents })
}

fn content(listing: &LayerListing) -> Digest {
    let lines = listing.files.iter().map(|(path, file)| {
        let runs = file.mode & 0o111 != 0 && file.kind == FileKind::File;
        format!("{path}\0{:?}\0{runs}\0{}\n", file.kind, file.content)
    });
    Digest::of(lines.collect::<String>().as_bytes())
}

/// The path of a file in a folder of the tree.
pub(super) fn in_folder(folder: &str, path: &str) -> String {
    match folder.trim_matches('/') {
        "" | "." => path.to_owned(),
        folder => format!("{folder}/{path}"),
    }
}

/// A text of the tree; nothing where there is none.
pub(super) fn file_of(archive: &Path, path: &str) -> Result<Option<String>, TreeError> {
    let mut entries = tar::Archive::new(open(archive)?);
    let io = |error: std::io::Error| TreeError::Archive(format!("the code is no tar archive: {error}"));
    for entry in entries.entries().map_err(io)? {
        let mut entry = entry.map_err(io)?;
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        if name.trim_start_matches("./") == path && entry.header().entry_type().is_file() {
            let mut text = String::new();
            (&mut entry).take(TEXT).read_to_string(&mut text).map_err(io)?;
            return Ok(Some(text));
        }
    }
    Ok(None)
}

/// The paths of a tree, without those that its recipe leaves out.
pub(super) fn outline(archive: &Path, folder: &str, recipe: &Recipe) -> Result<ImageOutline, TreeError> {
    let rules = IgnoreRules::new(&recipe.ignore).map_err(TreeError::Archive)?;
    let top = in_folder(folder, "");
    let mut layer = LayerOutline::read(open(archive)?)?;
    layer.retain(|path, is_folder| {
        let inside = path.strip_prefix(top.as_str()).filter(|inside| !inside.is_empty());
        !inside.is_some_and(|inside| rules.leaves_out(inside, is_folder))
    });
    let mut outline = ImageOutline::default();
    outline.push(0, &layer);
    Ok(outline)
}

/// When each file was seen first with its present content, in seconds since 1970: for compilers that go by time.
pub(super) type Times = BTreeMap<String, (String, u64)>;

/// The times of a tree's files: what is as it was before keeps its time.
pub(super) fn times(archive: &Path, before: &Times, now: u64) -> Result<Times, TreeError> {
    let listing = LayerListing::read(open(archive)?)?;
    let of = |(path, file): (String, mainyard_images::ListedFile)| {
        let known = before.get(&path).filter(|(content, _)| *content == file.content);
        let at = known.map_or(now, |(_, at)| *at);
        (path, (file.content, at))
    };
    Ok(listing.files.into_iter().map(of).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    const RECIPE: &str = "ignore = [\"*.log\"]\nimage = { name = \"a/b\" }\npart.run = { base = \"a:1\" }\n";

    fn archive(files: &[(&str, &str, u64)]) -> tempfile::NamedTempFile {
        let file = tempfile::NamedTempFile::new().expect("a file");
        let mut archive = tar::Builder::new(file.reopen().expect("it"));
        for (path, text, time) in files {
            let mut header = tar::Header::new_gnu();
            header.set_size(text.len() as u64);
            header.set_mtime(*time);
            header.set_mode(0o644);
            archive.append_data(&mut header, path, text.as_bytes()).expect("an entry");
        }
        archive.into_inner().expect("an archive");
        file
    }

    #[test]
    fn what_a_tree_is_does_not_depend_on_its_times() {
        let one = archive(&[("recipe.toml", RECIPE, 1), ("main.py", "x", 2)]);
        let other = archive(&[("main.py", "x", 7), ("recipe.toml", RECIPE, 9)]);
        let (one, other) =
            (look_at(one.path(), "").expect("a tree"), look_at(other.path(), "").expect("a tree"));
        assert_eq!((one.files, one.content), (2, other.content));
    }

    #[test]
    fn a_file_keeps_its_time_while_its_content_stays() {
        let first = archive(&[("a", "1", 0), ("b", "1", 0)]);
        let before = times(first.path(), &Times::new(), 100).expect("times");
        let second = archive(&[("a", "1", 0), ("b", "2", 0)]);
        let after = times(second.path(), &before, 200).expect("times");
        assert_eq!((after["a"].1, after["b"].1), (100, 200));
    }

    #[test]
    fn a_tree_without_a_recipe_and_what_is_no_archive_are_refused() {
        let none = archive(&[("main.py", "x", 0)]);
        let Err(TreeError::Archive(words)) = look_at(none.path(), "api") else { panic!("refused") };
        assert!(words.starts_with("the code has no api/recipe.toml"), "{words}");
        let file = tempfile::NamedTempFile::new().expect("a file");
        std::fs::write(file.path(), [7; 2000]).expect("written");
        assert!(matches!(look_at(file.path(), ""), Err(TreeError::Archive(_))));
    }

    #[test]
    fn what_the_recipe_leaves_out_is_not_taken() {
        let all = archive(&[("api/recipe.toml", RECIPE, 0), ("api/a.log", "", 0), ("b.log", "", 0)]);
        let recipe = look_at(all.path(), "api").expect("a tree").recipe;
        let outline = outline(all.path(), "api", &recipe).expect("an outline");
        assert_eq!(outline.paths().collect::<Vec<_>>(), ["api", "api/recipe.toml", "b.log"]);
    }
}
