//! The attacker is the owner of a repository that a source follows: everything that `git` lets a repository say about
//! what to run, where to read and whom to call. Nothing of it happens.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use mainyard_git::{Access, Allowed, Fence, Found, Look, Written, look, push, read, write_branch};
use testing::repository::Repository;

struct Attack {
    dir: tempfile::TempDir,
    theirs: Repository,
    fence: Fence,
}

impl Attack {
    fn new() -> Attack {
        let dir = tempfile::tempdir().expect("a folder");
        let theirs = Repository::new(&dir.path().join("theirs"));
        theirs.write("deploy/mainyard.toml", "a = 1\n");
        theirs.commit("the first");
        let ours = dir.path().join("ours");
        // SAFETY: no memory is involved.
        let root = unsafe { libc::geteuid() } == 0;
        let fence = if root { Fence::with_account(&ours, 1_977_000_001) } else { Fence::new(&ours) };
        let mut fence = fence.expect("a fence");
        fence.allowed.allowed = vec![Allowed::Folder(dir.path().join("theirs"))];
        fs::write(dir.path().join("secret"), "not for a repository\n").expect("written");
        Attack { dir, theirs, fence }
    }

    /// Wherever the attacker's program could leave a trace that it ran.
    fn places(&self) -> [PathBuf; 3] {
        let temporary =
            PathBuf::from(format!("/tmp/ran-{}", self.dir.path().file_name().expect("named").display()));
        [self.theirs.dir().join("ran"), self.dir.path().join("ours/lockers.git/ran"), temporary]
    }

    /// A program of the attacker's that leaves a trace wherever it may.
    fn program(&self, path: &str) -> PathBuf {
        let touch = self.places().map(|place| format!("touch '{}' 2>/dev/null", place.display())).join("\n");
        self.theirs.write_program(path, &format!("#!/bin/sh\n{touch}\nexit 0\n"));
        self.theirs.dir().join(path)
    }

    fn config(&self, key: &str, value: &str) {
        self.theirs.git(&["config", key, value]);
    }

    /// Follows it, reads a folder of it, writes a branch and pushes that. What of it fails does not matter.
    async fn provoke(&self) {
        let (url, access) = (self.theirs.url(), Access::default());
        let _ = look(&self.fence, &Look { name: "lockers", url: &url, at: "main" }, &access).await;
        let commit = fs::read_to_string(self.theirs.dir().join(".git/refs/heads/main")).unwrap_or_default();
        let commit = commit.trim();
        let _ = read(&self.fence, "lockers", commit, "deploy").await;
        let files = [Found { path: "deploy/mainyard.toml".into(), text: "a = 2\n".into() }];
        let written =
            Written { name: "lockers", base: commit, files: &files, message: "back", by: ("Noor", "noor@x") };
        if let Ok(id) = write_branch(&self.fence, &written).await {
            let _ = push(&self.fence, "lockers", &url, &id, "mainyard/back", &access).await;
        }
    }

    fn traces(&self) -> Vec<PathBuf> {
        self.places().into_iter().filter(|place| place.exists()).collect()
    }
}

/// Keys whose value names a program that some call of `git` would run.
const PROGRAMS: [&str; 21] = [
    "core.alternateRefsCommand",
    "core.fsmonitor",
    "core.sshCommand",
    "core.gitProxy",
    "core.pager",
    "pager.log",
    "core.editor",
    "core.askPass",
    "credential.helper",
    "diff.external",
    "diff.evil.textconv",
    "diff.evil.command",
    "filter.evil.smudge",
    "filter.evil.clean",
    "filter.evil.process",
    "gpg.program",
    "gpg.ssh.program",
    "uploadpack.packObjectsHook",
    "remote.origin.uploadpack",
    "trailer.evil.cmd",
    "merge.evil.driver",
];

#[tokio::test]
async fn no_key_of_its_configuration_names_what_is_run() {
    for key in PROGRAMS {
        let attack = Attack::new();
        attack.theirs.write(".gitattributes", "* filter=evil diff=evil merge=evil\n");
        attack.theirs.commit("attributes");
        let program = attack.program("evil.sh");
        attack.config(key, &program.display().to_string());
        attack.provoke().await;
        assert_eq!(attack.traces(), Vec::<PathBuf>::new(), "{key}");
    }
}

#[tokio::test]
async fn no_hook_is_run_wherever_it_lies() {
    let hooks = [
        "pre-receive",
        "update",
        "post-receive",
        "post-update",
        "reference-transaction",
        "proc-receive",
        "push-to-checkout",
        "post-checkout",
        "pre-push",
        "fsmonitor-watchman",
    ];
    for folder in [".git/hooks", "own-hooks"] {
        let attack = Attack::new();
        for hook in hooks {
            attack.program(&format!("{folder}/{hook}"));
        }
        if folder == "own-hooks" {
            attack.config("core.hooksPath", &attack.theirs.dir().join(folder).display().to_string());
        }
        attack.config("receive.procReceiveRefs", "refs");
        attack.config("receive.denyCurrentBranch", "updateInstead");
        attack.provoke().await;
        assert_eq!(attack.traces(), Vec::<PathBuf>::new(), "{folder}");
    }
}

#[tokio::test]
async fn no_configuration_key_of_git_runs_a_program() {
    type Arm = fn(&Attack, &Path);
    let ways: [(&str, Arm); 5] = [
        ("an alias for the other side", |attack, program| {
            attack.config("alias.upload-pack", &format!("!{}", program.display()));
            attack.config("alias.receive-pack", &format!("!{}", program.display()));
        }),
        ("an included file", |attack, program| {
            attack.theirs.write("more", &format!("[core]\n\talternateRefsCommand = {}\n", program.display()));
            attack.config("include.path", &attack.theirs.dir().join("more").display().to_string());
        }),
        ("a URL put in the place of another", |attack, program| {
            attack.config(&format!("url.ext::{} %S.insteadOf", program.display()), "file://");
            attack.config("protocol.ext.allow", "always");
        }),
        ("configuration of a worktree", |attack, program| {
            attack.config("extensions.worktreeConfig", "true");
            attack.theirs.write(
                ".git/config.worktree",
                &format!("[core]\n\talternateRefsCommand = {}\n", program.display()),
            );
        }),
        ("an alternate that is asked by a program", |attack, program| {
            attack.theirs.write(".git/objects/info/alternates", "/nowhere/objects\n");
            attack.config("core.alternateRefsCommand", &program.display().to_string());
            attack.config("core.alternateRefsPrefixes", "refs/");
        }),
    ];
    for (name, arm) in ways {
        let attack = Attack::new();
        let program = attack.program("evil.sh");
        arm(&attack, &program);
        attack.provoke().await;
        assert_eq!(attack.traces(), Vec::<PathBuf>::new(), "{name}");
    }
}

/// The view of `git` from inside: only its own account, this repository and the system's programs.
#[tokio::test]
async fn nothing_of_the_machine_is_read_through_a_repository() {
    type Arm = fn(&Attack);
    let ways: [(&str, Arm); 4] = [
        ("objects of another repository", |attack| {
            let other = Repository::new(&attack.dir.path().join("other"));
            other.write("private.toml", "secret = 1\n");
            let commit = other.commit("private");
            let objects = attack.dir.path().join("other/.git/objects");
            attack.theirs.write(".git/objects/info/alternates", &format!("{}\n", objects.display()));
            attack.theirs.write(".git/refs/heads/main", &format!("{commit}\n"));
        }),
        ("a branch that is a link to a file elsewhere", |attack| {
            let branch = attack.theirs.dir().join(".git/refs/heads/main");
            fs::remove_file(&branch).expect("removed");
            symlink(attack.dir.path().join("secret"), branch).expect("linked");
        }),
        ("a folder of Git's that is elsewhere", |attack| {
            let other = Repository::new(&attack.dir.path().join("other"));
            other.write("private.toml", "secret = 1\n");
            other.commit("private");
            fs::rename(attack.theirs.dir().join(".git"), attack.dir.path().join("was")).expect("moved");
            attack.theirs.write(".git", &format!("gitdir: {}\n", other.dir().join(".git").display()));
        }),
        ("a folder of Git's that is a link", |attack| {
            let other = Repository::new(&attack.dir.path().join("other"));
            other.write("private.toml", "secret = 1\n");
            other.commit("private");
            fs::rename(attack.theirs.dir().join(".git"), attack.dir.path().join("was")).expect("moved");
            symlink(other.dir().join(".git"), attack.theirs.dir().join(".git")).expect("linked");
        }),
    ];
    // SAFETY: no memory is involved.
    if unsafe { libc::geteuid() } != 0 {
        eprintln!("not root: git has what this account has, and this is not defended");
        return;
    }
    for (name, arm) in ways {
        let attack = Attack::new();
        arm(&attack);
        let (url, access) = (attack.theirs.url(), Access::default());
        let followed = look(&attack.fence, &Look { name: "lockers", url: &url, at: "main" }, &access).await;
        let subjects: Vec<String> = followed.into_iter().flatten().map(|commit| commit.subject).collect();
        assert!(!subjects.iter().any(|subject| subject == "private"), "{name}: {subjects:?}");
    }
}
