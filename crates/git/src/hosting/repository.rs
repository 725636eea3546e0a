//! A repository that is kept here: its objects are taken into a place of their own first, and are part of it only when it is
//! decided that they are.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWriteExt as _};
use tokio::process::{Child, ChildStdout};

use super::push::{NONE, RefUpdate, is_plain_ref};
use crate::error::Error;
use crate::fence::{Fence, in_short};
use crate::reading::remove;

/// A push whose client sends nothing for so long has ended.
const SILENCE: Duration = Duration::from_secs(60);
/// What `git` says of a push's objects: as much is read.
const WORDS: u64 = 16 << 10;
/// Packs that a repository has before they are made one.
const PACKS: usize = 40;
/// Faults of old commits that do no harm.
const CHECKS: &str = "--strict=missingSpaceBeforeDate=warn,zeroPaddedFilemode=warn";

/// A repository that is pushed to.
#[derive(Debug, Clone)]
pub struct Repository<'f> {
    fence: &'f Fence,
    dir: PathBuf,
}

/// Objects of a push, not yet part of the repository. They go when this does.
#[derive(Debug)]
pub struct Incoming {
    dir: tempfile::TempDir,
}

/// A file of a first commit.
#[derive(Debug, Clone, Copy)]
pub struct NewFile<'f> {
    /// Its path.
    pub path: &'f str,
    /// Its content.
    pub text: &'f str,
    /// Whether it may be executed.
    pub runs: bool,
}

/// A path of a commit's tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TreePath {
    /// The path.
    pub path: String,
    /// Whether it is another repository inside this one.
    pub is_repository: bool,
    /// Its length in bytes.
    pub size: u64,
}

impl<'f> Repository<'f> {
    /// The repository of this name; it is made where there is none.
    ///
    /// # Errors
    /// When it cannot be made.
    pub async fn open(fence: &'f Fence, name: &str) -> Result<Repository<'f>, Error> {
        let dir = fence.repository(name);
        let here = |error| Error::Here { path: dir.display().to_string(), error };
        if !dir.join("HEAD").exists() {
            remove(&dir).map_err(here)?;
            std::fs::create_dir_all(&dir).map_err(here)?;
            fence.run(&dir, &["init", "--quiet", "--bare", "--initial-branch=main"], b"").await?;
        }
        Ok(Repository { fence, dir })
    }

    /// Where its refs are, by their whole names.
    ///
    /// # Errors
    /// When they cannot be read.
    pub async fn refs(&self) -> Result<BTreeMap<String, String>, Error> {
        let out =
            self.fence.run(&self.dir, &["for-each-ref", "--format=%(refname) %(objectname)"], b"").await?;
        let text = String::from_utf8_lossy(&out).into_owned();
        let pairs = text.lines().filter_map(|line| line.split_once(' '));
        Ok(pairs.map(|(name, id)| (name.to_owned(), id.to_owned())).collect())
    }

    /// Takes the objects of a push in, checks each of them, and that what the push names is whole.
    ///
    /// # Errors
    /// In Git's words when something is wrong with them; nothing is left of them then.
    pub async fn take_in(
        &self,
        pack: &mut (impl AsyncRead + Unpin),
        updates: &[RefUpdate],
    ) -> Result<Incoming, Error> {
        let here = |error| Error::Here { path: self.dir.display().to_string(), error };
        let incoming = self.quarantine()?;
        if updates.iter().all(RefUpdate::removes) {
            return Ok(incoming);
        }
        let most = format!("--max-input-size={}", self.fence.size << 20);
        let words = ["index-pack", "--stdin", "--fix-thin", CHECKS, &most];
        let mut child = self.spawn(&words, Some(&incoming))?;
        let sent = feed(&mut child, pack).await;
        self.ended(child, "index-pack").await.map_err(|error| too_large(error, self.fence.size))?;
        sent.map_err(|error| Error::Said { act: "push".to_owned(), said: error.to_string() })?;
        let new = updates.iter().filter(|update| !update.removes());
        let mut ids: String = new.map(|update| format!("{}\n", update.new)).collect();
        ids.push_str("--not\n--all\n");
        let mut child = self.spawn(&["rev-list", "--objects", "--stdin", "--quiet"], Some(&incoming))?;
        feed(&mut child, &mut ids.as_bytes()).await.map_err(here)?;
        self.ended(child, "rev-list").await?;
        Ok(incoming)
    }

    /// Makes a first commit of these files, as a push of it would bring it. Gives its id.
    ///
    /// # Errors
    /// When it cannot be made.
    pub async fn first_commit(
        &self,
        files: &[NewFile<'_>],
        message: &str,
        by: &str,
    ) -> Result<(Incoming, String), Error> {
        let incoming = self.quarantine()?;
        let index = incoming.dir.path().join("index");
        let run = async |words: &[&str], input: &[u8]| -> Result<String, Error> {
            let mut child =
                self.spawn_with(words, Some(&incoming), &[("GIT_INDEX_FILE", index.clone().into())])?;
            feed(&mut child, &mut &*input).await.map_err(Error::NotRun)?;
            let mut out = Vec::new();
            if let Some(mut pipe) = child.stdout.take() {
                pipe.read_to_end(&mut out).await.map_err(Error::NotRun)?;
            }
            self.ended(child, words.first().unwrap_or(&"git")).await?;
            Ok(String::from_utf8_lossy(&out).trim().to_owned())
        };
        let mut entries = String::new();
        for file in files {
            let id = run(&["hash-object", "-w", "--stdin"], file.text.as_bytes()).await?;
            let mode = if file.runs { "100755" } else { "100644" };
            entries.push_str(&format!("{mode} {id}\t{}\n", file.path));
        }
        run(&["update-index", "--add", "--index-info"], entries.as_bytes()).await?;
        let tree = run(&["write-tree"], b"").await?;
        let by = by.replace(['<', '>', '\n', ' '], "");
        let (name, address) = (format!("user.name={by}"), format!("user.email={by}@localhost"));
        let words = ["-c", &name, "-c", &address, "commit-tree", &tree, "-F", "-"];
        let commit = run(&words, message.as_bytes()).await?;
        // As one pack, which becomes part of the repository like any other.
        let base = incoming.dir.path().join("pack/pack");
        std::fs::create_dir_all(incoming.dir.path().join("pack"))
            .map_err(|error| Error::Here { path: base.display().to_string(), error })?;
        self.fence.own(incoming.dir.path())?;
        let words = ["pack-objects", "--revs", "--quiet", &base.display().to_string()];
        run(&words, format!("{commit}\n").as_bytes()).await?;
        Ok((incoming, commit))
    }

    /// A place for objects that are not yet part of the repository.
    fn quarantine(&self) -> Result<Incoming, Error> {
        let dir = tempfile::Builder::new().prefix("incoming-").tempdir_in(self.dir.join("objects"));
        let dir = dir.map_err(|error| Error::Here { path: self.dir.display().to_string(), error })?;
        self.fence.own(dir.path())?;
        Ok(Incoming { dir })
    }

    /// Why each update cannot be made, or that it can.
    pub fn check(&self, refs: &BTreeMap<String, String>, update: &RefUpdate) -> Result<(), String> {
        let present = refs.get(&update.name).map_or(NONE, String::as_str);
        if !is_plain_ref(&update.name) {
            return Err("only branches and tags with plain names are kept here".to_owned());
        }
        if present != update.old {
            return Err("somebody pushed to it meanwhile; git pull, and push again".to_owned());
        }
        let names = refs.keys().filter(|name| **name != update.name);
        let is_folder = |name: &String| {
            name.starts_with(&format!("{}/", update.name)) || update.name.starts_with(&format!("{name}/"))
        };
        match names.into_iter().find(|name| is_folder(name)) {
            Some(other) if !update.removes() => Err(format!("{other} is there, so this name cannot be")),
            _ => Ok(()),
        }
    }

    /// Makes the objects part of the repository.
    ///
    /// # Errors
    /// When they cannot be moved.
    pub fn keep(&self, incoming: Incoming) -> Result<(), Error> {
        let here = |error| Error::Here { path: self.dir.display().to_string(), error };
        let (from, to) = (incoming.dir.path().join("pack"), self.dir.join("objects/pack"));
        if !from.exists() {
            return Ok(());
        }
        std::fs::create_dir_all(&to).map_err(here)?;
        let mut names: Vec<OsString> =
            std::fs::read_dir(&from).map_err(here)?.flatten().map(|entry| entry.file_name()).collect();
        // A pack is found by its index: that comes last.
        names.sort_by_key(|name| Path::new(name).extension().is_some_and(|ending| ending == "idx"));
        for name in names {
            std::fs::rename(from.join(&name), to.join(&name)).map_err(here)?;
        }
        Ok(())
    }

    /// Puts the refs where they are to be, whatever is there.
    ///
    /// # Errors
    /// When an object of them is not here.
    pub async fn set_refs(&self, refs: &BTreeMap<String, String>, branch: &str) -> Result<(), Error> {
        let present = self.refs().await?;
        let gone = present.keys().filter(|name| !refs.contains_key(*name));
        let mut input: String = gone.map(|name| format!("delete {name}\n")).collect();
        let moved = refs.iter().filter(|(name, id)| present.get(*name) != Some(id));
        input.extend(moved.map(|(name, id)| format!("update {name} {id}\n")));
        if !input.is_empty() {
            self.fence.run(&self.dir, &["update-ref", "--stdin"], input.as_bytes()).await?;
        }
        let branch = format!("refs/heads/{branch}");
        self.fence.run(&self.dir, &["symbolic-ref", "HEAD", &branch], b"").await.map(drop)
    }

    /// Whether it has these objects.
    pub async fn has(&self, ids: impl Iterator<Item = &str>) -> Result<bool, Error> {
        let ids: String = ids.map(|id| format!("{id}\n")).collect();
        let out = self.fence.run(&self.dir, &["cat-file", "--batch-check"], ids.as_bytes()).await?;
        Ok(!String::from_utf8_lossy(&out).lines().any(|line| line.ends_with(" missing")))
    }

    /// The files of a commit.
    ///
    /// # Errors
    /// When the commit is not here.
    pub async fn files(&self, incoming: Option<&Incoming>, commit: &str) -> Result<Vec<TreePath>, Error> {
        let words = ["ls-tree", "-r", "-z", "-l", "--full-tree", commit];
        let out = self.output(&words, incoming, "ls-tree").await?;
        let text = String::from_utf8_lossy(&out).into_owned();
        let entry = |record: &str| {
            let (facts, path) = record.split_once('\t')?;
            let mut facts = facts.split_ascii_whitespace();
            let (mode, size) = (facts.next()?, facts.nth(2)?);
            let size = size.parse().unwrap_or(0);
            Some(TreePath { path: path.to_owned(), is_repository: mode == "160000", size })
        };
        Ok(text.split('\0').filter_map(entry).collect())
    }

    /// The paths that differ between two commits.
    ///
    /// # Errors
    /// When one of them is not here.
    pub async fn changed_paths(&self, from: &str, to: &str) -> Result<Vec<String>, Error> {
        let words = ["diff", "--name-only", "-z", "--no-renames", "--no-ext-diff", from, to, "--"];
        let out = self.output(&words, None, "diff").await?;
        let text = String::from_utf8_lossy(&out).into_owned();
        Ok(text.split('\0').filter(|path| !path.is_empty()).map(str::to_owned).collect())
    }

    /// A text file of a commit.
    ///
    /// # Errors
    /// When it is not here.
    pub async fn text(&self, incoming: Option<&Incoming>, commit: &str, path: &str) -> Result<String, Error> {
        let out =
            self.output(&["cat-file", "blob", &format!("{commit}:{path}")], incoming, "cat-file").await?;
        String::from_utf8(out).map_err(|_| Error::Said {
            act: "cat-file".to_owned(),
            said: format!("{path} is no text (UTF-8)"),
        })
    }

    /// The first line of a commit's message, and its author's name.
    ///
    /// # Errors
    /// When it is not here, or is no commit.
    pub async fn about(&self, incoming: Option<&Incoming>, commit: &str) -> Result<(String, String), Error> {
        let words = ["log", "--max-count=1", "--format=%s%n%an", commit, "--"];
        let out = self.output(&words, incoming, "log").await?;
        let text = String::from_utf8_lossy(&out).into_owned();
        let mut lines = text.lines();
        Ok((lines.next().unwrap_or_default().to_owned(), lines.next().unwrap_or_default().to_owned()))
    }

    /// Writes the tree of a commit as a tar archive.
    ///
    /// # Errors
    /// When the commit is not here, or the archive cannot be written.
    pub async fn archive(
        &self,
        incoming: Option<&Incoming>,
        commit: &str,
        to: &mut tokio::fs::File,
    ) -> Result<(), Error> {
        self.write_to(to, &["archive", "--format=tar", commit], incoming, "archive").await
    }

    /// Writes all of it as one file (gitformat-bundle).
    ///
    /// # Errors
    /// When it cannot be written.
    pub async fn bundle(&self, to: &mut tokio::fs::File) -> Result<(), Error> {
        self.write_to(to, &["bundle", "create", "--quiet", "-", "--all"], None, "bundle").await
    }

    /// Takes all objects of such a file in.
    ///
    /// # Errors
    /// When it is none, or not whole.
    pub async fn restore(&self, bundle: &mut (impl AsyncRead + Unpin)) -> Result<(), Error> {
        let here = |error| Error::Here { path: self.dir.display().to_string(), error };
        let file = tempfile::NamedTempFile::new_in(&self.dir).map_err(here)?;
        let mut to = tokio::fs::File::from_std(file.reopen().map_err(here)?);
        tokio::io::copy(bundle, &mut to).await.map_err(here)?;
        to.flush().await.map_err(here)?;
        self.fence.own(file.path())?;
        let path = file.path().display().to_string();
        self.fence.run(&self.dir, &["bundle", "unbundle", &path], b"").await.map(drop)
    }

    /// Makes one pack of many.
    ///
    /// # Errors
    /// When there is no room.
    pub async fn tidy(&self) -> Result<(), Error> {
        let packs = std::fs::read_dir(self.dir.join("objects/pack")).into_iter().flatten().flatten();
        let packs = packs.filter(|entry| entry.path().extension().is_some_and(|ending| ending == "pack"));
        if packs.count() > PACKS {
            self.fence.run(&self.dir, &["repack", "-a", "-d", "-q"], b"").await?;
        }
        Ok(())
    }

    /// Begins to answer a client that fetches. Its requests go in, the answers come out; `stateless` where each request is a
    /// connection of its own.
    ///
    /// # Errors
    /// When `git` cannot be run.
    pub fn upload(&self, protocol: &str, stateless: bool, advertise: bool) -> Result<Child, Error> {
        let mut words = vec!["-c", "uploadpack.allowFilter=true", "upload-pack", "--strict"];
        words.extend(stateless.then_some("--stateless-rpc"));
        words.extend(advertise.then_some("--advertise-refs"));
        words.push(".");
        let protocol = if matches!(protocol, "version=2" | "version=1") { protocol } else { "" };
        self.fence.spawn(&self.dir, &words, &[("GIT_PROTOCOL", protocol.into())])
    }

    fn spawn(&self, words: &[&str], incoming: Option<&Incoming>) -> Result<Child, Error> {
        self.spawn_with(words, incoming, &[])
    }

    fn spawn_with(
        &self,
        words: &[&str],
        incoming: Option<&Incoming>,
        more: &[(&str, OsString)],
    ) -> Result<Child, Error> {
        let mut env: Vec<(&str, OsString)> = more.to_vec();
        if let Some(incoming) = incoming {
            env.push(("GIT_OBJECT_DIRECTORY", incoming.dir.path().into()));
            env.push(("GIT_ALTERNATE_OBJECT_DIRECTORIES", self.dir.join("objects").into()));
        }
        self.fence.spawn(&self.dir, words, &env)
    }

    async fn output(&self, words: &[&str], incoming: Option<&Incoming>, act: &str) -> Result<Vec<u8>, Error> {
        let mut child = self.spawn(words, incoming)?;
        drop(child.stdin.take());
        let mut out = Vec::new();
        if let Some(pipe) = child.stdout.take() {
            pipe.take(self.fence.size << 20).read_to_end(&mut out).await.map_err(Error::NotRun)?;
        }
        self.ended(child, act).await?;
        Ok(out)
    }

    async fn write_to(
        &self,
        to: &mut tokio::fs::File,
        words: &[&str],
        incoming: Option<&Incoming>,
        act: &str,
    ) -> Result<(), Error> {
        let mut child = self.spawn(words, incoming)?;
        drop(child.stdin.take());
        if let Some(mut pipe) = child.stdout.take() {
            let copied: std::io::Result<u64> = tokio::io::copy::<ChildStdout, _>(&mut pipe, to).await;
            copied.map_err(|error| Error::Here { path: self.dir.display().to_string(), error })?;
        }
        to.flush().await.map_err(|error| Error::Here { path: self.dir.display().to_string(), error })?;
        self.ended(child, act).await
    }

    /// Waits for a child's end, for as long as a call may take.
    async fn ended(&self, mut child: Child, act: &str) -> Result<(), Error> {
        let mut said = Vec::new();
        let stderr = child.stderr.take();
        let work = async {
            if let Some(pipe) = stderr {
                pipe.take(WORDS).read_to_end(&mut said).await?;
            }
            child.wait().await
        };
        match tokio::time::timeout(self.fence.time, work).await {
            Ok(status) if status.as_ref().is_ok_and(std::process::ExitStatus::success) => Ok(()),
            Ok(Err(error)) => Err(Error::NotRun(error)),
            Ok(Ok(_)) => Err(Error::Said { act: act.to_owned(), said: in_short(&said) }),
            Err(_) => Err(Error::Late { act: act.to_owned(), seconds: self.fence.time.as_secs() }),
        }
    }
}

/// Git's own words for this name no figure.
fn too_large(error: Error, mib: u64) -> Error {
    match error {
        Error::Said { said, .. } if said.contains("exceeds maximum allowed size") => Error::Said {
            act: "push".to_owned(),
            said: format!("it is larger than the {mib} MiB that a push may be"),
        },
        other => other,
    }
}

/// Copies what comes to a child, until it has ended or nothing more comes.
async fn feed(child: &mut Child, from: &mut (impl AsyncRead + Unpin)) -> std::io::Result<()> {
    let Some(mut to) = child.stdin.take() else { return Ok(()) };
    let mut piece = vec![0; 64 << 10];
    loop {
        let read = tokio::select! {
            // It knows itself where what it reads has its end.
            _ = child.wait() => return Ok(()),
            read = tokio::time::timeout(SILENCE, from.read(&mut piece)) => read,
        };
        let length = match read {
            Err(_) => {
                let words = format!("nothing more came of the push for {} s", SILENCE.as_secs());
                return Err(std::io::Error::new(std::io::ErrorKind::TimedOut, words));
            }
            Ok(length) => length?,
        };
        if length == 0 {
            return Ok(());
        }
        // One that has ended meanwhile says itself why.
        if to.write_all(&piece[..length]).await.is_err() {
            return Ok(());
        }
    }
}
