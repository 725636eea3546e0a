//! Files as parsed documents: checked against the list of keys, with the place of every value at hand.

use std::ops::Range;

use serde_json::Value as Json;
use toml_edit::{Item, Value};

use super::check::check;
use super::keys::{FILE, Shape};
use super::problem::{Place, Problem, SourceFile};

/// A file a stranger may send is not longer than this, in bytes.
const LONGEST_FILE: usize = 1 << 20;

/// A file that was read and holds no key and no value but those that may be in it.
pub struct Document<'a> {
    pub(super) name: &'a str,
    text: &'a str,
    pub(super) document: toml_edit::Document<&'a str>,
}

impl<'a> Document<'a> {
    /// Reads a file, and holds it against the keys that it may have.
    ///
    /// # Errors
    /// With all that is wrong, each with its place.
    pub fn parse(name: &'a str, text: &'a str, shape: &Shape) -> Result<Document<'a>, Vec<Problem>> {
        let problem = |span, message: String| vec![Problem { place: Place::of(name, text, span), message }];
        if text.len() > LONGEST_FILE {
            return Err(problem(None, "the file is longer than 1 MiB".to_owned()));
        }
        let document = toml_edit::Document::parse(text).map_err(|error| {
            let message = error.message().trim().replace('\n', "; ");
            problem(error.span(), format!("not valid TOML: {message}"))
        })?;
        let mut problems = check(name, text, document.as_item(), shape);
        let read = Document { name, text, document };
        let mut path = Vec::new();
        if holds_zero(&json(read.document.as_item()), &mut path) {
            let path: Vec<&str> = path.iter().map(String::as_str).collect();
            let message =
                "holds U+0000, which neither a program's settings nor the record can hold".to_owned();
            problems.push(Problem { place: read.place(&path), message });
        }
        if problems.is_empty() { Ok(read) } else { Err(sorted(problems)) }
    }

    /// The place of a key's value, or of the nearest table around it that is there. An entry of a list is named by its
    /// number.
    pub fn place(&self, path: &[&str]) -> Place {
        Place::of(self.name, self.text, span_at(self.document.as_item(), path))
    }

    /// The value at a path.
    pub fn value(&self, path: &[&str]) -> Option<Json> {
        reach(self.document.as_item(), path).map(json)
    }

    /// The keys of a table, in the order of the file.
    pub fn keys(&self, path: &[&str]) -> Vec<String> {
        table_at(&self.document, path).into_iter().map(|(name, _)| name.to_owned()).collect()
    }
}

/// The bytes of what lies at a path, or of the nearest around it that is there.
fn span_at(item: &Item, path: &[&str]) -> Option<Range<usize>> {
    let (first, rest) = path.split_first()?;
    if let Some(table) = item.as_table_like() {
        let (key, next) = table.get_key_value(first)?;
        return span_at(next, rest).or(next.span()).or(key.span());
    }
    let number: usize = first.parse().ok()?;
    if let Some(array) = item.as_array() {
        let entry = Item::Value(array.get(number)?.clone());
        return span_at(&entry, rest).or(entry.span());
    }
    let table = Item::Table(item.as_array_of_tables()?.get(number)?.clone());
    span_at(&table, rest).or(table.span())
}

pub(super) fn parse(files: &[SourceFile]) -> Result<Vec<Document<'_>>, Vec<Problem>> {
    let read = files.iter().map(|file| Document::parse(&file.name, &file.text, &FILE));
    let (mut parsed, mut problems) = (Vec::new(), Vec::new());
    for read in read {
        match read {
            Ok(document) => parsed.push(document),
            Err(wrong) => problems.extend(wrong),
        }
    }
    if problems.is_empty() { Ok(parsed) } else { Err(sorted(problems)) }
}

/// Whether a text in here, or a key, holds U+0000; and the keys that lead there.
fn holds_zero(value: &Json, path: &mut Vec<String>) -> bool {
    match value {
        Json::String(text) => text.contains('\0'),
        Json::Array(list) => list.iter().any(|item| holds_zero(item, path)),
        Json::Object(map) => map.iter().any(|(key, item)| {
            path.push(key.clone());
            let found = key.contains('\0') || holds_zero(item, path);
            if !found {
                path.pop();
            }
            found
        }),
        _ => false,
    }
}

pub(super) fn reach<'i>(item: &'i Item, path: &[&str]) -> Option<&'i Item> {
    path.iter().try_fold(item, |item, name| item.as_table_like()?.get(name))
}

pub(super) fn table_at<'d>(
    document: &'d toml_edit::Document<&str>,
    path: &[&str],
) -> Vec<(&'d str, &'d Item)> {
    let table = reach(document.as_item(), path).and_then(Item::as_table_like);
    table.map(|table| table.iter().collect()).unwrap_or_default()
}

pub(super) fn json(item: &Item) -> Json {
    match item {
        Item::Value(value) => json_value(value),
        Item::ArrayOfTables(list) => list.iter().map(|table| json(&Item::Table(table.clone()))).collect(),
        Item::Table(table) => {
            Json::Object(table.iter().map(|(name, item)| (name.to_owned(), json(item))).collect())
        }
        Item::None => Json::Null,
    }
}

pub(super) fn json_value(value: &Value) -> Json {
    match value {
        Value::String(text) => text.value().as_str().into(),
        Value::Integer(number) => (*number.value()).into(),
        Value::Float(number) => (*number.value()).into(),
        Value::Boolean(truth) => (*truth.value()).into(),
        Value::Datetime(moment) => moment.value().to_string().into(),
        Value::Array(list) => list.iter().map(json_value).collect(),
        Value::InlineTable(table) => {
            Json::Object(table.iter().map(|(name, value)| (name.to_owned(), json_value(value))).collect())
        }
    }
}

/// Tables are merged key by key; anything else is replaced.
pub(super) fn merge(base: &mut Json, over: Json) {
    match (base, over) {
        (Json::Object(base), Json::Object(over)) => {
            for (key, value) in over {
                merge(base.entry(key).or_insert(Json::Null), value);
            }
        }
        (base, over) => *base = over,
    }
}

pub(super) fn sorted(mut problems: Vec<Problem>) -> Vec<Problem> {
    problems.sort();
    problems.dedup();
    problems
}
