//! Ways to write a path that some program would read as another.

/// A way to write a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spelling {
    /// The change that was made to the path.
    pub name: String,
    /// The request target.
    pub target: String,
}

fn escape(letter: char) -> String {
    format!("%{:02x}", letter as u32)
}

/// Every way to write a path, the plain one not among them. Each must be refused, or must be no path of the API.
/// `pattern` is the operation's path with names in braces: what is escaped in a name is the name all the same.
pub fn spellings(path: &str, pattern: &str) -> Vec<Spelling> {
    let mut all = Vec::new();
    let mut seen = std::collections::BTreeSet::new();
    let mut add = |name: &str, target: String| {
        if target != path && seen.insert(target.clone()) {
            all.push(Spelling { name: name.to_owned(), target });
        }
    };
    let segments: Vec<&str> = path.trim_start_matches('/').split('/').collect();
    // One letter of each segment that is no name, escaped once and twice, in both cases.
    let is_name: Vec<bool> =
        pattern.trim_start_matches('/').split('/').map(|part| part.starts_with('{')).collect();
    for (at, segment) in segments.iter().enumerate().filter(|(at, _)| !is_name.get(*at).is_some_and(|is| *is))
    {
        let Some(letter) = segment.chars().next().filter(char::is_ascii_alphabetic) else { continue };
        let with = |first: String| {
            let mut other = segments.iter().map(|segment| (*segment).to_owned()).collect::<Vec<_>>();
            other[at] = format!("{first}{}", &segment[1..]);
            format!("/{}", other.join("/"))
        };
        add(&format!("segment {at} escaped"), with(escape(letter)));
        add(&format!("segment {at} escaped in capitals"), with(escape(letter).to_uppercase()));
        add(&format!("segment {at} escaped twice"), with(escape(letter).replace('%', "%25")));
        add(&format!("segment {at} in capitals"), with(letter.to_ascii_uppercase().to_string()));
    }
    let rest = &path[1..];
    add("two slashes in front", format!("//{rest}"));
    add("three slashes in front", format!("///{rest}"));
    add("a dot in front", format!("/./{rest}"));
    add("two dots in front", format!("/x/../{rest}"));
    add("two escaped dots in front", format!("/x/%2e%2e/{rest}"));
    add("two dots escaped twice in front", format!("/x/%252e%252e/{rest}"));
    add("an escaped slash in front", format!("/%2f{rest}"));
    add("every slash escaped", format!("/{}", rest.replace('/', "%2f")));
    add("the last slash escaped", replace_last(path, "%2f"));
    add("the last slash twice", replace_last(path, "//"));
    add("a dot in the middle", replace_last(path, "/./"));
    add("dots in the middle", replace_last(path, "/x/../"));
    add("a backslash", replace_last(path, "\\"));
    add("an escaped backslash", replace_last(path, "%5c"));
    add("a slash at the end", format!("{path}/"));
    add("a dot at the end", format!("{path}/."));
    add("a parameter at the end", format!("{path};x=1"));
    add("a parameter in the middle", replace_last(path, ";x=1/"));
    add("an escaped zero at the end", format!("{path}%00"));
    if is_name.last() != Some(&true) {
        // Of a name, these make another name, which the operation itself refuses.
        add("an escaped question mark", format!("{path}%3f"));
        add("an escaped line end", format!("{path}%0d%0a"));
        add("a suffix", format!("{path}.json"));
    }
    all
}

fn replace_last(path: &str, with: &str) -> String {
    let (front, last) = path.rsplit_once('/').unwrap_or(("", path));
    format!("{front}{with}{last}")
}

#[cfg(test)]
mod tests {
    use super::spellings;

    #[test]
    fn every_spelling_differs_from_the_plain_one_and_is_unique() {
        let all = spellings("/api/v1/environments", "/api/v1/environments");
        let targets: std::collections::BTreeSet<&str> = all.iter().map(|it| it.target.as_str()).collect();
        assert_eq!(targets.len(), all.len());
        assert!(all.len() > 25 && !targets.contains("/api/v1/environments"));
    }
}
