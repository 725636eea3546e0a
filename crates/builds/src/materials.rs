//! What code is made of, by the files that name its dependencies.

use serde_json::Value;

/// Files that name dependencies with their versions.
pub const LOCK_FILES: [&str; 3] = ["Cargo.lock", "package-lock.json", "requirements.txt"];

/// Names and versions that such a file has; nothing where it cannot be read.
pub fn dependencies(file: &str, text: &str) -> Vec<(String, String)> {
    let mut all = match file.rsplit('/').next().unwrap_or(file) {
        "Cargo.lock" => of_cargo(text),
        "package-lock.json" => of_npm(text),
        "requirements.txt" => of_pip(text),
        _ => Vec::new(),
    };
    all.sort();
    all.dedup();
    all
}

fn of_cargo(text: &str) -> Vec<(String, String)> {
    let Ok(document) = text.parse::<toml_edit::DocumentMut>() else { return Vec::new() };
    let packages = document.get("package").and_then(|item| item.as_array_of_tables());
    let own = |table: &&toml_edit::Table| table.contains_key("source");
    let packages = packages.into_iter().flatten().filter(own);
    let word = |table: &toml_edit::Table, key: &str| Some(table.get(key)?.as_str()?.to_owned());
    packages.filter_map(|table| Some((word(table, "name")?, word(table, "version")?))).collect()
}

fn of_npm(text: &str) -> Vec<(String, String)> {
    let document: Value = serde_json::from_str(text).unwrap_or_default();
    let packages = document["packages"].as_object().into_iter().flatten();
    let named = packages.filter_map(|(path, package)| {
        let name = path.rsplit_once("node_modules/")?.1;
        Some((name.to_owned(), package["version"].as_str()?.to_owned()))
    });
    named.collect()
}

fn of_pip(text: &str) -> Vec<(String, String)> {
    let lines = text.lines().filter_map(|line| {
        let line = line.split(['#', ';']).next().unwrap_or_default().trim();
        let (name, version) = line.split_once("==")?;
        Some((name.trim().to_lowercase(), version.trim().to_owned()))
    });
    lines.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dependencies_are_read_of_each_kind_of_file() {
        let cargo = "[[package]]\nname = \"own\"\nversion = \"0.1.0\"\n[[package]]\nname = \"tar\"\nversion = \"0.4.1\"\nsource = \"registry\"\n";
        let npm = r#"{"packages": {"": {"version": "1"}, "node_modules/a": {"version": "2"}, "node_modules/a/node_modules/@b/c": {"version": "3"}}}"#;
        let pip = "# ours\nFlask==3.0.0 ; python_version > '3'\nrequests>=2\n";
        let shown = |file: &str, text: &str| {
            let all = dependencies(file, text).into_iter().map(|(name, version)| format!("{name} {version}"));
            all.collect::<Vec<_>>().join(", ")
        };
        assert_eq!(shown("Cargo.lock", cargo), "tar 0.4.1");
        assert_eq!(shown("api/package-lock.json", npm), "@b/c 3, a 2");
        assert_eq!(shown("requirements.txt", pip), "flask 3.0.0");
        assert!(dependencies("Cargo.lock", "[[").is_empty() && dependencies("notes.txt", "a==1").is_empty());
    }
}
