//! How the path of a request may be written.
//!
//! The router reads a path after it has undone most escapes (RFC 3986, section 2.1), so one operation could be
//! written in many ways. Exactly one is taken: everything but names as it stands in the OpenAPI document.

use mainyard_api::Problem;

/// Escapes that no name needs, and which some programs undo twice or take for something else: `%`, `/`, `\`, NUL.
const NEVER: [&str; 4] = ["%25", "%2f", "%5c", "%00"];

/// Refuses a path that is written in another way than its pattern: escapes outside of names, empty and dot
/// segments, parameters after a semicolon.
///
/// `pattern` is the operation's path, with names in braces; where it is shorter than the path, everything that
/// follows must be written without escapes.
pub(crate) fn written_plainly(path: &str, pattern: &str) -> Result<(), Problem> {
    let mut expected = pattern.split('/').skip(1);
    for segment in path.strip_prefix('/').unwrap_or(path).split('/') {
        if segment.is_empty() {
            return Err(refused("the path has an empty segment"));
        }
        if is_dots(segment) {
            return Err(refused("the path has a segment of dots"));
        }
        let is_name = expected.next().is_some_and(|pattern| pattern.starts_with('{'));
        let lower = segment.to_ascii_lowercase();
        if !is_name && segment.contains(['%', ';', '\\']) || NEVER.iter().any(|escape| lower.contains(escape))
        {
            return Err(refused("write the path as the OpenAPI document does; only names may have escapes"));
        }
        if segment.contains(['\\', ';']) {
            return Err(refused("a path has no `\\` and no `;`"));
        }
    }
    Ok(())
}

/// `.` and `..`, each dot written plainly or as an escape.
fn is_dots(segment: &str) -> bool {
    let plain = segment.to_ascii_lowercase().replace("%2e", ".");
    matches!(plain.as_str(), "." | "..")
}

fn refused(detail: &str) -> Problem {
    Problem::bad_path(detail)
}

#[cfg(test)]
mod tests {
    use super::written_plainly;

    const ONE: &str = "/api/v1/environments/{environment}/board";

    #[test]
    fn a_path_has_one_spelling() {
        for path in ["/api/v1/environments/staging/board", "/api/v1/environments/st%C3%A4ging/board"] {
            assert!(written_plainly(path, ONE).is_ok(), "{path}");
        }
        for path in [
            "/%61pi/v1/environments/staging/board",
            "/api/v1/environments/staging/%62oard",
            "/api/v1/environments//board",
            "/api/v1/environments/./board",
            "/api/v1/environments/%2e%2E/board",
            "/api/v1/environments/a%2fb/board",
            "/api/v1/environments/a%252fb/board",
            "/api/v1/environments/a;b/board",
            "/api/v1/environments/a%00/board",
            "/api/v1/environments/staging/board/",
            "/api/v1/environments/staging/board;x=1",
        ] {
            assert!(written_plainly(path, ONE).is_err(), "{path}");
        }
    }
}
