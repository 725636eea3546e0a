//! The content store: blobs by their digest, below `blobs/sha256/` as in an image layout.

use std::collections::HashSet;
use std::fmt;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;

use ring::digest::{Context, SHA256, digest};

use crate::{Doing, Error};

/// A SHA-256 digest, shown as `sha256:` and 64 hexadecimal digits.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Digest(String);

impl Digest {
    /// Reads `sha256:…`; other algorithms are not taken.
    pub fn parse(text: &str) -> Result<Digest, Error> {
        let hex = text.strip_prefix("sha256:").filter(|hex| hex.len() == 64);
        match hex.filter(|hex| hex.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'))) {
            Some(hex) => Ok(Digest(hex.to_owned())),
            None => Err(Error::Invalid(format!(
                "{text:?} is not a digest: expected sha256: and 64 hexadecimal digits"
            ))),
        }
    }

    /// The digest of these bytes.
    pub fn of(bytes: &[u8]) -> Digest {
        Digest(hex(digest(&SHA256, bytes).as_ref()))
    }

    /// The hexadecimal digits alone.
    pub fn hex(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "sha256:{}", self.0)
    }
}

pub(crate) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Hashes what is read through it.
pub struct HashingReader<R> {
    inner: R,
    hash: Context,
    /// Bytes read so far.
    pub length: u64,
}

/// Wraps a reader so that its digest is known at the end.
pub fn hash_reader<R: Read>(inner: R) -> HashingReader<R> {
    HashingReader { inner, hash: Context::new(&SHA256), length: 0 }
}

impl<R> HashingReader<R> {
    /// The digest of all that was read.
    pub fn digest(self) -> Digest {
        Digest(hex(self.hash.finish().as_ref()))
    }
}

impl<R: Read> Read for HashingReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let length = self.inner.read(buffer)?;
        self.hash.update(&buffer[..length]);
        self.length += length as u64;
        Ok(length)
    }
}

/// Blobs in a directory.
#[derive(Debug, Clone)]
pub struct ContentStore {
    dir: PathBuf,
}

impl ContentStore {
    /// Opens or makes the store. What an interrupted write left behind is cleared away.
    pub fn open(dir: &Path) -> Result<ContentStore, Error> {
        let store = ContentStore { dir: dir.to_owned() };
        fs::create_dir_all(dir.join("blobs/sha256")).doing("make the content store")?;
        let incoming = dir.join("incoming");
        match fs::remove_dir_all(&incoming) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                return Err(error).doing("clear the content store");
            }
            _ => fs::create_dir_all(&incoming).doing("make the content store")?,
        }
        Ok(store)
    }

    /// The folder that everything is kept in.
    pub fn root(&self) -> &Path {
        &self.dir
    }

    /// The path of a blob, present or not.
    pub fn path(&self, digest: &Digest) -> PathBuf {
        self.dir.join("blobs/sha256").join(digest.hex())
    }

    /// Whether the blob is there.
    pub fn has(&self, digest: &Digest) -> bool {
        self.path(digest).is_file()
    }

    /// A blob's bytes, at most `limit` of them.
    pub fn read(&self, digest: &Digest, limit: u64) -> Result<Vec<u8>, Error> {
        let file = File::open(self.path(digest)).doing(format!("open the blob {digest}"))?;
        let mut bytes = Vec::new();
        file.take(limit + 1).read_to_end(&mut bytes).doing(format!("read the blob {digest}"))?;
        if bytes.len() as u64 > limit {
            return Err(Error::TooLarge(format!("the blob {digest} is longer than {limit} bytes")));
        }
        Ok(bytes)
    }

    /// Removes blobs that nobody keeps and that were written longer ago than `age`; younger ones may belong to an
    /// image that is being added. Gives how many bytes that freed.
    pub fn sweep(&self, keep: &HashSet<Digest>, age: Duration) -> Result<u64, Error> {
        let mut freed = 0;
        for entry in fs::read_dir(self.dir.join("blobs/sha256")).doing("list the blobs")?.flatten() {
            let Ok(found) = entry.metadata() else { continue };
            let kept = entry.file_name().to_str().is_some_and(|hex| keep.contains(&Digest(hex.to_owned())));
            let old = found.modified().is_ok_and(|at| at.elapsed().is_ok_and(|elapsed| elapsed >= age));
            if !kept && old && fs::remove_file(entry.path()).is_ok() {
                freed += found.len();
            }
        }
        Ok(freed)
    }

    /// Opens a blob to read.
    pub fn open_blob(&self, digest: &Digest) -> Result<File, Error> {
        File::open(self.path(digest)).doing(format!("open the blob {digest}"))
    }

    /// Takes in a file that lies on the same disk. It appears under its digest only if it is that one; the file is gone then.
    ///
    /// # Errors
    /// When the file has another digest, which leaves it where it is; and when the disk refuses.
    pub fn adopt(&self, file: &Path, expected: &Digest) -> Result<(), Error> {
        let opened = File::open(file).doing("open a blob")?;
        let mut from = hash_reader(&opened);
        io::copy(&mut from, &mut io::sink()).doing("read a blob")?;
        let found = from.digest();
        if found != *expected {
            let (expected, found) = (expected.to_string(), found.to_string());
            return Err(Error::DigestMismatch { what: "a blob".to_owned(), expected, found });
        }
        opened.sync_all().doing("write a blob")?;
        fs::rename(file, self.path(expected)).doing("keep a blob")
    }

    /// Keeps a blob from being swept for some time: something that needs it is about to be recorded. False where there is none.
    pub fn keep(&self, digest: &Digest) -> bool {
        let opened = File::options().append(true).open(self.path(digest));
        opened.is_ok_and(|file| file.set_modified(std::time::SystemTime::now()).is_ok())
    }

    /// A blob's length in bytes; `None` where there is none.
    pub fn length(&self, digest: &Digest) -> Option<u64> {
        fs::metadata(self.path(digest)).ok().map(|found| found.len())
    }

    /// Takes a blob in. It appears under its digest only when whole and, where a digest is expected, when it is
    /// that one; until then nobody sees it.
    pub fn put(&self, from: impl Read, expected: Option<&Digest>) -> Result<(Digest, u64), Error> {
        if let Some(digest) = expected.filter(|digest| self.has(digest)) {
            let known = File::options().append(true).open(self.path(digest)).doing("open a blob")?;
            // As good as new: it is not swept away before its image is recorded.
            known.set_modified(std::time::SystemTime::now()).doing("keep a blob")?;
            let length = known.metadata().doing("look at a blob")?.len();
            return Ok((digest.clone(), length));
        }
        let mut file = tempfile::NamedTempFile::new_in(self.dir.join("incoming")).doing("make a blob")?;
        let mut from = hash_reader(from);
        io::copy(&mut from, &mut file).doing("write a blob")?;
        file.flush().doing("write a blob")?;
        let length = from.length;
        let found = from.digest();
        if let Some(expected) = expected.filter(|expected| **expected != found) {
            let (expected, found) = (expected.to_string(), found.to_string());
            return Err(Error::DigestMismatch { what: "a blob".to_owned(), expected, found });
        }
        file.as_file().sync_all().doing("write a blob")?;
        file.persist(self.path(&found)).map_err(|error| error.error).doing("keep a blob")?;
        Ok((found, length))
    }
}
