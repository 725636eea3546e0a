//! A recipe for a tree that has none: what the tree looks like, and the reason for each line.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use serde_json::Value;

use crate::materials::dependencies;

/// A tree to look at.
pub struct Tree<'a> {
    /// Its files, relative to it.
    pub files: BTreeSet<String>,
    /// Those among them that may be executed.
    pub programs: BTreeSet<String>,
    /// Reads a short file.
    pub read: &'a dyn Fn(&str) -> Option<String>,
}

/// The kinds of trees that are known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TreeKind {
    /// Rust, with Cargo.
    Rust,
    /// Node.js.
    NodeJs,
    /// Python.
    Python,
    /// Java, with a jar file or with Maven.
    Java,
    /// Pages and pictures.
    StaticSite,
    /// A program that was built elsewhere.
    Program,
}

/// A suggestion.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suggestion {
    /// What the tree is taken for.
    pub kind: TreeKind,
    /// By which of its files.
    pub because: String,
    /// The recipe, with the reasons as comments.
    pub recipe: String,
}

/// The packages of Debian that each base is made of, for a machine that has them.
pub fn base_packages(kind: TreeKind) -> (&'static str, &'static str) {
    match kind {
        TreeKind::Rust => ("bases/rust:1", "rustc,cargo,gcc,libc6-dev,dash,coreutils,ca-certificates"),
        TreeKind::NodeJs => ("bases/nodejs:1", "nodejs,dash,coreutils"),
        TreeKind::Python | TreeKind::StaticSite => ("bases/python:3", "python3,dash,coreutils"),
        TreeKind::Java => ("bases/java:17", "openjdk-17-jre-headless,dash,coreutils"),
        TreeKind::Program => ("bases/plain:1", "libc6,dash,coreutils"),
    }
}

/// Suggests a recipe for a tree; nothing where it is none of the known kinds.
pub fn suggest(tree: &Tree<'_>, repository: &str) -> Option<Suggestion> {
    let (kind, because) = kind_of(tree)?;
    let recipe = match kind {
        TreeKind::Rust => rust(tree, repository),
        TreeKind::NodeJs => node(tree, repository),
        TreeKind::Python => python(tree, repository),
        TreeKind::Java => java(tree, repository, &because),
        TreeKind::StaticSite => static_site(tree, repository),
        TreeKind::Program => program(repository, &because),
    };
    Some(Suggestion { kind, because, recipe })
}

fn kind_of(tree: &Tree<'_>) -> Option<(TreeKind, String)> {
    let has = |name: &str| tree.files.contains(name).then(|| name.to_owned());
    let ends =
        |suffix: &str| tree.files.iter().find(|name| !name.contains('/') && name.ends_with(suffix)).cloned();
    let known = [
        (TreeKind::Rust, has("Cargo.toml")),
        (TreeKind::NodeJs, has("package.json")),
        (TreeKind::Python, has("pyproject.toml").or_else(|| has("requirements.txt")).or_else(|| ends(".py"))),
        (TreeKind::Java, ends(".jar")),
        (TreeKind::StaticSite, has("index.html").or_else(|| has("public/index.html"))),
        (TreeKind::Program, tree.programs.iter().find(|name| !name.contains('/')).cloned()),
    ];
    known.into_iter().find_map(|(kind, file)| Some((kind, file?)))
}

/// Lines of a recipe, each with the reason for it above.
struct Lines(String);

impl Lines {
    fn new(repository: &str, kind: TreeKind) -> Lines {
        let (base, packages) = base_packages(kind);
        let mut lines = Lines(String::new());
        lines.note(&format!("Bases come from any registry; of this machine's packages it is made by\nmainyard image base {base} --packages {packages}"));
        lines.0.push('\n');
        lines.line("[image]");
        lines.line(&format!("name = \"{repository}\""));
        lines
    }

    fn note(&mut self, text: &str) {
        for line in text.lines() {
            let _ = writeln!(self.0, "# {line}");
        }
    }

    fn line(&mut self, text: &str) {
        let _ = writeln!(self.0, "{text}");
    }

    fn because(&mut self, reason: &str, line: &str) {
        self.note(reason);
        self.line(line);
    }
}

/// The port by which every kind is told where to listen.
const PORT: &str = "The platform tells the program its port in PORT, and asks here whether it is well.";

fn rust(tree: &Tree<'_>, repository: &str) -> String {
    let manifest = (tree.read)("Cargo.toml").unwrap_or_default();
    let name =
        table_value(&manifest, "[bin]", "name").or_else(|| table_value(&manifest, "[package]", "name"));
    let name = name.unwrap_or_else(|| leaf(repository));
    let mut lines = Lines::new(repository, TreeKind::Rust);
    lines.because(&format!("Cargo.toml names the program {name}."), &format!("command = [\"/app/{name}\"]"));
    lines.because(PORT, "ports = [8080]");
    lines.because("It needs no rights of root.", "user = \"65534\"");
    lines.line("");
    lines.note("Compiles: nothing of this part but the program is in the image.");
    lines.line("[part.build]");
    lines.line(&format!("base = \"{}\"", base_packages(TreeKind::Rust).0));
    lines.line("folder = \"/code\"");
    lines.because(
        "What was compiled and fetched stays for the next build, which compiles only what changed.",
        "caches = { target = \"/cache/target\", cargo = \"/cache/cargo\" }",
    );
    lines.line("settings = { CARGO_TARGET_DIR = \"/cache/target\", CARGO_HOME = \"/cache/cargo\" }");
    lines.line("");
    lines.line("[[part.build.steps]]");
    lines.line("take = [\".\"]");
    lines.line("");
    lines.line("[[part.build.steps]]");
    let vendored = tree.files.iter().any(|file| file.starts_with("vendor/"));
    let locked = if tree.files.contains("Cargo.lock") { " --locked" } else { "" };
    let lock = (tree.read)("Cargo.lock").unwrap_or_default();
    let has_dependencies =
        !tree.files.contains("Cargo.lock") || !dependencies("Cargo.lock", &lock).is_empty();
    if vendored {
        lines.note("The dependencies are in vendor/: nothing is fetched.");
    } else if has_dependencies {
        lines.because(
            "Where crates are fetched from.",
            "network = [\"index.crates.io:443\", \"static.crates.io:443\"]",
        );
    }
    let offline = if vendored { " --offline" } else { "" };
    lines.line(&format!("run = \"cargo build --release{locked}{offline} && mkdir -p /out && cp /cache/target/release/{name} /out/\""));
    lines.line("");
    lines.line("[part.run]");
    lines.because("The program needs the C library, and nothing else.", "base = \"bases/plain:1\"");
    lines.line("folder = \"/app\"");
    lines.line("");
    lines.line("[[part.run.steps]]");
    lines.line(&format!("take = [\"/out/{name}\"]"));
    lines.line("from = \"build\"");
    lines.line("to = \"/app/\"");
    lines.0
}

fn node(tree: &Tree<'_>, repository: &str) -> String {
    let manifest = (tree.read)("package.json").unwrap_or_default();
    let manifest: Value = serde_json::from_str(&manifest).unwrap_or_default();
    let script = |name: &str| manifest["scripts"][name].as_str().map(str::to_owned);
    let main = manifest["main"].as_str().map(str::to_owned);
    let start = script("start").and_then(|start| start.strip_prefix("node ").map(str::to_owned));
    let usual = ["server.js", "index.js", "app.js", "src/index.js"];
    let found = usual.iter().find(|name| tree.files.contains(**name)).map(ToString::to_string);
    let (entry, reason) = match (start, main, found) {
        (Some(start), ..) => (start, "The script \"start\" of package.json runs it."),
        (None, Some(main), _) => (main, "package.json names it as \"main\"."),
        (None, None, Some(found)) => (found, "The usual name of a server's file."),
        (None, None, None) => {
            ("server.js".to_owned(), "No file was found that looks like a server: name yours.")
        }
    };
    let has_dependencies = manifest["dependencies"].as_object().is_some_and(|all| !all.is_empty());
    let builds = script("build").is_some();
    let mut lines = Lines::new(repository, TreeKind::NodeJs);
    let words: Vec<String> = entry.split_whitespace().map(|word| format!("\"{word}\"")).collect();
    lines.because(reason, &format!("command = [\"node\", {}]", words.join(", ")));
    lines.because(PORT, "ports = [8080]");
    lines.because("It needs no rights of root.", "user = \"65534\"");
    lines.line("");
    lines.line("[part.run]");
    lines.line(&format!("base = \"{}\"", base_packages(TreeKind::NodeJs).0));
    lines.line("folder = \"/app\"");
    if has_dependencies || builds {
        lines.because(
            "Packages that were fetched stay for the next build.",
            "caches = { packages = \"/cache/npm\" }",
        );
        lines.line("settings = { npm_config_cache = \"/cache/npm\" }");
    }
    if has_dependencies {
        lines.line("");
        lines.note("The packages come first: they are installed again only when these files change.");
        lines.line("[[part.run.steps]]");
        let lock = if tree.files.contains("package-lock.json") { ", \"package-lock.json\"" } else { "" };
        lines.line(&format!("take = [\"package.json\"{lock}]"));
        lines.line("");
        lines.line("[[part.run.steps]]");
        lines.because("Where packages are fetched from.", "network = [\"registry.npmjs.org:443\"]");
        let install = if lock.is_empty() { "npm install --omit=dev" } else { "npm ci --omit=dev" };
        lines.line(&format!("run = \"{install}\""));
    }
    lines.line("");
    lines.line("[[part.run.steps]]");
    lines.line("take = [\".\"]");
    if builds {
        lines.line("");
        lines.line("[[part.run.steps]]");
        lines.because("The script \"build\" of package.json.", "run = \"npm run build\"");
    }
    lines.0
}

fn python(tree: &Tree<'_>, repository: &str) -> String {
    let usual = ["main.py", "app.py", "server.py", "survey.py", "manage.py"];
    let found = usual.iter().find(|name| tree.files.contains(**name)).map(ToString::to_string);
    let any = tree
        .files
        .iter()
        .find(|name| !name.contains('/') && name.ends_with(".py") && !name.starts_with("test"))
        .cloned();
    let entry = found.or(any).unwrap_or_else(|| "main.py".to_owned());
    let mut lines = Lines::new(repository, TreeKind::Python);
    lines.because(
        "The file that looks like the program.",
        &format!("command = [\"python3\", \"/app/{entry}\"]"),
    );
    lines.because("Each line of its log is written at once.", "settings = { PYTHONUNBUFFERED = \"1\" }");
    lines.because(PORT, "ports = [8080]");
    lines.because("It needs no rights of root.", "user = \"65534\"");
    lines.line("");
    lines.line("[part.run]");
    lines.line(&format!("base = \"{}\"", base_packages(TreeKind::Python).0));
    lines.line("folder = \"/app\"");
    if tree.files.contains("requirements.txt") {
        lines.because(
            "Packages that were fetched stay for the next build.",
            "caches = { packages = \"/cache/pip\" }",
        );
        lines.line("settings = { PIP_CACHE_DIR = \"/cache/pip\" }");
        lines.line("");
        lines.note("The packages come first: they are installed again only when this file changes.");
        lines.line("[[part.run.steps]]");
        lines.line("take = [\"requirements.txt\"]");
        lines.line("");
        lines.line("[[part.run.steps]]");
        let vendored = tree.files.iter().any(|file| file.starts_with("wheels/"));
        if vendored {
            lines.line("run = \"python3 -m pip install --no-index --find-links wheels --target /app/packages -r requirements.txt\"");
        } else {
            lines.because(
                "Where packages are fetched from.",
                "network = [\"pypi.org:443\", \"files.pythonhosted.org:443\"]",
            );
            lines.line("run = \"python3 -m pip install --target /app/packages -r requirements.txt\"");
        }
    }
    lines.line("");
    lines.line("[[part.run.steps]]");
    lines.line("take = [\".\"]");
    lines.0
}

fn java(tree: &Tree<'_>, repository: &str, jar: &str) -> String {
    let mut lines = Lines::new(repository, TreeKind::Java);
    let jars = tree.files.iter().filter(|name| name.ends_with(".jar")).count();
    let reason = if jars > 1 {
        "The first of the jar files: name another where that is not the program."
    } else {
        "The tree's jar file."
    };
    lines.because(reason, &format!("command = [\"java\", \"-jar\", \"/app/{jar}\"]"));
    lines.because(PORT, "ports = [8080]");
    lines.because("It needs no rights of root.", "user = \"65534\"");
    lines.line("");
    lines.line("[part.run]");
    lines.line(&format!("base = \"{}\"", base_packages(TreeKind::Java).0));
    lines.line("folder = \"/app\"");
    lines.line("");
    lines.line("[[part.run.steps]]");
    lines.line("take = [\".\"]");
    lines.0
}

fn static_site(tree: &Tree<'_>, repository: &str) -> String {
    let folder = if tree.files.contains("index.html") { "." } else { "public/" };
    let mut lines = Lines::new(repository, TreeKind::StaticSite);
    lines.because(
        "A small server of files, which Python has.",
        "command = [\"sh\", \"-c\", \"exec python3 -m http.server ${PORT:-8080} --directory /site\"]",
    );
    lines.because(PORT, "ports = [8080]");
    lines.line("health = \"/\"");
    lines.because("It needs no rights of root.", "user = \"65534\"");
    lines.because("Each line of its log is written at once.", "settings = { PYTHONUNBUFFERED = \"1\" }");
    lines.line("");
    lines.line("[part.run]");
    lines.line(&format!("base = \"{}\"", base_packages(TreeKind::StaticSite).0));
    lines.line("");
    lines.line("[[part.run.steps]]");
    lines.because("index.html is here.", &format!("take = [\"{folder}\"]"));
    lines.line("to = \"/site\"");
    lines.0
}

fn program(repository: &str, file: &str) -> String {
    let mut lines = Lines::new(repository, TreeKind::Program);
    lines.because("The file of the tree that may be executed.", &format!("command = [\"/app/{file}\"]"));
    lines.because(PORT, "ports = [8080]");
    lines.because("It needs no rights of root.", "user = \"65534\"");
    lines.line("");
    lines.line("[part.run]");
    lines.because(
        "The C library; a program that is linked statically needs no base at all.",
        &format!("base = \"{}\"", base_packages(TreeKind::Program).0),
    );
    lines.line("folder = \"/app\"");
    lines.line("");
    lines.line("[[part.run.steps]]");
    lines.line("take = [\".\"]");
    lines.0
}

fn leaf(repository: &str) -> String {
    repository.rsplit('/').next().unwrap_or(repository).to_owned()
}

/// A text of a table in a TOML file, of an array of tables that of its first one.
fn table_value(text: &str, table: &str, key: &str) -> Option<String> {
    let document = text.parse::<toml_edit::DocumentMut>().ok()?;
    let item = document.get(table.trim_matches(['[', ']']))?;
    let table = match item.as_array_of_tables() {
        Some(list) => list.iter().next()?.get(key)?.as_str(),
        None => item.as_table_like()?.get(key)?.as_str(),
    };
    table.map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn suggested(files: &[(&str, &str)], programs: &[&str]) -> Option<Suggestion> {
        let read =
            |name: &str| files.iter().find(|(known, _)| *known == name).map(|(_, text)| (*text).to_owned());
        let names = files.iter().map(|(name, _)| *name).chain(programs.iter().copied());
        let tree = Tree {
            files: names.map(str::to_owned).collect(),
            programs: programs.iter().map(ToString::to_string).collect(),
            read: &read,
        };
        suggest(&tree, "lockers/survey-form")
    }

    #[test]
    fn each_kind_of_tree_gets_a_recipe_that_can_be_read() {
        let package = "{\"scripts\": {\"start\": \"node server.js\", \"build\": \"vite build\"}, \"dependencies\": {\"a\": \"1\"}}";
        let trees = [
            (
                &[("Cargo.toml", "[package]\nname = \"survey\"\n"), ("Cargo.lock", ""), ("src/main.rs", "")]
                    [..],
                &[][..],
            ),
            (&[("package.json", package), ("package-lock.json", "{}"), ("server.js", "")], &[]),
            (&[("survey.py", ""), ("test_survey.py", "")], &[]),
            (&[("main.py", ""), ("requirements.txt", "")], &[]),
            (&[("survey.jar", "")], &[]),
            (&[("index.html", "")], &[]),
            (&[("public/index.html", "")], &[]),
            (&[], &["survey"]),
        ];
        let mut all = String::new();
        for (files, programs) in trees {
            let suggestion = suggested(files, programs).expect("a suggestion");
            if let Err(problems) = crate::recipe::read("recipe.toml", &suggestion.recipe) {
                panic!("{problems:#?}\n{}", suggestion.recipe);
            }
            let _ = writeln!(
                all,
                "== {:?}, because of {}\n{}",
                suggestion.kind, suggestion.because, suggestion.recipe
            );
        }
        insta::assert_snapshot!(all);
        assert_eq!(suggested(&[("notes.txt", "")], &[]), None);
    }
}
