//! Other things in Git beside workloads: values that only the platform can read, one application under several names, and
//! promotions as commits.

use std::collections::BTreeSet;
use std::process::Command;

use crate::common::{Platform, until};
use crate::sources::{APPLICATION, Followed};

/// The values of a variable in every process of the machine that has it.
fn values(variable: &str) -> BTreeSet<String> {
    let prefix = format!("{variable}=");
    let mut found = BTreeSet::new();
    for entry in std::fs::read_dir("/proc").expect("/proc").flatten() {
        let surroundings = std::fs::read(entry.path().join("environ")).unwrap_or_default();
        let words = surroundings.split(|byte| *byte == 0).map(String::from_utf8_lossy);
        found.extend(words.filter_map(|word| word.strip_prefix(&prefix).map(str::to_owned)));
    }
    found
}

fn encrypted(platform: &Platform, secret: &str, value: &str) -> String {
    platform.ok_with_input(&["secret", "encrypt", secret], value)
}

#[test]
fn a_value_in_git_is_opened_by_the_platform_alone_and_a_new_one_makes_a_release() {
    let yard = Followed::start();
    let platform = &yard.platform;
    // No other platform of these tests has this variable.
    let variable = format!("WORD_{}", std::process::id());
    let text = APPLICATION.replace(
        "replicas = 2",
        &format!("replicas = 2\nsettings = {{ {variable} = {{ secret = \"word\" }} }}"),
    );
    let first = encrypted(platform, "square/word", "nine-tulips-in-may");
    assert!(
        first.starts_with("[in.square.secret.word]\nage = \"\"\"\n-----BEGIN AGE ENCRYPTED FILE-----"),
        "{first}"
    );
    let commit = yard.push(&format!("{text}\n{first}"), "a word");
    yard.add(&["--git-newer", "take"]);
    yard.stands_on(&commit);
    assert_eq!(values(&variable), BTreeSet::from(["nine-tulips-in-may".to_owned()]));
    let second = encrypted(platform, "square/word", "ten-tulips-in-june");
    let commit = yard.push(&format!("{text}\n{second}"), "another word");
    yard.stands_on(&commit);
    until("all replicas have it", || {
        (values(&variable) == BTreeSet::from(["ten-tulips-in-june".to_owned()])).then_some(())
    });
    let releases = platform.ok(&["releases", "square/locker-api"]);
    assert!(releases.contains("secret word version 1 → version 2"), "{releases}");
    // The value itself is nowhere: not in what is kept of the repository, nor in the record, nor in any log.
    let data = platform.data().display().to_string();
    // What is in the file system for scratch is found where it is mounted.
    let words = ["-rla", "--exclude=scratch.btrfs", "tulips-in", &data].map(str::to_owned);
    let found = Command::new("grep").args(words).output().expect("grep runs");
    assert_eq!(String::from_utf8_lossy(&found.stdout), "");

    // To another environment's key it cannot be opened here, and nothing of the commit is taken.
    let other = encrypted(platform, "staging/word", "eleven").replace("[in.staging.", "[in.square.");
    yard.push(&format!("{text}\n{other}"), "of another environment");
    let refused = yard.until("it is refused", |it| it["state"] == "refused");
    let problem = &refused["problems"][0];
    assert!(problem["place"]["line"].as_u64().is_some_and(|line| line > 10), "{problem}");
    let message = problem["message"].as_str().expect("a message");
    assert!(message.starts_with("the value of the secret `word` cannot be opened in square"), "{message}");
    let told = platform.run(&["source", "look", yard.source]);
    assert!(told.code == 3 && told.out.contains("cannot be opened in square"), "{told:?}");
    let plain = format!("{text}\n[secret.word]\nage = \"nine-tulips-in-may\"\n");
    yard.push(&plain, "in the open");
    yard.until("it is refused", |it| {
        it["problems"][0]["message"]
            .as_str()
            .is_some_and(|it| it.contains("as `mainyard secret encrypt` prints it"))
    });

    // Declared no longer, it stays until a person says so; what would be lost with it is said.
    yard.push(APPLICATION, "no word");
    let asks = yard.until("it asks", |it| it["reason"]["code"] == "removal-asks");
    let differs = asks["differs"].to_string();
    assert!(differs.contains("secret word: locker-api@1, locker-api@2 can't be rolled back to"), "{differs}");
    let told = platform.ok(&["source", "look", yard.source]);
    assert!(
        told.trim_end().ends_with(&format!("mainyard source catch-up {} --remove", yard.source)),
        "{told}"
    );
    let taken = platform.ok(&["source", "catch-up", yard.source, "--remove"]);
    assert!(taken.trim_end().ends_with("in-step"), "{taken}");
    assert!(!platform.ok(&["secret", "list"]).contains("square/word"));
}

#[test]
fn one_application_is_there_several_times_under_names_of_its_own() {
    let yard = Followed::start();
    let platform = &yard.platform;
    let text = APPLICATION.replace("host = \"api.git.localhost\"", "host = \"${application}.git.localhost\"");
    let commit = yard.push(&text.replace("replicas = 2", "replicas = 1"), "for several squares");
    let url = yard.theirs.url();
    for name in ["north", "south"] {
        let source = format!("square/{name}");
        let words =
            ["source", "add", &source, &url, "--folder", "deploy", "--as", name, "--git-newer", "take"];
        platform.ok(&words);
        until("it is in step", || {
            let shown: serde_json::Value =
                serde_json::from_str(&platform.ok(&["source", "show", &source, "--json"])).expect("JSON");
            (shown["state"] == "in-step" && shown["applied"]["id"] == commit.as_str()).then_some(())
        });
        let host = format!("{name}.git.localhost");
        until("it answers", || (platform.get(&host, "/who").status == 200).then_some(()));
        let shown = platform.ok(&["application", "show", &format!("square/{name}")]);
        assert!(shown.contains(&format!("{name}-locker-api")), "{shown}");
    }
    // What a person changes is written back under the names that the files have.
    platform.ok(&["scale", "square/north-locker-api", "2"]);
    let written = platform.ok(&["source", "write-back", "square/north"]);
    assert!(written.contains("-replicas = 1\n+replicas = 2") && !written.contains("north-"), "{written}");
    let twice = platform.run(&["source", "add", "square/more", &url, "--folder", "deploy", "--as", "north"]);
    assert!(twice.code == 3 && twice.err.contains("follows the very same already"), "{twice:?}");
}

#[test]
fn what_was_tested_is_promoted_as_a_commit_and_rolls_out_when_it_is_merged() {
    let yard = Followed::start();
    let platform = &yard.platform;
    platform.ok_with_input(&["secret", "add", "square/lockers-db-password"], "a word of the square");
    let first = yard.push(&APPLICATION.replace("/ready\"", "/ready\", port = \"http\""), "as it begins");
    yard.add(&["--git-newer", "take"]);
    yard.stands_on(&first);
    platform.workload("staging/locker-api", |it| it["state"] == "steady");
    platform.ok(&["deploy", "staging/locker-api", "--image", "lockers/locker-api:1.5.0"]);

    let shown = platform.ok(&["promote", "staging/locker-api", "--to", "square", "--as-commit"]);
    for words in [
        "square: locker-api as it was tested as staging/locker-api@2",
        "+digest = \"sha256:",
        "nothing was pushed",
    ] {
        assert!(shown.contains(words), "{words}: {shown}");
    }
    let words =
        ["promote", "staging/locker-api", "--to", "square", "--as-commit", "--push", "--branch", "tested"];
    let pushed = platform.ok(&words);
    let changed = |text: &str| {
        text.lines().filter(|line| line.starts_with(['+', '-'])).map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(changed(&shown), changed(&pushed), "the commit is the one that was shown before");
    yard.theirs.git(&["merge", "--quiet", "--ff-only", "tested"]);
    let merged = yard.theirs.git(&["rev-parse", "HEAD"]).trim().to_owned();
    yard.stands_on(&merged);
    assert_eq!(yard.image(), "lockers/locker-api:1.5.0");
    let again = platform.ok(&["promote", "staging/locker-api", "--to", "square", "--as-commit"]);
    assert!(again.contains("Git says what was tested as staging/locker-api@2 already"), "{again}");
    let nobody = platform.run(&["promote", "staging/locker-api", "--to", "production", "--as-commit"]);
    assert!(
        nobody.code == 3 && nobody.err.contains("no source of production declares locker-api"),
        "{nobody:?}"
    );
}
