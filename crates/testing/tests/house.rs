//! The house rules that a reader relies on: no file holds more than one idea, and no two files need each other.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Lines of code after which a file is asked whether it is still one idea. Tests don't count.
const LONGEST: usize = 500;

/// Files that are longer, each with the one idea that would be torn apart.
const ONE_IDEA: &[(&str, &str)] = &[("crates/core/src/reasons.rs", "the catalogue of reasons: a table")];

/// The console's types of the API, made from the OpenAPI document when the console is built.
const GENERATED: &str = "schema.d.ts";

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().expect("the project")
}

fn files_below(dir: &Path, endings: &[&str], found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(dir).expect("a directory").flatten() {
        let path = entry.path();
        let name = entry.file_name().to_string_lossy().into_owned();
        if path.is_dir() && !matches!(name.as_str(), "target" | "node_modules" | "dist" | ".git") {
            files_below(&path, endings, found);
        } else if endings.iter().any(|ending| name.ends_with(ending)) && name != GENERATED {
            found.push(path);
        }
    }
}

fn sources(endings: &[&str]) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for dir in ["crates", "console"] {
        files_below(&root().join(dir), endings, &mut found);
    }
    assert!(found.len() > 20, "the sources are read");
    found
}

/// Lines before the tests at a file's end; none where the whole file is tests.
fn lines_of_code(path: &Path) -> usize {
    let text = std::fs::read_to_string(path).expect("a source");
    let is_test = path.ends_with("tests.rs")
        || path.components().any(|part| part.as_os_str().eq_ignore_ascii_case("tests"));
    if is_test { 0 } else { text.lines().take_while(|line| *line != "#[cfg(test)]").count() }
}

#[test]
fn no_file_is_long() {
    let mut long = Vec::new();
    let mut excused = BTreeSet::new();
    for path in sources(&[".rs", ".ts", ".tsx"]) {
        let lines = lines_of_code(&path);
        let name = path.strip_prefix(root()).expect("below the project").display().to_string();
        if lines <= LONGEST {
            continue;
        }
        match ONE_IDEA.iter().find(|(file, _)| *file == name) {
            Some((file, _)) => drop(excused.insert(*file)),
            None => long.push(format!("{name} has {lines} lines of code")),
        }
    }
    assert!(long.is_empty(), "cut these by concept, or say in ONE_IDEA why they are one: {long:#?}");
    assert_eq!(excused.len(), ONE_IDEA.len(), "ONE_IDEA names a file that is short or gone");
}

/// The type that a line of TypeScript begins to write down, where it does.
fn declared_type(line: &str) -> Option<&str> {
    let line = line.trim_start().trim_start_matches("export ");
    let rest = line.strip_prefix("interface ").or_else(|| line.strip_prefix("type "))?;
    rest.split(|c: char| !c.is_alphanumeric()).next().filter(|name| !name.is_empty())
}

#[test]
fn types_of_the_api_are_not_written_by_hand_in_the_console() {
    let document = std::fs::read_to_string(root().join("docs/openapi.json")).expect("the document");
    let document: serde_json::Value = serde_json::from_str(&document).expect("JSON");
    let schemas = document["components"]["schemas"].as_object().expect("schemas");
    assert!(schemas.len() > 100, "{} schemas", schemas.len());
    let mut wrong = Vec::new();
    for path in sources(&[".ts", ".tsx"]) {
        let text = std::fs::read_to_string(&path).expect("a source");
        let file = path.strip_prefix(root()).expect("below the project").display().to_string();
        for line in text.lines() {
            let Some(name) = declared_type(line) else { continue };
            let taken = line.contains("Schemas['") || line.contains("components['schemas']");
            // `model.ts` gives names to what was generated, and writes nothing down itself.
            let by_hand = file.ends_with("src/model.ts") || schemas.contains_key(name);
            if by_hand && !taken {
                wrong.push(format!("{file}: {}", line.trim()));
            }
        }
        // What the API answers is typed where it is asked for; only streams are read by hand.
        for line in text.lines().filter(|line| line.contains("fetch(") && !line.contains("openapi-fetch")) {
            let streams = ["/stream", "/requests", "logsPath", "/snapshot", "/events"];
            if !streams.iter().any(|stream| line.contains(stream)) {
                wrong.push(format!("{file}: {}", line.trim()));
            }
        }
    }
    assert!(wrong.is_empty(), "take these from the OpenAPI document (src/model.ts, src/api.ts): {wrong:#?}");
}

/// The module path of a file below a crate's `src`.
fn module_of(src: &Path, file: &Path) -> Vec<String> {
    let inside = file.strip_prefix(src).expect("below src").with_extension("");
    let mut parts: Vec<String> = inside.iter().map(|part| part.to_string_lossy().into_owned()).collect();
    if matches!(parts.last().map(String::as_str), Some("mod" | "lib" | "main")) {
        parts.pop();
    }
    parts
}

/// Expands a `use` of our own names to whole paths: braces are taken apart.
fn named(statement: &str) -> Vec<String> {
    let Some((head, rest)) = statement.split_once('{') else { return vec![statement.trim().to_owned()] };
    let inner = rest.rsplit_once('}').map_or(rest, |(inner, _)| inner);
    let mut depth = 0;
    let mut parts = vec![String::new()];
    for letter in inner.chars() {
        match letter {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(String::new());
                continue;
            }
            _ => {}
        }
        parts.last_mut().expect("one").push(letter);
    }
    let parts = parts.iter().map(|part| part.trim()).filter(|part| !part.is_empty());
    parts.flat_map(|part| named(&format!("{}{part}", head.trim()))).collect()
}

/// The modules that a module takes names from.
fn needs(module: &[String], text: &str, known: &BTreeSet<Vec<String>>) -> BTreeSet<Vec<String>> {
    let code = text.split("#[cfg(test)]").next().unwrap_or(text);
    let mut needs = BTreeSet::new();
    for statement in code.split(';') {
        let lines: Vec<&str> =
            statement.lines().filter(|line| !line.trim_start().starts_with("//")).collect();
        let joined = lines.join(" ");
        // What is handed on is not needed.
        let Some(path) = joined.trim_start().strip_prefix("use ") else { continue };
        for path in named(path) {
            let mut words: Vec<String> = path.split("::").map(|word| word.trim().to_owned()).collect();
            let mut base = match words.first().map(String::as_str) {
                Some("crate") => Vec::new(),
                Some("super") => module[..module.len().saturating_sub(1)].to_vec(),
                Some("self") => module.to_vec(),
                _ => continue,
            };
            words.remove(0);
            while words.first().is_some_and(|word| word == "super") {
                base.pop();
                words.remove(0);
            }
            base.extend(words);
            while !base.is_empty() && !known.contains(&base) {
                base.pop();
            }
            // The crate's own root only gathers.
            if !base.is_empty() && base != module {
                needs.insert(base);
            }
        }
    }
    needs
}

fn reaches(
    from: &[String],
    to: &[String],
    arrows: &BTreeMap<Vec<String>, BTreeSet<Vec<String>>>,
    seen: &mut BTreeSet<Vec<String>>,
) -> bool {
    arrows
        .get(from)
        .into_iter()
        .flatten()
        .any(|next| next == to || seen.insert(next.clone()) && reaches(next, to, arrows, seen))
}

#[test]
fn no_two_modules_need_each_other() {
    let mut circles = Vec::new();
    for entry in std::fs::read_dir(root().join("crates")).expect("crates").flatten() {
        let src = entry.path().join("src");
        if !src.is_dir() {
            continue;
        }
        let mut files = Vec::new();
        files_below(&src, &[".rs"], &mut files);
        let known: BTreeSet<Vec<String>> = files.iter().map(|file| module_of(&src, file)).collect();
        let arrows: BTreeMap<_, _> = files
            .iter()
            .map(|file| {
                let module = module_of(&src, file);
                let text = std::fs::read_to_string(file).expect("a source");
                let needed = needs(&module, &text, &known);
                (module, needed)
            })
            .collect();
        for module in arrows.keys() {
            if reaches(module, module, &arrows, &mut BTreeSet::new()) {
                circles.push(format!("{}: {}", entry.file_name().display(), module.join("::")));
            }
        }
    }
    assert!(circles.is_empty(), "these need each other, round about: {circles:#?}");
}

#[test]
fn the_check_sees_a_circle() {
    let known: BTreeSet<Vec<String>> = [vec!["a".to_owned()], vec!["b".to_owned()]].into();
    let module = ["a".to_owned()];
    let needed =
        needs(&module, "//! Of a.\nuse std::fs;\nuse crate::{b::{One, Two}, c};\nuse super::b;", &known);
    assert_eq!(needed, [vec!["b".to_owned()]].into());
}
