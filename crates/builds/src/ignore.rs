//! Paths of a tree that are left out, in the form of `.gitignore` (gitignore(5)).

use globset::{GlobBuilder, GlobMatcher};

/// Never part of a tree: what Git itself keeps.
const ALWAYS: &str = ".git";

/// Rules in their order; the last one that fits a path decides.
#[derive(Debug, Clone, Default)]
pub struct IgnoreRules(Vec<Rule>);

#[derive(Debug, Clone)]
struct Rule {
    matcher: GlobMatcher,
    /// It brings back what a rule before it left out.
    brings_back: bool,
    folders_only: bool,
}

impl IgnoreRules {
    /// Reads patterns, one each.
    ///
    /// # Errors
    /// With the pattern that cannot be read, and why.
    pub fn new(patterns: &[String]) -> Result<IgnoreRules, String> {
        let mut rules = IgnoreRules::default();
        for pattern in patterns {
            rules.add(pattern)?;
        }
        Ok(rules)
    }

    /// Adds the lines of a `.gitignore` at the top of the tree; lines that cannot be read are passed over, as Git does.
    pub fn add_file(&mut self, text: &str) {
        for line in text.lines() {
            let _ = self.add(line);
        }
    }

    fn add(&mut self, line: &str) -> Result<(), String> {
        let pattern = line.trim_end();
        if pattern.is_empty() || pattern.starts_with('#') {
            return Ok(());
        }
        let (brings_back, pattern) = match pattern.strip_prefix('!') {
            Some(rest) => (true, rest),
            None => (false, pattern.strip_prefix('\\').unwrap_or(pattern)),
        };
        let (folders_only, pattern) = match pattern.strip_suffix('/') {
            Some(rest) => (true, rest),
            None => (false, pattern),
        };
        // A slash in the middle or in front ties the pattern to the top; otherwise it fits at any depth.
        let glob = match pattern.strip_prefix('/') {
            Some(rest) => rest.to_owned(),
            None if pattern.contains('/') => pattern.to_owned(),
            None => format!("**/{pattern}"),
        };
        let glob = GlobBuilder::new(&glob).literal_separator(true).backslash_escape(true).build();
        let glob = glob.map_err(|error| format!("{line:?}, which is no pattern: {}", error.kind()))?;
        self.0.push(Rule { matcher: glob.compile_matcher(), brings_back, folders_only });
        Ok(())
    }

    /// Whether a path is left out. Folders above it are looked at first: what lies in one that is left out is left out.
    pub fn leaves_out(&self, path: &str, is_folder: bool) -> bool {
        let ends = path.match_indices('/').map(|(at, _)| (&path[..at], true));
        let mut ends = ends.chain([(path, is_folder)]);
        path.split('/').any(|word| word == ALWAYS) || ends.any(|(path, folder)| self.names(path, folder))
    }

    fn names(&self, path: &str, is_folder: bool) -> bool {
        let fits = |rule: &&Rule| (is_folder || !rule.folders_only) && rule.matcher.is_match(path);
        self.0.iter().rev().find(fits).is_some_and(|rule| !rule.brings_back)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn left_out(patterns: &[&str], path: &str, is_folder: bool) -> bool {
        let patterns: Vec<String> = patterns.iter().map(ToString::to_string).collect();
        IgnoreRules::new(&patterns).expect("patterns").leaves_out(path, is_folder)
    }

    #[test]
    fn patterns_fit_as_in_gitignore() {
        let cases = [
            (&["target/"][..], "target", true, true),
            (&["target/"], "target", false, false),
            (&["target/"], "a/target/debug/x", false, true),
            (&["/target"], "a/target", true, false),
            (&["*.log"], "a/b.log", false, true),
            (&["*.log", "!keep.log"], "keep.log", false, false),
            (&["docs/*.md"], "docs/a.md", false, true),
            (&["docs/*.md"], "docs/a/b.md", false, false),
            (&["docs/**"], "docs/a/b.md", false, true),
            (&["# a note", ""], "a note", false, false),
            (&[], ".git/config", false, true),
            (&[], ".gitignore", false, false),
            (&["node_modules/", "!node_modules/keep"], "node_modules/keep", false, true),
        ];
        for (patterns, path, is_folder, expected) in cases {
            assert_eq!(left_out(patterns, path, is_folder), expected, "{patterns:?} {path}");
        }
    }

    #[test]
    fn a_pattern_that_is_none_is_named() {
        let error = IgnoreRules::new(&["a[".to_owned()]).expect_err("no pattern");
        assert!(error.starts_with("\"a[\", which is no pattern"), "{error}");
    }
}
