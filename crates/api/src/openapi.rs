//! The OpenAPI 3.1 document, made from the operations.
//!
//! Schemas are JSON Schema (draft 2020-12), as OpenAPI 3.1 takes them. A type that is read otherwise than it is written (a
//! default that may be left out) has two schemas; the one of requests is called `…Input`.

mod examples;

use std::collections::{BTreeMap, BTreeSet};

use schemars::generate::SchemaSettings;
use schemars::transform::RecursiveTransform;
use schemars::{Schema, SchemaGenerator};
use serde_json::{Map, Value, json};

use crate::operation::{Described, Who};
use crate::problem::{Problem, ProblemCode};
use crate::{ChangeEvent, Figures, ViewChange, all};

/// The path of schemas in the document.
const SCHEMAS: &str = "#/components/schemas/";

/// The whole document.
pub fn document() -> Value {
    let mut document = Document::new();
    for operation in all() {
        document.add(operation);
    }
    document.finish()
}

struct Document {
    paths: BTreeMap<&'static str, Map<String, Value>>,
    answers: SchemaGenerator,
    requests: SchemaGenerator,
    /// The answers with each set of problems.
    refusals: BTreeMap<String, Value>,
}

fn generator(settings: SchemaSettings) -> SchemaGenerator {
    let settings = settings.with(|settings| settings.definitions_path = "/components/schemas".into());
    settings.with_transform(RecursiveTransform(with_largest)).into_generator()
}

/// Optional fields of an answer are left out, never `null`.
fn absent_instead_of_null(schema: &mut Schema) {
    let required: BTreeSet<String> = schema
        .get("required")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
        .filter_map(|name| name.as_str().map(str::to_owned))
        .collect();
    let Some(properties) = schema.get_mut("properties").and_then(Value::as_object_mut) else { return };
    for (name, property) in properties.iter_mut() {
        if !required.contains(name) {
            *property = without_null(property.take());
        }
    }
}

/// Whole numbers end where their type does.
fn with_largest(schema: &mut Schema) {
    let largest = match schema.get("format").and_then(Value::as_str) {
        Some("uint8") => u64::from(u8::MAX),
        Some("uint16") => u64::from(u16::MAX),
        Some("uint32") => u64::from(u32::MAX),
        Some("uint64") => u64::MAX,
        _ => return,
    };
    if schema.get("maximum").is_none() {
        schema.insert("maximum".to_owned(), json!(largest));
    }
}

impl Document {
    fn new() -> Document {
        let answers = SchemaSettings::draft2020_12().for_serialize();
        let mut answers = generator(answers.with_transform(RecursiveTransform(absent_instead_of_null)));
        answers.subschema_for::<Problem>();
        // What the stream's events hold, which no answer names.
        answers.subschema_for::<ChangeEvent>();
        answers.subschema_for::<Figures>();
        answers.subschema_for::<ViewChange>();
        let requests = generator(SchemaSettings::draft2020_12().for_deserialize());
        Document { paths: BTreeMap::new(), answers, requests, refusals: BTreeMap::new() }
    }

    fn add(&mut self, operation: &Described) {
        let (summary, description) = operation.description.trim().split_once("\n\n").map_or_else(
            || (operation.description.trim(), String::new()),
            |(first, rest)| (first, unwrapped(rest)),
        );
        let mut written = json!({
            "operationId": operation.id,
            "tags": [tag(operation)],
            "summary": unwrapped(summary),
            "x-mainyard-caller": operation.who,
            "x-mainyard-limits": operation.limits,
            "security": security(operation.who),
            "responses": self.responses(operation),
        });
        if !description.is_empty() {
            written["description"] = json!(description);
        }
        let parameters = self.parameters(operation);
        if !parameters.is_empty() {
            written["parameters"] = json!(parameters);
        }
        if let Some((media, schema)) = (operation.body_schema)(&mut self.requests) {
            let mut content = json!({"schema": input(schema.to_value())});
            if let Some(Ok(example)) = operation.example_body() {
                content["example"] = example;
            }
            written["requestBody"] = json!({"required": true, "content": {media: content}});
        }
        if operation.endless {
            written["x-mainyard-endless"] = json!(true);
        }
        let method = operation.method.word().to_ascii_lowercase();
        self.paths.entry(operation.path).or_default().insert(method, written);
    }

    fn parameters(&mut self, operation: &Described) -> Vec<Value> {
        let mut list = Vec::new();
        for (place, schema) in [
            ("path", (operation.path_schema)(&mut self.requests)),
            ("query", (operation.query_schema)(&mut self.requests)),
        ] {
            let schema = schema.to_value();
            let required: BTreeSet<&str> =
                schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
            for (name, of) in schema["properties"].as_object().into_iter().flatten() {
                let mut of = input(without_null(of.clone()));
                let description = of.as_object_mut().and_then(|of| of.remove("description"));
                list.push(json!({
                    "name": name,
                    "in": place,
                    "required": place == "path" || required.contains(name.as_str()),
                    "description": description.unwrap_or_default(),
                    "schema": of,
                }));
            }
        }
        list
    }

    fn responses(&mut self, operation: &Described) -> Value {
        let mut responses = Map::new();
        let mut success = json!({"description": "Done."});
        if let Some((media, schema)) = (operation.answer_schema)(&mut self.answers) {
            success["content"] = json!({media: {"schema": schema}});
        }
        responses.insert(operation.status.to_string(), success);
        if let Some(status) = operation.refused_by_page {
            let page =
                json!({"description": "Why not.", "content": {"text/html": {"schema": {"type": "string"}}}});
            responses.insert(status.to_string(), page);
        }
        let mut by_status: BTreeMap<u16, Vec<ProblemCode>> = BTreeMap::new();
        for code in problems(operation) {
            by_status.entry(code.status()).or_default().push(code);
        }
        for (status, codes) in by_status {
            let name = codes.iter().map(|code| format!("{code:?}")).collect::<Vec<_>>().join("Or");
            responses.insert(status.to_string(), json!({"$ref": format!("#/components/responses/{name}")}));
            self.refusals.entry(name).or_insert_with(|| refusal(status, &codes));
        }
        json!(responses)
    }

    fn finish(mut self) -> Value {
        let mut schemas = self.answers.take_definitions(true);
        let inputs = self.requests.take_definitions(true);
        for (name, schema) in inputs {
            schemas.insert(format!("{name}Input"), input(schema));
        }
        let mut document = json!({
            "openapi": "3.1.0",
            "info": {
                "title": "Main Yard",
                "version": env!("CARGO_PKG_VERSION"),
                "license": {"name": "Apache-2.0", "identifier": "Apache-2.0"},
                "description": "The API that the client and the console use. Errors are problem documents (RFC 9457).",
            },
            "paths": self.paths,
            "components": {"schemas": schemas, "responses": self.refusals, "securitySchemes": schemes()},
        });
        join_equal_inputs(&mut document);
        add_examples(&mut document);
        document
    }
}

/// Gives each answer in JSON an example.
fn add_examples(document: &mut Value) {
    let schemas = document["components"]["schemas"].as_object().cloned().unwrap_or_default();
    let examples = examples::Examples::of(&schemas);
    let paths = document["paths"].as_object_mut().into_iter().flat_map(Map::values_mut);
    let operations = paths.filter_map(Value::as_object_mut).flat_map(Map::values_mut);
    for operation in operations {
        for response in operation["responses"].as_object_mut().into_iter().flat_map(Map::values_mut) {
            let Some(content) = response.pointer_mut("/content/application~1json") else { continue };
            if let Some(example) = examples.example(&content["schema"]) {
                content["example"] = example;
            }
        }
    }
}

/// An answer with one of these problems, which share a status.
fn refusal(status: u16, codes: &[ProblemCode]) -> Value {
    let words: Vec<&str> = codes.iter().map(|code| code.word()).collect();
    let titles: Vec<String> =
        codes.iter().map(|code| format!("`{}`: {}.", code.word(), code.title())).collect();
    let schema = json!({"allOf": [
        {"$ref": format!("{SCHEMAS}Problem")},
        {"properties": {"code": {"enum": words}, "status": {"const": status}}},
    ]});
    json!({"description": titles.join(" "), "content": {"application/problem+json": {"schema": schema}}})
}

/// The problems that an operation may answer: its own, and those of every operation like it.
pub fn problems(operation: &Described) -> BTreeSet<ProblemCode> {
    use ProblemCode::{
        AnotherDecides, BadPath, GivenUp, Invalid, NotAllowed, NotSignedIn, OtherHost, RecordUnreachable,
        TooLarge, TooSlow,
    };
    let mut all: BTreeSet<ProblemCode> = operation.problems.iter().copied().collect();
    all.extend([BadPath, OtherHost, Invalid, TooLarge, TooSlow, RecordUnreachable]);
    if operation.who != Who::Anyone {
        all.extend([NotSignedIn, NotAllowed, GivenUp, AnotherDecides]);
    }
    all
}

/// The first word of the path after the prefix, or the part of an environment that is meant.
fn tag(operation: &Described) -> &'static str {
    let mut segments = operation.path.split('/').filter(|it| !it.is_empty() && *it != "api" && *it != "v1");
    let first = segments.next().unwrap_or("platform");
    segments.nth(1).filter(|_| first == "environments").unwrap_or(first)
}

fn security(who: Who) -> Value {
    match who {
        Who::Anyone => json!([]),
        Who::Person => json!([{"token": []}, {"session": []}]),
        Who::Node | Who::Gateway | Who::Part => json!([{"part": []}]),
    }
}

fn schemes() -> Value {
    json!({
        "token": {"type": "http", "scheme": "bearer", "description": "A client's token: `mainyard token add`."},
        "session": {"type": "apiKey", "in": "cookie", "name": "mainyard-session-INSTANCE",
            "description": "The console's session. What changes something also needs the console's Origin."},
        "part": {"type": "http", "scheme": "bearer", "description": "A node agent's or gateway's own token."},
    })
}

/// Doc comments are wrapped for the source's width, paragraphs stay.
fn unwrapped(text: &str) -> String {
    let paragraphs = text.split("\n\n").map(|it| it.split_whitespace().collect::<Vec<_>>().join(" "));
    paragraphs.collect::<Vec<_>>().join("\n\n")
}

/// A parameter that may be left out is left out, and never null.
fn without_null(mut schema: Value) -> Value {
    let description = schema.get("description").cloned();
    if let Some(one) =
        schema["anyOf"].as_array().and_then(|all| all.iter().find(|it| it["type"] != "null")).cloned()
    {
        schema = one;
    }
    if let Some(kinds) = schema["type"].as_array().cloned() {
        let kept: Vec<Value> = kinds.into_iter().filter(|kind| kind != "null").collect();
        schema["type"] = kept.first().cloned().unwrap_or_default();
    }
    if let (Some(of), Some(description)) = (schema.as_object_mut(), description) {
        of.retain(|key, value| key != "default" || !value.is_null());
        of.insert("description".to_owned(), description);
    }
    schema
}

/// The same schema with references to the schemas of requests.
fn input(schema: Value) -> Value {
    match schema {
        Value::Object(map) => map
            .into_iter()
            .map(|(key, value)| match value.as_str().and_then(|it| it.strip_prefix(SCHEMAS)) {
                Some(name) if key == "$ref" && !name.ends_with("Input") => {
                    (key, json!(format!("{SCHEMAS}{name}Input")))
                }
                _ => (key, input(value)),
            })
            .collect(),
        Value::Array(list) => list.into_iter().map(input).collect(),
        other => other,
    }
}

/// Merges the schemas of requests and answers where they are the same.
fn join_equal_inputs(document: &mut Value) {
    let schemas = document["components"]["schemas"].as_object().cloned().unwrap_or_default();
    let named: Vec<String> =
        schemas.keys().filter_map(|name| name.strip_suffix("Input")).map(str::to_owned).collect();
    // All are taken for equal until one differs; what refers to one that differs, differs too.
    let mut equal: BTreeSet<String> = named.iter().cloned().collect();
    loop {
        let differs = |name: &&String| {
            let answer = schemas.get(*name);
            let request = schemas.get(&format!("{name}Input")).map(|schema| joined(schema.clone(), &equal));
            answer.is_some() && answer != request.as_ref()
        };
        let found: Vec<String> = equal.iter().filter(differs).cloned().collect();
        if found.is_empty() {
            break;
        }
        equal.retain(|name| !found.contains(name));
    }
    let mut kept = Map::new();
    for (name, schema) in schemas {
        match name.strip_suffix("Input").filter(|short| equal.contains(*short)) {
            Some(short) => drop(kept.insert(short.to_owned(), joined(schema, &equal))),
            None => drop(kept.insert(name, joined(schema, &equal))),
        }
    }
    document["components"]["schemas"] = Value::Object(kept);
    document["paths"] = joined(document["paths"].take(), &equal);
}

fn joined(schema: Value, equal: &BTreeSet<String>) -> Value {
    match schema {
        Value::Object(map) => map
            .into_iter()
            .map(|(key, value)| {
                let name = value.as_str().and_then(|it| it.strip_prefix(SCHEMAS)?.strip_suffix("Input"));
                match name.filter(|name| key == "$ref" && equal.contains(*name)) {
                    Some(name) => (key, json!(format!("{SCHEMAS}{name}"))),
                    None => (key, joined(value, equal)),
                }
            })
            .collect(),
        Value::Array(list) => list.into_iter().map(|it| joined(it, equal)).collect(),
        other => other,
    }
}

#[cfg(test)]
mod tests;
