//! Code trees with packages of the registries: a recipe is suggested, the code sent, a line changed, and sent again.
//! `make real-code` runs it; it needs root, and packages from the network.

use std::time::Instant;

use serde_json::Value;
use testing::code_trees::{self, CodeTree};

use crate::common::{Platform, mainyard, until};

/// Makes a tree below a folder.
type Maker = fn(&std::path::Path) -> CodeTree;

fn build(platform: &Platform, number: u64) -> Value {
    let text = platform.ok(&["build", "show", &number.to_string(), "--json"]);
    serde_json::from_str(&text).expect("JSON")
}

/// Seconds that a build took, and each of its steps.
fn took(build: &Value) -> (f64, Vec<String>) {
    let moment = |of: &Value| of.as_str().and_then(|text| text.parse::<jiff::Timestamp>().ok());
    let seconds = |of: &Value| {
        let (began, ended) = (moment(&of["began"]), moment(&of["ended"]));
        ended.zip(began).map_or(0.0, |(ended, began)| ended.duration_since(began).as_secs_f64())
    };
    let steps = build["steps"].as_array().expect("steps");
    (seconds(build), steps.iter().map(|step| format!("{:.1}", seconds(step))).collect())
}

fn try_out(platform: &Platform, tree: &CodeTree) {
    let CodeTree { dir, name, greeting, .. } = tree;
    let folder = dir.display().to_string();
    platform.ok(&["recipe", "suggest", &folder, "--name", &format!("trees/{name}")]);
    tree.declare();
    let send = || {
        let begun = Instant::now();
        let mut command = mainyard(&platform.data(), &["send", &folder, "--in", "staging"]);
        let done = command.output().expect("the program runs");
        let said = String::from_utf8_lossy(&[done.stdout, done.stderr].concat()).into_owned();
        assert!(done.status.success(), "{name}: {said}");
        (begun.elapsed().as_secs_f64(), said)
    };
    let host = format!("{name}.staging.localhost");
    let answers = |text: &str| {
        let told = format!("{name} answers {text:?}");
        until(&told, || platform.get(&host, "/").text().contains(text).then_some(()));
    };
    let (first, said) = send();
    answers(greeting);
    let files = said.lines().next().unwrap_or_default().to_owned();
    tree.change("Hello from", "Back from");
    let (second, said) = send();
    assert!(said.contains("1 change since the build before"), "{said}");
    answers(&greeting.replace("Hello from", "Back from"));
    let builds: Value = serde_json::from_str(&platform.ok(&["build", "list", "--json"])).expect("JSON");
    let newest = builds[0]["number"].as_u64().expect("a number");
    let of_second = build(platform, newest);
    platform.ok(&["build", &folder, "--from-scratch"]);
    let again = build(platform, newest + 1);
    assert_eq!(again["digest"], of_second["digest"], "{name}: the same code makes the same image");
    let ((whole, steps), (scratch, _)) = (took(&of_second), took(&again));
    println!(
        "| {name} | {} | {first:.1} s | {second:.1} s, of it {whole:.1} s to build ({}) | {scratch:.1} s |",
        files.split_once(": ").map_or("", |(_, rest)| rest.split(" sent").next().unwrap_or(rest)),
        steps.join(" + ")
    );
}

#[test]
#[ignore = "needs packages from the network: make real-code"]
fn code_with_real_packages_is_built_sent_changed_and_sent_again() {
    let platform = Platform::start(false);
    platform.ok(&["environment", "add", "staging"]);
    let bases = [
        ("bases/plain:1", "libc6,dash,coreutils"),
        ("bases/tools:1", "gcc,libc6-dev,dash,coreutils"),
        ("bases/nodejs:1", "nodejs,dash,coreutils"),
        ("bases/python:3", "python3,dash,coreutils"),
        ("bases/python-tools:3", "python3,python3-pip,dash,coreutils"),
    ];
    for (name, packages) in bases {
        platform.ok(&["image", "base", name, "--packages", packages]);
    }
    let above = platform.dir.path().join("trees");
    for dir in [code_trees::nodejs_tools(&above), code_trees::rust_toolchain(&above)] {
        platform.ok(&["build", &dir.display().to_string(), "--tag", "1"]);
    }
    println!("| tree | files | `send` | changed, `send` | `build --from-scratch` |\n|---|---|---|---|---|");
    let only = std::env::var("MAINYARD_REAL").unwrap_or_default();
    let all: [(&str, Maker); 4] = [
        ("python", code_trees::python),
        ("nodejs", code_trees::nodejs),
        ("pages", code_trees::pages),
        ("rust", code_trees::rust),
    ];
    for (_, make) in all.iter().filter(|(kind, _)| only.is_empty() || only.split(',').any(|it| it == *kind)) {
        try_out(&platform, &make(&above));
    }
}
