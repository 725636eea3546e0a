use std::fmt::Write as _;

use super::*;

const GOOD: &str = r#"
ignore = ["target/", "*.log"]
limits = { memory = "2 GiB", time = "10m" }

[image]
name = "lockers/survey-form"
user = "app"
command = ["/app/survey"]
ports = [8080]
health = "/healthz"

[part.build]
base = "bases/rust:1"
folder = "/code"
settings = { CARGO_HOME = "/cache/cargo" }
caches = { cargo = "/cache/cargo" }
steps = [
    { take = ["."] },
    { run = "cargo build", network = ["crates.example:443"], secrets = { forge-token = "/secrets/token" }, settings = { A = "1" } },
]

[part.run]
base = "bases/plain:1"

[[part.run.steps]]
take = ["/code/target/survey"]
from = "build"
to = "/app/survey"
"#;

#[test]
fn a_recipe_is_read_with_its_parts_in_order() {
    let recipe = read("recipe.toml", GOOD).expect("a recipe");
    assert_eq!(recipe.final_part().name.as_str(), "run");
    let words: Vec<String> =
        recipe.parts.iter().flat_map(|part| part.steps.iter().map(Step::words)).collect();
    assert_eq!(
        words,
        ["take . to /code", "run cargo build", "take /code/target/survey of part build to /app/survey"]
    );
    let Step::Run(run) = &recipe.parts[0].steps[1] else { panic!("a command") };
    assert_eq!((run.folder.as_str(), run.settings.len()), ("/code", 2));
    assert_eq!(recipe.limits.memory, Bytes::mib(2048));
}

/// Ways to be wrong: what is put in the place of what, in a recipe that is right.
const WRONG: [(&str, &str, &str); 40] = [
    ("no TOML", "[image]", "[image"),
    ("an unknown key at the top", "ignore =", "ignor ="),
    ("an unknown key of the image", "health =", "helth ="),
    ("an unknown key of a part", "folder = \"/code\"", "foldr = \"/code\""),
    ("an unknown key of a step", "{ take = [\".\"] }", "{ taek = [\".\"] }"),
    ("no image", "[image]\nname = \"lockers/survey-form\"", "[part.extra]\nbase = \"bases/rust:1\""),
    ("an image without a name", "name = \"lockers/survey-form\"\n", ""),
    ("a name that is none", "name = \"lockers/survey-form\"", "name = \"Lockers:1\""),
    ("a part that is not there", "user = \"app\"", "part = \"runn\""),
    ("a user that is none", "user = \"app\"", "user = \"a b\""),
    ("a command that is a text", "command = [\"/app/survey\"]", "command = \"/app/survey\""),
    ("an empty command", "command = [\"/app/survey\"]", "command = []"),
    ("a command without a program", "command = [\"/app/survey\"]", "command = [\"\"]"),
    ("a port that is none", "ports = [8080]", "ports = [80800]"),
    ("a port in quotes", "ports = [8080]", "ports = [\"8080\"]"),
    ("a path that is none", "health = \"/healthz\"", "health = \"healthz\""),
    ("a size without a unit", "memory = \"2 GiB\"", "memory = 2048"),
    ("a time that is none", "time = \"10m\"", "time = \"ten\""),
    ("a pattern that is none", "\"*.log\"", "\"[a\""),
    ("a base that is none", "base = \"bases/rust:1\"", "base = \"bases/rust\""),
    ("a digest that is none", "base = \"bases/rust:1\"", "base = \"bases/rust:1\"\ndigest = \"sha256:1\""),
    (
        "a digest without a base",
        "base = \"bases/plain:1\"",
        "digest = \"sha256:0000000000000000000000000000000000000000000000000000000000000000\"",
    ),
    ("a relative folder", "folder = \"/code\"", "folder = \"code\""),
    ("a folder of the kernel's", "folder = \"/code\"", "folder = \"/proc/code\""),
    ("a setting that is none", "CARGO_HOME =", "CARGO-HOME ="),
    ("a cache with a bad name", "caches = { cargo =", "caches = { Cargo ="),
    ("a cache at the root", "cargo = \"/cache/cargo\" }", "cargo = \"/\" }"),
    (
        "a cache in another",
        "cargo = \"/cache/cargo\" }",
        "cargo = \"/cache/cargo\", deps = \"/cache/cargo/deps\" }",
    ),
    ("a step that does two things", "{ take = [\".\"] }", "{ take = [\".\"], run = \"make\" }"),
    ("a step that does nothing", "{ take = [\".\"] }", "{ to = \"/code\" }"),
    ("a step that takes nothing", "{ take = [\".\"] }", "{ take = [] }"),
    ("a path that leaves the tree", "{ take = [\".\"] }", "{ take = [\"../other\"] }"),
    ("an absolute path of the tree", "{ take = [\".\"] }", "{ take = [\"/src\"] }"),
    ("a relative path of a part", "take = [\"/code/target/survey\"]", "take = [\"code/survey\"]"),
    ("an unknown part", "from = \"build\"", "from = \"bild\""),
    ("its own part", "from = \"build\"", "from = \"run\""),
    ("an empty command of a step", "run = \"cargo build\"", "run = \" \""),
    ("a host without a port", "network = [\"crates.example:443\"]", "network = [\"crates.example\"]"),
    (
        "files that need a network",
        "{ take = [\".\"] }",
        "{ take = [\".\"], network = [\"crates.example:443\"] }",
    ),
    ("a secret in a bad place", "forge-token = \"/secrets/token\"", "forge-token = \"secrets\""),
];

#[test]
fn each_way_to_be_wrong_is_told_with_place_and_expectation() {
    let mut all = String::new();
    for (what, right, wrong) in WRONG {
        assert!(GOOD.contains(right), "{right}");
        let problems = read("recipe.toml", &GOOD.replacen(right, wrong, 1)).expect_err(what);
        let _ = writeln!(all, "{what}");
        for problem in &problems {
            let _ = writeln!(all, "  {problem}");
        }
    }
    let no_part = read("recipe.toml", "image = { name = \"a/b\" }\n").expect_err("no part");
    let later = read(
        "recipe.toml",
        "image = { name = \"a/b\" }\npart.one = { base = \"a:1\", steps = [{ take = [\"/x\"], from = \"two\" }] }\npart.two = { base = \"a:1\" }\n",
    );
    let nothing = read("recipe.toml", "image = { name = \"a/b\" }\npart.one = {}\n");
    let no_program =
        read("recipe.toml", "image = { name = \"a/b\" }\npart.one = { steps = [{ run = \"make\" }] }\n");
    for problems in [
        no_part,
        later.expect_err("later"),
        nothing.expect_err("nothing"),
        no_program.expect_err("no program"),
    ] {
        for problem in &problems {
            let _ = writeln!(all, "{problem}");
        }
    }
    insta::assert_snapshot!(all);
}

#[test]
fn too_many_steps_are_refused() {
    let steps = "{ take = [\".\"] }, ".repeat(101);
    let text = format!("image = {{ name = \"a/b\" }}\npart.one = {{ base = \"a:1\", steps = [{steps}] }}\n");
    let problems = read("recipe.toml", &text).expect_err("too many");
    assert_eq!(problems[0].message, "the recipe has 101 steps; at most 100 are possible, so join some");
}

#[test]
fn a_recipe_that_is_cut_or_garbled_is_read_or_refused_with_a_place() {
    let ends: Vec<usize> = GOOD.char_indices().map(|(at, _)| at).collect();
    let cut = ends.iter().map(|end| GOOD[..*end].to_owned());
    let garbled = ends.iter().flat_map(|at| {
        ["\"", "[", "\u{0}", "ä", "="].map(|sign| format!("{}{sign}{}", &GOOD[..*at], &GOOD[*at..]))
    });
    for text in cut.chain(garbled) {
        if let Err(problems) = read("recipe.toml", &text) {
            let lines = text.lines().count() + 1;
            assert!(!problems.is_empty(), "{text}");
            assert!(problems.iter().all(|it| (1..=lines).contains(&it.place.line)), "{problems:?}");
        }
    }
}
