//! Declarations, as a repository or a member writes them.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mainyard_core::manifest::{SourceFile, read};

fuzz_target!(|text: &str| {
    let files = [SourceFile { name: "mainyard.toml".into(), text: text.into() }];
    let environment = "staging".parse().expect("a name");
    if let Err(problems) = read(&files, Some(&environment)) {
        assert!(!problems.is_empty());
    }
});
