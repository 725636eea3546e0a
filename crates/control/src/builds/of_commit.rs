//! Builds of a commit: every recipe of its tree, with the tree as Git has it.

use mainyard_api::Problem;
use mainyard_builds::{Build, FILE_NAME, Recipe, recipe};
use mainyard_git::hosting::{Incoming, Repository, TreePath};

use super::operations::{NewBuild, start_build, take_tree};
use crate::Control;

/// Recipes of one commit.
const RECIPES: usize = 10;
/// The length of a pointer to a file that is kept outside of Git, and how many files of such a length are looked at.
const POINTER: std::ops::RangeInclusive<u64> = 120..=160;
const CANDIDATES: usize = 50;
/// Longest recipe, and longest other text, that is read of a commit.
const TEXT: u64 = 1 << 20;

/// A commit of a repository on this machine.
pub(crate) struct CommitTree<'r> {
    repository: &'r Repository<'r>,
    /// Its objects, where they are not part of the repository yet.
    incoming: Option<&'r Incoming>,
    commit: &'r str,
    files: Vec<TreePath>,
}

fn of_git(error: mainyard_git::Error) -> Problem {
    Problem::unavailable(error.to_string())
}

impl<'r> CommitTree<'r> {
    /// Looks at the tree of a commit.
    pub(crate) async fn open(
        repository: &'r Repository<'r>,
        incoming: Option<&'r Incoming>,
        commit: &'r str,
    ) -> Result<CommitTree<'r>, Problem> {
        let files = repository.files(incoming, commit).await.map_err(of_git)?;
        Ok(CommitTree { repository, incoming, commit, files })
    }

    /// A text of the tree; nothing where there is none of a length that is read.
    pub(crate) async fn text(&self, path: &str) -> Result<Option<String>, Problem> {
        if !self.files.iter().any(|file| file.path == path && file.size <= TEXT) {
            return Ok(None);
        }
        self.repository.text(self.incoming, self.commit, path).await.map(Some).map_err(of_git)
    }

    /// The folders that have a recipe.
    fn places(&self) -> Vec<String> {
        self.files.iter().filter(|file| file.size <= TEXT).filter_map(|file| place(&file.path)).collect()
    }

    /// A file that only points to another one outside of Git: the member who pushed it may not know that their Git does so.
    async fn pointer(&self) -> Result<Option<&str>, Problem> {
        let candidates = self.files.iter().filter(|file| POINTER.contains(&file.size)).take(CANDIDATES);
        for file in candidates {
            // What is no text is no pointer.
            let text = self.repository.text(self.incoming, self.commit, &file.path).await.unwrap_or_default();
            if text.starts_with("version https://git-lfs.") && text.contains("\noid sha256:") {
                return Ok(Some(&file.path));
            }
        }
        Ok(None)
    }

    /// Every recipe with its folder. The inner error says why nothing of the commit can be built, for its author.
    pub(crate) async fn recipes(&self) -> Result<Result<Vec<(String, Recipe)>, String>, Problem> {
        if let Some(inner) = self.files.iter().find(|file| file.is_repository) {
            return Ok(Err(format!(
                "{} is a repository of its own (a submodule): its files are not part of this one; copy them in",
                inner.path
            )));
        }
        let attributes = self.text(".gitattributes").await?.unwrap_or_default();
        if attributes.contains("filter=lfs") {
            let words = ".gitattributes keeps files outside of Git (filter=lfs): their pointers would be built in their place; \
                         commit the files themselves";
            return Ok(Err(words.to_owned()));
        }
        if let Some(path) = self.pointer().await? {
            return Ok(Err(format!(
                "{path} is a pointer to a file that is kept outside of Git, and would be built in its place; commit the file itself"
            )));
        }
        let mut recipes = Vec::new();
        for place in self.places() {
            let file = file_in(&place);
            let Some(text) = self.text(&file).await? else { continue };
            match recipe::read(&file, &text) {
                Ok(recipe) => recipes.push((place, recipe)),
                Err(problems) => {
                    let lines: Vec<String> = problems.iter().map(ToString::to_string).collect();
                    return Ok(Err(lines.join("\n")));
                }
            }
        }
        if recipes.len() > RECIPES {
            let count = recipes.len();
            return Ok(Err(format!("the commit has {count} recipes; at most {RECIPES} are built")));
        }
        Ok(Ok(recipes))
    }

    /// Begins the build of each of these folders.
    pub(crate) async fn start_builds(
        &self,
        control: &Control,
        folders: impl Iterator<Item = &str>,
        asked: &NewBuild,
    ) -> Result<Vec<Build>, Problem> {
        let unavailable = |error: std::io::Error| Problem::unavailable(error.to_string());
        let incoming = control.blobs.local().root().join("incoming");
        let mut builds = Vec::new();
        for folder in folders {
            let part = tempfile::NamedTempFile::new_in(&incoming).map_err(unavailable)?;
            let mut file = tokio::fs::File::from_std(part.reopen().map_err(unavailable)?);
            // Of the tree: an archive of the commit would differ with each.
            let tree = format!("{}^{{tree}}", self.commit);
            self.repository.archive(self.incoming, &tree, &mut file).await.map_err(of_git)?;
            let taken = take_tree(control, part.into_temp_path(), folder.to_owned()).await?;
            let asked = NewBuild { folder: folder.to_owned(), ..asked.clone() };
            builds.push(start_build(control, asked, taken).await?);
        }
        Ok(builds)
    }
}

/// The recipe of a folder.
pub(crate) fn file_in(folder: &str) -> String {
    if folder.is_empty() { FILE_NAME.to_owned() } else { format!("{folder}/{FILE_NAME}") }
}

fn place(path: &str) -> Option<String> {
    match path.strip_suffix(FILE_NAME)? {
        "" => Some(String::new()),
        folder => folder.strip_suffix('/').map(str::to_owned),
    }
}

/// A refusal in words, with all places where files are wrong.
pub(crate) fn words_of(problem: &Problem) -> String {
    let lines: Vec<String> = problem.problems.iter().map(ToString::to_string).collect();
    if lines.is_empty() { problem.detail.clone() } else { lines.join("\n") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn recipes_are_found_at_the_top_and_in_folders() {
        let paths = ["recipe.toml", "api/recipe.toml", "a/b/recipe.toml", "my-recipe.toml", "recipe.toml/x"];
        let found: Vec<String> = paths.iter().filter_map(|path| place(path)).collect();
        assert_eq!(found, ["", "api", "a/b"]);
    }
}
