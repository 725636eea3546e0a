//! Writing a commit, and pushing it as a branch.

use crate::error::Error;
use crate::fence::{Access, Fence};
use crate::reading::Found;

/// The commit to write.
#[derive(Debug, Clone)]
pub struct Written<'a> {
    /// Under which name the repository is kept here.
    pub name: &'a str,
    /// The commit that it comes after.
    pub base: &'a str,
    /// Files that it changes, whole.
    pub files: &'a [Found],
    /// Its purpose.
    pub message: &'a str,
    /// Its author: name and address.
    pub by: (&'a str, &'a str),
}

/// Writes a commit that changes files. Gives its id.
///
/// # Errors
/// When the commit that it comes after is not kept here.
pub async fn write_branch(fence: &Fence, written: &Written<'_>) -> Result<String, Error> {
    let repository = fence.repository(written.name);
    let here = |error| Error::Here { path: repository.display().to_string(), error };
    let kept = tempfile::tempdir_in(&repository).map_err(here)?;
    fence.own(kept.path())?;
    let index = kept.path().join("index");
    let run =
        async |words: &[&str], input: &[u8]| fence.run_on_index(&repository, &index, words, input).await;
    run(&["read-tree", written.base], b"").await?;
    for file in written.files {
        let id = run(&["hash-object", "-w", "--stdin"], file.text.as_bytes()).await?;
        let entry = format!("100644,{id},{}", file.path);
        run(&["update-index", "--add", "--cacheinfo", &entry], b"").await?;
    }
    let tree = run(&["write-tree"], b"").await?;
    let (name, address) = written.by;
    let author = format!("user.name={}", name.replace(['<', '>', '\n'], ""));
    let address = format!("user.email={}", address.replace(['<', '>', '\n'], ""));
    let words = ["-c", &author, "-c", &address, "commit-tree", &tree, "-p", written.base, "-F", "-"];
    run(&words, written.message.as_bytes()).await
}

/// Pushes a commit as a branch that is new, or that it comes after.
///
/// # Errors
/// When the repository does not take it.
pub async fn push(
    fence: &Fence,
    name: &str,
    url: &str,
    commit: &str,
    branch: &str,
    access: &Access,
) -> Result<(), Error> {
    fence.may_follow(url).await?;
    let spec = format!("{commit}:refs/heads/{branch}");
    let words = ["push", "--quiet", "--no-verify", "--", url, &spec];
    fence.run_let_in(&fence.repository(name), url, &words, access).await.map(drop)
}

/// The change of a commit, as a unified difference.
///
/// # Errors
/// When it is not kept here.
pub async fn difference(fence: &Fence, name: &str, commit: &str) -> Result<String, Error> {
    let words = ["show", "--format=", "--no-color", "--no-ext-diff", "--no-textconv", commit, "--"];
    let out = fence.run(&fence.repository(name), &words, b"").await?;
    Ok(String::from_utf8_lossy(&out).into_owned())
}
