//! Which route takes a request. The time it takes grows with the length of the path, not with the number of routes.
//!
//! The host that is named in full wins over `*.`, and is then asked alone. Among a host's routes the exact path wins,
//! then the longest prefix (whole segments); among routes of one path the one that asks for more headers, then the one
//! that names its methods. A route that does not take the request gives way to the next one in this order.

use std::borrow::Cow;
use std::collections::{BTreeSet, HashMap};

use crate::model::RouteSpec;

/// A request as far as routes look at it.
pub struct MatchInput<'a, F> {
    /// In lower case, without port.
    pub host: &'a str,
    /// In its [`plain_path`] form, without query.
    pub path: &'a str,
    /// Such as `GET`.
    pub method: &'a str,
    /// The value of a header, by its name in lower case.
    pub header: F,
}

/// Why no route takes a request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NoRoute {
    /// No route has the host.
    Host,
    /// The host has routes, with these paths among others.
    Path(Vec<String>),
    /// The path has routes, which take these methods.
    Method(BTreeSet<String>),
    /// The path and method have routes, which ask for these headers.
    Headers(BTreeSet<String>),
}

#[derive(Debug, Clone)]
struct Rule<T> {
    methods: BTreeSet<String>,
    headers: Vec<(String, String)>,
    value: T,
}

#[derive(Debug, Clone)]
struct Host<T> {
    exact: HashMap<String, Vec<Rule<T>>>,
    below: HashMap<String, Vec<Rule<T>>>,
}

/// Finds routes.
#[derive(Debug, Clone)]
pub struct Finder<T> {
    hosts: HashMap<String, Host<T>>,
}

impl<T> Default for Finder<T> {
    fn default() -> Finder<T> {
        Finder { hosts: HashMap::new() }
    }
}

impl<T> Finder<T> {
    /// Of these routes; those that take a port are left out.
    pub fn new<'a>(routes: impl IntoIterator<Item = (&'a RouteSpec, T)>) -> Finder<T> {
        let mut hosts: HashMap<String, Host<T>> = HashMap::new();
        for (spec, value) in routes {
            let Some(host) = &spec.host else { continue };
            let host = hosts
                .entry(host.clone())
                .or_insert_with(|| Host { exact: HashMap::new(), below: HashMap::new() });
            let paths = if spec.exact { &mut host.exact } else { &mut host.below };
            let path = if spec.exact { spec.path.as_str() } else { spec.path.trim_end_matches('/') };
            let headers =
                spec.headers.iter().map(|(name, value)| (name.to_ascii_lowercase(), value.clone())).collect();
            let rules = paths.entry(path.to_owned()).or_default();
            rules.push(Rule { methods: spec.methods.clone(), headers, value });
            rules.sort_by_key(|rule| (std::cmp::Reverse(rule.headers.len()), rule.methods.is_empty()));
        }
        Finder { hosts }
    }

    /// The route that takes the request.
    ///
    /// # Errors
    /// Why there is none.
    pub fn find<'v, F: Fn(&str) -> Option<&'v [u8]>>(
        &self,
        asked: &MatchInput<'_, F>,
    ) -> Result<&T, NoRoute> {
        let host = self.host(asked.host).ok_or(NoRoute::Host)?;
        let mut missed = Missed::default();
        if let Some(rules) = host.exact.get(asked.path)
            && let Some(found) = missed.first(rules, asked)
        {
            return Ok(found);
        }
        let mut prefix = asked.path.trim_end_matches('/');
        loop {
            if let Some(rules) = host.below.get(prefix)
                && let Some(found) = missed.first(rules, asked)
            {
                return Ok(found);
            }
            match prefix.rfind('/') {
                Some(end) => prefix = &prefix[..end],
                None => return Err(missed.into_reason(host)),
            }
        }
    }

    fn host(&self, host: &str) -> Option<&Host<T>> {
        self.hosts.get(host).or_else(|| {
            let (_, rest) = host.split_once('.')?;
            self.hosts.get(format!("*.{rest}").as_str())
        })
    }

    /// A route of this host, whichever; the one of everything where there is one.
    pub fn of_host(&self, host: &str) -> Option<&T> {
        let host = self.host(host)?;
        let mut all = host.below.values().chain(host.exact.values());
        host.below.get("").or_else(|| all.next()).and_then(|rules| rules.first()).map(|rule| &rule.value)
    }

    /// All routes of this host.
    pub fn all_of_host(&self, host: &str) -> impl Iterator<Item = &T> {
        let rules =
            self.host(host).into_iter().flat_map(|host| host.below.values().chain(host.exact.values()));
        rules.flatten().map(|rule| &rule.value)
    }

    /// The hosts that have routes.
    pub fn hosts(&self) -> impl Iterator<Item = &str> {
        self.hosts.keys().map(String::as_str)
    }
}

/// The conditions of the routes that have the path.
#[derive(Default)]
struct Missed {
    methods: BTreeSet<String>,
    headers: BTreeSet<String>,
}

impl Missed {
    fn first<'r, 'v, T, F: Fn(&str) -> Option<&'v [u8]>>(
        &mut self,
        rules: &'r [Rule<T>],
        asked: &MatchInput<'_, F>,
    ) -> Option<&'r T> {
        for rule in rules {
            let lacking = rule
                .headers
                .iter()
                .find(|(name, value)| (asked.header)(name).is_none_or(|given| given != value.as_bytes()));
            if !rule.methods.is_empty() && !rule.methods.contains(asked.method) {
                self.methods.extend(rule.methods.iter().cloned());
            } else if let Some((name, value)) = lacking {
                self.headers.insert(format!("{name}: {value}"));
            } else {
                return Some(&rule.value);
            }
        }
        None
    }

    fn into_reason<T>(self, host: &Host<T>) -> NoRoute {
        if !self.headers.is_empty() {
            return NoRoute::Headers(self.headers);
        }
        if !self.methods.is_empty() {
            return NoRoute::Method(self.methods);
        }
        let slash = |path: &String| if path.is_empty() { "/".to_owned() } else { path.clone() };
        let mut paths: Vec<String> = host.exact.keys().chain(host.below.keys()).map(slash).collect();
        paths.sort();
        NoRoute::Path(paths)
    }
}

/// A path in the one form in which it is compared and sent on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlainPath<'a> {
    /// As it is sent on: letters, digits, `-`, `.`, `_` and `~` are not escaped (RFC 3986, section 6.2.2).
    pub onward: Cow<'a, str>,
    /// As it is compared: like `onward`, and repeated slashes count as one.
    pub compared: Cow<'a, str>,
}

/// The form of a path in which nothing can be read two ways.
///
/// # Errors
/// A sentence where there is none: an escape that is cut short, or `.` and `..` among the segments, escaped or not, which
/// one reader follows and another does not.
pub fn plain_path(path: &str) -> Result<PlainPath<'_>, &'static str> {
    if !path.starts_with('/') {
        return Err("the path does not begin with a slash");
    }
    let onward = if path.contains('%') { Cow::Owned(unescape(path)?) } else { Cow::Borrowed(path) };
    if has_dot_segment(&onward) {
        return Err("the path holds a segment `.` or `..`, which some readers follow and others do not");
    }
    let compared = if onward.contains("//") {
        let mut merged = String::with_capacity(onward.len());
        onward.chars().for_each(|c| {
            if c != '/' || !merged.ends_with('/') {
                merged.push(c);
            }
        });
        Cow::Owned(merged)
    } else {
        onward.clone()
    };
    Ok(PlainPath { onward, compared })
}

fn unescape(path: &str) -> Result<String, &'static str> {
    let mut plain = String::with_capacity(path.len());
    let mut rest = path;
    while let Some(at) = rest.find('%') {
        plain.push_str(&rest[..at]);
        let code = rest.get(at + 1..at + 3).filter(|code| code.bytes().all(|c| c.is_ascii_hexdigit()));
        let code = code.and_then(|code| u8::from_str_radix(code, 16).ok());
        let code = code.ok_or("the path holds a % without two hexadecimal digits after it")?;
        match code {
            0 => return Err("the path holds an escaped zero byte"),
            b'-' | b'.' | b'_' | b'~' | b'0'..=b'9' | b'a'..=b'z' | b'A'..=b'Z' => {
                plain.push(char::from(code))
            }
            other => plain.push_str(&format!("%{other:02X}")),
        }
        rest = &rest[at + 3..];
    }
    plain.push_str(rest);
    Ok(plain)
}

/// Whether a segment is `.` or `..`, also where a slash is escaped or written the other way round, or where parameters
/// follow after a semicolon.
fn has_dot_segment(path: &str) -> bool {
    if !path.contains('.') {
        return false;
    }
    let segments =
        path.split(['/', '\\']).flat_map(|part| part.split("%2F")).flat_map(|part| part.split("%5C"));
    segments.into_iter().any(|segment| {
        let name = segment.split(';').next().unwrap_or(segment);
        let name = name.split("%3B").next().unwrap_or(name);
        name == "." || name == ".."
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn spec(host: &str, path: &str) -> RouteSpec {
        let service = "api".parse().expect("a name");
        RouteSpec { path: path.to_owned(), ..RouteSpec::plain(Some(host.to_owned()), service) }
    }

    fn find(routes: &[RouteSpec], method: &str, host: &str, path: &str) -> Result<usize, NoRoute> {
        let finder = Finder::new(routes.iter().enumerate().map(|(place, spec)| (spec, place)));
        let header = |name: &str| (name == "x-ring").then_some(b"early".as_slice());
        finder.find(&MatchInput { host, path, method, header }).copied()
    }

    #[test]
    fn the_nearest_route_takes_the_request() {
        let mut exact = spec("a.test", "/v1/open");
        exact.exact = true;
        let mut early = spec("a.test", "/v1");
        early.headers = [("X-Ring".to_owned(), "early".to_owned())].into();
        let mut post = spec("a.test", "/v1/parcels");
        post.methods = ["POST".to_owned()].into();
        let routes = [spec("a.test", "/"), spec("a.test", "/v1"), exact, spec("*.test", "/"), early, post];
        for (host, path, found) in [
            ("a.test", "/", 0),
            ("a.test", "/v2", 0),
            ("a.test", "/v1", 4),
            ("a.test", "/v1/", 4),
            ("a.test", "/v10", 0),
            ("a.test", "/v1/open", 2),
            ("a.test", "/v1/open/7", 4),
            ("b.test", "/v1", 3),
            ("a.test", "/v1/parcels/3", 4),
        ] {
            assert_eq!(find(&routes, "GET", host, path), Ok(found), "{host}{path}");
        }
        assert_eq!(find(&routes, "POST", "a.test", "/v1/parcels/3"), Ok(5));
        assert_eq!(find(&routes, "GET", "c.b.test", "/"), Err(NoRoute::Host), "* stands for one label");
        assert_eq!(find(&routes, "GET", "test", "/"), Err(NoRoute::Host));
    }

    #[test]
    fn what_is_missed_is_told() {
        let mut post = spec("a.test", "/v1");
        post.methods = ["POST".to_owned()].into();
        let mut late = spec("a.test", "/v2");
        late.headers = [("X-Ring".to_owned(), "late".to_owned())].into();
        let routes = [post, late];
        let told = |path| find(&routes, "GET", "a.test", path);
        assert_eq!(told("/"), Err(NoRoute::Path(vec!["/v1".into(), "/v2".into()])));
        assert_eq!(told("/v1/x"), Err(NoRoute::Method(["POST".to_owned()].into())));
        assert_eq!(told("/v2"), Err(NoRoute::Headers(["x-ring: late".to_owned()].into())));
    }

    #[test]
    fn a_path_has_one_form() {
        for (path, onward, compared) in [
            ("/", "/", "/"),
            ("/a%2Db/%7ec", "/a-b/~c", "/a-b/~c"),
            ("/a%2fb", "/a%2Fb", "/a%2Fb"),
            ("//admin", "//admin", "/admin"),
            ("/a///b/", "/a///b/", "/a/b/"),
            ("/.well-known/x..y/...", "/.well-known/x..y/...", "/.well-known/x..y/..."),
        ] {
            let plain = plain_path(path).expect(path);
            assert_eq!((&*plain.onward, &*plain.compared), (onward, compared));
        }
        for path in [
            "/..",
            "/a/../b",
            "/a/%2e%2E/b",
            "/a/.;x=1/b",
            "/%2E%2E%3Bx",
            "/a%2F..%2Fb",
            "/a\\..\\b",
            "/%",
            "/%4",
            "/%zz",
            "/%00",
            "*",
        ] {
            assert!(plain_path(path).is_err(), "{path}");
        }
    }

    proptest! {
        #[test]
        fn the_plain_form_of_a_plain_form_is_itself(path in "/[a-c./%2Ef0-9;]{0,12}") {
            if let Ok(plain) = plain_path(&path) {
                let again = plain_path(&plain.onward).expect("still plain");
                prop_assert_eq!(&again.onward, &plain.onward);
                prop_assert!(plain_path(&plain.compared).is_ok());
            }
        }

        #[test]
        fn finding_agrees_with_looking_at_every_route(
            paths in proptest::collection::btree_set("(/[ab]{1,2}){0,3}", 1..8), asked in "(/[ab]{1,2}){0,4}",
        ) {
            let paths: Vec<String> = paths.into_iter().map(|path| if path.is_empty() { "/".into() } else { path }).collect();
            let routes: Vec<RouteSpec> = paths.iter().map(|path| spec("a.test", path)).collect();
            let asked = if asked.is_empty() { "/" } else { asked.as_str() };
            let covers = |path: &String| {
                path == "/" || asked == path || asked.strip_prefix(path.as_str()).is_some_and(|rest| rest.starts_with('/'))
            };
            let nearest = (0..paths.len()).filter(|place| covers(&paths[*place])).max_by_key(|place| paths[*place].len());
            prop_assert_eq!(find(&routes, "GET", "a.test", asked).ok(), nearest);
        }
    }
}
