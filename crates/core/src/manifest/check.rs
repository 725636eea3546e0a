//! Holding a parsed file against the keys it may have.

use std::ops::Range;
use std::str::FromStr;

use toml_edit::{Item, TableLike, Value};

use super::keys::{Key, MapKey, Shape};
use super::problem::{Place, Problem};
use crate::model::{
    AddressRange, Bytes, ImageRef, Name, OUTGOING_FORM, OutgoingRule, Span, is_host, is_repository,
};
use crate::suggestions::did_you_mean;

/// Gathers what is wrong with one file.
pub(super) struct Checker<'a> {
    /// The file's name.
    pub file: &'a str,
    /// Its text.
    pub text: &'a str,
    /// The result.
    pub problems: Vec<Problem>,
}

/// Checks a whole document.
pub(super) fn check(file: &str, text: &str, item: &Item, shape: &Shape) -> Vec<Problem> {
    let mut checker = Checker { file, text, problems: Vec::new() };
    checker.item(item, shape, "", true);
    checker.problems
}

impl Checker<'_> {
    fn say(&mut self, span: Option<Range<usize>>, message: String) {
        self.problems.push(Problem { place: Place::of(self.file, self.text, span), message });
    }

    /// `whole` is false below `[in.…]`, where only what differs is given.
    fn item(&mut self, item: &Item, shape: &Shape, path: &str, whole: bool) {
        match shape {
            Shape::Table(keys) => {
                if let Some(table) = self.table(item, path) {
                    self.keys(item, table, keys, path, whole);
                }
            }
            Shape::Map(kind, inner) => {
                if let Some(table) = self.table(item, path) {
                    self.map(table, *kind, inner, path, whole);
                }
            }
            Shape::Or(_, keys, _) if item.is_table_like() => {
                if let Some(table) = self.table(item, path) {
                    self.keys(item, table, keys, path, true);
                }
            }
            Shape::List(inner) => self.list(item, inner, path, whole),
            plain => self.plain(item, plain, path),
        }
    }

    fn table<'i>(&mut self, item: &'i Item, path: &str) -> Option<&'i dyn TableLike> {
        let table = item.as_table_like();
        if table.is_none() {
            self.say(item.span(), format!("`{path}` is {}; a table is expected", kind(item)));
        }
        table
    }

    fn keys(&mut self, item: &Item, table: &dyn TableLike, keys: &[Key], path: &str, whole: bool) {
        for (name, value) in table.iter() {
            let span = table.key(name).and_then(toml_edit::Key::span);
            let full = join(path, name);
            match keys.iter().find(|key| key.name == name) {
                Some(key) => {
                    let whole = whole && !(path.is_empty() && name == "in");
                    self.item(value, key.shape, &full, whole);
                }
                None => {
                    let known: Vec<&str> = keys.iter().map(|key| key.name).collect();
                    let place = if path.is_empty() {
                        "at the top of the file".to_owned()
                    } else {
                        format!("in `{path}`")
                    };
                    let meant = did_you_mean(name, known.iter().copied());
                    let list = known.join(", ");
                    self.say(span, format!("`{name}` is not a key {place}{meant} (allowed: {list})"));
                }
            }
        }
        for key in keys.iter().filter(|key| whole && key.required && !table.contains_key(key.name)) {
            let whose = if path.is_empty() { "the file".to_owned() } else { format!("`{path}`") };
            self.say(item.span(), format!("{whose} has no `{}`: {}", key.name, lower_first(key.about)));
        }
    }

    fn map(&mut self, table: &dyn TableLike, kind: MapKey, inner: &Shape, path: &str, whole: bool) {
        for (name, value) in table.iter() {
            let span = table.key(name).and_then(toml_edit::Key::span);
            if let Some(expected) = wrong_key(kind, name) {
                self.say(span, format!("`{name}` in `{path}` is not {expected}"));
            }
            self.item(value, inner, &join(path, name), whole);
        }
    }

    fn list(&mut self, item: &Item, inner: &Shape, path: &str, whole: bool) {
        if let Some(array) = item.as_array() {
            for (number, value) in array.iter().enumerate() {
                self.item(&Item::Value(value.clone()), inner, &format!("{path}[{number}]"), whole);
            }
        } else if let Some(tables) = item.as_array_of_tables() {
            for (number, table) in tables.iter().enumerate() {
                self.item(&Item::Table(table.clone()), inner, &format!("{path}[{number}]"), whole);
            }
        } else {
            self.say(item.span(), format!("`{path}` is {}; a list is expected", self::kind(item)));
        }
    }

    fn plain(&mut self, item: &Item, shape: &Shape, path: &str) {
        if let Some(expected) = unexpected(item, shape) {
            self.say(item.span(), format!("`{path}` is {}; expected {expected}", shown(item)));
        }
    }
}

/// The type that was expected instead of a plain value.
fn unexpected(item: &Item, shape: &Shape) -> Option<String> {
    let text = item.as_str();
    let unless = |fits: bool, expected: String| (!fits).then_some(expected);
    match shape {
        Shape::Text => unless(text.is_some(), "a text in quotes".to_owned()),
        Shape::Or(plain, _, example) => {
            unexpected(item, plain).map(|expected| format!("{expected}, or {example}"))
        }
        Shape::Name => wrong::<Name>(text, |error| error.expected.to_owned(), "a name in quotes"),
        Shape::Image => wrong::<ImageRef>(text, |error| error.expected.to_owned(), "an image in quotes"),
        Shape::Repository => unless(
            text.is_some_and(is_repository),
            "a repository in lower case, such as \"lockers/survey-form\"".to_owned(),
        ),
        Shape::Inside => unless(
            text.is_some_and(is_inside),
            "an absolute path without `.` and `..` that is not in /proc, /sys or /dev, such as \"/app\""
                .to_owned(),
        ),
        Shape::Digest => unless(
            text.and_then(|text| text.strip_prefix("sha256:")).is_some_and(is_digest),
            "a digest in quotes: sha256: and 64 hexadecimal digits, as `mainyard image list` shows it"
                .to_owned(),
        ),
        Shape::Size => wrong::<Bytes>(text, |error| error, "a size in quotes, such as \"128 MiB\""),
        Shape::Time => wrong::<Span>(text, |error| error, "a time in quotes, such as \"5s\""),
        Shape::Host => unless(
            text.is_some_and(is_host),
            "a host name in lower case, such as \"api.lockers.localhost\"".to_owned(),
        ),
        Shape::HostPattern => unless(
            text.is_some_and(|text| is_host(text.strip_prefix("*.").unwrap_or(text))),
            "a host name in lower case, such as \"api.lockers.localhost\" or \"*.lockers.localhost\""
                .to_owned(),
        ),
        Shape::Path => {
            unless(text.is_some_and(is_path), "a path that begins with /, without spaces".to_owned())
        }
        Shape::Encrypted => unless(
            text.is_some_and(|text| text.trim_start().starts_with(crate::model::ENCRYPTED_HEAD)),
            "a value as `mainyard secret encrypt` prints it (the armored age format)".to_owned(),
        ),
        Shape::Outgoing => wrong::<OutgoingRule>(text, |expected| expected, OUTGOING_FORM),
        Shape::Addresses => {
            wrong::<AddressRange>(text, |expected| expected, "a range of addresses in quotes")
        }
        Shape::Token => unless(text.is_some_and(is_token), "a word without spaces".to_owned()),
        Shape::Constant => {
            let plain = text.is_some() || item.is_integer() || item.is_float() || item.is_bool();
            unless(plain, "a text, a number, or true or false".to_owned())
        }
        Shape::Bool => unless(item.as_bool().is_some(), "true or false".to_owned()),
        Shape::Integer(least, most) => unless(
            item.as_integer().is_some_and(|number| (*least..=*most).contains(&number)),
            format!("a whole number from {least} to {most}"),
        ),
        Shape::Number(least, most) => {
            let number = item.as_float().or(item.as_integer().map(|n| n as f64));
            let fits = number.is_some_and(|number| (*least..=*most).contains(&number));
            unless(fits, format!("a number from {least} to {most}"))
        }
        Shape::Word(words) => match text {
            Some(text) if words.contains(&text) => None,
            Some(text) => {
                let meant = did_you_mean(text, words.iter().copied());
                Some(format!("{}{meant}", one_of(words)))
            }
            None => Some(one_of(words)),
        },
        Shape::List(_) | Shape::Map(..) | Shape::Table(_) => None,
    }
}

fn one_of(words: &[&str]) -> String {
    match words {
        [only] => format!("\"{only}\""),
        words => format!("one of {}", quoted(words)),
    }
}

fn wrong<T: FromStr>(
    text: Option<&str>,
    expected: impl Fn(T::Err) -> String,
    otherwise: &str,
) -> Option<String> {
    match text {
        Some(text) => text.parse::<T>().err().map(expected),
        None => Some(otherwise.to_owned()),
    }
}

fn wrong_key(kind: MapKey, name: &str) -> Option<&'static str> {
    match kind {
        MapKey::Name => name.parse::<Name>().err().map(|error| error.expected),
        MapKey::Label => {
            let fits =
                !name.is_empty() && name.len() <= 60 && name.chars().all(|c| !c.is_whitespace() && c != '=');
            (!fits).then_some("a label: up to 60 characters without spaces")
        }
        MapKey::Setting => {
            let fits = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
                && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
            (!fits).then_some("a setting: letters, digits and underscores")
        }
        MapKey::File => wrong_file(name),
        MapKey::Port => {
            name.parse::<u16>().map_or(true, |port| port == 0).then_some("a port from 1 to 65535")
        }
        MapKey::Header => (!is_token(name)).then_some("the name of a header, such as X-Desk"),
    }
}

/// Directories that a replica has from the kernel.
const KERNELS: [&str; 3] = ["proc", "sys", "dev"];

/// Whether each word of an absolute path is a name.
fn is_absolute(path: &str) -> bool {
    let plain = path.starts_with('/') && path.len() <= 200 && !path.contains(|c: char| c.is_control());
    plain && !path.split('/').skip(1).any(|part| part.is_empty() || part == "." || part == "..")
}

/// Whether the text is a path inside an image, where its own files may be.
fn is_inside(path: &str) -> bool {
    let first = path.split('/').nth(1).unwrap_or_default();
    path == "/" || is_absolute(path.strip_suffix('/').unwrap_or(path)) && !KERNELS.contains(&first)
}

/// The error in the path of a file that is put into a replica.
fn wrong_file(path: &str) -> Option<&'static str> {
    if !is_absolute(path) {
        return Some("the path of a file: absolute, without `.` and `..`, such as \"/app/kiosk.key\"");
    }
    let first = path.split('/').nth(1).unwrap_or_default();
    let taken = KERNELS.contains(&first) || path == "/etc/hosts";
    taken.then_some("another path: /proc, /sys, /dev and /etc/hosts belong to the platform")
}

fn is_digest(text: &str) -> bool {
    text.len() == 64 && text.bytes().all(|byte| byte.is_ascii_digit() || (b'a'..=b'f').contains(&byte))
}

/// Whether the text is a token (RFC 9110, section 5.6.2).
pub fn is_token(text: &str) -> bool {
    let sign = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-.^_`|~".contains(c);
    (1..=100).contains(&text.len()) && text.chars().all(sign)
}

fn is_path(text: &str) -> bool {
    text.starts_with('/') && text.chars().all(|c| c.is_ascii_graphic())
}

fn join(path: &str, name: &str) -> String {
    if path.is_empty() { name.to_owned() } else { format!("{path}.{name}") }
}

fn quoted(words: &[&str]) -> String {
    words.iter().map(|word| format!("\"{word}\"")).collect::<Vec<_>>().join(", ")
}

fn lower_first(text: &str) -> String {
    let mut chars = text.trim_end_matches('.').chars();
    chars.next().map_or_else(String::new, |first| first.to_lowercase().chain(chars).collect())
}

fn kind(item: &Item) -> &'static str {
    match item {
        Item::Value(Value::String(_)) => "a text",
        Item::Value(Value::Integer(_) | Value::Float(_)) => "a number",
        Item::Value(Value::Boolean(_)) => "true or false",
        Item::Value(Value::Datetime(_)) => "a date",
        Item::Value(Value::Array(_)) | Item::ArrayOfTables(_) => "a list",
        _ => "a table",
    }
}

fn shown(item: &Item) -> String {
    match item {
        Item::Value(Value::String(text)) if text.value().chars().count() > 60 => {
            format!("{:?}…", text.value().chars().take(60).collect::<String>())
        }
        Item::Value(Value::String(text)) => format!("{:?}", text.value()),
        Item::Value(Value::Integer(number)) => number.value().to_string(),
        Item::Value(Value::Float(number)) => number.value().to_string(),
        other => kind(other).to_owned(),
    }
}
