//! A recipe for Node.js: a server, or pages that a build makes.

use serde_json::Value;

use super::bases::{NODE_JS, NODE_JS_TOOLS, PYTHON};
use super::{Lines, NO_RIGHTS, PORT, SERVES_FILES, Tree};

/// What `package.json` and the tree tell of it.
struct Found {
    /// What is run, and how that is known; nothing where the tree has no server.
    entry: Option<(String, &'static str)>,
    has_dependencies: bool,
    builds: bool,
    is_locked: bool,
    /// The packages are in the tree.
    has_packages: bool,
}

impl Found {
    fn look(tree: &Tree<'_>) -> Found {
        let manifest = (tree.read)("package.json").unwrap_or_default();
        let manifest: Value = serde_json::from_str(&manifest).unwrap_or_default();
        let script = |name: &str| manifest["scripts"][name].as_str().map(str::to_owned);
        let start = script("start").and_then(|start| start.strip_prefix("node ").map(str::to_owned));
        let main = manifest["main"].as_str().map(str::to_owned);
        let usual = ["server.js", "index.js", "app.js", "src/index.js"];
        let usual = usual.iter().find(|name| tree.files.contains(**name)).map(ToString::to_string);
        let entry = start
            .map(|start| (start, "The script \"start\" of package.json runs it."))
            .or_else(|| Some((main?, "package.json names it as \"main\".")))
            .or_else(|| Some((usual?, "The usual name of a server's file.")));
        let lists = |key: &str| manifest[key].as_object().is_some_and(|all| !all.is_empty());
        let builds = script("build").is_some();
        Found {
            entry,
            has_dependencies: lists("dependencies") || builds && lists("devDependencies"),
            builds,
            is_locked: tree.files.contains("package-lock.json"),
            has_packages: tree.files.iter().any(|file| file.starts_with("node_modules/")),
        }
    }

    fn needs_tools(&self) -> bool {
        self.builds || self.has_dependencies && !self.has_packages
    }
}

pub(super) fn recipe(tree: &Tree<'_>, repository: &str) -> String {
    let found = Found::look(tree);
    let runs = if found.entry.is_none() && found.builds { PYTHON } else { NODE_JS };
    let bases = if found.needs_tools() { &[NODE_JS_TOOLS, runs][..] } else { &[runs] };
    let mut lines = Lines::new(repository, bases);
    image(&mut lines, &found);
    if found.needs_tools() {
        built(&mut lines, &found);
    }
    lines.line("");
    lines.line("[part.run]");
    lines.line(&format!("base = \"{}\"", runs.name));
    if runs == NODE_JS {
        lines.line("folder = \"/app\"");
    }
    lines.line("");
    if !found.needs_tools() && found.has_packages {
        lines.note("The packages are in node_modules/: nothing is fetched.");
    }
    lines.line("[[part.run.steps]]");
    match (found.needs_tools(), runs == NODE_JS) {
        (false, _) => lines.line("take = [\".\"]"),
        (true, true) => {
            lines.line("take = [\"/code/\"]");
            lines.line("from = \"build\"");
            lines.line("to = \"/app\"");
        }
        (true, false) => {
            lines.because("Where most builds put their pages: name yours.", "take = [\"/code/dist/\"]");
            lines.line("from = \"build\"");
            lines.line("to = \"/site\"");
        }
    }
    lines.0
}

fn image(lines: &mut Lines, found: &Found) {
    match &found.entry {
        None if found.builds => {
            lines.because("package.json builds pages and starts no server.", SERVES_FILES);
            lines.because(PORT, "ports = [8080]");
            lines.line("health = \"/\"");
        }
        entry => {
            let unknown = ("server.js".to_owned(), "No file was found that looks like a server: name yours.");
            let (entry, reason) = entry.as_ref().unwrap_or(&unknown);
            let words: Vec<String> = entry.split_whitespace().map(|word| format!("\"{word}\"")).collect();
            lines.because(reason, &format!("command = [\"node\", {}]", words.join(", ")));
            lines.because(PORT, "ports = [8080]");
        }
    }
    lines.because(NO_RIGHTS, "user = \"65534\"");
}

/// The part that installs packages and builds: the package manager is not in the image.
fn built(lines: &mut Lines, found: &Found) {
    lines.line("");
    lines.note("Installs and builds: the package manager is not in the image.");
    lines.line("[part.build]");
    lines.line(&format!("base = \"{}\"", NODE_JS_TOOLS.name));
    lines.line("folder = \"/code\"");
    let fetches = found.has_dependencies && !found.has_packages;
    if fetches {
        lines.because(
            "Packages that were fetched stay for the next build.",
            "caches = { packages = \"/cache/npm\" }",
        );
        lines.line("settings = { npm_config_cache = \"/cache/npm\" }");
        lines.line("");
        lines.note("The packages come first: they are installed again only when these files change.");
        lines.line("[[part.build.steps]]");
        let lock = if found.is_locked { ", \"package-lock.json\"" } else { "" };
        lines.line(&format!("take = [\"package.json\"{lock}]"));
        lines.line("");
        lines.line("[[part.build.steps]]");
        lines.because("Where packages are fetched from.", "network = [\"registry.npmjs.org:443\"]");
        let install = if found.is_locked { "npm ci" } else { "npm install" };
        let left_out = if found.builds { "" } else { " --omit=dev" };
        lines.line(&format!("run = \"{install}{left_out}\""));
    }
    lines.line("");
    lines.line("[[part.build.steps]]");
    lines.line("take = [\".\"]");
    if found.builds {
        lines.line("");
        lines.line("[[part.build.steps]]");
        if found.entry.is_some() {
            lines.because(
                "The script \"build\" of package.json; what only it needs is not in the image.",
                "run = \"npm run build && npm prune --omit=dev\"",
            );
        } else {
            lines.because("The script \"build\" of package.json.", "run = \"npm run build\"");
        }
    }
}
