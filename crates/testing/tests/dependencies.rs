//! Dependencies: licences that may be used, crates that may not, where everything comes from, and which
//! crates are there in several versions. Works offline, on what was fetched for the build.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

/// Licences under which others' code may be part of the platform. One of those that a crate offers is enough; where it
/// names several that hold together, each must be here.
const LICENCES: [&str; 12] = [
    "MIT",
    "Apache-2.0",
    "ISC",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "0BSD",
    "Zlib",
    "BSL-1.0",
    "Unicode-3.0",
    "MPL-2.0",
    "Unlicense",
    "MIT-0",
];
/// Of the console's packages, some are fonts, data and build tools.
const LICENCES_OF_THE_CONSOLE: [&str; 4] = ["OFL-1.1", "CC-BY-4.0", "BlueOak-1.0.0", "Python-2.0"];
/// Never part of the platform: a second TLS library, or code that is loaded at run time.
const BANNED: [&str; 6] = ["openssl", "openssl-sys", "native-tls", "libloading", "wasmtime", "git2"];
/// The only place that crates come from.
const REGISTRY: &str = "registry+https://github.com/rust-lang/crates.io-index";
/// Crates that are there in several versions because others ask for them. A new one is looked at first.
const SEVERAL: [&str; 37] = [
    "base64",
    "bit-vec",
    "block-buffer",
    "chacha20",
    "const-oid",
    "cookie",
    "cpufeatures",
    "crypto-common",
    "digest",
    // Named by postcard for features that are off: neither is built.
    "embedded-io",
    "getrandom",
    "hashbrown",
    "hkdf",
    "hmac",
    "http",
    "hybrid-array",
    "icu_collections",
    "icu_provider",
    "litemap",
    // For object_store, whose newer version would bring a second TLS library written in C.
    "md-5",
    "nom",
    "rand",
    "rand_chacha",
    "rand_core",
    "sha2",
    "syn",
    "synstructure",
    "thiserror",
    "thiserror-impl",
    "tinystr",
    "writeable",
    "yoke",
    "yoke-derive",
    "zerovec",
    "zerovec-derive",
    "windows-sys",
    "windows-targets",
];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().expect("the project")
}

fn output(program: &str, words: &[&str]) -> String {
    let done = Command::new(program).args(words).current_dir(root()).output().expect("it runs");
    assert!(done.status.success(), "{program} {words:?}: {}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8(done.stdout).expect("text")
}

/// The crates that are built on this machine.
fn crates() -> Vec<Value> {
    let version = output("rustc", &["-vV"]);
    let host = version.lines().find_map(|line| line.strip_prefix("host: ")).expect("a platform");
    let words = ["metadata", "--offline", "--locked", "--format-version", "1", "--filter-platform", host];
    let metadata: Value = serde_json::from_str(&output(env!("CARGO"), &words)).expect("JSON");
    metadata["packages"].as_array().expect("packages").clone()
}

/// Whether a licence expression (SPDX 2.3, annex D, and the older form with a slash) can be met with these.
fn is_met(expression: &str, allowed: &BTreeSet<&str>) -> bool {
    let any_of = |part: &str| {
        let part = part
            .trim()
            .trim_start_matches('(')
            .trim_end_matches(')')
            .replace(" / ", " OR ")
            .replace('/', " OR ");
        part.split(" OR ")
            .any(|licence| allowed.contains(licence.split(" WITH ").next().unwrap_or_default().trim()))
    };
    expression.split(" AND ").all(any_of)
}

#[test]
fn licences_bans_and_sources_of_crates_are_as_they_should_be() {
    let allowed: BTreeSet<&str> = LICENCES.into();
    let mut wrong = Vec::new();
    let all = crates();
    assert!(all.len() > 200, "{} crates", all.len());
    for package in all.iter().filter(|package| !package["source"].is_null()) {
        let text = |key: &str| package[key].as_str().unwrap_or_default();
        let (name, licence) = (text("name"), text("license"));
        if !is_met(licence, &allowed) {
            wrong.push(format!("{name}: the licence {licence:?} may not be used"));
        }
        if BANNED.contains(&name) {
            wrong.push(format!("{name} may not be used"));
        }
        if text("source") != REGISTRY {
            wrong.push(format!("{name} comes from {}", text("source")));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn no_crate_comes_in_another_version_unseen() {
    let mut versions: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for package in crates() {
        let text = |key: &str| package[key].as_str().unwrap_or_default().to_owned();
        versions.entry(text("name")).or_default().insert(text("version"));
    }
    let several = versions.iter().filter(|(name, all)| all.len() > 1 && !SEVERAL.contains(&name.as_str()));
    let several: Vec<_> = several.collect();
    assert!(several.is_empty(), "look why these are there twice: {several:#?}");
}

#[test]
fn licences_and_sources_of_the_consoles_packages_are_as_they_should_be() {
    let allowed: BTreeSet<&str> = LICENCES.into_iter().chain(LICENCES_OF_THE_CONSOLE).collect();
    let lock = std::fs::read_to_string(root().join("console/package-lock.json")).expect("a lock file");
    let lock: Value = serde_json::from_str(&lock).expect("JSON");
    let packages = lock["packages"].as_object().expect("packages");
    let mut wrong = Vec::new();
    for (path, package) in packages.iter().filter(|(path, _)| !path.is_empty()) {
        let licence = package["license"].as_str().unwrap_or_default();
        if !is_met(licence, &allowed) {
            wrong.push(format!("{path}: the licence {licence:?} may not be used"));
        }
        let from = package["resolved"].as_str().unwrap_or("https://registry.npmjs.org/");
        if !from.starts_with("https://registry.npmjs.org/") {
            wrong.push(format!("{path} comes from {from}"));
        }
    }
    assert!(packages.len() > 50 && wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn expressions_are_read_as_they_are_meant() {
    let allowed: BTreeSet<&str> = ["MIT", "Apache-2.0", "Unicode-3.0"].into();
    for met in ["MIT", "MIT/Apache-2.0", "GPL-2.0-only OR MIT", "(MIT OR GPL-2.0-only) AND Unicode-3.0"] {
        assert!(is_met(met, &allowed), "{met}");
    }
    for not in ["", "GPL-3.0", "MIT AND GPL-3.0", "(GPL-2.0-only OR LGPL-3.0) AND MIT"] {
        assert!(!is_met(not, &allowed), "{not}");
    }
}
