//! Sources that hold code: each new commit is built, and what declares it follows.

use std::fs;

use serde_json::Value;
use testing::repository::Repository;

use crate::common::{Platform, until};

const DECLARATION: &str = "application = \"lockers\"\n[workload.api]\nimage = { source = \"lockers-code\", folder = \"api\" }\n\
    replicas = 1\nstop = { grace = \"1s\" }\n";

/// Commits these files; gives the commit's first digits.
fn commit(forge: &Repository, files: &[(&str, &str)]) -> String {
    files.iter().for_each(|(path, text)| forge.write(path, text));
    forge.commit("A change")[..12].to_owned()
}

fn recipe(name: &str, step: &str) -> String {
    format!(
        "[image]\nname = \"lockers/{name}\"\ncommand = [\"/bin/sh\", \"/app/start\"]\n[part.run]\nbase = \"bases/shell:1\"\n\
         steps = [{{ run = \"{step}\" }}, {{ take = [\"start\"], to = \"/app/start\" }}]\n"
    )
}

const START: &str = "trap 'exit 0' TERM\nwhile true; do sleep 1 & wait $!; done\n";

fn source(platform: &Platform, condition: impl Fn(&Value) -> bool) -> Value {
    until("the source is as it should be", || {
        let text = platform.ok(&["source", "show", "staging/lockers-code", "--json"]);
        let source: Value = serde_json::from_str(&text).expect("JSON");
        condition(&source).then_some(source)
    })
}

#[test]
fn each_commit_is_built_and_what_declares_it_follows() {
    let platform = Platform::new();
    let folder = platform.dir.path().display().to_string();
    let started = platform.try_start_with(&["--git-allow", &folder]);
    assert_eq!(started.code, 0, "{started:?}");
    platform.ok(&["environment", "add", "staging"]);
    platform.ok(&["image", "base", "bases/shell:1", "--packages", "dash,coreutils"]);
    let forge = Repository::new(&platform.dir.path().join("code"));
    let first = commit(
        &forge,
        &[
            ("api/recipe.toml", &recipe("api", "true")),
            ("api/start", START),
            ("web/recipe.toml", &recipe("web", "true")),
            ("web/start", START),
        ],
    );
    let declaration = platform.dir.path().join("mainyard.toml");
    fs::write(&declaration, DECLARATION).expect("written");
    let file = declaration.display().to_string();
    let url = format!("file://{folder}/code");
    let add =
        ["source", "add", "staging/lockers-code", &url, "--code", "--paths", "api/**", "--look-every", "1s"];
    platform.ok(&add);
    // It is declared while the first build goes on, and waits for it.
    platform.ok(&["declare", &file, "--in", "staging", "--no-wait"]);
    platform.workload("staging/api", |it| it["state"] == "steady");
    let stands = |commit: &str| {
        let own = commit.to_owned();
        source(&platform, move |it| {
            it["state"] == "in-step" && it["applied"]["id"].as_str().is_some_and(|id| id.starts_with(&own))
        })
    };
    let built = stands(&first);
    assert_eq!(built["builds"]["builds"].as_array().map(Vec::len), Some(2), "{built}");
    let image = "built/staging/lockers-code/api:newest";
    let shown = platform.ok(&["image", "show", image]);
    assert!(shown.contains(&first), "{shown}");
    // A commit that changes nothing of the paths is not built.
    let elsewhere = commit(&forge, &[("web/start", "# web\n")]);
    assert_eq!(stands(&elsewhere)["builds"]["builds"], Value::Array(Vec::new()));
    // One that does makes a release by itself.
    let second = commit(&forge, &[("api/start", &format!("# second\n{START}"))]);
    stands(&second);
    platform.workload("staging/api", |it| it["state"] == "steady" && it["release"] == 2);
    // One that cannot be built changes nothing, and says so.
    let broken = commit(&forge, &[("api/recipe.toml", &recipe("api", "exit 3"))]);
    let refused = source(&platform, |it| it["state"] == "refused");
    assert_eq!(refused["reason"]["code"], "build-failed");
    assert!(refused["seen"]["id"].as_str().is_some_and(|id| id.starts_with(&broken)));
    assert_eq!(platform.workload("staging/api", |_| true)["release"], 2);
    let show = platform.ok(&["source", "show", "staging/lockers-code"]);
    assert!(show.contains("the command ended with status 3"), "{show}");
    // A person builds an older commit again: its steps are there, and nothing is rolled out.
    let again = platform.ok(&["source", "build", "staging/lockers-code", "--at", &first]);
    assert!(again.contains("as before") && again.contains(&first), "{again}");
    assert_eq!(platform.workload("staging/api", |_| true)["release"], 2);
    let checked = platform.ok(&["source", "check", "staging/lockers-code"]);
    assert!(checked.contains("it answers: "), "{checked}");
    platform.ok(&["export", "staging/api", "-o", &format!("{folder}/exported")]);
    let exported =
        fs::read_dir(format!("{folder}/exported")).expect("files").flatten().next().expect("a file");
    let exported = fs::read_to_string(exported.path()).expect("its text");
    assert!(
        exported.contains("source = \"lockers-code\"") && exported.contains("folder = \"api\""),
        "{exported}"
    );
}
