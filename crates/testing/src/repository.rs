//! A Git repository with a working tree, as somebody else has it.

use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;

/// A repository.
pub struct Repository {
    dir: PathBuf,
}

impl Repository {
    /// An empty one, with the branch `main`, in this folder.
    pub fn new(dir: &Path) -> Repository {
        std::fs::create_dir_all(dir).expect("made");
        let repository = Repository { dir: dir.to_owned() };
        repository.git(&["init", "--quiet", "--initial-branch=main"]);
        repository
    }

    /// One that is in this folder already.
    pub fn at(dir: &Path) -> Repository {
        Repository { dir: dir.to_owned() }
    }

    /// Its folder.
    pub fn dir(&self) -> &Path {
        &self.dir
    }

    /// As it is followed on the same machine.
    pub fn url(&self) -> String {
        format!("file://{}", self.dir.display())
    }

    /// `git` there, as nobody's settings change it.
    pub fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new("git");
        command
            .current_dir(&self.dir)
            .env_clear()
            .env("PATH", "/usr/local/bin:/usr/bin:/bin")
            .env("HOME", &self.dir);
        command.env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_CONFIG_GLOBAL", "/dev/null");
        for who in ["AUTHOR", "COMMITTER"] {
            command
                .env(format!("GIT_{who}_NAME"), "Noor")
                .env(format!("GIT_{who}_EMAIL"), "noor@lockers.localhost");
        }
        command.args(words).env("GIT_TERMINAL_PROMPT", "0");
        command
    }

    /// Runs `git` there; gives what it printed.
    pub fn git(&self, words: &[&str]) -> String {
        let done = self.command(words).output().expect("git runs");
        assert!(done.status.success(), "git {words:?}: {}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8_lossy(&done.stdout).trim_end().to_owned()
    }

    /// Writes a file of the working tree.
    pub fn write(&self, path: &str, text: &str) {
        self.write_bytes(path, text.as_bytes());
    }

    /// Writes a file of the working tree.
    pub fn write_bytes(&self, path: &str, bytes: &[u8]) {
        let path = self.dir.join(path);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        std::fs::write(path, bytes).expect("written");
    }

    /// Writes a file that can be run.
    pub fn write_program(&self, path: &str, text: &str) {
        self.write(path, text);
        let path = self.dir.join(path);
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o755)).expect("set");
    }

    /// Commits all that was changed; gives the commit's id.
    pub fn commit(&self, message: &str) -> String {
        self.git(&["add", "--all"]);
        self.git(&["commit", "--quiet", "--allow-empty", "--message", message]);
        self.commit_id("HEAD")
    }

    /// The commit that a revision stands for.
    pub fn commit_id(&self, revision: &str) -> String {
        self.git(&["rev-parse", revision])
    }
}
