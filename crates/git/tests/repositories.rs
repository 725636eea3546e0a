//! Real repositories, read through the fence.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use mainyard_git::{
    Access, Allowed, Error, Fault, Fence, Found, Look, Written, look, push, read, write_branch,
};
use testing::repository::Repository;

struct Place {
    _dir: tempfile::TempDir,
    fence: Fence,
    theirs: Repository,
}

/// As root, with an account of its own, as the platform has it.
fn fence(dir: &Path) -> Fence {
    // SAFETY: no memory is involved.
    let root = unsafe { libc::geteuid() } == 0;
    let fence = if root { Fence::with_account(dir, 1_977_000_001) } else { Fence::new(dir) };
    fence.expect("a fence")
}

impl Place {
    fn new() -> Place {
        let dir = tempfile::tempdir().expect("a folder");
        let theirs = Repository::new(&dir.path().join("theirs"));
        let mut fence = fence(&dir.path().join("ours"));
        fence.allowed.allowed = vec![Allowed::Folder(dir.path().join("theirs"))];
        Place { _dir: dir, fence, theirs }
    }

    async fn look_at(&self, at: &str) -> Result<Vec<String>, Error> {
        let url = self.theirs.url();
        let commits = look(&self.fence, &Look { name: "lockers", url: &url, at }, &Access::default()).await?;
        Ok(commits.into_iter().map(|commit| commit.subject).collect())
    }

    async fn newest(&self) -> String {
        self.look_at("main").await.expect("read");
        self.theirs.commit_id("main")
    }

    async fn faults(&self, folder: &str) -> Vec<String> {
        let commit = self.newest().await;
        let faults = read(&self.fence, "lockers", &commit, folder).await.expect("read").expect_err("faults");
        faults.into_iter().map(|Fault { path, message }| format!("{path} {message}")).collect()
    }
}

#[tokio::test]
async fn branches_tags_and_commits_are_followed_and_a_forced_push_too() {
    let place = Place::new();
    place.theirs.write("deploy/mainyard.toml", "a = 1\n");
    let first = place.theirs.commit("the first");
    place.theirs.git(&["tag", "v1"]);
    place.theirs.write("deploy/mainyard.toml", "a = 2\n");
    place.theirs.write("deploy/notes.md", "not read\n");
    let second = place.theirs.commit("the second");
    assert_eq!(place.look_at("main").await.expect("read"), ["the second", "the first"]);
    assert_eq!(place.look_at("v1").await.expect("read"), ["the first"]);
    assert_eq!(place.look_at(&first).await.expect("read"), ["the first"]);
    let files = read(&place.fence, "lockers", &second, "deploy").await.expect("read").expect("valid");
    assert_eq!(files, [Found { path: "deploy/mainyard.toml".into(), text: "a = 2\n".into() }]);
    let one = read(&place.fence, "lockers", &second, "deploy/mainyard.toml").await.expect("read");
    assert_eq!(one.expect("valid"), files);
    place.theirs.git(&["reset", "--quiet", "--hard", &first]);
    place.theirs.write("deploy/mainyard.toml", "a = 3\n");
    place.theirs.commit("another second");
    assert_eq!(place.look_at("main").await.expect("read"), ["another second", "the first"]);
    let gone = place.look_at("mian").await.expect_err("no such branch").to_string();
    assert_eq!(gone, "git fetch: the repository has no branch and no tag \"mian\"");
}

#[tokio::test]
async fn what_is_no_text_and_what_leads_elsewhere_is_refused_with_its_place() {
    let place = Place::new();
    let theirs = &place.theirs;
    theirs.write("deploy/mainyard.toml", "binary \0 here");
    theirs.write_bytes("deploy/old.toml", b"name = \"Sch\xf6n\"\n");
    theirs.write_bytes("deploy/wide.toml", b"\xff\xfea\0p\0p\0");
    std::os::unix::fs::symlink("/etc/passwd", theirs.dir().join("deploy/secrets.toml")).expect("linked");
    std::os::unix::fs::symlink("/etc", theirs.dir().join("outside")).expect("linked");
    theirs.write("empty/readme.md", "nothing\n");
    theirs.commit("all that is wrong");
    assert_eq!(
        place.faults("deploy").await,
        ["deploy/secrets.toml is a link; links are not followed: put the file itself here"]
    );
    std::fs::remove_file(theirs.dir().join("deploy/secrets.toml")).expect("removed");
    theirs.commit("without the link");
    assert_eq!(
        place.faults("deploy").await,
        [
            "deploy/mainyard.toml is not a text: byte 7 is zero",
            "deploy/old.toml is not UTF-8: byte 11, in line 1, is of another text encoding",
            "deploy/wide.toml is UTF-16; expected UTF-8",
        ]
    );
    assert_eq!(
        place.faults("outside").await,
        ["outside is a link; links are not followed: name the folder itself"]
    );
    assert_eq!(place.faults("empty").await, ["empty empty holds no file that ends in .toml"]);
    assert_eq!(place.faults("deploi").await, ["deploi is no folder of the commit; there are: deploy, empty"]);
}

#[tokio::test]
async fn nothing_in_a_repository_is_run_and_no_other_folder_is_read() {
    let place = Place::new();
    let mark = place.theirs.dir().join("ran");
    let script = format!("#!/bin/sh\ntouch '{}'\n", mark.display());
    for hook in ["post-checkout", "reference-transaction", "post-merge", "pre-push"] {
        place.theirs.write_program(&format!(".git/hooks/{hook}"), &script);
    }
    place.theirs.write(".gitattributes", "*.toml filter=evil\n");
    place.theirs.write("deploy/mainyard.toml", "a = 1\n");
    place.theirs.git(&["config", "filter.evil.smudge", &format!("touch '{}'", mark.display())]);
    std::fs::remove_file(&mark).ok();
    place.theirs.commit("with a filter");
    std::fs::remove_file(&mark).ok();
    let commit = place.newest().await;
    read(&place.fence, "lockers", &commit, "deploy").await.expect("read").expect("valid");
    assert!(!mark.exists(), "something of the repository was run");
    for url in
        ["file:///etc", "file:///tmp/../etc", "ext::sh -c touch% /tmp/x", "/etc", "http://127.0.0.1:9/x"]
    {
        let refused = look(&place.fence, &Look { name: "x", url, at: "main" }, &Access::default()).await;
        assert!(refused.is_err(), "{url} was followed");
    }
    let linked = place.theirs.dir().join("way-out");
    std::os::unix::fs::symlink("/etc", &linked).expect("linked");
    let url = format!("file://{}", linked.display());
    let refused = look(&place.fence, &Look { name: "x", url: &url, at: "main" }, &Access::default()).await;
    assert!(matches!(refused, Err(Error::NotAllowed(_))), "a link out of the allowed folder");
}

#[tokio::test]
async fn locks_that_a_killed_call_left_behind_hinder_nobody() {
    let place = Place::new();
    place.theirs.write("mainyard.toml", "application = \"lockers\"\n");
    place.theirs.commit("the first");
    assert_eq!(place.look_at("main").await.expect("read"), ["the first"]);
    let kept = place.fence.repository("lockers");
    for lock in ["shallow.lock", "refs/followed.lock", "packed-refs.lock", "config.lock"] {
        place.theirs.write("mainyard.toml", &format!("application = \"lockers\"\n# {lock}\n"));
        place.theirs.commit(lock);
        std::fs::write(kept.join(lock), "").expect("written");
        assert_eq!(place.look_at("main").await.expect("read all the same")[0], lock);
    }
}

#[tokio::test]
async fn a_call_that_hangs_is_ended_with_all_that_it_began() {
    let mut place = Place::new();
    place.fence.time = Duration::from_millis(300);
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address").to_string();
    place.fence.allowed.allowed.push(address.parse().expect("a host"));
    let url = format!("https://{address}/x");
    let late = look(&place.fence, &Look { name: "x", url: &url, at: "main" }, &Access::default()).await;
    assert!(matches!(late, Err(Error::Late { .. })), "{late:?}");
    drop(listener);
    // What git began itself is ended with it, and is gone as soon as the kernel has come round to it.
    let begun = std::time::Instant::now();
    while processes_in(&place.fence.repository("x")) > 0 {
        assert!(begun.elapsed() < Duration::from_secs(60), "something is left");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

fn processes_in(dir: &Path) -> usize {
    let own = std::fs::read_dir("/proc").expect("there").flatten();
    own.filter(|entry| std::fs::read_link(entry.path().join("cwd")).is_ok_and(|cwd| cwd == dir)).count()
}

#[tokio::test]
async fn a_commit_is_written_and_pushed_as_a_branch() {
    let place = Place::new();
    place.theirs.write("deploy/mainyard.toml", "a = 1\n");
    place.theirs.write("deploy/other.toml", "b = 1\n");
    place.theirs.commit("the first");
    let base = place.newest().await;
    let files = [Found { path: "deploy/mainyard.toml".into(), text: "a = 2\n".into() }];
    let message = "Keep what runs\n\nAs mira said.\n";
    let by = ("mira", "mira@lockers.localhost");
    let written = Written { name: "lockers", base: &base, files: &files, message, by };
    let commit = write_branch(&place.fence, &written).await.expect("written");
    push(&place.fence, "lockers", &place.theirs.url(), &commit, "as-it-runs", &Access::default())
        .await
        .expect("pushed");
    let shown = place.theirs.git(&["show", "--format=%an <%ae>%n%s", "--stat", "as-it-runs"]);
    assert!(shown.starts_with("mira <mira@lockers.localhost>\nKeep what runs\n"), "{shown}");
    assert!(shown.contains("deploy/mainyard.toml | 2 +-") && shown.contains("1 file changed"), "{shown}");
}

#[tokio::test]
async fn a_repository_of_five_thousand_files_is_read() {
    let place = Place::new();
    for number in 0..5_000 {
        place.theirs.write(&format!("deploy/{number:04}.toml"), &format!("number = {number}\n"));
    }
    place.theirs.commit("many");
    let commit = place.newest().await;
    let files = read(&place.fence, "lockers", &commit, "deploy").await.expect("read").expect("valid");
    assert_eq!((files.len(), files[4_999].text.as_str()), (5_000, "number = 4999\n"));
}

#[tokio::test]
async fn a_repository_that_is_too_large_is_not_kept() {
    let mut place = Place::new();
    let mut state = 1u64;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state as u8
    };
    let noise: Vec<u8> = (0..3 << 20).map(|_| next()).collect();
    place.theirs.write_bytes("deploy/noise.bin", &noise);
    place.theirs.commit("large");
    place.fence.size = 1;
    let refused = place.look_at("main").await;
    assert!(refused.is_err());
    let kept: PathBuf = place.fence.repository("lockers");
    let du = Command::new("du").args(["-sk", &kept.display().to_string()]).output().expect("it runs");
    let kib: u64 =
        String::from_utf8_lossy(&du.stdout).split('\t').next().and_then(|it| it.parse().ok()).unwrap_or(0);
    assert!(kib < 2048, "{kib} KiB are kept");
}

#[tokio::test]
async fn a_commit_is_followed_by_the_beginning_of_its_hash() {
    let place = Place::new();
    place.theirs.write("deploy/mainyard.toml", "a = 1\n");
    let first = place.theirs.commit("the first");
    place.theirs.write("deploy/mainyard.toml", "a = 2\n");
    place.theirs.commit("the second");
    assert_eq!(place.look_at(&first[..8]).await.expect("read"), ["the first"]);
    assert_eq!(place.look_at(&first[..8]).await.expect("known by now"), ["the first"]);
    let none = place.look_at("0000000f").await.expect_err("no such commit").to_string();
    assert!(none.contains("not one alone begins with 0000000f"), "{none}");
}
