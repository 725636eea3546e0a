//! Checksums of the files of an unpacked layer, so that a disk that loses or changes some of them is noticed.
//!
//! They are made while the layer is unpacked, of what its digest was checked for, and lie beside its directory. They tell a
//! fault of the disk (CRC-32, as in IEEE 802.3), not a person with root's rights on the machine.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::beneath::{open_beneath, open_dir};
use crate::{Doing, Error};

/// What is read at once.
const PIECE: usize = 1 << 20;

/// What a file was when it was unpacked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Sum {
    length: u64,
    /// Absent for a sparse file, whose holes no archive has.
    crc: Option<u32>,
}

/// The sums of a layer's files, by their path.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(crate) struct Sums(BTreeMap<PathBuf, Sum>);

/// What a look at an unpacked layer found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LayerState {
    /// All of its files are as they were unpacked.
    Whole {
        /// How many.
        files: u64,
        /// Bytes of all.
        bytes: u64,
    },
    /// A file is gone or has another content.
    Broken {
        /// Which one.
        file: PathBuf,
        /// What is wrong with it.
        how: String,
    },
    /// It was unpacked without sums.
    Unknown,
}

/// The file with the sums of a layer.
pub fn sums_of_layer(dir: &Path) -> PathBuf {
    let mut name = dir.as_os_str().to_owned();
    name.push(".sums");
    PathBuf::from(name)
}

impl Sums {
    /// A file that was unpacked.
    pub(crate) fn add(&mut self, path: PathBuf, length: u64, crc: Option<u32>) {
        self.0.insert(path, Sum { length, crc });
    }

    /// Another entry took the place of what was at this path, and below it.
    pub(crate) fn remove(&mut self, path: &Path) {
        let below = self.0.range(path.to_owned()..).map(|(known, _)| known);
        let gone: Vec<PathBuf> = below.take_while(|known| known.starts_with(path)).cloned().collect();
        for known in gone {
            self.0.remove(&known);
        }
    }

    pub(crate) fn write(&self, dir: &Path) -> Result<(), Error> {
        let bytes = serde_json::to_vec(self).map_err(|error| Error::Invalid(error.to_string()))?;
        fs::write(sums_of_layer(dir), bytes).doing("keep the sums of a layer")
    }
}

/// Sums up what is read through it.
pub(crate) struct SummingReader<R> {
    inner: R,
    hash: crc32fast::Hasher,
    length: u64,
}

impl<R: Read> SummingReader<R> {
    pub(crate) fn new(inner: R) -> SummingReader<R> {
        SummingReader { inner, hash: crc32fast::Hasher::new(), length: 0 }
    }

    /// Length and sum of all that was read.
    pub(crate) fn sum(self) -> (u64, u32) {
        (self.length, self.hash.finalize())
    }
}

impl<R: Read> Read for SummingReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let length = self.inner.read(buffer)?;
        self.hash.update(&buffer[..length]);
        self.length += length as u64;
        Ok(length)
    }
}

/// Reads every file of an unpacked layer. `pace` is told how many bytes were read, and may wait.
///
/// # Errors
/// When the directory or its sums cannot be read at all.
pub fn verify_layer(dir: &Path, mut pace: impl FnMut(usize)) -> Result<LayerState, Error> {
    let sums = match fs::read(sums_of_layer(dir)) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(LayerState::Unknown),
        other => other.doing("read the sums of a layer")?,
    };
    let Ok(sums) = serde_json::from_slice::<Sums>(&sums) else {
        return Ok(LayerState::Broken { file: sums_of_layer(dir), how: "is no list of sums".to_owned() });
    };
    let root = open_dir(dir)?;
    let (mut files, mut bytes) = (0, 0);
    for (path, expected) in sums.0 {
        let opened = open_beneath(&root, &path.to_string_lossy(), libc::O_RDONLY | libc::O_NOFOLLOW);
        match opened.and_then(|file| fault_of(File::from(file), &expected, &mut pace)) {
            Ok(None) => (files, bytes) = (files + 1, bytes + expected.length),
            Ok(Some(how)) => return Ok(LayerState::Broken { file: path, how }),
            Err(error) => {
                return Ok(LayerState::Broken { file: path, how: format!("cannot be read: {error}") });
            }
        }
    }
    Ok(LayerState::Whole { files, bytes })
}

/// What is wrong with a file; nothing where it is as it was unpacked.
fn fault_of(mut file: File, expected: &Sum, pace: &mut impl FnMut(usize)) -> io::Result<Option<String>> {
    let length = file.metadata()?.size();
    if length != expected.length {
        return Ok(Some(format!("has {length} bytes instead of {}", expected.length)));
    }
    let Some(crc) = expected.crc else { return Ok(None) };
    let (mut hash, mut buffer) = (crc32fast::Hasher::new(), vec![0; PIECE.min(length as usize + 1)]);
    loop {
        let read = file.read(&mut buffer)?;
        if read == 0 {
            break;
        }
        hash.update(&buffer[..read]);
        pace(read);
    }
    Ok((hash.finalize() != crc).then(|| "has another content".to_owned()))
}
