//! Code that is built and rolled out by a push: a survey form, the images that its recipe begins with, and its history.

use mainyard_base_images::{Wanted, gather};
use mainyard_core::model::ImageRef;
use mainyard_images::{ContentStore, Digest, ImageContent, pack};

use crate::{DebianError, pack_one};

/// The environment and the name of the code.
pub const CODE: (&str, &str) = ("staging", "survey-form");

/// The files of the code as they are now.
const FILES: [(&str, &str); 6] = [
    ("README.md", include_str!("../survey-form/README.md")),
    ("mainyard.toml", include_str!("../survey-form/mainyard.toml")),
    ("page.html", include_str!("../survey-form/page.html")),
    ("questions.txt", include_str!("../survey-form/questions.txt")),
    ("recipe.toml", include_str!("../survey-form/recipe.toml")),
    ("test.sh", include_str!("../survey-form/test.sh")),
];

/// Packs the images that the form's recipe begins with: a shell from this machine's Debian packages, and the form server.
///
/// # Errors
/// When this machine's packages cannot be used.
pub fn bases(store: &ContentStore) -> Result<Vec<(ImageRef, Digest)>, DebianError> {
    let shell = gather(&Wanted { packages: &["dash", "coreutils"], without: &[], accounts: &[] })?;
    let content = ImageContent {
        layers: vec![shell.layer],
        env: vec!["PATH=/usr/bin:/bin".to_owned()],
        ..ImageContent::default()
    };
    let shell =
        (ImageRef { repository: "lockers/shell".to_owned(), tag: "1".to_owned() }, pack(store, &content)?);
    Ok(vec![shell, pack_one(store, "form-server", "1.0.0", "")?])
}

/// A commit of the code: who wrote it, how many days before the demo was brought up, its message, and its files.
pub struct CodeChapter {
    /// Name and address.
    pub by: (&'static str, &'static str),
    /// Days before the demo was brought up.
    pub days: i64,
    /// The commit's message.
    pub message: &'static str,
    /// Its files, whole.
    pub files: Vec<(&'static str, String)>,
}

/// How the code came to be what it is.
pub fn code_history() -> Vec<CodeChapter> {
    let all: Vec<(&str, String)> = FILES.iter().map(|(path, text)| (*path, (*text).to_owned())).collect();
    let two = |text: &str| text.lines().take(2).map(|line| format!("{line}\n")).collect();
    let first = all.iter().map(|(path, text)| match *path {
        "questions.txt" => (*path, two(text)),
        _ => (*path, text.clone()),
    });
    let last = all.iter().filter(|(path, _)| *path == "questions.txt").cloned();
    vec![
        CodeChapter {
            by: ("Noor Haddad", "noor@larkfield.example"),
            days: 5,
            message: "A form that asks how it was",
            files: first.collect(),
        },
        CodeChapter {
            by: ("Mira Lindqvist", "mira@larkfield.example"),
            days: 1,
            message: "Ask how long people wait",
            files: last.collect(),
        },
    ]
}
