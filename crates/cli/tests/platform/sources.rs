//! Following Git, with real repositories over file, https and ssh.

use std::path::Path;
use std::process::{Child, Command, Stdio};

use base64::Engine as _;
use serde_json::{Value, json};
use testing::repository::Repository;
use testing::smart_http::SmartHttp;

use crate::common::{Platform, until};

/// A workload that needs no secret and comes up fast.
pub(crate) const APPLICATION: &str = r#"
application = "lockers"
[workload.locker-api]
image = "lockers/locker-api:1.4.0"
replicas = 2
ports = { http = 8080 }
reserve = { cpu = 0.005, memory = "8 MiB" }
stop = { drain = "5s", grace = "2s" }
checks = { ready = { path = "/ready", every = "200ms" } }
rollout = { settle = "200ms", deadline = "6s" }
[route.api]
host = "api.git.localhost"
to = [{ service = "locker-api" }]
"#;

pub(crate) struct Followed {
    pub platform: Platform,
    pub theirs: Repository,
    pub source: &'static str,
}

impl Followed {
    /// A platform with the demo's images, and an empty environment that may follow a repository.
    pub(crate) fn start() -> Followed {
        Followed::start_with(|_| Vec::new())
    }

    /// The same, where hosts may be reached too: those that `hosts` gives, told of the folder above the repository.
    pub(crate) fn start_with(hosts: impl FnOnce(&Path) -> Vec<String>) -> Followed {
        let dir = tempfile::tempdir().expect("a folder").keep();
        let theirs = dir.join("lockers");
        let mut words = vec!["--git-allow".to_owned(), theirs.display().to_string()];
        words.extend(hosts(&dir).into_iter().flat_map(|host| ["--git-allow".to_owned(), host]));
        let platform = Platform::start_with(&words.iter().map(String::as_str).collect::<Vec<_>>());
        platform.ok(&["environment", "add", "square"]);
        let theirs = Repository::new(&theirs);
        theirs.git(&["config", "receive.denyCurrentBranch", "updateInstead"]);
        Followed { platform, theirs, source: "square/lockers" }
    }

    pub(crate) fn push(&self, text: &str, message: &str) -> String {
        self.theirs.write("deploy/mainyard.toml", text);
        self.theirs.commit(message)
    }

    pub(crate) fn add(&self, words: &[&str]) -> String {
        let url = self.theirs.url();
        let mut all = vec!["source", "add", self.source, &url, "--folder", "deploy"];
        all.extend(words);
        if !words.contains(&"--look-every") {
            all.extend(["--look-every", "1s"]);
        }
        self.platform.ok(&all)
    }

    fn shown(&self) -> Value {
        let json = self.platform.ok(&["source", "show", self.source, "--json"]);
        serde_json::from_str(&json).expect("JSON")
    }

    pub(crate) fn until(&self, what: &str, is: impl Fn(&Value) -> bool) -> Value {
        until(what, || {
            let shown = self.shown();
            is(&shown).then_some(shown)
        })
    }

    pub(crate) fn stands_on(&self, commit: &str) -> Value {
        self.until("it is in step", |it| it["state"] == "in-step" && it["applied"]["id"] == commit)
    }

    pub(crate) fn image(&self) -> String {
        let release = self.platform.ok(&["show", "square/locker-api", "--json"]);
        let shown: Value = serde_json::from_str(&release).expect("JSON");
        let wanted = shown["workload"]["release"].clone();
        let releases = shown["releases"].as_array().expect("releases").clone();
        let found = releases.into_iter().find(|it| it["number"] == wanted).expect("the release");
        found["spec"]["image"].as_str().expect("an image").to_owned()
    }
}

impl Drop for Followed {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(self.theirs.dir().parent().expect("a folder"));
    }
}

#[test]
fn a_push_rolls_out_a_bad_one_goes_back_and_holds_itself_only_and_a_rollback_stays() {
    let yard = Followed::start();
    let first = yard.push(APPLICATION, "as it begins");
    yard.add(&["--git-newer", "take"]);
    yard.stands_on(&first);
    until("it answers", || (yard.platform.get("api.git.localhost", "/who").status == 200).then_some(()));

    let second = yard.push(&APPLICATION.replace("1.4.0", "1.5.0"), "the API at 1.5.0");
    yard.stands_on(&second);
    assert_eq!(yard.image(), "lockers/locker-api:1.5.0");
    let releases = yard.platform.ok(&["releases", "square/locker-api"]);
    assert!(releases.contains(&format!("source square/lockers from {}", &second[..9])), "{releases}");

    let third = yard.push(&APPLICATION.replace("1.4.0", "1.6.0"), "the API at 1.6.0");
    let set_back = yard.until("1.6.0 went back", |it| it["set_back"]["commit"] == third.as_str());
    let because = set_back["set_back"]["because"].as_str().expect("a reason");
    assert!(because.starts_with("the rollout of locker-api to 3 went back: "), "{because}");
    until("1.5.0 serves again", || (yard.image() == "lockers/locker-api:1.5.0").then_some(()));
    assert_eq!(yard.until("it says so", |it| it["state"] == "behind")["reason"]["code"], "set-back");

    // The next commit is tried.
    let fourth =
        yard.push(&APPLICATION.replace("1.4.0", "1.5.0").replace("replicas = 2", "replicas = 3"), "three");
    yard.stands_on(&fourth);
    yard.platform.workload("square/locker-api", |it| it["wanted"] == 3 && it["state"] == "steady");

    yard.platform.ok(&["rollback", "square/locker-api", "--to", "square/locker-api@1"]);
    let left = yard.until("it leaves the release alone", |it| it["yields"].is_array());
    assert_eq!(left["yields"][0]["what"], json!({"release": "locker-api"}));
    let fifth =
        yard.push(&APPLICATION.replace("1.4.0", "1.5.0").replace("replicas = 2", "replicas = 1"), "one");
    yard.stands_on(&fifth);
    assert_eq!(yard.image(), "lockers/locker-api:1.4.0", "what a person took back stays");
    yard.platform.workload("square/locker-api", |it| it["wanted"] == 1);
    // The commit that would make Git agree; merged, there is nothing to be left alone any more.
    let shown = yard.platform.ok(&["source", "write-back", yard.source]);
    assert!(
        shown.contains("-image = \"lockers/locker-api:1.5.0\"\n+image = \"lockers/locker-api:1.4.0\""),
        "{shown}"
    );
    assert!(shown.contains("the release of locker-api: rolled back by "), "{shown}");
    yard.platform.ok(&["source", "write-back", yard.source, "--push", "--branch", "as-it-runs"]);
    assert!(yard.theirs.git(&["show", "as-it-runs:deploy/mainyard.toml"]).contains("locker-api:1.4.0"));
    yard.theirs.git(&["branch", "before"]);
    yard.theirs.git(&["merge", "--quiet", "--ff-only", "as-it-runs"]);
    yard.until("nothing is left alone", |it| it["state"] == "in-step" && it["yields"].is_null());
    yard.theirs.git(&["reset", "--quiet", "--hard", "before"]);
    yard.until("it follows again", |it| it["applied"]["id"] == fifth.as_str());
    until("Git has it again", || (yard.image() == "lockers/locker-api:1.5.0").then_some(()));

    yard.platform.ok(&["rollback", "square/locker-api", "--to", "square/locker-api@1"]);
    let forecast = yard.platform.ok(&["resume", "square/locker-api", "--forecast"]);
    assert!(forecast.contains("image 1.4.0 → 1.5.0, makes release 7"), "{forecast}");
    yard.platform.ok(&["resume", "square/locker-api"]);
    until("Git has it again", || (yard.image() == "lockers/locker-api:1.5.0").then_some(()));
}

#[test]
fn a_person_is_asked_drift_is_said_and_restored_and_a_forced_push_is_followed() {
    let yard = Followed::start();
    let first = yard.push(APPLICATION, "as it begins");
    let added = yard.add(&[]);
    assert!(added.contains("behind") && added.contains("Take it with: mainyard source catch-up"), "{added}");
    let forecast = yard.platform.ok(&["source", "catch-up", yard.source, "--forecast"]);
    assert!(forecast.contains("+ workload locker-api  2 × lockers/locker-api:1.4.0"), "{forecast}");
    assert_eq!(yard.shown()["state"], "behind", "a forecast changes nothing");
    let told = yard.platform.ok(&["source", "catch-up", yard.source]);
    assert!(told.trim_end().ends_with("in-step"), "{told}");
    assert_eq!(yard.shown()["applied"]["id"], first.as_str());

    yard.platform.ok(&["scale", "square/locker-api", "4"]);
    let drifted = yard.until("drift is said", |it| it["state"] == "drifted");
    let sentence = drifted["reason"]["sentence"].as_str().expect("a sentence");
    assert!(
        sentence.starts_with("changed here: workload locker-api: replicas 4 → 2 (scaled by "),
        "{sentence}"
    );
    let compared = yard.platform.ok(&["source", "compare", yard.source]);
    assert!(compared.contains("workload locker-api  replicas  2       4"), "{compared}");
    yard.platform.ok(&["source", "change", yard.source, "--live-changed", "restore"]);
    yard.stands_on(&first);
    yard.platform.workload("square/locker-api", |it| it["wanted"] == 2);

    let second = yard.push(&APPLICATION.replace("1.4.0", "1.5.0"), "not for long");
    yard.until("it waits", |it| it["seen"]["id"] == second.as_str() && it["state"] == "behind");
    yard.theirs.git(&["reset", "--quiet", "--hard", &first]);
    let other = yard.push(&APPLICATION.replace("replicas = 2", "replicas = 3"), "instead of it");
    yard.until("the forced push is seen", |it| it["seen"]["id"] == other.as_str());
    yard.platform.ok(&["source", "catch-up", yard.source]);
    yard.stands_on(&other);

    // What is not valid is refused with its place, and nothing of it is taken.
    let wrong = yard.push(&APPLICATION.replace("replicas = 2", "replicaz = 5"), "a slip");
    let refused = yard.until("it is refused", |it| it["state"] == "refused");
    let problem = &refused["problems"][0];
    assert_eq!(
        (&problem["place"]["file"], &problem["place"]["line"]),
        (&json!("deploy/mainyard.toml"), &json!(5))
    );
    assert_eq!(refused["seen"]["id"], wrong.as_str());
    let told = yard.platform.run(&["source", "catch-up", yard.source]);
    assert!(told.code == 3 && told.err.contains("did you mean `replicas`"), "{told:?}");

    // The repository goes and comes back: what runs stays.
    let away = yard.theirs.dir().with_file_name("away");
    std::fs::rename(yard.theirs.dir(), &away).expect("moved");
    yard.until("it is missed", |it| it["state"] == "unreachable");
    yard.platform.workload("square/locker-api", |it| it["state"] == "steady");
    std::fs::rename(&away, yard.theirs.dir()).expect("moved back");
    let fixed = yard.push(&APPLICATION.replace("replicas = 2", "replicas = 1"), "fixed");
    yard.until("it is seen again", |it| it["seen"]["id"] == fixed.as_str() && it["state"] == "behind");

    // Two sources that want the same: the second one is refused, with who holds it.
    let url = yard.theirs.url();
    yard.theirs.git(&["branch", "twin"]);
    let twin =
        yard.platform.ok(&["source", "add", "square/twin", &url, "--at", "twin", "--folder", "deploy"]);
    assert!(twin.contains("is followed by the source square/lockers already"), "{twin}");
    let outside = yard.platform.run(&["source", "add", "square/etc", "file:///etc"]);
    assert!(outside.code == 3 && outside.err.contains("does not allow"), "{outside:?}");
}

#[test]
fn a_signed_push_is_followed_at_once_and_an_unsigned_one_never() {
    let yard = Followed::start();
    yard.platform.ok_with_input(&["secret", "add", "square/hook"], "a long word that two share");
    let first = yard.push(APPLICATION, "as it begins");
    yard.add(&["--git-newer", "take", "--look-every", "24h", "--pushes", "hook"]);
    yard.stands_on(&first);
    let url = format!("http://{}/api/v1/pushes/{}", yard.platform.api, yard.source);
    let tell = |body: &str, key: &str, delivery: &str| -> u16 {
        let key = ring::hmac::Key::new(ring::hmac::HMAC_SHA256, key.as_bytes());
        let signature = ring::hmac::sign(&key, body.as_bytes());
        let hex: String = signature.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
        let words = [
            "-sS",
            "-o",
            "/dev/null",
            "-w",
            "%{http_code}",
            "-X",
            "POST",
            "--data-binary",
            body,
            "-H",
            &format!("X-Hub-Signature-256: sha256={hex}"),
            "-H",
            &format!("X-Delivery: {delivery}"),
            &url,
        ]
        .map(str::to_owned);
        let told = Command::new("curl").args(words).output().expect("curl runs");
        String::from_utf8_lossy(&told.stdout).parse().expect("a status")
    };
    // Forges send much of a push.
    let body = &format!(r#"{{"ref":"refs/heads/main","commits":"{}"}}"#, "much ".repeat(20_000));
    let second = yard.push(&APPLICATION.replace("replicas = 2", "replicas = 3"), "three");
    assert_eq!(tell(body, "another word", "d1"), 401);
    assert_eq!(yard.shown()["seen"]["id"], first.as_str());
    // By itself it would be looked at in a day.
    assert_eq!(tell(body, "a long word that two share", "d1"), 202);
    yard.until("it is declared", |it| it["seen"]["id"] == second.as_str());
    yard.stands_on(&second);
    // The same delivery again is known, and nothing is looked at.
    let third = yard.push(APPLICATION, "two again");
    assert_eq!(
        tell(body, "a long word that two share", "d1"),
        202,
        "it is taken, and nothing follows from it"
    );
    assert_eq!(tell(body, "a long word that two share", "d2"), 202);
    yard.stands_on(&third);
}

/// A server that is ended with the test.
struct Server(Child);

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn free_port() -> u16 {
    std::net::TcpListener::bind("127.0.0.1:0").and_then(|it| it.local_addr()).expect("a free port").port()
}

fn keygen(file: &Path) -> String {
    let words = ["-q", "-t", "ed25519", "-N", "", "-f", &file.display().to_string()].map(str::to_owned);
    let made = Command::new("ssh-keygen").args(words).output().expect("ssh-keygen; `make test` installs it");
    assert!(made.status.success(), "{made:?}");
    std::fs::read_to_string(file.with_extension("pub")).expect("the public key")
}

#[test]
fn over_ssh_a_key_lets_in_and_only_a_known_host_is_trusted() {
    // The server takes keys for accounts of the machine: it has to be root to become one.
    let port = free_port();
    let yard = Followed::start_with(|_| vec![format!("127.0.0.1:{port}")]);
    let dir = tempfile::tempdir().expect("a folder");
    let (host, client) = (dir.path().join("host"), dir.path().join("client"));
    let (host_public, client_public) = (keygen(&host), keygen(&client));
    std::fs::write(dir.path().join("authorized"), client_public).expect("written");
    let config = format!(
        "Port {port}\nListenAddress 127.0.0.1\nHostKey {}\nAuthorizedKeysFile {}\nStrictModes no\nUsePAM no\n\
         PasswordAuthentication no\nPermitRootLogin prohibit-password\nPidFile none\n",
        host.display(),
        dir.path().join("authorized").display()
    );
    let file = dir.path().join("sshd_config");
    std::fs::write(&file, config).expect("written");
    std::fs::create_dir_all("/run/sshd").expect("made");
    let mut server = Command::new("/usr/sbin/sshd");
    server.args(["-D", "-e", "-f"]).arg(&file).stdin(Stdio::null()).stderr(Stdio::null());
    let _server = Server(server.spawn().expect("sshd; `make test` installs it"));
    until("sshd listens", || std::net::TcpStream::connect(("127.0.0.1", port)).ok().map(drop));

    let first = yard.push(APPLICATION, "as it begins");
    let private = std::fs::read_to_string(&client).expect("the key");
    yard.platform.ok_with_input(&["secret", "add", "square/deploy-key"], &private);
    let hosts = dir.path().join("known_hosts");
    let other = keygen(&dir.path().join("other"));
    std::fs::write(&hosts, format!("[127.0.0.1]:{port} {other}")).expect("written");
    let url = format!("ssh://root@127.0.0.1:{port}{}", yard.theirs.dir().display());
    let hosts_file = hosts.display().to_string();
    let add = |platform: &Platform| {
        platform.run(&[
            "source",
            "add",
            "square/lockers",
            &url,
            "--folder",
            "deploy",
            "--key",
            "deploy-key",
            "--known-hosts",
            &hosts_file,
            "--git-newer",
            "take",
            "--look-every",
            "1s",
        ])
    };
    let refused = add(&yard.platform);
    assert!(refused.code == 1 && refused.err.contains("Host key verification failed"), "{refused:?}");
    yard.platform.ok(&["source", "remove", "square/lockers"]);
    std::fs::write(&hosts, format!("[127.0.0.1]:{port} {host_public}")).expect("written");
    let added = add(&yard.platform);
    assert_eq!(added.code, 0, "{added:?}");
    yard.stands_on(&first);
}

#[test]
fn over_https_a_token_lets_in_and_the_authority_that_was_given_is_trusted() {
    let token = base64::engine::general_purpose::STANDARD.encode("deploy:a-token-of-ours");
    let mut server = None;
    let yard = Followed::start_with(|root| {
        let started = server.insert(SmartHttp::start(root, &token));
        vec![format!("localhost:{}", started.address.port())]
    });
    let server = server.expect("it was started");
    let first = yard.push(APPLICATION, "as it begins");
    yard.platform.ok_with_input(&["secret", "add", "square/token"], "a-token-of-ours");
    let authority = yard.platform.dir.path().join("git-authority.pem");
    std::fs::write(&authority, &server.authority).expect("written");
    let url = format!("https://localhost:{}/lockers/.git", server.address.port());
    let add = |words: &[&str]| {
        let mut all =
            vec!["source", "add", "square/lockers", &url, "--folder", "deploy", "--look-every", "1s"];
        all.extend(words);
        yard.platform.run(&all)
    };
    let untrusted = add(&[]);
    assert!(untrusted.code == 1 && untrusted.err.contains("certificate"), "{untrusted:?}");
    yard.platform.ok(&["source", "remove", "square/lockers"]);
    yard.platform.ok(&["certificate", "add", "square/git", "--chain", &authority.display().to_string()]);
    let closed = add(&["--authority", "git"]);
    assert!(closed.code == 1, "{closed:?}");
    yard.platform.ok(&["source", "remove", "square/lockers"]);
    let trusted = ["--authority", "git", "--token", "token", "--user", "deploy", "--git-newer", "take"];
    let added = add(&trusted);
    assert_eq!(added.code, 0, "{added:?}");
    yard.stands_on(&first);
    let second = yard.push(&APPLICATION.replace("replicas = 2", "replicas = 1"), "one");
    yard.stands_on(&second);
    let kept = yard.platform.data().join("repositories");
    let words = ["-rl", "a-token-of-ours", &kept.display().to_string()].map(str::to_owned);
    let found = Command::new("grep").args(words).output().expect("grep runs");
    assert_eq!(String::from_utf8_lossy(&found.stdout), "", "the token is on disk nowhere");
}

#[test]
fn what_was_tested_is_promoted_an_application_is_exported_and_removed_as_one() {
    let yard = Followed::start();
    let platform = &yard.platform;
    platform.workload("staging/locker-api", |it| it["state"] == "steady");
    platform.workload("production/locker-api", |it| it["state"] == "steady");
    platform.ok(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"]);
    let forecast = platform.ok(&["promote", "staging/locker-api", "--to", "production", "--forecast"]);
    assert!(
        forecast.contains(
            "production/locker-api: release 2, as it was tested as staging/locker-api@2: image 1.4.0 → 1.5.0"
        ),
        "{forecast}"
    );
    platform.ok(&["promote", "staging/locker-api", "--to", "production"]);
    let again = platform.ok(&["promote", "staging/locker-api", "--to", "production"]);
    assert!(again.contains("runs what was tested as staging/locker-api@2 already"), "{again}");

    let file = platform.dir.path().join("kiosk.toml");
    std::fs::write(&file, APPLICATION.replace("\"lockers\"", "\"kiosk\"")).expect("written");
    platform.ok(&["declare", &file.display().to_string(), "--in", "square"]);
    let out = platform.dir.path().join("out");
    let folder = out.display().to_string();
    platform.ok(&["export", "square", "-o", &folder]);
    let kept = platform.run(&["export", "square", "-o", &folder]);
    assert!(kept.code == 1 && kept.err.contains("nothing was written over"), "{kept:?}");
    let declared = platform.ok(&["declare", &folder, "--in", "square"]);
    assert!(declared.contains("everything is as declared"), "{declared}");
    let shown = platform.ok(&["application", "show", "square/kiosk"]);
    assert!(shown.contains("workload  locker-api") && shown.contains("api.git.localhost"), "{shown}");
    platform.ok(&["application", "remove", "square/kiosk", "--yes"]);
    let gone = platform.run(&["application", "show", "square/kiosk"]);
    assert!(gone.code == 3 && gone.err.contains("there is no application square/kiosk"), "{gone:?}");
}

#[test]
fn control_is_killed_while_it_catches_up_and_the_end_is_the_same() {
    let yard = Followed::start();
    // A gateway that control does not know yet may keep a drain waiting for the whole of its lease, which is 10 s.
    let application = APPLICATION.replace("deadline = \"6s\"", "deadline = \"1m\"");
    let first = yard.push(&application, "as it begins");
    yard.add(&["--git-newer", "take"]);
    yard.stands_on(&first);
    for (round, image) in ["1.5.0", "1.4.0", "1.5.0"].into_iter().enumerate() {
        let text = application.replace("1.4.0", image).replace("api.git", &format!("api{round}.git"));
        let commit = yard.push(&text, "another");
        until("it catches up", || {
            let said = yard.platform.run(&["source", "show", yard.source, "--json"]);
            let shown: Value = serde_json::from_str(&said.out).ok()?;
            (shown["state"] == "catching-up" && shown["catching_up"]["commit"]["id"] == commit.as_str())
                .then_some(())
        });
        for pid in yard.platform.part("control") {
            // SAFETY: no memory is involved; the process is of this test's own platform.
            unsafe { libc::kill(pid, libc::SIGKILL) };
        }
        until("it got there all the same", || {
            let said = yard.platform.run(&["source", "show", yard.source, "--json"]);
            let shown: Value = serde_json::from_str(&said.out).ok()?;
            (shown["state"] == "in-step" && shown["applied"]["id"] == commit.as_str()).then_some(())
        });
        assert_eq!(yard.image(), format!("lockers/locker-api:{image}"));
        let host = format!("api{round}.git.localhost");
        until("the new host answers", || (yard.platform.get(&host, "/who").status == 200).then_some(()));
    }
    let releases = yard.platform.ok(&["releases", "square/locker-api"]);
    assert_eq!(releases.matches("declared by source square/lockers").count(), 4, "{releases}");
    // A person goes to an older commit, and stays there.
    yard.platform.ok(&["source", "catch-up", yard.source, "--to", &first[..9], "--no-wait"]);
    let back =
        yard.until("it went back", |it| it["applied"]["id"] == first.as_str() && it["state"] == "behind");
    assert!(back["reason"]["sentence"].as_str().is_some_and(|it| it.contains(" went to ")), "{back}");
    assert_eq!(yard.image(), "lockers/locker-api:1.4.0");
}
