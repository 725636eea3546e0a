//! Code over ssh: a registered key clones and pushes, and does nothing else.

use std::fs;
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use testing::repository::Repository;

use crate::common::Platform;

struct Door {
    platform: Platform,
    address: SocketAddr,
    user: &'static str,
}

impl Door {
    fn new() -> Door {
        let free = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).and_then(|free| free.local_addr());
        let address = free.expect("a free port");
        let platform = Platform::start_with(&["--ssh", &address.to_string()]);
        let known = fs::read_to_string(platform.data().join("ssh/host_key.pub")).expect("the host key");
        let line = format!("[{}]:{} {known}", address.ip(), address.port());
        fs::write(platform.dir.path().join("known_hosts"), line).expect("written");
        Door { platform, address, user: "code" }
    }

    /// Makes a key; gives its file.
    fn key(&self, name: &str) -> PathBuf {
        let file = self.platform.dir.path().join(name);
        let made =
            Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&file).status();
        assert!(made.expect("ssh-keygen runs").success());
        file
    }

    /// `ssh` with a key, as nobody's settings change it.
    fn ssh(&self, key: &Path) -> String {
        let known = self.platform.dir.path().join("known_hosts");
        format!(
            "ssh -F /dev/null -i {} -o IdentitiesOnly=yes -o IdentityAgent=none -o BatchMode=yes \
             -o StrictHostKeyChecking=yes -o UserKnownHostsFile={} -o GlobalKnownHostsFile=/dev/null",
            key.display(),
            known.display()
        )
    }

    fn url(&self, name: &str) -> String {
        format!("ssh://{}@{}/staging/{name}", self.user, self.address)
    }

    fn git(&self, repository: &Repository, key: &Path, words: &[&str]) -> Output {
        let mut command = repository.command(words);
        command.env("GIT_SSH_COMMAND", self.ssh(key)).output().expect("git runs")
    }

    /// Asks the server for something that is no Git.
    fn ask(&self, key: &Path, words: &[&str]) -> Output {
        let ssh = self.ssh(key);
        let mut parts = ssh.split_ascii_whitespace();
        let mut command = Command::new(parts.next().expect("ssh"));
        command.args(parts).args(["-p", &self.address.port().to_string()]);
        command.arg(format!("{}@{}", self.user, self.address.ip())).args(words);
        command.output().expect("ssh runs")
    }
}

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&[&output.stdout[..], &output.stderr[..]].concat()).into_owned()
}

#[test]
fn a_registered_key_clones_and_pushes_and_does_nothing_else() {
    let door = Door::new();
    let (own, other) = (door.key("own"), door.key("other"));
    let public = own.with_extension("pub").display().to_string();
    let added = door.platform.ok(&["key", "add", "laptop", &public]);
    assert!(added.contains(&format!("ssh://code@{}", door.address)) && added.contains("SHA256:"), "{added}");
    let again = door.platform.run(&["key", "add", "desk", &public]);
    assert!(again.code == 3 && again.err.contains("is there already"), "{again:?}");
    let private = door.platform.run(&["key", "add", "desk", &own.display().to_string()]);
    assert!(private.err.contains("this is a private key"), "{private:?}");

    let code = Repository::new(&door.platform.dir.path().join("form"));
    code.write("notes.txt", "hello\n");
    let head = code.commit("Notes");
    let refused = door.git(&code, &other, &["push", &door.url("form"), "main"]);
    assert!(!refused.status.success() && said(&refused).contains("Permission denied"), "{}", said(&refused));
    let pushed = door.git(&code, &own, &["push", &door.url("form"), "main"]);
    assert!(pushed.status.success(), "{}\n{}", said(&pushed), door.platform.logs());
    assert!(said(&pushed).contains("there is nothing to roll out"), "{}", said(&pushed));
    let listed = door.git(&code, &own, &["ls-remote", &door.url("form.git")]);
    assert!(said(&listed).contains(&head), "{}", said(&listed));
    let clone = door.platform.dir.path().join("clone").display().to_string();
    let cloned = door.git(&code, &own, &["clone", "--quiet", &door.url("form"), &clone]);
    assert!(cloned.status.success(), "{}", said(&cloned));
    assert_eq!(Repository::at(Path::new(&clone)).commit_id("HEAD"), head);
    // A second push, and one of nothing.
    code.write("notes.txt", "hello again\n");
    code.commit("More notes");
    for _ in 0..2 {
        let pushed = door.git(&code, &own, &["push", &door.url("form"), "main"]);
        assert!(pushed.status.success(), "{}", said(&pushed));
    }
    let unknown = door.git(&code, &own, &["push", &door.url("form").replace("staging", "stagin"), "main"]);
    assert!(said(&unknown).contains("did you mean `staging`?"), "{}", said(&unknown));
    for words in
        [vec!["id"], vec![], vec!["git-upload-pack", "/etc"], vec!["git-upload-archive '/staging/form'"]]
    {
        let answer = door.ask(&own, &words);
        assert!(said(&answer).contains("only Git is served here"), "{words:?}: {}", said(&answer));
    }
    let forwarded = door.ask(&own, &["-W", &door.platform.api.to_string()]);
    assert!(!forwarded.status.success(), "{}", said(&forwarded));

    let listed = door.platform.ok(&["key", "list"]);
    assert!(listed.contains("laptop") && listed.contains("ssh-ed25519"), "{listed}");
    door.platform.ok(&["key", "remove", "laptop"]);
    let late = door.git(&code, &own, &["ls-remote", &door.url("form")]);
    assert!(!late.status.success(), "{}", said(&late));
}
