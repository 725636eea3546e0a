//! Looking at a repository, and reading a folder of a commit.

use std::collections::BTreeMap;
use std::path::Path;

use jiff::Timestamp;

use crate::error::Error;
use crate::fence::{Access, Fence};

/// Commits that are reported of.
const COMMITS: usize = 50;
/// As much of a history as is fetched.
const DEPTH: usize = 200;
/// Files that a folder may hold, of one and of all together.
const FILES: usize = 10_000;
const FILE_BYTES: usize = 1 << 20;
const ALL_BYTES: usize = 64 << 20;

/// The repository and branch to look at.
#[derive(Debug, Clone)]
pub struct Look<'a> {
    /// Under which name it is kept here.
    pub name: &'a str,
    /// The repository.
    pub url: &'a str,
    /// A branch, a tag or a commit.
    pub at: &'a str,
}

/// A commit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Commit {
    /// Its id.
    pub id: String,
    /// Its author.
    pub by: String,
    /// When it was committed.
    pub at: Timestamp,
    /// The first line of its message.
    pub subject: String,
}

/// A text file of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Its path in the repository.
    pub path: String,
    /// Its content.
    pub text: String,
}

/// Why a folder of a commit cannot be read: a fault of the commit, not of the way to it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// The file or folder.
    pub path: String,
    /// The error, and what is expected.
    pub message: String,
}

/// Part of Git's message about a lock that exists already.
const LOCKED: [&str; 2] = [".lock", "remove the file manually"];

/// Fetches what is followed. Gives the newest commits, the newest first.
///
/// # Errors
/// When the repository does not answer or does not let the platform in, or holds too much.
pub async fn look(fence: &Fence, look: &Look<'_>, access: &Access) -> Result<Vec<Commit>, Error> {
    fence.may_follow(look.url).await?;
    let repository = fence.repository(look.name);
    let here = |error| Error::Here { path: repository.display().to_string(), error };
    if !repository.join("HEAD").exists() {
        remove(&repository).map_err(here)?;
        std::fs::create_dir_all(&repository).map_err(here)?;
        fence.run(&repository, &["init", "--quiet", "--bare"], b"").await?;
    }
    match fetch(fence, &repository, look, access).await {
        Err(Error::Said { said, .. }) if LOCKED.iter().any(|words| said.contains(words)) => {
            // A call that was ended in the middle, perhaps with the control that made it, left its locks behind.
            remove_locks(&repository).map_err(here)?;
            fetch(fence, &repository, look, access).await?;
        }
        other => other?,
    }
    let taken = size(&repository) >> 20;
    if taken > fence.size {
        remove(&repository).map_err(here)?;
        return Err(Error::TooLarge { mib: taken, limit: fence.size });
    }
    commits(fence, &repository, "refs/followed").await
}

async fn fetch(fence: &Fence, repository: &Path, look: &Look<'_>, access: &Access) -> Result<(), Error> {
    let depth = format!("--depth={DEPTH}");
    let from = |what: &str| {
        let spec = format!("+{what}:refs/followed");
        let words = ["fetch", "--quiet", "--no-tags", "--no-write-fetch-head", &depth, "--", look.url, &spec];
        words.map(str::to_owned)
    };
    let is_commit = look.at.len() >= 40 && look.at.chars().all(|c| c.is_ascii_hexdigit());
    if is_commit {
        let known = format!("{}^{{commit}}", look.at);
        let here = fence.run(repository, &["rev-parse", "--quiet", "--verify", &known], b"").await;
        if here.is_err() {
            fence.run_let_in(repository, look.url, &from(look.at), access).await?;
        }
        fence.run(repository, &["update-ref", "refs/followed", look.at], b"").await?;
        return Ok(());
    }
    let mut last = Ok(());
    for kind in ["heads", "tags"] {
        let words = from(&format!("refs/{kind}/{}", look.at));
        match fence.run_let_in(repository, look.url, &words, access).await {
            Err(Error::Said { said, .. }) if said.contains("couldn't find remote ref") => {
                last = Err(Error::Said {
                    act: "fetch".to_owned(),
                    said: format!("the repository has no branch and no tag {:?}", look.at),
                });
            }
            other => return other.map(drop),
        }
    }
    let begins_a_commit = look.at.len() >= 7 && look.at.chars().all(|c| c.is_ascii_hexdigit());
    if begins_a_commit {
        return fetch_begun(fence, repository, look, access).await;
    }
    last
}

/// A commit by the beginning of its hash. Servers give commits by their whole hash only, so it is looked for among
/// the newest of each branch.
async fn fetch_begun(
    fence: &Fence,
    repository: &Path,
    look: &Look<'_>,
    access: &Access,
) -> Result<(), Error> {
    let begun = format!("{}^{{commit}}", look.at);
    let find = ["rev-parse", "--quiet", "--verify", &begun];
    let found = match fence.run(repository, &find, b"").await {
        Ok(found) => found,
        Err(_) => {
            let depth = format!("--depth={DEPTH}");
            let all = "+refs/heads/*:refs/looked-at/*";
            let words =
                ["fetch", "--quiet", "--no-tags", "--no-write-fetch-head", &depth, "--", look.url, all];
            fence.run_let_in(repository, look.url, &words.map(str::to_owned), access).await?;
            fence.run(repository, &find, b"").await.map_err(|_| Error::Said {
                act: "fetch".to_owned(),
                said: format!(
                    "the repository has no branch and no tag {0:?}, and of the newest {DEPTH} commits of each branch \
                     not one alone begins with {0}",
                    look.at
                ),
            })?
        }
    };
    let commit = String::from_utf8_lossy(&found).trim().to_owned();
    fence.run(repository, &["update-ref", "refs/followed", &commit], b"").await?;
    Ok(())
}

/// The newest commits that lead to a revision.
pub(crate) async fn commits(fence: &Fence, repository: &Path, from: &str) -> Result<Vec<Commit>, Error> {
    let count = format!("--max-count={COMMITS}");
    let words = ["log", "--first-parent", &count, "-z", "--format=%H%n%an%n%ct%n%s", from, "--"];
    let out = fence.run(repository, &words, b"").await?;
    let text = String::from_utf8_lossy(&out);
    let commit = |record: &str| {
        let mut lines = record.trim_start_matches('\n').splitn(4, '\n');
        Some(Commit {
            id: lines.next()?.to_owned(),
            by: lines.next()?.to_owned(),
            at: Timestamp::from_second(lines.next()?.parse().ok()?).ok()?,
            subject: lines.next()?.trim_end().to_owned(),
        })
    };
    Ok(text.split('\0').filter_map(commit).collect())
}

/// The `.toml` files of a folder of a commit, or the one file that it names, in the order of their names.
///
/// # Errors
/// The outer error is of the way to it; the inner one is what is wrong with the commit.
pub async fn read(
    fence: &Fence,
    name: &str,
    commit: &str,
    folder: &str,
) -> Result<Result<Vec<Found>, Vec<Fault>>, Error> {
    let repository = fence.repository(name);
    let tree = entries(fence, &repository, commit, folder).await?;
    let fault = |path: &str, message: String| Fault { path: path.to_owned(), message };
    let mut tree = match tree {
        Ok(tree) => tree,
        Err(message) => return Ok(Err(vec![fault(folder, message)])),
    };
    tree.retain(|entry| entry.path.ends_with(".toml"));
    let shown = if folder.is_empty() { "the repository" } else { folder };
    if tree.is_empty() {
        return Ok(Err(vec![fault(folder, format!("{shown} holds no file that ends in .toml"))]));
    }
    if tree.len() > FILES {
        let message = format!("{shown} holds {} files; at most {FILES} are read", tree.len());
        return Ok(Err(vec![fault(folder, message)]));
    }
    let mut faults: Vec<Fault> = tree.iter().filter_map(Entry::fault).collect();
    if tree.iter().map(|entry| entry.size).sum::<usize>() > ALL_BYTES {
        faults.push(fault(folder, format!("its files are larger than {} MiB together", ALL_BYTES >> 20)));
    }
    if !faults.is_empty() {
        return Ok(Err(faults));
    }
    let ids: String = tree.iter().map(|entry| format!("{}\n", entry.id)).collect();
    let out = fence.run(&repository, &["cat-file", "--batch"], ids.as_bytes()).await?;
    let mut rest = out.as_slice();
    let mut found = Vec::new();
    for entry in tree {
        // `ID blob SIZE`, and then the file; an object that is not kept here says so instead.
        let head = rest.iter().position(|byte| *byte == b'\n').unwrap_or(rest.len());
        let said = String::from_utf8_lossy(&rest[..head]).into_owned();
        let end = head + 1 + entry.size;
        if said != format!("{} blob {}", entry.id, entry.size) || rest.len() < end {
            let said = format!("{}: {said}", entry.path);
            return Err(Error::Said { act: "cat-file".to_owned(), said });
        }
        match text(&rest[head + 1..end]) {
            Ok(text) => found.push(Found { path: entry.path, text }),
            Err(message) => faults.push(Fault { path: entry.path, message }),
        }
        rest = &rest[(end + 1).min(rest.len())..];
    }
    Ok(if faults.is_empty() { Ok(found) } else { Err(faults) })
}

struct Entry {
    mode: String,
    id: String,
    size: usize,
    path: String,
}

impl Entry {
    fn fault(&self) -> Option<Fault> {
        let message = match self.mode.as_str() {
            "120000" => "is a link; links are not followed: put the file itself here".to_owned(),
            "160000" => "is another repository inside this one; those are not fetched".to_owned(),
            _ if self.size > FILE_BYTES => {
                format!(
                    "is {} KiB large; at most {} KiB are read of one file",
                    self.size >> 10,
                    FILE_BYTES >> 10
                )
            }
            _ => return None,
        };
        Some(Fault { path: self.path.clone(), message })
    }
}

/// The content of a folder, or of the one file at that path. The inner error names what is there instead.
async fn entries(
    fence: &Fence,
    repository: &Path,
    commit: &str,
    folder: &str,
) -> Result<Result<Vec<Entry>, String>, Error> {
    let list = async |path: &str| -> Result<Vec<Entry>, Error> {
        let mut words = vec!["ls-tree", "-z", "-l", "--full-tree", commit, "--"];
        let inner = format!("{path}/");
        if !path.is_empty() {
            words.push(if path == folder { &inner } else { path });
        }
        let out = fence.run(repository, &words, b"").await?;
        Ok(String::from_utf8_lossy(&out).split('\0').filter_map(entry).collect())
    };
    let inside = list(folder).await?;
    if !inside.is_empty() || folder.is_empty() {
        return Ok(Ok(inside));
    }
    let words = ["ls-tree", "-z", "-l", "--full-tree", commit, "--", folder];
    let out = fence.run(repository, &words, b"").await?;
    let itself: Vec<Entry> = String::from_utf8_lossy(&out).split('\0').filter_map(entry).collect();
    if itself.iter().any(|entry| entry.mode.starts_with("100")) {
        return Ok(Ok(itself));
    }
    if itself.iter().any(|entry| entry.mode == "120000") {
        return Ok(Err("is a link; links are not followed: name the folder itself".to_owned()));
    }
    let top = fence.run(repository, &["ls-tree", "-d", "--name-only", "--full-tree", commit], b"").await?;
    let names = String::from_utf8_lossy(&top).lines().take(12).collect::<Vec<_>>().join(", ");
    let there = if names.is_empty() { "it has no folders".to_owned() } else { format!("there are: {names}") };
    Ok(Err(format!("is no folder of the commit; {there}")))
}

/// `MODE TYPE ID SIZE\tPATH`
fn entry(record: &str) -> Option<Entry> {
    let (facts, path) = record.split_once('\t')?;
    let mut facts = facts.split_ascii_whitespace();
    let (mode, _, id, size) = (facts.next()?, facts.next()?, facts.next()?, facts.next()?);
    let size = size.parse().unwrap_or(0);
    Some(Entry { mode: mode.to_owned(), id: id.to_owned(), size, path: path.to_owned() })
}

/// A file as the text that it must be.
fn text(bytes: &[u8]) -> Result<String, String> {
    let marks: BTreeMap<&[u8], &str> =
        BTreeMap::from([(&b"\xff\xfe"[..], "UTF-16"), (&b"\xfe\xff"[..], "UTF-16")]);
    if let Some((_, encoding)) = marks.iter().find(|(mark, _)| bytes.starts_with(mark)) {
        return Err(format!("is {encoding}; expected UTF-8"));
    }
    if let Some(at) = bytes.iter().position(|byte| *byte == 0) {
        return Err(format!("is not a text: byte {at} is zero"));
    }
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    String::from_utf8(bytes.to_vec()).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let line = bytes[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
        format!("is not UTF-8: byte {at}, in line {line}, is of another text encoding")
    })
}

/// Removes what is kept of a repository, where there is anything.
///
/// # Errors
/// When it stays.
pub fn remove(repository: &Path) -> std::io::Result<()> {
    match std::fs::remove_dir_all(repository) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

/// Removes the locks that calls of `git` make beside what they write. Of one repository there is one call at a time.
fn remove_locks(dir: &Path) -> std::io::Result<()> {
    for entry in std::fs::read_dir(dir)? {
        let entry = entry?;
        let path = entry.path();
        if entry.file_type()?.is_dir() {
            remove_locks(&path)?;
        } else if path.extension().is_some_and(|ending| ending == "lock") {
            std::fs::remove_file(&path)?;
        }
    }
    Ok(())
}

/// The size of a folder on disk, in bytes.
fn size(dir: &Path) -> u64 {
    let entries = std::fs::read_dir(dir).into_iter().flatten().flatten();
    let sizes = entries.map(|entry| match entry.metadata() {
        Ok(data) if data.is_dir() => size(&entry.path()),
        Ok(data) => data.len(),
        Err(_) => 0,
    });
    sizes.sum()
}
