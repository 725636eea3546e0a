//! The key of what a command makes: two commands with the same key make the same layer.

use std::collections::BTreeMap;

use mainyard_core::model::Name;
use serde_json::json;
use sha2::{Digest, Sha256};

use crate::recipe::Run;

/// Changed whenever steps are carried out in another way, so that nothing older is taken for what they would make.
const VERSION: u32 = 1;

/// The key of a command's layer: 64 hexadecimal digits of all that goes into it. The repository is among it: what one
/// repository's steps made is never used by another's. The values of secrets are not.
pub fn key_of_run(
    repository: &str,
    base: Option<&str>,
    layers: &[String],
    run: &Run,
    caches: &BTreeMap<Name, String>,
) -> String {
    let document = json!({
        "version": VERSION,
        "repository": repository,
        "base": base,
        "layers": layers,
        "run": run,
        "caches": caches,
    });
    // The keys of every map are in order: the same content gives the same text.
    Sha256::digest(document.to_string().as_bytes()).iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(command: &str) -> Run {
        Run {
            command: command.to_owned(),
            folder: "/code".to_owned(),
            user: String::new(),
            settings: BTreeMap::from([("A".to_owned(), "1".to_owned())]),
            secrets: BTreeMap::new(),
            network: Vec::new(),
        }
    }

    #[test]
    fn all_that_goes_into_a_step_changes_its_key() {
        let layers = ["sha256:1".to_owned()];
        let caches = BTreeMap::new();
        let key = key_of_run("lockers/api", Some("sha256:b"), &layers, &run("make"), &caches);
        assert_eq!(key.len(), 64);
        assert_eq!(key, key_of_run("lockers/api", Some("sha256:b"), &layers, &run("make"), &caches));
        let mut other_setting = run("make");
        other_setting.settings.insert("A".to_owned(), "2".to_owned());
        let cache = BTreeMap::from([("deps".parse().expect("a name"), "/cache".to_owned())]);
        let others = [
            key_of_run("lockers/web", Some("sha256:b"), &layers, &run("make"), &caches),
            key_of_run("lockers/api", Some("sha256:c"), &layers, &run("make"), &caches),
            key_of_run("lockers/api", Some("sha256:b"), &[], &run("make"), &caches),
            key_of_run("lockers/api", Some("sha256:b"), &layers, &run("make all"), &caches),
            key_of_run("lockers/api", Some("sha256:b"), &layers, &other_setting, &caches),
            key_of_run("lockers/api", Some("sha256:b"), &layers, &run("make"), &cache),
        ];
        assert!(others.iter().all(|other| *other != key));
    }
}
