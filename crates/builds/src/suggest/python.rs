//! A recipe for Python.

use super::bases::{PYTHON, PYTHON_TOOLS};
use super::{Lines, NO_RIGHTS, PORT, Tree};

/// How the packages that a program needs are installed.
struct Install {
    /// The files that say what it needs, and where it lies in the tree.
    takes: &'static str,
    /// What the package manager is told.
    of: &'static str,
    fetches: bool,
}

impl Install {
    fn of(tree: &Tree<'_>) -> Option<Install> {
        const LISTED: &str = "take = [\"requirements.txt\"]";
        if tree.files.contains("requirements.txt") {
            let has_wheels = tree.files.iter().any(|file| file.starts_with("wheels/"));
            return Some(if has_wheels {
                Install {
                    takes: "take = [\"requirements.txt\", \"wheels\"]",
                    of: "--no-index --find-links wheels -r requirements.txt",
                    fetches: false,
                }
            } else {
                Install { takes: LISTED, of: "-r requirements.txt", fetches: true }
            });
        }
        let project = (tree.read)("pyproject.toml")?.parse::<toml_edit::DocumentMut>().ok()?;
        let needs = project.get("project")?.get("dependencies")?.as_array()?;
        (!needs.is_empty()).then_some(Install { takes: "take = [\".\"]", of: ".", fetches: true })
    }
}

pub(super) fn recipe(tree: &Tree<'_>, repository: &str) -> String {
    let install = Install::of(tree);
    let bases = if install.is_some() { &[PYTHON_TOOLS, PYTHON][..] } else { &[PYTHON] };
    let mut lines = Lines::new(repository, bases);
    lines.because(
        "The file that looks like the program.",
        &format!("command = [\"python3\", \"/app/{}\"]", entry(tree)),
    );
    if install.is_some() {
        lines.because(
            "Each line of its log is written at once; its packages are found there.",
            "settings = { PYTHONUNBUFFERED = \"1\", PYTHONPATH = \"/app/packages\" }",
        );
    } else {
        lines.because("Each line of its log is written at once.", "settings = { PYTHONUNBUFFERED = \"1\" }");
    }
    lines.because(PORT, "ports = [8080]");
    lines.because(NO_RIGHTS, "user = \"65534\"");
    if let Some(install) = &install {
        installed(&mut lines, install);
    }
    lines.line("");
    lines.line("[part.run]");
    lines.line(&format!("base = \"{}\"", PYTHON.name));
    lines.line("folder = \"/app\"");
    if install.is_some() {
        lines.line("");
        lines.line("[[part.run.steps]]");
        lines.line("take = [\"/packages\"]");
        lines.line("from = \"build\"");
        lines.line("to = \"/app/\"");
    }
    lines.line("");
    lines.line("[[part.run.steps]]");
    lines.line("take = [\".\"]");
    lines.0
}

fn entry(tree: &Tree<'_>) -> String {
    let usual = ["main.py", "app.py", "server.py", "survey.py", "manage.py"];
    let found = usual.iter().find(|name| tree.files.contains(**name)).map(ToString::to_string);
    let is_program =
        |name: &&String| !name.contains('/') && name.ends_with(".py") && !name.starts_with("test");
    found.or_else(|| tree.files.iter().find(is_program).cloned()).unwrap_or_else(|| "main.py".to_owned())
}

/// The part that installs packages: the package manager is not in the image.
fn installed(lines: &mut Lines, install: &Install) {
    lines.line("");
    lines.note("Installs the packages: the package manager is not in the image.");
    lines.line("[part.build]");
    lines.line(&format!("base = \"{}\"", PYTHON_TOOLS.name));
    lines.line("folder = \"/code\"");
    if install.fetches {
        lines.because(
            "Packages that were fetched stay for the next build.",
            "caches = { packages = \"/cache/pip\" }",
        );
        lines.line("settings = { PIP_CACHE_DIR = \"/cache/pip\" }");
    }
    lines.line("");
    lines.note("They are installed again only when what is taken here changes.");
    lines.line("[[part.build.steps]]");
    lines.line(install.takes);
    lines.line("");
    lines.line("[[part.build.steps]]");
    if install.fetches {
        lines.because(
            "Where packages are fetched from.",
            "network = [\"pypi.org:443\", \"files.pythonhosted.org:443\"]",
        );
    } else {
        lines.note("The packages are in wheels/: nothing is fetched.");
    }
    lines.note("Compiled by themselves: what the package manager compiles is another file each time.");
    let installs = format!("python3 -m pip install --no-compile --target /packages {}", install.of);
    lines.line("run = \"\"\"");
    lines.line(&installs);
    lines.line("python3 -m compileall -q -s /packages -p /app/packages /packages");
    lines.line("\"\"\"");
}
