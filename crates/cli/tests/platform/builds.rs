//! Building images from code: on bases of this machine's own Debian packages, without a network.

use std::fs;
use std::path::{Path, PathBuf};

use serde_json::Value;

use testing::outside::{Outside, tell_the_peer};

use crate::common::{Platform, mainyard, request, until};
use crate::way_out::answer;

/// Counts the lines of a file that it takes; a cache remembers how often it did.
const RECIPE: &str = r#"
limits = { memory = "64 MiB", disk = "64 MiB", processes = 32, time = "8s" }

[image]
name = "lockers/survey-form"
user = "1000"
command = ["/app/start"]
ports = [8080]
health = "/healthz"

[part.build]
base = "bases/shell:1"
folder = "/code"
caches = { counts = "/cache/counts" }

[[part.build.steps]]
take = ["."]

[[part.build.steps]]
run = """
echo "compiling as $(id -u) in $(pwd)"
echo once >> /cache/counts/times
mkdir /out
sort questions.txt > /out/questions
echo "times: $(wc -l < /cache/counts/times)"
"""

[part.run]
base = "bases/shell:1"

[[part.run.steps]]
take = ["/out/questions"]
from = "build"
to = "/app/"

[[part.run.steps]]
take = ["start"]
to = "/app/start"
"#;
const START: &str =
    "#!/bin/sh\ntrap 'exit 0' TERM\ncat /app/questions\nwhile true; do sleep 1 & wait $!; done\n";

fn platform() -> Platform {
    let platform = Platform::start(false);
    platform.ok(&["environment", "add", "staging"]);
    platform.ok(&["image", "base", "bases/shell:1", "--packages", "dash,coreutils"]);
    platform
}

/// A folder with code.
fn code(platform: &Platform, files: &[(&str, &str)]) -> PathBuf {
    let dir = platform.dir.path().join("code");
    for (path, text) in files {
        write(&dir, path, text);
    }
    dir
}

fn write(dir: &Path, path: &str, text: &str) {
    let path = dir.join(path);
    fs::create_dir_all(path.parent().expect("a folder")).expect("made");
    fs::write(path, text).expect("written");
}

fn survey_form(platform: &Platform) -> PathBuf {
    let files = [("recipe.toml", RECIPE), ("questions.txt", "which locker\nhow large\n"), ("start", START)];
    let dir = code(platform, &files);
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    fs::set_permissions(dir.join("start"), mode).expect("its mode");
    dir
}

fn build(platform: &Platform, number: u64) -> Value {
    let text = platform.ok(&["build", "show", &number.to_string(), "--json"]);
    serde_json::from_str(&text).expect("JSON")
}

/// Kills a part; the supervisor starts another one.
fn kill(platform: &Platform, part: &str) {
    for pid in platform.part(part) {
        // SAFETY: no memory is involved; the process is of this test's own platform.
        unsafe { libc::kill(pid, libc::SIGKILL) };
    }
}

fn states(build: &Value) -> Vec<&str> {
    build["steps"]
        .as_array()
        .expect("steps")
        .iter()
        .map(|step| step["state"].as_str().expect("a state"))
        .collect()
}

#[test]
fn code_becomes_an_image_and_the_same_code_the_same_image() {
    let platform = platform();
    let dir = survey_form(&platform);
    let folder = dir.display().to_string();
    let said = platform.ok(&["build", &folder]);
    assert!(said.contains("   | compiling as 0 in /code") && said.contains("   | times: 1"), "{said}");
    let first = build(&platform, 1);
    assert_eq!((first["state"].as_str(), states(&first)), (Some("done"), vec!["done"; 4]), "{said}");
    // The same again: nothing runs, and the image is the same to the byte.
    let again = platform.ok(&["build", &folder]);
    assert!(again.contains("the same as in the build before"), "{again}");
    let second = build(&platform, 2);
    assert_eq!((&second["digest"], states(&second)[1]), (&first["digest"], "cached"));
    // From scratch the command runs, and finds an empty cache; the image is still the same.
    let repeated = platform.ok(&["build", &folder, "--from-scratch"]);
    assert!(repeated.contains("   | times: 1"), "{repeated}");
    let repeated = build(&platform, 3);
    assert_eq!((&repeated["digest"], states(&repeated)), (&first["digest"], vec!["done"; 4]));
    // A changed line: the command runs again, and finds what it left in its cache.
    write(&dir, "questions.txt", "which locker\nhow large\nfor how long\n");
    let changed = platform.ok(&["build", &folder]);
    assert!(changed.contains("  ~ questions.txt") && changed.contains("   | times: 2"), "{changed}");
    let third = build(&platform, 4);
    assert_ne!(third["digest"], first["digest"]);
    let details = platform.ok(&["image", "show", third["image"].as_str().expect("a name")]);
    assert!(details.contains("coreutils"), "{details}");
    // It runs as its recipe says.
    let image = third["image"].as_str().expect("a name");
    write(
        platform.dir.path(),
        "mainyard.toml",
        &format!("application = \"forms\"\n[workload.form]\nimage = \"{image}\"\n"),
    );
    let file = platform.dir.path().join("mainyard.toml").display().to_string();
    platform.ok(&["declare", &file, "--in", "staging"]);
    until("it tells its questions", || {
        let log = platform.ok(&["logs", "staging/form"]);
        log.contains("for how long").then_some(())
    });
}

#[test]
fn a_step_that_fails_says_why_and_nothing_is_named() {
    let platform = platform();
    let dir = survey_form(&platform);
    let folder = dir.display().to_string();
    let with = |command: &str| {
        let (head, _) = RECIPE.split_once("run = \"\"\"").expect("a command");
        let (_, tail) = RECIPE.split_once("\"\"\"\n\n[part.run]").expect("a part");
        write(&dir, "recipe.toml", &format!("{head}run = \"{command}\"\n\n[part.run]{tail}"));
        let said = platform.run(&["build", &folder]);
        assert_eq!(said.code, 1, "{command}: {said:?}");
        said.err
    };
    let cases = [
        ("echo about to fail; exit 7", "step 2 of 4: the command ended with status 7"),
        ("no-such-program", "status 127: a program was not found"),
        ("kill -9 $$", "the command was ended by signal 9"),
        ("head -c 200M /dev/zero > /out", "wrote more than the 64 MiB that a step may write"),
        ("x=a; while true; do x=$x$x; done", "needed more than the 64 MiB of memory that a step may use"),
        ("sleep 600", "the command took longer than 8s"),
    ];
    for (command, expected) in cases {
        let said = with(command);
        assert!(said.contains(expected), "{command}: {said}");
    }
    let failed = with("echo the last words; exit 3");
    assert!(failed.contains("   | the last words"), "{failed}");
    assert!(!platform.ok(&["image", "list"]).contains("survey-form"));
}

#[test]
fn a_step_cannot_leave_its_fence() {
    let platform = platform();
    let dir = survey_form(&platform);
    let folder = dir.display().to_string();
    // None may succeed: each that does ends the build.
    let tries = [
        ("a network", "[ $(wc -l < /proc/net/dev) -gt 3 ]"),
        ("files of the machine", "ls /var/lib/mainyard || ls /root/.cargo || ls /work"),
        ("a device", "mknod /disk b 7 0"),
        ("another root", "chroot /proc/1/root/.. ls /work"),
        ("processes of the machine", "[ $(ls -d /proc/[0-9]* | wc -l) -gt 20 ]"),
        ("memory of the machine", "head -c 1 /dev/mem || [ $(head -c 1 /proc/kcore | wc -c) = 1 ]"),
        ("settings of the kernel", "echo 1 > /proc/sys/kernel/sysrq"),
    ];
    let tries = tries.map(|(what, command)| format!("if {command}; then echo reached {what}; exit 9; fi"));
    let command =
        format!("{}; ln -s ../../../etc/passwd /out-link; ln -s /proc/1/root /out-root", tries.join("; "));
    let (head, _) = RECIPE.split_once("run = \"\"\"").expect("a command");
    let (_, tail) = RECIPE.split_once("\"\"\"\n\n[part.run]").expect("a part");
    let command = format!("{command}; mkdir /out; cp questions.txt /out/questions");
    write(&dir, "recipe.toml", &format!("{head}run = \"{command}\"\n\n[part.run]{tail}"));
    platform.ok(&["build", &folder]);
    // Another repository's cache is another one, whatever its name.
    write(&dir, "recipe.toml", &RECIPE.replace("lockers/survey-form", "couriers/survey-form"));
    let other = platform.ok(&["build", &folder]);
    assert!(other.contains("   | times: 1"), "{other}");
}

#[test]
fn the_value_of_a_secret_is_for_one_step_alone() {
    let platform = platform();
    platform.ok_with_input(&["secret", "add", "staging/forge-token"], "heron-42");
    let dir = survey_form(&platform);
    let folder = dir.display().to_string();
    let (head, _) = RECIPE.split_once("run = \"\"\"").expect("a command");
    let (_, tail) = RECIPE.split_once("\"\"\"\n\n[part.run]").expect("a part");
    let step = "secrets = { forge-token = \"/run/token\" }\nrun = \"mkdir /out; wc -c < /run/token > /out/questions; ls /out\"";
    let later = "[[part.build.steps]]\nrun = \"if [ -s /run/token ]; then exit 9; fi\"";
    write(&dir, "recipe.toml", &format!("{head}{step}\n{later}\n\n[part.run]{tail}"));
    let unsaid = platform.run(&["build", &folder]);
    assert!(unsaid.err.contains("build with --secrets-from ENVIRONMENT"), "{unsaid:?}");
    platform.ok(&["build", &folder, "--secrets-from", "staging"]);
    let blobs = platform.data().join("images/blobs/sha256");
    for blob in fs::read_dir(blobs).expect("blobs").flatten() {
        let bytes = fs::read(blob.path()).expect("a blob");
        assert!(!bytes.windows(8).any(|part| part == b"heron-42"), "{}", blob.path().display());
    }
    assert!(!platform.ok(&["build", "logs", "2"]).contains("heron-42"));
}

#[test]
fn a_step_reaches_what_its_recipe_lists_and_nothing_else() {
    let outside = Outside::new();
    let host = outside.host;
    outside.resolve(move |question| answer(question, host));
    outside.serve(8080, tell_the_peer);
    outside.serve(9000, tell_the_peer);
    let platform = Platform::start_with(&["--resolver", &format!("{host}:53")]);
    platform.ok(&["image", "base", "bases/python:3", "--packages", "python3,dash,coreutils"]);
    // An answer counts: that a connection was taken says nothing, because the gateway looks at it only then.
    let call = |host: &str, port: u16| {
        let program = format!(
            "import socket, sys; s = socket.create_connection((\\\"{host}\\\", {port}), 5); \
             s.sendall(b\\\"GET / HTTP/1.0\\\\r\\\\n\\\\r\\\\n\\\"); sys.exit(0 if s.recv(1) else 1)"
        );
        format!("python3 -c '{program}'")
    };
    let others =
        [call("mail.example", 9000), call("10.118.0.1", 8080), call("127.0.0.1", platform.api.port())];
    let others: Vec<String> =
        others.iter().map(|it| format!("if {it}; then echo reached; exit 9; fi")).collect();
    let command = format!("{}; {}", call("mail.example", 8080), others.join("; "));
    let recipe = |network: &str| {
        format!(
            "image = {{ name = \"lockers/reaching\" }}\n[part.run]\nbase = \"bases/python:3\"\n\
             steps = [{{ run = \"{command}\", network = [{network}] }}]\n"
        )
    };
    let dir = code(&platform, &[("recipe.toml", &recipe("\"mail.example:8080\""))]);
    platform.ok(&["build", &dir.display().to_string()]);
    // The same without the rule.
    write(&dir, "recipe.toml", &recipe(""));
    let refused = platform.run(&["build", &dir.display().to_string()]);
    assert!(refused.err.contains("the command ended with status 1"), "{refused:?}");
}

#[test]
fn from_nothing_to_an_open_address_and_a_changed_line() {
    let platform = platform();
    platform.ok(&["image", "base", "bases/python:3", "--packages", "python3,dash,coreutils"]);
    for kind in ["python", "static-site"] {
        let name = format!("like-{kind}");
        let run = |words: &[&str]| {
            let mut command = mainyard(&platform.data(), words);
            let done = command.current_dir(platform.dir.path()).output().expect("the program runs");
            let said = String::from_utf8_lossy(&[done.stdout, done.stderr].concat()).into_owned();
            assert!(done.status.success(), "{words:?}: {said}");
            said
        };
        run(&["new", &name, "--like", kind]);
        let looked = run(&["send", &name, "--in", "staging", "--forecast"]);
        assert!(looked.contains("would be sent, the first time"), "{looked}");
        let sent = run(&["send", &name, "--in", "staging"]);
        let address =
            sent.lines().find_map(|line| line.trim().strip_prefix("open http://")).expect("an address");
        let host = address.split([':', '/']).next().expect("a host");
        let answered = || platform.get(host, "/").text();
        assert!(answered().contains(&format!("Hello from {name}.")), "{sent}");
        let file =
            platform.dir.path().join(&name).join(if kind == "python" { "main.py" } else { "index.html" });
        let text = fs::read_to_string(&file).expect("its code");
        fs::write(&file, text.replace("Hello from", "Back from")).expect("changed");
        let again = run(&["send", &name, "--in", "staging"]);
        assert!(again.contains("1 change since the build before"), "{again}");
        assert!(answered().contains(&format!("Back from {name}.")), "{again}");
    }
}

#[test]
fn watched_code_is_sent_again_when_it_changes_and_the_newest_wins() {
    let platform = platform();
    platform.ok(&["image", "base", "bases/python:3", "--packages", "python3,dash,coreutils"]);
    let new = |words: &[&str]| mainyard(&platform.data(), words).current_dir(platform.dir.path()).output();
    assert!(new(&["new", "pages", "--like", "static-site"]).expect("it runs").status.success());
    let dir = platform.dir.path().join("pages");
    let recipe = fs::read_to_string(dir.join("recipe.toml")).expect("a recipe");
    // A page that says slow takes long to build.
    let step = "[[part.run.steps]]\nrun = \"while read line; do case $line in *slow*) sleep 600 ;; esac; done < /site/index.html\"\n";
    write(&dir, "recipe.toml", &format!("{recipe}\n{step}"));
    let folder = dir.display().to_string();
    let mut watching = mainyard(&platform.data(), &["send", &folder, "--in", "staging", "--watch"]);
    let mut watching = watching.stdout(std::process::Stdio::null()).spawn().expect("it runs");
    let page = |text: &str| {
        until("the page is there", || {
            platform.get("pages.staging.localhost", "/").text().contains(text).then_some(())
        });
    };
    page("Hello from pages.");
    write(&dir, "index.html", "<p>slow</p>\n");
    until("the slow build runs", || {
        let shown = platform.run(&["build", "show", "2", "--json"]);
        shown.out.contains("\"state\": \"running\"").then_some(())
    });
    write(&dir, "index.html", "<p>the newest</p>\n");
    page("the newest");
    assert_eq!(build(&platform, 2)["state"], "cancelled");
    watching.kill().and_then(|()| watching.wait()).expect("it is ended");
}

/// Sends bytes as code; gives the status and the answer.
fn sent_raw(platform: &Platform, bytes: &[u8]) -> (u16, String) {
    let (host, token) = (platform.api.to_string(), platform.token());
    let head = format!(
        "POST /api/v1/builds HTTP/1.1\r\nhost: {host}\r\nauthorization: Bearer {token}\r\ncontent-length: {}\r\n\
         connection: close\r\n\r\n",
        bytes.len()
    );
    let answer = request(platform.api, &host, &head, bytes);
    (answer.status, answer.text())
}

/// An archive with a recipe and one more entry.
fn archive(path: &str, kind: tar::EntryType, link: &str, content: &[u8]) -> Vec<u8> {
    let recipe =
        "image = { name = \"lockers/odd\" }\n[part.run]\nsteps = [{ take = [\".\"], to = \"/code\" }]\n";
    let mut archive = tar::Builder::new(Vec::new());
    for (path, kind, link, content) in
        [("recipe.toml", tar::EntryType::Regular, "", recipe.as_bytes()), (path, kind, link, content)]
    {
        let mut header = tar::Header::new_gnu();
        // Written as it is: the library would refuse such a name.
        header.as_old_mut().name[..path.len().min(99)]
            .copy_from_slice(&path.as_bytes()[..path.len().min(99)]);
        header.as_old_mut().linkname[..link.len()].copy_from_slice(link.as_bytes());
        header.set_entry_type(kind);
        header.set_size(content.len() as u64);
        header.set_mode(0o7777);
        header.set_cksum();
        archive.append(&header, content).expect("an entry");
    }
    archive.into_inner().expect("an archive")
}

#[test]
fn hostile_code_is_refused_or_harmless() {
    let platform = Platform::start(false);
    let refused = [
        ("a name that climbs", archive("../../outside", tar::EntryType::Regular, "", b"x")),
        ("an absolute name", archive("/etc/inside", tar::EntryType::Regular, "", b"x")),
        ("noise", vec![7; 4096]),
        ("nothing", Vec::new()),
    ];
    for (what, bytes) in refused {
        let (status, text) = sent_raw(&platform, &bytes);
        assert_eq!(status, 422, "{what}: {text}");
        assert!(text.contains("the code"), "{what}: {text}");
    }
    // These may come, and lead nowhere.
    let harmless = [
        ("a link out", archive("out", tar::EntryType::Symlink, "/etc/passwd", b"")),
        ("a kind that nobody knows", archive("odd", tar::EntryType::new(b'Z'), "", b"")),
        ("a set-id bit", archive("tool", tar::EntryType::Regular, "", b"x")),
        ("a device", archive("disk", tar::EntryType::Block, "", b"")),
    ];
    for (what, bytes) in harmless {
        let (status, text) = sent_raw(&platform, &bytes);
        assert_eq!(status, 200, "{what}: {text}");
        let number =
            serde_json::from_str::<Value>(&text).expect("JSON")["build"]["number"].as_u64().expect("one");
        let build = until("the build ends", || {
            let build = build(&platform, number);
            build["ended"].is_string().then_some(build)
        });
        assert_eq!(build["state"], "done", "{what}: {build}");
    }
    let cut = archive("cut", tar::EntryType::Regular, "", &[7; 9_000]);
    let (status, text) = sent_raw(&platform, &cut[..4_000]);
    assert_eq!(status, 422, "{text}");
    // A hard link to what is not there makes no layer.
    let (_, text) = sent_raw(&platform, &archive("hard", tar::EntryType::Link, "nothing", b""));
    let number =
        serde_json::from_str::<Value>(&text).expect("JSON")["build"]["number"].as_u64().expect("one");
    let build = until("the build ends", || {
        let build = build(&platform, number);
        build["ended"].is_string().then_some(build)
    });
    assert_eq!(build["state"], "failed", "{build}");
}

#[test]
fn many_builds_at_once_all_end_and_leave_nothing() {
    let platform = platform();
    let recipe = |name: usize, word: usize| {
        format!(
            "image = {{ name = \"lockers/many-{name}\" }}\n[part.run]\nbase = \"bases/shell:1\"\n\
             steps = [{{ run = \"echo {word} > /word\" }}]\n"
        )
    };
    let folders: Vec<String> = (0..20)
        .map(|number| {
            let dir = platform.dir.path().join(format!("code-{number}"));
            write(&dir, "recipe.toml", &recipe(number % 10, number));
            dir.display().to_string()
        })
        .collect();
    for folder in &folders {
        platform.ok(&["build", folder, "--no-wait"]);
    }
    let all = until("all have ended", || {
        let list: Vec<Value> = serde_json::from_str(&platform.ok(&["build", "list", "--json"])).ok()?;
        list.iter().all(|build| build["ended"].is_string()).then_some(list)
    });
    assert!(all.len() == 20 && all.iter().all(|build| build["state"] == "done"), "{all:#?}");
    let left = |path: &str| fs::read_dir(platform.data().join(path)).map_or(0, Iterator::count);
    until("nothing is left on the node", || {
        (left("node/builds/steps") == 0 && left("node/scratch") == 0).then_some(())
    });
    assert_eq!(left("images/incoming"), 0);
}

#[test]
fn a_build_goes_on_when_control_or_the_node_is_killed() {
    let platform = platform();
    let dir = survey_form(&platform);
    let slow = RECIPE.replace("sort questions.txt", "echo half way; sleep 4; sort questions.txt");
    write(&dir, "recipe.toml", &slow);
    for part in ["control", "node"] {
        write(&dir, "questions.txt", &format!("killed {part}\n"));
        platform.ok(&["build", &dir.display().to_string(), "--no-wait"]);
        let number = if part == "control" { 1 } else { 2 };
        until("the command runs", || {
            let shown = platform.run(&["build", "show", &number.to_string()]);
            shown.out.contains("running").then_some(())
        });
        kill(&platform, part);
        let said = platform.ok(&["build", "logs", &number.to_string()]);
        assert!(said.contains("half way"), "{said}");
        assert_eq!(build(&platform, number)["state"], "done");
    }
}

#[test]
fn a_build_that_is_cancelled_ends_at_once_and_leaves_nothing() {
    let platform = platform();
    let dir = survey_form(&platform);
    write(&dir, "recipe.toml", &RECIPE.replace("sort questions.txt", "sleep 600; sort questions.txt"));
    platform.ok(&["build", &dir.display().to_string(), "--no-wait"]);
    until("the command runs", || (states(&build(&platform, 1))[1] == "running").then_some(()));
    let said = platform.ok(&["build", "cancel", "1"]);
    assert!(said.contains("cancelled after"), "{said}");
    let steps = platform.data().join("node/builds/steps");
    until("nothing of it is left on the node", || (fs::read_dir(&steps).ok()?.count() == 0).then_some(()));
    let refused = platform.run(&["build", "cancel", "1"]);
    assert_eq!(refused.code, 3, "{refused:?}");
}
