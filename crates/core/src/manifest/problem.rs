//! Errors in a file, and their place.

use std::ops::Range;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A place in a file; line and column count from 1, the column in characters.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct Place {
    /// The file.
    pub file: String,
    /// Its line.
    pub line: usize,
    /// The column in the line.
    pub column: usize,
}

impl Place {
    /// The place of a byte span in a text.
    pub fn of(file: &str, text: &str, span: Option<Range<usize>>) -> Place {
        let start = span.map_or(0, |span| span.start).min(text.len());
        let before = text.get(..start).unwrap_or_default();
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        Place {
            file: file.to_owned(),
            line: before.matches('\n').count() + 1,
            column: before[line_start..].chars().count() + 1,
        }
    }
}

/// One thing that is wrong: where, what, and what would be right.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "FileProblem")]
pub struct Problem {
    /// Where.
    pub place: Place,
    /// What, and what is expected.
    pub message: String,
}

impl std::fmt::Display for Problem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Place { file, line, column } = &self.place;
        write!(f, "{file}:{line}:{column}: {}", self.message)
    }
}

/// A file as it was given.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize, JsonSchema)]
pub struct SourceFile {
    /// The name to show in messages.
    pub name: String,
    /// Its content.
    pub text: String,
}
