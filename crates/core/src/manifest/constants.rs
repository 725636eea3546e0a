//! Constants: values that have a name, and stand in texts as `${name}`.
//!
//! A text that is nothing but `${name}` becomes the value as it is, a number too; elsewhere its text is put in. What is
//! meant as it is written begins with two signs: `$${HOME}`. `${application}` and `${environment}` are always there. Lines stay where they are, so that places stay true.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use serde_json::Value as Json;
use toml_edit::{Document, Item, TableLike, Value};

use super::parse::{json, reach, sorted};
use super::problem::{Place, Problem, SourceFile};
use super::write::literal;
use crate::model::Name;
use crate::suggestions::did_you_mean;

/// A constant as it is given somewhere.
struct ConstantValue {
    value: Json,
    place: Place,
    environment: Option<String>,
}

/// Puts the constants of an environment into the files that use them.
///
/// # Errors
/// Constants that are unknown, or used nowhere, each with its place.
pub(super) fn fill<'a>(
    files: &'a [SourceFile],
    environment: Option<&Name>,
    named: Option<&Name>,
) -> Result<Cow<'a, [SourceFile]>, Vec<Problem>> {
    let parsed: Vec<_> = files.iter().map(|file| (file, Document::parse(file.text.as_str()).ok())).collect();
    let mut given: BTreeMap<String, Vec<ConstantValue>> = BTreeMap::new();
    for (file, document) in parsed.iter().filter_map(|(file, document)| Some((file, document.as_ref()?))) {
        gather(file, document, &["constants"], None, &mut given);
        let inner = reach(document.as_item(), &["in"]).and_then(Item::as_table_like);
        for (name, _) in inner.into_iter().flat_map(TableLike::iter) {
            gather(file, document, &["in", name, "constants"], Some(name), &mut given);
        }
    }
    let uses = files.iter().any(|file| file.text.contains("${"));
    if given.is_empty() && !uses {
        return Ok(Cow::Borrowed(files));
    }
    let documents = || parsed.iter().filter_map(|(_, document)| document.as_ref());
    let application = documents().find_map(|document| document.get("application")?.as_str());
    let application = named.map(Name::as_str).or(application);
    let of_itself = [("application", application), ("environment", environment.map(Name::as_str))];
    let of_itself = of_itself.into_iter().filter_map(|(name, value)| Some((name, Json::from(value?))));
    let of_itself: BTreeMap<&str, Json> = of_itself.collect();
    let mut filler =
        Filler { given: &given, of_itself: &of_itself, used: BTreeSet::new(), problems: Vec::new() };
    let mut filled = Vec::new();
    for (file, document) in &parsed {
        let Some(document) = document else {
            filled.push((*file).clone());
            continue;
        };
        let mut edits = Vec::new();
        let own = environment.map(Name::as_str);
        filler.item(file, document.as_item(), &mut Vec::new(), own, &mut edits);
        edits.sort_by_key(|(span, _): &(Range<usize>, String)| std::cmp::Reverse(span.start));
        let mut text = file.text.clone();
        for (span, new) in edits {
            text.replace_range(span, &new);
        }
        filled.push(SourceFile { name: file.name.clone(), text });
    }
    for (name, all) in given.iter().filter(|(name, _)| !filler.used.contains(*name)) {
        for it in all {
            let near = did_you_mean(name, filler.used.iter().map(String::as_str));
            let message =
                format!("the constant `{name}` is used nowhere; write ${{{name}}} where it is meant{near}");
            filler.problems.push(Problem { place: it.place.clone(), message });
        }
    }
    if filler.problems.is_empty() { Ok(Cow::Owned(filled)) } else { Err(sorted(filler.problems)) }
}

fn gather(
    file: &SourceFile,
    document: &Document<&str>,
    path: &[&str],
    environment: Option<&str>,
    given: &mut BTreeMap<String, Vec<ConstantValue>>,
) {
    let table = reach(document.as_item(), path).and_then(Item::as_table_like);
    for (name, item) in table.into_iter().flat_map(TableLike::iter) {
        let place = Place::of(&file.name, &file.text, item.span());
        let environment = environment.map(str::to_owned);
        given.entry(name.to_owned()).or_default().push(ConstantValue {
            value: json(item),
            place,
            environment,
        });
    }
}

struct Filler<'a> {
    given: &'a BTreeMap<String, Vec<ConstantValue>>,
    /// Constants that always exist: the application's name and the environment's.
    of_itself: &'a BTreeMap<&'static str, Json>,
    used: BTreeSet<String>,
    problems: Vec<Problem>,
}

impl<'a> Filler<'a> {
    /// A constant's value in an environment: its own, or the common one.
    fn known(&self, name: &str, environment: Option<&str>) -> Option<&'a Json> {
        let Some(all) = self.given.get(name) else { return self.of_itself.get(name) };
        let own = all.iter().find(|it| it.environment.is_some() && it.environment.as_deref() == environment);
        Some(&own.or(all.iter().find(|it| it.environment.is_none()))?.value)
    }

    fn item(
        &mut self,
        file: &SourceFile,
        item: &Item,
        path: &mut Vec<String>,
        environment: Option<&str>,
        edits: &mut Vec<(Range<usize>, String)>,
    ) {
        match item {
            Item::Value(value) => self.value(file, value, path, environment, edits),
            Item::Table(table) => self.table(file, table, path, environment, edits),
            Item::ArrayOfTables(list) => {
                list.iter().for_each(|table| self.table(file, table, path, environment, edits));
            }
            Item::None => {}
        }
    }

    fn table(
        &mut self,
        file: &SourceFile,
        table: &dyn TableLike,
        path: &mut Vec<String>,
        environment: Option<&str>,
        edits: &mut Vec<(Range<usize>, String)>,
    ) {
        for (name, item) in table.iter() {
            path.push(name.to_owned());
            let is_constants = path.last().is_some_and(|last| last == "constants") && path.len() % 2 == 1;
            if !is_constants {
                self.item(file, item, path, environment, edits);
            }
            path.pop();
        }
    }

    fn value(
        &mut self,
        file: &SourceFile,
        value: &Value,
        path: &mut Vec<String>,
        environment: Option<&str>,
        edits: &mut Vec<(Range<usize>, String)>,
    ) {
        match value {
            Value::Array(list) => list.iter().for_each(|it| self.value(file, it, path, environment, edits)),
            Value::InlineTable(table) => self.table(file, table, path, environment, edits),
            Value::String(text) if text.value().contains("${") => {
                let Some(span) = value.span() else { return };
                // What an environment says has the constants of that environment.
                let own = path.get(1).filter(|_| path.first().is_some_and(|first| first == "in"));
                let environment = own.map(String::as_str).or(environment);
                let place = Place::of(&file.name, &file.text, Some(span.clone()));
                if let Some(new) = self.text(text.value(), &place, environment) {
                    edits.push((span, literal(&new)));
                }
            }
            _ => {}
        }
    }

    fn text(&mut self, text: &str, place: &Place, environment: Option<&str>) -> Option<Json> {
        let (mut out, mut rest) = (String::new(), text);
        while let Some(at) = rest.find("${") {
            let (before, from) = rest.split_at(at);
            if let Some(before) = before.strip_suffix('$') {
                out.push_str(before);
                out.push_str("${");
                rest = &from[2..];
                continue;
            }
            out.push_str(before);
            let Some(end) = from.find('}') else {
                let message = format!(
                    "{text:?} begins a constant with ${{ and does not end it with }}; what is meant as it is written begins with $${{"
                );
                self.problems.push(Problem { place: place.clone(), message });
                return None;
            };
            let name = &from[2..end];
            self.used.insert(name.to_owned());
            match self.known(name, environment) {
                Some(value)
                    if from.len() == end + 1 && at == 0 && out.is_empty() && text.len() == end + 1 =>
                {
                    return Some(value.clone());
                }
                Some(Json::String(value)) => out.push_str(value),
                Some(value) => out.push_str(&value.to_string()),
                None => {
                    let here = self.given.keys().filter(|it| self.known(it, environment).is_some());
                    let near = did_you_mean(name, here.map(String::as_str));
                    let message = format!(
                        "there is no constant `{name}`{near}; give it in [constants], or write $${{{name}}} where just that is meant"
                    );
                    self.problems.push(Problem { place: place.clone(), message });
                    return None;
                }
            }
            rest = &from[end + 1..];
        }
        out.push_str(rest);
        Some(Json::String(out))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::manifest::read;

    const TEXT: &str = r#"application = "lockers"
[constants]
square = "market"
count = 2
[in.staging.constants]
square = "yard"
[workload.api]
image = "lockers/api:1"
replicas = "${count}"
settings = { SQUARE = "at ${square}, ${count} doors", HOME_DIR = "$${HOME}" }
[in.production.workload.api]
settings = { ONLY = "${square}" }
"#;

    fn told(text: &str, environment: &str) -> Result<Vec<String>, Vec<String>> {
        let file = SourceFile { name: "mainyard.toml".into(), text: text.into() };
        let declared = read(&[file], environment.parse().ok().as_ref())
            .map_err(|problems| problems.iter().map(ToString::to_string).collect::<Vec<_>>())?;
        let workload = declared.workloads.values().next().expect("one");
        let settings = workload.spec.settings.iter().map(|(key, value)| format!("{key} = {value}"));
        Ok([format!("{:?}", workload.replicas)].into_iter().chain(settings).collect())
    }

    #[test]
    fn a_constant_has_its_value_in_each_environment() {
        let staging = ["Some(2)", "HOME_DIR = ${HOME}", "SQUARE = at yard, 2 doors"];
        assert_eq!(told(TEXT, "staging"), Ok(staging.map(str::to_owned).to_vec()));
        let production = ["Some(2)", "HOME_DIR = ${HOME}", "ONLY = market", "SQUARE = at market, 2 doors"];
        assert_eq!(told(TEXT, "production"), Ok(production.map(str::to_owned).to_vec()));
    }

    #[test]
    fn what_is_unknown_or_used_nowhere_is_told_with_its_place() {
        let wrong = TEXT
            .replace("${count} doors", "${cuont} doors")
            .replace("square = \"market\"", "sqare = \"market\"");
        let expected = [
            "mainyard.toml:3:9: the constant `sqare` is used nowhere; write ${sqare} where it is meant; did you mean `square`?",
            "mainyard.toml:10:23: there is no constant `cuont`; did you mean `count`?; give it in [constants], or write $${cuont} where just that is meant",
            "mainyard.toml:12:21: there is no constant `square`; did you mean `sqare`?; give it in [constants], or write $${square} where just that is meant",
        ];
        assert_eq!(told(&wrong, "staging"), Err(expected.map(str::to_owned).to_vec()));
        let open = TEXT.replace("${square},", "${square,");
        assert!(
            told(&open, "staging").expect_err("not ended")[0]
                .starts_with("mainyard.toml:10:23: there is no constant")
        );
        let typed = TEXT.replace("count = 2", "count = \"two\"");
        let told = told(&typed, "staging").expect_err("a text is no number");
        assert!(
            told[0].starts_with("mainyard.toml:9:12: `workload.api.replicas` is \"two\"; expected"),
            "{told:?}"
        );
    }
}
