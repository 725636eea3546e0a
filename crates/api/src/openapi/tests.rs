use std::collections::BTreeSet;

use super::*;
use crate::operation::Method;

#[test]
fn the_document_that_is_kept_is_the_one_that_the_operations_make() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
    let text = format!("{:#}\n", document());
    if std::env::var_os("MAINYARD_WRITE_DOCS").is_some() {
        std::fs::write(path, &text).expect("the document is written");
    }
    let kept = std::fs::read_to_string(path).expect("docs/openapi.json is there");
    assert!(
        kept == text,
        "docs/openapi.json is old: write it with MAINYARD_WRITE_DOCS=1 cargo test -p mainyard-api"
    );
}

#[test]
fn every_operation_has_a_name_a_summary_and_a_success_of_its_own() {
    let mut ids = BTreeSet::new();
    let mut places = BTreeSet::new();
    for operation in all() {
        assert!(ids.insert(operation.id), "{} stands twice", operation.id);
        assert!(places.insert((operation.method, operation.path)), "{} stands twice", operation.path);
        let written = &document()["paths"][operation.path][operation.method.word().to_ascii_lowercase()];
        assert!(written["summary"].as_str().is_some_and(|it| !it.is_empty()), "{}", operation.id);
        assert!(written["responses"][operation.status.to_string()].is_object(), "{}", operation.id);
    }
    assert!(ids.len() > 60, "{}", ids.len());
}

#[test]
fn the_documents_example_bodies_are_accepted() {
    for operation in all() {
        let takes_json = (operation.body_schema)(&mut SchemaGenerator::default())
            .is_some_and(|(media, _)| media == "application/json");
        let of_a_person = operation.who == Who::Person;
        assert_eq!(
            operation.example.is_some(),
            takes_json && of_a_person,
            "{} needs an example",
            operation.id
        );
        if let Some(example) = operation.example {
            assert_eq!((operation.check_body)(example), Ok(()), "{}", operation.id);
        }
    }
}

#[test]
fn what_changes_something_may_be_refused_as_things_are_and_can_be_looked_at_first() {
    // What cannot be rehearsed: it changes no state of the cluster, or another system's.
    let without = [
        "AddSignInKey",
        "SignOut",
        "EndSessions",
        "AddToken",
        "RemoveToken",
        "LookAtSource",
        "WriteBack",
        "PromoteInGit",
        "CheckRegistry",
        "PullImage",
        "CancelBuild",
        "BuildSource",
        "MakeCode",
        "RemoveCode",
        "AddSshKey",
        "RemoveSshKey",
        "ChangeLiveFiles",
        "PurgeCache",
    ];
    for operation in all().filter(|it| it.who == Who::Person && it.method != Method::Get) {
        let query = (operation.query_schema)(&mut SchemaGenerator::default()).to_value();
        let forecasts = query["properties"]["forecast"].is_object();
        assert_ne!(forecasts, without.contains(&operation.id), "{}", operation.id);
    }
}

#[test]
fn every_reference_leads_to_a_schema() {
    fn references(value: &Value, found: &mut BTreeSet<String>) {
        match value {
            Value::Object(map) => {
                found.extend(map.get("$ref").and_then(Value::as_str).map(str::to_owned));
                map.values().for_each(|value| references(value, found));
            }
            Value::Array(list) => list.iter().for_each(|value| references(value, found)),
            _ => {}
        }
    }
    let document = document();
    let mut found = BTreeSet::new();
    references(&document, &mut found);
    assert!(found.len() > 50, "{}", found.len());
    for reference in found {
        let pointer = reference.trim_start_matches('#');
        assert!(document.pointer(pointer).is_some(), "{reference} leads nowhere");
    }
}

#[test]
fn the_document_contains_nothing_secret() {
    // Anyone may read the document: it names no machine, no file and no account.
    let text = document().to_string();
    for word in ["/root", "/home", "/var/lib", "127.0.0.1"] {
        assert!(!text.contains(word), "{word}");
    }
}

#[test]
fn every_answer_in_json_has_an_example_that_fits_its_schema() {
    let document = document();
    let mut checked = 0;
    for operation in all() {
        let written = &document["paths"][operation.path][operation.method.word().to_ascii_lowercase()];
        let answer = &written["responses"][operation.status.to_string()]["content"]["application/json"];
        if answer.is_null() {
            continue;
        }
        let schema = json!({
            "$ref": "#/components/answer",
            "components": {"answer": answer["schema"], "schemas": document["components"]["schemas"]},
        });
        let validator = jsonschema::validator_for(&schema).expect("a schema");
        let wrong: Vec<String> = validator
            .iter_errors(&answer["example"])
            .map(|error| format!("{}: {error}", error.instance_path))
            .collect();
        assert!(wrong.is_empty(), "{}: {wrong:#?}\n{:#}", operation.id, answer["example"]);
        checked += 1;
    }
    assert!(checked > 40, "{checked}");
}
