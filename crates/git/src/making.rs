//! Making a repository with a history of its own, as the demo has one.

use std::path::Path;

use jiff::Timestamp;

use crate::error::Error;
use crate::fence::Fence;

/// A commit to be made.
#[derive(Debug, Clone)]
pub struct NewCommit {
    /// Its author: name and address.
    pub by: (String, String),
    /// When.
    pub at: Timestamp,
    /// Its purpose.
    pub message: String,
    /// Files that it adds or changes, whole.
    pub files: Vec<(String, String)>,
}

/// Makes a bare repository with these commits on the branch `main`, the oldest first.
///
/// # Errors
/// When it cannot be written.
pub async fn make_repository(fence: &Fence, dir: &Path, commits: &[NewCommit]) -> Result<(), Error> {
    let here = |error| Error::Here { path: dir.display().to_string(), error };
    std::fs::create_dir_all(dir).map_err(here)?;
    fence.run(dir, &["init", "--quiet", "--bare", "--initial-branch=main"], b"").await?;
    let mut stream = Vec::new();
    let data = |stream: &mut Vec<u8>, text: &str| {
        stream.extend_from_slice(format!("data {}\n{text}\n", text.len()).as_bytes());
    };
    for NewCommit { by, at, message, files } in commits {
        let who = format!("{} <{}> {} +0000", by.0, by.1, at.as_second());
        stream.extend_from_slice(format!("commit refs/heads/main\ncommitter {who}\n").as_bytes());
        data(&mut stream, message);
        for (path, text) in files {
            stream.extend_from_slice(format!("M 100644 inline {path}\n").as_bytes());
            data(&mut stream, text);
        }
    }
    fence
        .run(dir, &["fast-import", "--quiet", "--done"], &[stream, b"done\n".to_vec()].concat())
        .await
        .map(drop)
}
