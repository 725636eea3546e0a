//! Code that is pushed with Git: built, kept and rolled out; and pushes that are wrong or hostile.

use std::fs;
use std::process::Stdio;

use serde_json::Value;
use testing::repository::Repository;

use crate::common::{Platform, Said, mainyard, request, until};

const RECIPE: &str = "[image]\nname = \"lockers/survey-form\"\ncommand = [\"/bin/sh\", \"/app/start\"]\n\n\
    [part.run]\nbase = \"bases/shell:1\"\n\n[[part.run.steps]]\nrun = \"STEP\"\n\n\
    [[part.run.steps]]\ntake = [\"start\"]\nto = \"/app/start\"\n";
const DECLARATION: &str = "application = \"survey-form\"\n[workload.survey-form]\nimage = \"lockers/survey-form:0\"\n\
    replicas = 1\nstop = { grace = \"1s\" }\n";
const START: &str = "trap 'exit 0' TERM\nwhile true; do sleep 1 & wait $!; done\n";

fn platform() -> Platform {
    let platform = Platform::start(false);
    platform.ok(&["environment", "add", "staging"]);
    platform.ok(&["image", "base", "bases/shell:1", "--packages", "dash,coreutils"]);
    platform
}

/// A repository of a developer, connected to the platform.
struct Clone(Repository);

impl Clone {
    fn new(platform: &Platform, name: &str) -> Clone {
        let clone = Clone(Repository::new(&platform.dir.path().join(name)));
        platform.ok(&["code", "connect", &format!("staging/{name}"), &clone.0.dir().display().to_string()]);
        clone
    }

    /// The same with the code of the survey form in it, whose step does this.
    fn survey_form(platform: &Platform, name: &str, step: &str) -> Clone {
        let clone = Clone::new(platform, name);
        clone.0.write("recipe.toml", &RECIPE.replace("survey-form", name).replace("STEP", step));
        clone.0.write("mainyard.toml", &DECLARATION.replace("survey-form", name));
        clone.0.write("start", START);
        clone.0.commit("A form that asks which locker");
        clone
    }

    fn run(&self, words: &[&str]) -> Said {
        let done = self.0.command(words).output().expect("git runs");
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        Said { code: done.status.code().unwrap_or(-1), out: text(&done.stdout), err: text(&done.stderr) }
    }

    fn head(&self) -> String {
        self.0.commit_id("HEAD")
    }

    fn push(&self) -> Said {
        self.run(&["push", "main-yard", "main"])
    }
}

/// A repository as the platform shows it.
fn shown(platform: &Platform, name: &str) -> Value {
    serde_json::from_str(&platform.ok(&["code", "show", name, "--json"])).expect("JSON")
}

/// The image that a workload runs, once it is steady.
fn image_of(platform: &Platform, workload: &str) -> String {
    let number = platform.workload(workload, |it| it["state"] == "steady")["release"].clone();
    let shown: Value = serde_json::from_str(&platform.ok(&["show", workload, "--json"])).expect("JSON");
    let releases = shown["releases"].as_array().expect("releases");
    let present = releases.iter().find(|release| release["number"] == number).expect("the present one");
    present["spec"]["image"].as_str().expect("an image").to_owned()
}

#[test]
fn a_push_builds_and_rolls_out_and_says_so() {
    let platform = platform();
    let clone = Clone::survey_form(&platform, "survey-form", "echo compiling");
    let first = clone.head();
    let said = clone.push();
    assert_eq!(said.code, 0, "{said:?}");
    for line in ["| compiling", "+ workload survey-form", "staging/survey-form: 1 of 1 ready"] {
        assert!(said.err.contains(line), "{line}: {}", said.err);
    }
    let code = shown(&platform, "staging/survey-form");
    assert_eq!(
        (&code["delivery"]["state"], &code["refs"]["refs/heads/main"]),
        (&"declared".into(), &first.clone().into())
    );
    assert!(image_of(&platform, "staging/survey-form").contains(&first[..12]));
    // Another branch is kept, and changes nothing.
    clone.0.git(&["checkout", "--quiet", "-b", "mira/draft"]);
    clone.0.commit("A draft");
    let draft = clone.run(&["push", "main-yard", "mira/draft"]).err;
    assert!(draft.contains("kept; main is the branch that is rolled out"), "{draft}");
    // Somebody else clones it, changes a line and pushes.
    let other = platform.dir.path().join("other");
    platform.ok(&["code", "clone", "staging/survey-form", &other.display().to_string()]);
    let other = Clone(Repository::at(&other));
    other.0.write("start", &format!("# once more\n{START}"));
    let second = other.0.commit("Once more");
    let pushed = other.run(&["push"]).err;
    assert!(pushed.contains("as before"), "the first step is there already: {pushed}");
    assert!(image_of(&platform, "staging/survey-form").contains(&second[..12]));
    // The first one is told to pull before it pushes.
    clone.0.git(&["checkout", "--quiet", "main"]);
    clone.0.commit("Late");
    assert_ne!(clone.push().code, 0);
    let list = platform.ok(&["code", "list"]);
    assert!(list.contains("staging/survey-form") && list.contains("Once more"), "{list}");
    platform.ok(&["code", "remove", "staging/survey-form", "--yes"]);
    assert_eq!(platform.run(&["code", "show", "staging/survey-form"]).code, 3);
    assert_eq!(platform.workload("staging/survey-form", |_| true)["state"], "steady");
}

#[test]
fn a_build_that_fails_refuses_the_push_only_where_its_recipe_says_so() {
    let platform = platform();
    let clone = Clone::survey_form(&platform, "survey-form", "echo no such locker; exit 3");
    let taken = clone.push();
    assert_eq!(taken.code, 0, "{taken:?}");
    for line in ["| no such locker", "the command ended with status 3", "staging/survey-form was not changed"]
    {
        assert!(taken.err.contains(line), "{line}: {}", taken.err);
    }
    assert_eq!(shown(&platform, "staging/survey-form")["delivery"]["state"], "failed");
    let before = clone.head();
    let recipe = fs::read_to_string(clone.0.dir().join("recipe.toml")).expect("a recipe");
    clone.0.write("recipe.toml", &format!("push_must_build = true\n{recipe}"));
    clone.0.commit("It must build");
    let refused = clone.push();
    assert_ne!(refused.code, 0);
    assert!(refused.err.contains("[remote rejected] main -> main (build 2 failed"), "{refused:?}");
    assert_eq!(shown(&platform, "staging/survey-form")["refs"]["refs/heads/main"], before);
    clone.0.write("recipe.toml", &format!("push_must_build = true\n{}", recipe.replace("exit 3", "exit 0")));
    clone.0.commit("It builds");
    assert_eq!(clone.push().code, 0);
    assert!(image_of(&platform, "staging/survey-form").contains(&clone.head()[..12]));
}

/// Commits that say what is wrong with them, in the words for the member who pushed.
#[test]
fn what_is_wrong_with_a_commit_is_told_and_nothing_is_changed() {
    let platform = platform();
    let clone = Clone::new(&platform, "survey-form");
    let mut told = Vec::new();
    let mut push = |what: &str, files: &[(&str, &str)]| {
        if files.is_empty() {
            clone.0.git(&["commit", "--quiet", "--message", what]);
        } else {
            files.iter().for_each(|(path, text)| clone.0.write(path, text));
            clone.0.commit(what);
        }
        let said = clone.push();
        assert_eq!(said.code, 0, "{what}: {said:?}");
        let lines = said.err.lines().filter_map(|line| line.strip_prefix("remote: "));
        let lines: Vec<&str> = lines.map(str::trim_end).collect();
        told.push(format!("{what}\n  {}\n", lines.join("\n  ")));
    };
    push("nothing to roll out", &[("notes.txt", "hello\n")]);
    push("another application", &[("mainyard.toml", "application = \"lockers\"\n")]);
    push("a wrong recipe", &[("mainyard.toml", DECLARATION), ("recipe.toml", "[image]\nnam = \"a/b\"\n")]);
    let other = RECIPE.replace("lockers/survey-form", "lockers/other").replace("STEP", "true");
    push("a recipe that nothing runs", &[("recipe.toml", &other)]);
    let attributes = "*.bin filter=lfs diff=lfs merge=lfs -text\n";
    push(
        "files outside of Git",
        &[(".gitattributes", attributes), ("recipe.toml", &RECIPE.replace("STEP", "true"))],
    );
    fs::remove_file(clone.0.dir().join(".gitattributes")).expect("removed");
    let pointer = format!(
        "version https://git-lfs.github.com/spec/v1\noid sha256:{}\nsize 300000000\n",
        "0a".repeat(32)
    );
    push("a pointer", &[("assets/map.bin", &pointer)]);
    fs::remove_dir_all(clone.0.dir().join("assets")).expect("removed");
    clone.0.git(&["add", "--all"]);
    let inner = format!("160000,{},lib/forms", clone.head());
    clone.0.git(&["update-index", "--add", "--cacheinfo", &inner]);
    push("a repository inside", &[]);
    insta::assert_snapshot!(told.concat());
}

/// A request of a program that is no Git; gives the status and the text.
fn raw(platform: &Platform, method: &str, path: &str, token: &str, body: &[u8]) -> (u16, String) {
    use base64::Engine as _;
    let basic = base64::engine::general_purpose::STANDARD.encode(format!("token:{token}"));
    let host = platform.api.to_string();
    let head = format!(
        "{method} {path} HTTP/1.1\r\nhost: {host}\r\nauthorization: Basic {basic}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
        body.len()
    );
    let answer = request(platform.api, &host, &head, body);
    (answer.status, answer.text())
}

#[test]
fn nobody_gets_in_without_a_token_and_no_path_leads_elsewhere() {
    let platform = platform();
    let clone = Clone::survey_form(&platform, "survey-form", "true");
    assert_eq!(clone.push().code, 0);
    let (token, refs) = (platform.token(), "info/refs?service=git-upload-pack");
    let get = |path: &str, token: &str| raw(&platform, "GET", path, token, b"").0;
    assert_eq!(get(&format!("/code/staging/survey-form/{refs}"), &token), 200);
    assert_eq!(get(&format!("/code/staging/survey-form.git/{refs}"), &token), 200);
    for path in
        ["/code/staging/survey-form", "/code/staging/nothing", "/code/x", "/code/../etc/passwd", "/code"]
    {
        assert_eq!(get(&format!("{path}/{refs}"), "wrong"), 401, "{path}");
    }
    for path in [
        "/code/staging/../survey-form",
        "/code/staging/%2e%2e",
        "/code/staging//survey-form",
        "/code/staging/survey-form/x",
        "/code/staging/survey-form.git.git",
        "/code/staging/-c",
        "/code/staging.survey-form/x",
    ] {
        assert_eq!(get(&format!("{path}/{refs}"), &token), 404, "{path}");
    }
    for service in ["git-upload-archive", "git-receive-pack%00", ""] {
        assert_eq!(get(&format!("/code/staging/survey-form/info/refs?service={service}"), &token), 404);
    }
    let unknown = raw(&platform, "GET", "/code/stagin/form/info/refs?service=git-receive-pack", &token, b"");
    assert_eq!(
        (unknown.0, unknown.1.trim()),
        (404, "there is no environment stagin; did you mean `staging`?")
    );
    // The token of a part lets nobody in, and neither does one that was removed.
    let part =
        fs::read_to_string(platform.data().join("token-of-gateway-gateway-1")).expect("a part's token");
    assert_eq!(get(&format!("/code/staging/survey-form/{refs}"), part.trim()), 401);
    let made = platform.ok(&["token", "add", "laptop"]);
    let token = made.lines().next().expect("a token").trim();
    assert_eq!(get(&format!("/code/staging/survey-form/{refs}"), token), 200);
    platform.ok(&["token", "remove", "laptop"]);
    assert_eq!(get(&format!("/code/staging/survey-form/{refs}"), token), 401);
}

#[test]
fn what_is_no_push_is_refused_and_leaves_nothing_behind() {
    let platform = platform();
    let clone = Clone::survey_form(&platform, "survey-form", "true");
    assert_eq!(clone.push().code, 0);
    let before = shown(&platform, "staging/survey-form")["refs"].clone();
    let (token, head, none) = (platform.token(), clone.head(), "0".repeat(40));
    let line = |text: &str| format!("{:04x}{text}", text.len() + 4);
    let push =
        |body: &[u8]| raw(&platform, "POST", "/code/staging/survey-form/git-receive-pack", &token, body);
    let caps = "\0report-status";
    for body in ["", "zzzz", "0009abcde", "ffff", &line("nonsense"), &line(&format!("shallow {head}"))] {
        let (status, text) = push(body.as_bytes());
        assert_eq!(status, 400, "{body:?}: {text}");
    }
    let two = "1".repeat(40);
    for (update, words) in [
        (format!("{none} {head} refs/replace/{head}{caps}"), "only branches and tags"),
        (format!("{none} {head} refs/heads/../../config{caps}"), "only branches and tags"),
        (format!("{none} {head} HEAD{caps}"), "only branches and tags"),
        (format!("{two} {head} refs/heads/main{caps}"), "somebody pushed to it meanwhile"),
        (format!("{head} {none} refs/heads/main{caps}"), "this branch is rolled out; it stays"),
        (format!("{none} {two} refs/heads/gone{caps}"), "its objects were not taken"),
    ] {
        // A pack without objects goes with it, unless the ref is removed.
        let pack = if update.contains(&format!("{none} refs")) { Vec::new() } else { empty_pack() };
        let (status, text) = push(&[format!("{}0000", line(&update)).as_bytes(), &pack].concat());
        assert!(status == 200 && text.contains(words), "{update:?}: {status} {text}");
    }
    let broken =
        format!("{}0000PACK\0\0\0\x02\0\0\0\x01rubbish", line(&format!("{none} {two} refs/heads/x{caps}")));
    let (_, text) = push(broken.as_bytes());
    assert!(text.contains("unpack git index-pack"), "{text}");
    assert_eq!(shown(&platform, "staging/survey-form")["refs"], before);
    let objects = platform.data().join("code/staging.survey-form.git/objects");
    let left = fs::read_dir(objects).expect("objects").flatten();
    let left: Vec<_> =
        left.filter(|entry| entry.file_name().to_string_lossy().starts_with("incoming")).collect();
    assert!(left.is_empty(), "{left:?}");
}

/// A pack without objects: header and checksum.
fn empty_pack() -> Vec<u8> {
    let head = b"PACK\0\0\0\x02\0\0\0\0".to_vec();
    let sum = ring::digest::digest(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY, &head);
    [head, sum.as_ref().to_vec()].concat()
}

#[test]
fn hostile_names_in_a_tree_are_refused_before_they_are_part_of_anything() {
    let platform = platform();
    let clone = Clone::survey_form(&platform, "survey-form", "true");
    let blob = clone.0.git(&["rev-parse", "HEAD:start"]).trim().to_owned();
    for (mode, path) in [("100644", ".."), ("100644", ".git"), ("100644", ".GIT"), ("100644", "a/b")] {
        let raw: Vec<u8> =
            (0..40).step_by(2).map(|at| u8::from_str_radix(&blob[at..at + 2], 16).expect("hex")).collect();
        let tree = [format!("{mode} {path}\0").as_bytes(), &raw].concat();
        let mut made = clone
            .0
            .command(&["hash-object", "-t", "tree", "-w", "--stdin", "--literally"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("git runs");
        std::io::Write::write_all(&mut made.stdin.take().expect("a pipe"), &tree).expect("written");
        let out = made.wait_with_output().expect("it ends");
        let tree = String::from_utf8_lossy(&out.stdout).trim().to_owned();
        let commit = clone.0.git(&["commit-tree", &tree, "-m", "hostile"]).trim().to_owned();
        let said = clone.run(&["push", "main-yard", &format!("{commit}:refs/heads/hostile")]);
        assert!(said.code != 0 && said.err.contains("its objects were not taken"), "{path}: {said:?}");
    }
    // Links that lead out are files of the image like others, and lead nowhere outside of it.
    std::os::unix::fs::symlink("../../../../etc/shadow", clone.0.dir().join("link")).expect("a link");
    clone.0.commit("A link that leads out");
    assert_eq!(clone.push().code, 0);
}

#[test]
fn a_push_goes_on_when_control_ends_and_the_code_outlives_its_disk() {
    let platform = platform();
    let clone = Clone::survey_form(&platform, "survey-form", "sleep 3");
    let mut pushing = clone.0.command(&["push", "main-yard", "main"]);
    let mut pushing = pushing.stderr(Stdio::null()).spawn().expect("git runs");
    until("it is on its way", || {
        let list = platform.run(&["build", "list", "--json"]);
        list.out.contains("\"state\": \"running\"").then_some(())
    });
    until("the push is recorded", || {
        (platform.run(&["code", "show", "staging/survey-form"]).code == 0).then_some(())
    });
    for process in platform.part("control") {
        // SAFETY: a signal to a process that this test's platform started.
        unsafe { libc::kill(process, libc::SIGKILL) };
    }
    pushing.wait().expect("it ends");
    let head = clone.head();
    assert!(image_of(&platform, "staging/survey-form").contains(&head[..12]));
    // What is on the disk of this control is a copy of what is in the image store.
    fs::remove_dir_all(platform.data().join("code/staging.survey-form.git")).expect("removed");
    let other = platform.dir.path().join("other");
    platform.ok(&["code", "clone", "staging/survey-form", &other.display().to_string()]);
    let other = Clone(Repository::at(&other));
    assert_eq!(other.head(), head);
}

#[test]
fn pushes_of_several_applications_at_once_all_arrive() {
    let platform = platform();
    let names = ["form-a", "form-b", "form-c", "form-d"];
    let clones: Vec<Clone> = names.iter().map(|name| Clone::survey_form(&platform, name, "true")).collect();
    for round in 0..2 {
        std::thread::scope(|scope| {
            for clone in &clones {
                scope.spawn(move || {
                    clone.0.commit(&format!("round {round}"));
                    let said = clone.push();
                    assert_eq!(said.code, 0, "{said:?}");
                });
            }
        });
    }
    for (name, clone) in names.iter().zip(&clones) {
        assert!(image_of(&platform, &format!("staging/{name}")).contains(&clone.head()[..12]), "{name}");
    }
}

#[test]
fn git_is_given_the_token_for_the_platform_alone() {
    let platform = Platform::start(false);
    let ask = |address: &str| {
        let (protocol, host) = address.split_once("://").expect("an address");
        let input = format!("protocol={protocol}\nhost={host}\n\n");
        platform.run_with_input(&["code", "credential", "get"], &input).out
    };
    assert!(ask(&format!("http://{}", platform.api)).contains(&platform.token()));
    assert_eq!(ask("https://forge.example"), "");
    assert_eq!(platform.run_with_input(&["code", "credential", "store"], "protocol=http\n").out, "");
    let nowhere =
        mainyard(&platform.data(), &["code", "connect", "staging/form", "/"]).output().expect("it runs");
    assert_eq!(nowhere.status.code(), Some(2));
}
