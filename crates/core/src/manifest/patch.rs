//! Putting what is into the files that declare it, with the least that changes: comments and order stay.

use serde_json::Value as Json;
use toml_edit::{DocumentMut, Item, Table, TableLike};

use super::problem::SourceFile;
use super::write::written;

/// An object's declaration beside its present value.
#[derive(Debug, Clone, PartialEq)]
pub struct Change {
    /// `workload`, `service` or `route`.
    pub kind: &'static str,
    /// Its name.
    pub name: String,
    /// The keys as they are declared.
    pub declared: Json,
    /// The keys as they are.
    pub is: Json,
}

/// Gives the files that differ then, whole.
///
/// # Errors
/// Settings that files can't give to one environment alone, in words.
pub fn write_back(
    files: &[SourceFile],
    environment: &str,
    changes: &[Change],
) -> Result<Vec<SourceFile>, Vec<String>> {
    let parsed = files.iter().map(|file| file.text.parse::<DocumentMut>());
    let mut documents: Vec<DocumentMut> =
        parsed.collect::<Result<_, _>>().map_err(|error| vec![error.to_string()])?;
    let mut problems = Vec::new();
    for change in changes {
        let keys = different("", &change.declared, &change.is);
        for (path, value) in keys {
            if let Err(problem) = put(&mut documents, environment, change, &path, value) {
                problems.push(problem);
            }
        }
    }
    if !problems.is_empty() {
        return Err(problems);
    }
    let written = files.iter().zip(documents).filter_map(|(file, document)| {
        let text = document.to_string();
        (text != file.text).then(|| SourceFile { name: file.name.clone(), text })
    });
    Ok(written.collect())
}

/// Keys that differ, by their path: of tables whose keys are free or few, each by itself.
fn different(path: &str, declared: &Json, is: &Json) -> Vec<(Vec<String>, Option<Json>)> {
    let empty = serde_json::Map::new();
    let (before, after) = (declared.as_object().unwrap_or(&empty), is.as_object().unwrap_or(&empty));
    let mut keys: Vec<&String> = before.keys().chain(after.keys()).collect();
    keys.sort();
    keys.dedup();
    let mut found = Vec::new();
    for key in keys {
        let (old, new) = (before.get(key), after.get(key).filter(|value| !value.is_null()));
        let old = old.filter(|value| !value.is_null());
        if old == new {
            continue;
        }
        let inner = ["settings", "limits", "reserve", "labels", "stop"].contains(&key.as_str());
        match (old, new) {
            (Some(old), Some(new)) if path.is_empty() && inner && old.is_object() && new.is_object() => {
                let below = different(key, old, new).into_iter();
                found.extend(below.map(|(rest, value)| ([vec![key.clone()], rest].concat(), value)));
            }
            (_, new) => found.push((vec![key.clone()], new.cloned())),
        }
    }
    found
}

fn put(
    documents: &mut [DocumentMut],
    environment: &str,
    change: &Change,
    path: &[String],
    value: Option<Json>,
) -> Result<(), String> {
    let base = [change.kind, &change.name];
    let own = vec!["in", environment, change.kind, &change.name];
    let has = |document: &DocumentMut, table: &[&str]| {
        find(document.as_item(), table).and_then(|item| reach(item, path)).is_some()
    };
    let several = documents.iter().any(|document| document.get("in").is_some());
    let in_own = documents.iter().position(|document| has(document, &own));
    let in_base = documents.iter().position(|document| find(document.as_item(), &base).is_some());
    let words = || format!("{} {}: `{}`", change.kind, change.name, path.join("."));
    let (at, table) = match (in_own, in_base, &value) {
        (Some(at), ..) => (at, own),
        (None, Some(at), _) if !several => (at, base.to_vec()),
        (None, Some(at), None) if has(&documents[at], &base) => {
            return Err(format!(
                "{} is declared for all environments, and {environment} is without it",
                words()
            ));
        }
        (None, _, None) => return Ok(()),
        (None, Some(at), Some(_)) => (at, own),
        (None, None, Some(_)) => return Err(format!("{} has no table in the files", words())),
    };
    let mut item: &mut dyn TableLike = documents[at].as_table_mut();
    for name in table.iter().copied().chain(path[..path.len() - 1].iter().map(String::as_str)) {
        let entry = item.entry(name).or_insert_with(|| {
            let mut table = Table::new();
            table.set_implicit(true);
            Item::Table(table)
        });
        item = entry.as_table_like_mut().ok_or_else(|| format!("{} is no table in the files", words()))?;
    }
    let Some(key) = path.last() else { return Ok(()) };
    match value {
        None => {
            // The space before a closing brace is the last value's.
            let gone = item.remove(key);
            let suffix = gone.as_ref().and_then(Item::as_value).and_then(|it| it.decor().suffix().cloned());
            let last = item.iter_mut().last().map(|(_, item)| item).and_then(Item::as_value_mut);
            if let (Some(suffix), Some(last)) = (suffix, last)
                && last.decor().suffix().and_then(|it| it.as_str()).is_none_or(str::is_empty)
            {
                last.decor_mut().set_suffix(suffix);
            }
        }
        Some(value) => {
            let text = format!("x = {}", written(&value));
            let made: DocumentMut = text.parse().map_err(|error| format!("{}: {error}", words()))?;
            let Some(made) = made.get("x").and_then(Item::as_value).cloned() else { return Ok(()) };
            match item.get_mut(key).and_then(Item::as_value_mut) {
                Some(old) => {
                    let decor = old.decor().clone();
                    *old = made;
                    *old.decor_mut() = decor;
                }
                None => drop(item.insert(key, Item::Value(made))),
            }
        }
    }
    Ok(())
}

fn find<'a>(item: &'a Item, path: &[&str]) -> Option<&'a Item> {
    path.iter().try_fold(item, |item, key| item.get(key))
}

fn reach<'a>(item: &'a Item, path: &[String]) -> Option<&'a Item> {
    path.iter().try_fold(item, |item, key| item.get(key.as_str()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    const LONE: &str = "application = \"lockers\"\n\n# The API.\n[workload.api]\nimage    = \"lockers/api:1\" # the good one\nreplicas = 2\nsettings = { LEVEL = \"info\", GONE = \"x\" }\n";

    fn back(text: &str, declared: Json, is: Json) -> Result<Vec<String>, Vec<String>> {
        let file = SourceFile { name: "mainyard.toml".into(), text: text.into() };
        let change = Change { kind: "workload", name: "api".into(), declared, is };
        let files = write_back(&[file], "staging", &[change])?;
        Ok(files.into_iter().map(|file| file.text).collect())
    }

    #[test]
    fn only_what_differs_changes_and_comments_stay() {
        let declared =
            json!({"image": "lockers/api:1", "replicas": 2, "settings": {"LEVEL": "info", "GONE": "x"}});
        let is = json!({"image": "lockers/api:2", "replicas": 2, "settings": {"LEVEL": "debug"}});
        let text = LONE
            .replace("api:1", "api:2")
            .replace("{ LEVEL = \"info\", GONE = \"x\" }", "{ LEVEL = \"debug\" }");
        assert_eq!(back(LONE, declared.clone(), is), Ok(vec![text]));
        assert_eq!(back(LONE, declared.clone(), declared), Ok(vec![]));
    }

    #[test]
    fn where_several_environments_share_a_file_only_this_ones_part_changes() {
        let text = format!("{LONE}\n[in.production.workload.api]\nreplicas = 6\n");
        let declared = json!({"image": "lockers/api:1", "replicas": 2});
        let told = back(&text, declared.clone(), json!({"image": "lockers/api:2", "replicas": 2}));
        assert_eq!(told, Ok(vec![format!("{text}\n[in.staging.workload.api]\nimage = \"lockers/api:2\"\n")]));
        let told = back(&text, declared, json!({"image": "lockers/api:1"}));
        let refused = "workload api: `replicas` is declared for all environments, and staging is without it";
        assert_eq!(told, Err(vec![refused.to_owned()]));
    }
}
