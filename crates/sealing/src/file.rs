//! Keys in a file that its owner alone may read.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use crate::{Error, KeyRing, new_key};

/// Why the keys of a file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum FileError {
    /// The file cannot be read or written.
    #[error("the keys in {0} cannot be used: {1}")]
    Io(String, io::Error),
    /// The file does not hold keys.
    #[error("the keys in {0} cannot be used: {1}")]
    Content(String, Error),
}

/// The keys in a file; a new one where there is no file yet.
///
/// # Errors
/// When it cannot be read or made, or holds something else.
pub fn read_or_make(path: &Path) -> Result<KeyRing, FileError> {
    let shown = || path.display().to_string();
    match fs::read_to_string(path) {
        Ok(text) => KeyRing::parse(&text).map_err(|error| FileError::Content(shown(), error)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let ring = new_key().and_then(|key| KeyRing::parse(&key));
            let ring = ring.map_err(|error| FileError::Content(shown(), error))?;
            write(path, &ring)?;
            Ok(ring)
        }
        Err(error) => Err(FileError::Io(shown(), error)),
    }
}

/// Puts these keys in the file's place, whole or not at all; when it returns, they are on disk.
///
/// # Errors
/// When the file cannot be written; the old one is still there then.
pub fn write(path: &Path, ring: &KeyRing) -> Result<(), FileError> {
    let written = || {
        let partial = path.with_extension("partial");
        let _ = fs::remove_file(&partial);
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&partial)?;
        file.write_all(ring.to_text().as_bytes())?;
        file.sync_all()?;
        fs::rename(&partial, path)?;
        path.parent().map_or(Ok(()), |dir| File::open(dir)?.sync_all())
    };
    written().map_err(|error| FileError::Io(path.display().to_string(), error))
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn a_key_is_made_once_and_only_its_owner_reads_it() {
        let dir = tempfile::tempdir().expect("a directory");
        let path = dir.path().join("secrets-key");
        let made = read_or_make(&path).expect("made");
        assert_eq!(read_or_make(&path).expect("read").to_text(), made.to_text());
        assert_eq!(fs::metadata(&path).expect("a file").permissions().mode() & 0o777, 0o600);
        let both = made.with_new_key().expect("two");
        write(&path, &both).expect("written");
        assert_eq!(read_or_make(&path).expect("read").count(), 2);
        fs::write(&path, "not a key").expect("spoiled");
        let refused = read_or_make(&path).expect_err("not a key").to_string();
        assert!(refused.contains("secrets-key") && refused.contains("64 hexadecimal digits"), "{refused}");
    }
}
