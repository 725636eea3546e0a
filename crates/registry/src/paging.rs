//! Lists in pages: how many are asked for, after which one, and the link to the next page (RFC 8288).

use crate::error::{ErrorCode, RegistryError};

/// Most entries of a page.
const MOST: usize = 1000;

/// Which part of a list is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Page {
    /// How many.
    pub size: usize,
    /// After this one, in the order of the list.
    pub after: Option<String>,
}

impl Page {
    /// Reads `n` and `last` of a query.
    ///
    /// # Errors
    /// When `n` is no number.
    pub fn of(n: Option<&str>, last: Option<&str>) -> Result<Page, RegistryError> {
        let size = match n {
            None => MOST,
            Some(text) => text.parse::<usize>().map_err(|_| {
                RegistryError::new(ErrorCode::Unsupported, format!("n is {text:?}; a number is expected"))
            })?,
        };
        Ok(Page { size: size.min(MOST), after: last.map(str::to_owned) })
    }

    /// The entries of this page of a sorted list, and whether more follow.
    pub fn cut(&self, sorted: Vec<String>) -> (Vec<String>, bool) {
        let after = |entry: &String| self.after.as_ref().is_none_or(|last| entry > last);
        let mut rest: Vec<String> = sorted.into_iter().filter(after).collect();
        let more = rest.len() > self.size && self.size > 0;
        rest.truncate(self.size);
        (rest, more)
    }
}

/// The `Link` header to the page after `last`.
pub fn next_link(path: &str, size: usize, last: &str) -> String {
    format!("<{path}?n={size}&last={last}>; rel=\"next\"")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pages_cover_a_list_once_and_the_last_has_no_more() {
        let all: Vec<String> = (0..25).map(|number| format!("tag-{number:02}")).collect();
        let (mut seen, mut after) = (Vec::new(), None);
        loop {
            let (part, more) = Page::of(Some("10"), after.as_deref()).expect("a page").cut(all.clone());
            after = part.last().cloned();
            seen.extend(part);
            if !more {
                break;
            }
        }
        assert_eq!(seen, all);
        assert_eq!(Page::of(Some("0"), None).expect("a page").cut(all.clone()), (Vec::new(), false));
        assert!(Page::of(Some("many"), None).is_err());
        assert_eq!(Page::of(Some("9999999"), None).expect("a page").size, MOST);
    }
}
