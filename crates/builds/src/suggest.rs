//! A recipe for a tree that has none: what the tree looks like, and the reason for each line.

mod bases;
mod nodejs;
mod python;

use std::collections::BTreeSet;
use std::fmt::Write as _;

use crate::materials::dependencies;
use crate::recipe::Recipe;

pub use bases::Base;
use bases::{JAVA, PLAIN, PYTHON, RUST};

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

/// The bases of a recipe that a machine's packages can make, each once.
pub fn bases_of(recipe: &Recipe) -> Vec<Base> {
    let mut bases = Vec::new();
    for part in &recipe.parts {
        let base = part.base.as_ref().and_then(|base| Base::named(&base.to_string()));
        bases.extend(base.filter(|base| !bases.contains(base)));
    }
    bases
}

/// Suggests a recipe for a tree; nothing where it is none of the known kinds.
pub fn suggest(tree: &Tree<'_>, repository: &str) -> Option<Suggestion> {
    let (kind, because) = kind_of(tree)?;
    let recipe = match kind {
        TreeKind::Rust => rust(tree, repository),
        TreeKind::NodeJs => nodejs::recipe(tree, repository),
        TreeKind::Python => python::recipe(tree, repository),
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
    fn new(repository: &str, bases: &[Base]) -> Lines {
        let mut lines = Lines(String::new());
        let (them, are) = if bases.len() == 1 { ("it", "is") } else { ("they", "are") };
        lines.note(&format!("Bases come from any registry; of this machine's packages {them} {are} made by"));
        for base in bases {
            lines.note(&base.command());
        }
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
/// Why a program does not run as root.
const NO_RIGHTS: &str = "It needs no rights of root.";
/// A server of files, which Python has.
const SERVES_FILES: &str =
    "command = [\"sh\", \"-c\", \"exec python3 -m http.server ${PORT:-8080} --directory /site\"]";

fn rust(tree: &Tree<'_>, repository: &str) -> String {
    let manifest = (tree.read)("Cargo.toml").unwrap_or_default();
    let name =
        table_value(&manifest, "[bin]", "name").or_else(|| table_value(&manifest, "[package]", "name"));
    let name = name.unwrap_or_else(|| leaf(repository));
    let mut lines = Lines::new(repository, &[RUST, PLAIN]);
    lines.because(&format!("Cargo.toml names the program {name}."), &format!("command = [\"/app/{name}\"]"));
    lines.because(PORT, "ports = [8080]");
    lines.because(NO_RIGHTS, "user = \"65534\"");
    lines.line("");
    lines.note("Compiles: nothing of this part but the program is in the image.");
    lines.line("[part.build]");
    lines.line(&format!("base = \"{}\"", RUST.name));
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
    lines
        .because("The program needs the C library, and nothing else.", &format!("base = \"{}\"", PLAIN.name));
    lines.line("folder = \"/app\"");
    lines.line("");
    lines.line("[[part.run.steps]]");
    lines.line(&format!("take = [\"/out/{name}\"]"));
    lines.line("from = \"build\"");
    lines.line("to = \"/app/\"");
    lines.0
}

fn java(tree: &Tree<'_>, repository: &str, jar: &str) -> String {
    let mut lines = Lines::new(repository, &[JAVA]);
    let jars = tree.files.iter().filter(|name| name.ends_with(".jar")).count();
    let reason = if jars > 1 {
        "The first of the jar files: name another where that is not the program."
    } else {
        "The tree's jar file."
    };
    lines.because(reason, &format!("command = [\"java\", \"-jar\", \"/app/{jar}\"]"));
    lines.because(PORT, "ports = [8080]");
    lines.because(NO_RIGHTS, "user = \"65534\"");
    lines.line("");
    lines.line("[part.run]");
    lines.line(&format!("base = \"{}\"", JAVA.name));
    lines.line("folder = \"/app\"");
    lines.line("");
    lines.line("[[part.run.steps]]");
    lines.line("take = [\".\"]");
    lines.0
}

fn static_site(tree: &Tree<'_>, repository: &str) -> String {
    let folder = if tree.files.contains("index.html") { "." } else { "public/" };
    let mut lines = Lines::new(repository, &[PYTHON]);
    lines.because("A small server of files, which Python has.", SERVES_FILES);
    lines.because(PORT, "ports = [8080]");
    lines.line("health = \"/\"");
    lines.because(NO_RIGHTS, "user = \"65534\"");
    lines.because("Each line of its log is written at once.", "settings = { PYTHONUNBUFFERED = \"1\" }");
    lines.line("");
    lines.line("[part.run]");
    lines.line(&format!("base = \"{}\"", PYTHON.name));
    lines.line("");
    lines.line("[[part.run.steps]]");
    lines.because("index.html is here.", &format!("take = [\"{folder}\"]"));
    lines.line("to = \"/site\"");
    lines.0
}

fn program(repository: &str, file: &str) -> String {
    let mut lines = Lines::new(repository, &[PLAIN]);
    lines.because("The file of the tree that may be executed.", &format!("command = [\"/app/{file}\"]"));
    lines.because(PORT, "ports = [8080]");
    lines.because(NO_RIGHTS, "user = \"65534\"");
    lines.line("");
    lines.line("[part.run]");
    lines.because(
        "The C library; a program that is linked statically needs no base at all.",
        &format!("base = \"{}\"", PLAIN.name),
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
        let pages = "{\"scripts\": {\"build\": \"vite build\"}, \"devDependencies\": {\"vite\": \"1\"}}";
        let needs = "{\"dependencies\": {\"a\": \"1\"}}";
        let trees = [
            (
                &[("Cargo.toml", "[package]\nname = \"survey\"\n"), ("Cargo.lock", ""), ("src/main.rs", "")]
                    [..],
                &[][..],
            ),
            (&[("package.json", package), ("package-lock.json", "{}"), ("server.js", "")], &[]),
            (&[("package.json", pages), ("package-lock.json", "{}"), ("src/main.tsx", "")], &[]),
            (&[("package.json", needs), ("node_modules/a/index.js", ""), ("server.js", "")], &[]),
            (&[("survey.py", ""), ("test_survey.py", "")], &[]),
            (&[("main.py", ""), ("requirements.txt", "")], &[]),
            (&[("main.py", ""), ("requirements.txt", ""), ("wheels/a-1-py3-none-any.whl", "")], &[]),
            (&[("main.py", ""), ("pyproject.toml", "[project]\ndependencies = [\"flask\"]\n")], &[]),
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
