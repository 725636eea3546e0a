//! Builds a program of this workspace as small as it gets, for embedding: linked statically, with the profile
//! `small`, into a target directory of its own, so that it never waits for the build that embeds it.
//!
//! Used from build scripts only.

use std::env;
use std::path::PathBuf;
use std::process::Command;

/// Builds the binary `program` of the package `package` and hands its path to the crate being built as the
/// environment variable `variable`.
///
/// # Panics
/// When the program does not build; the compiler's own messages stand above.
pub fn embed(package: &str, program: &str, sources: &[&str], variable: &str) {
    let root = PathBuf::from(var("CARGO_MANIFEST_DIR")).join("../..");
    let out = PathBuf::from(var("OUT_DIR")).join("small");
    let target = var("TARGET");
    for source in sources {
        println!("cargo::rerun-if-changed={}", root.join(source).display());
    }
    let done = Command::new(var("CARGO"))
        .args(["build", "--quiet", "--locked", "--profile", "small", "--package", package, "--bin", program])
        .args(["--target", &target, "--target-dir"])
        .arg(&out)
        .current_dir(&root)
        .env_remove("RUSTC_WORKSPACE_WRAPPER")
        .env("CARGO_ENCODED_RUSTFLAGS", "-Ctarget-feature=+crt-static")
        .status();
    assert!(done.is_ok_and(|status| status.success()), "{program} does not build");
    println!("cargo::rustc-env={variable}={}", out.join(target).join("small").join(program).display());
}

fn var(name: &str) -> String {
    env::var(name).unwrap_or_else(|_| panic!("{name} is set by cargo in a build script"))
}
