//! Files as parsed documents: checked against the list of keys, with the place of every value at hand.

use std::ops::Range;

use serde_json::Value as Json;
use toml_edit::{Document, Item, Value};

use super::check::check;
use super::keys::FILE;
use super::problem::{Place, Problem, SourceFile};

/// A file a stranger may send is not longer than this, in bytes.
const LONGEST_FILE: usize = 1 << 20;

pub(super) struct Parsed<'a> {
    pub(super) file: &'a SourceFile,
    pub(super) document: Document<&'a str>,
}

impl Parsed<'_> {
    /// The place of a key's value, or of the nearest table around it that is there.
    pub(super) fn place(&self, path: &[&str]) -> Place {
        let mut item = self.document.as_item();
        let mut span: Option<Range<usize>> = None;
        for name in path {
            let Some(table) = item.as_table_like() else { break };
            let Some((key, next)) = table.get_key_value(name) else { break };
            span = next.span().or(key.span()).or(span);
            item = next;
        }
        Place::of(&self.file.name, &self.file.text, span)
    }
}

pub(super) fn parse(files: &[SourceFile]) -> Result<Vec<Parsed<'_>>, Vec<Problem>> {
    let mut problems = Vec::new();
    let mut parsed = Vec::new();
    for file in files {
        if file.text.len() > LONGEST_FILE {
            let place = Place::of(&file.name, &file.text, None);
            problems.push(Problem { place, message: "the file is longer than 1 MiB".to_owned() });
            continue;
        }
        match Document::parse(file.text.as_str()) {
            Ok(document) => {
                problems.extend(check(&file.name, &file.text, document.as_item(), &FILE));
                let read = Parsed { file, document };
                let mut path = Vec::new();
                if holds_zero(&json(read.document.as_item()), &mut path) {
                    let path: Vec<&str> = path.iter().map(String::as_str).collect();
                    let message =
                        "holds U+0000, which neither a program's settings nor the record can hold".to_owned();
                    problems.push(Problem { place: read.place(&path), message });
                }
                parsed.push(read);
            }
            Err(error) => {
                let place = Place::of(&file.name, &file.text, error.span());
                let message = error.message().trim().replace('\n', "; ");
                problems.push(Problem { place, message: format!("not valid TOML: {message}") });
            }
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

pub(super) fn table_at<'d>(document: &'d Document<&str>, path: &[&str]) -> Vec<(&'d str, &'d Item)> {
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
