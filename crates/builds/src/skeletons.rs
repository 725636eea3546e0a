//! Code to begin with: a small program of each kind, a first test, and the declaration that runs it.

use std::fmt::Write as _;

use mainyard_core::model::Name;

use crate::suggest::{Base, Tree, bases_of, suggest};

/// A file to write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewFile {
    /// Its path in the folder.
    pub path: &'static str,
    /// Its content.
    pub text: String,
    /// Whether it may be executed.
    pub runs: bool,
}

/// A file of a skeleton: path, content, and whether it may be executed.
type File = (&'static str, &'static str, bool);

/// The kinds, by name.
pub const KINDS: [&str; 5] = ["python", "nodejs", "rust", "static-site", "program"];

const PYTHON: &[File] = &[
    ("main.py", include_str!("skeletons/python/main.py"), false),
    ("test_main.py", include_str!("skeletons/python/test_main.py"), false),
    (".gitignore", "__pycache__/\n", false),
];
const NODE: &[File] = &[
    ("server.js", include_str!("skeletons/nodejs/server.js"), false),
    ("server.test.js", include_str!("skeletons/nodejs/server.test.js"), false),
    ("package.json", include_str!("skeletons/nodejs/package.json"), false),
    (".gitignore", "node_modules/\n", false),
];
const RUST: &[File] = &[
    ("src/main.rs", include_str!("skeletons/rust/main.rs"), false),
    ("Cargo.toml", include_str!("skeletons/rust/Cargo.toml.txt"), false),
    ("Cargo.lock", include_str!("skeletons/rust/Cargo.lock.txt"), false),
    (".gitignore", "target/\n", false),
];
const SITE: &[File] = &[
    ("index.html", include_str!("skeletons/static-site/index.html"), false),
    ("style.css", include_str!("skeletons/static-site/style.css"), false),
];
const PROGRAM: &[File] = &[("main.sh", include_str!("skeletons/program/main.sh"), true)];

/// The bases of a skeleton's recipe that a machine's packages can make.
pub fn bases(files: &[NewFile]) -> Vec<Base> {
    let recipe = files.iter().find(|file| file.path == crate::FILE_NAME);
    let recipe = recipe.and_then(|file| crate::recipe::read(crate::FILE_NAME, &file.text).ok());
    recipe.map_or(Vec::new(), |recipe| bases_of(&recipe))
}

/// The files of a skeleton under a name; nothing where there is no such kind.
pub fn skeleton(kind: &str, name: &Name, repository: &str) -> Option<Vec<NewFile>> {
    let files = match kind {
        "python" => PYTHON,
        "nodejs" => NODE,
        "rust" => RUST,
        "static-site" => SITE,
        "program" => PROGRAM,
        _ => return None,
    };
    let filled =
        |(path, text, runs): &File| NewFile { path, text: text.replace("NAME", name.as_str()), runs: *runs };
    let mut all: Vec<NewFile> = files.iter().map(filled).collect();
    let read = |path: &str| all.iter().find(|file| file.path == path).map(|file| file.text.clone());
    let tree = Tree {
        files: all.iter().map(|file| file.path.to_owned()).collect(),
        programs: all.iter().filter(|file| file.runs).map(|file| file.path.to_owned()).collect(),
        read: &read,
    };
    let recipe = suggest(&tree, repository)?.recipe;
    all.push(NewFile { path: crate::FILE_NAME, text: recipe, runs: false });
    all.push(NewFile { path: "mainyard.toml", text: declaration(kind, name, repository), runs: false });
    Some(all)
}

fn declaration(kind: &str, name: &Name, repository: &str) -> String {
    let mut text = format!(
        "application = \"{name}\"\n\n[workload.{name}]\n# `mainyard send` fills the tag in.\nimage = \"{repository}:0\"\n"
    );
    if kind == "program" {
        return text;
    }
    let path = if kind == "static-site" { "/" } else { "/healthz" };
    let _ = write!(
        text,
        "ports = {{ http = 8080 }}\nchecks = {{ ready = {{ path = \"{path}\" }} }}\n\n\
         # Its address is this name in front of the environment's domain.\n\
         [route.{name}]\nto = [{{ service = \"{name}\" }}]\n"
    );
    text
}

#[cfg(test)]
mod tests {
    use mainyard_core::manifest::{SourceFile, read};

    use super::*;

    #[test]
    fn every_skeleton_has_a_recipe_and_a_declaration_that_can_be_read() {
        let (name, repository) = ("survey".parse::<Name>().expect("a name"), "lockers/survey");
        for kind in KINDS {
            let files = skeleton(kind, &name, repository).expect(kind);
            let text = |path: &str| files.iter().find(|file| file.path == path).expect(path).text.clone();
            let recipe = crate::recipe::read("recipe.toml", &text("recipe.toml"));
            assert_eq!(recipe.expect(kind).image.name, repository);
            let file = SourceFile { name: "mainyard.toml".to_owned(), text: text("mainyard.toml") };
            let declared = read(&[file], Some(&"staging".parse().expect("a name"))).expect(kind);
            assert_eq!(declared.workloads.len(), 1, "{kind}");
            assert!(!files.iter().any(|file| file.text.contains("NAME")), "{kind}");
        }
        assert_eq!(skeleton("cobol", &name, repository), None);
    }
}
