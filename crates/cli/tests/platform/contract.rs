//! Every operation of the API, called well and badly; each answer is held against the OpenAPI document.

use std::collections::{BTreeMap, BTreeSet};

use attacker::Call;
use mainyard_api::{Described, Method, Who};
use serde_json::{Value, json};

use crate::common::{Answer, Platform};

/// The document, and the validators that were made of it.
struct Contract {
    document: Value,
    validators: BTreeMap<String, jsonschema::Validator>,
}

impl Contract {
    fn of(platform: &Platform) -> Contract {
        let document = platform.call("GET", "/api/v1/openapi.json", "").json();
        Contract { document, validators: BTreeMap::new() }
    }

    /// The document's answer with this status; a reference is followed.
    fn response(&self, operation: &Described, status: u16) -> Option<Value> {
        let method = operation.method.word().to_ascii_lowercase();
        let response = &self.document["paths"][operation.path][method]["responses"][status.to_string()];
        match response["$ref"].as_str() {
            Some(reference) => self.document.pointer(reference.trim_start_matches('#')).cloned(),
            None => Some(response.clone()).filter(|response| !response.is_null()),
        }
    }

    /// The fault of an answer, if there is one.
    fn fault(&mut self, operation: &Described, answer: &Answer) -> Option<String> {
        let Some(response) = self.response(operation, answer.status) else {
            return Some(format!("status {} is not in the document", answer.status));
        };
        let Some(content) = response["content"].as_object() else {
            return (!answer.text().is_empty())
                .then(|| "there is a body that is not in the document".to_owned());
        };
        let media = answer.headers.get("content-type").map_or("", |it| it.split(';').next().unwrap_or(it));
        let Some(of_media) = content.get(media) else {
            return Some(format!("{media:?} is not in the document"));
        };
        if !media.ends_with("json") || media.ends_with("ndjson") {
            return None;
        }
        let mut schema = of_media["schema"].clone();
        let key = schema.to_string();
        let validator = self.validators.entry(key).or_insert_with(|| {
            schema["components"] = self.document["components"].clone();
            jsonschema::validator_for(&schema).expect("the document holds valid schemas")
        });
        let body = answer.json();
        let errors = validator.iter_errors(&body);
        let errors: Vec<String> =
            errors.take(3).map(|error| format!("{}: {error}", error.instance_path)).collect();
        (!errors.is_empty()).then(|| errors.join("; "))
    }
}

/// The path with things that are there in the demo.
fn path(operation: &Described) -> String {
    let name = match operation.path {
        path if path.contains("/secrets/") => "lockers-db-password",
        path if path.contains("/certificates/") => "wild",
        path if path.contains("/applications/") => "lockers",
        path if path.contains("/sources/") => "lockers",
        path if path.contains("/code/") => "survey",
        path if path.contains("/ssh-keys/") => "laptop",
        _ => "locker-api",
    };
    let path = operation.path.replace("{environment}", "staging").replace("{name}", name);
    path.replace("{id}", "nothing").replace("{build}", "1").replace("{like}", "program")
}

/// A query that is taken: what must be there, and a forecast where one can be asked for.
fn query(operation: &Described, contract: &Contract) -> String {
    let method = operation.method.word().to_ascii_lowercase();
    let parameters = &contract.document["paths"][operation.path][method]["parameters"];
    let known = parameters.as_array().into_iter().flatten().filter(|it| it["in"] == "query");
    let pair = |parameter: &Value| match parameter["name"].as_str()? {
        "forecast" => Some("forecast=true".to_owned()),
        "as_of" if parameter["required"] == true => Some("as_of=2026-01-01T00:00:00Z".to_owned()),
        "environment" if parameter["required"] == true => Some("environment=staging".to_owned()),
        "image" => Some("image=lockers/locker-api:1.5.0".to_owned()),
        "other" => Some("other=lockers/locker-api:1.4.0".to_owned()),
        "repository" if parameter["required"] == true => Some("repository=lockers/locker-api".to_owned()),
        "name" if parameter["required"] == true => Some("name=survey".to_owned()),
        "keep" => Some("keep=100".to_owned()),
        "from" if parameter["required"] == true => Some("from=staging/locker-api@1".to_owned()),
        "to" => Some("to=staging/locker-api@1".to_owned()),
        "of" if operation.id == "ExplainWhy" => Some("of=staging/locker-api".to_owned()),
        "follow" => Some("follow=false".to_owned()),
        _ => None,
    };
    let pairs: Vec<String> = known.filter_map(pair).collect();
    if pairs.is_empty() { String::new() } else { format!("?{}", pairs.join("&")) }
}

/// Ends what the test itself calls with, or goes on for as long as it is read.
fn is_apart(operation: &Described) -> bool {
    operation.endless || operation.who != Who::Person || operation.id == "SignOut"
}

#[test]
fn every_operation_answers_as_the_document_says() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let mut contract = Contract::of(&platform);
    let (mut wrong, mut succeeded) = (Vec::new(), BTreeSet::new());
    for operation in mainyard_api::all().filter(|operation| !is_apart(operation)) {
        let (plain, query) = (path(operation), query(operation, &contract));
        let example = operation.example.unwrap_or("");
        let elsewhere = plain.replace("/staging", "/nowhere");
        // Well; a body that is none; a key that nobody knows; something that is not there; no query.
        let calls = [
            (format!("{plain}{query}"), example.to_owned()),
            (format!("{plain}{query}"), "{".to_owned()),
            (format!("{plain}{query}"), json!({"no-such-key": true}).to_string()),
            (format!("{plain}?no-such-key=1"), example.to_owned()),
            (format!("{elsewhere}{query}"), example.to_owned()),
            (plain, String::new()),
        ];
        // The last one would be carried out.
        let count = if operation.method == Method::Get { calls.len() } else { calls.len() - 1 };
        for (target, body) in &calls[..count] {
            let answer = platform.call(operation.method.word(), target, body);
            if answer.status < 300 {
                succeeded.insert(operation.id);
            }
            if let Some(fault) = contract.fault(operation, &answer) {
                wrong.push(format!("{} {target} {body}: {fault}\n  {}", operation.method, answer.text()));
            }
        }
    }
    assert!(wrong.is_empty(), "{} answers are not as documented:\n{}", wrong.len(), wrong.join("\n"));
    let all: BTreeSet<&str> = mainyard_api::all().filter(|it| !is_apart(it)).map(|it| it.id).collect();
    let never: Vec<&&str> = all.difference(&succeeded).collect();
    insta::assert_debug_snapshot!("operations_that_only_refuse_in_the_demo", never);
}

#[test]
fn forwarded_and_internal_requests_have_the_documented_head() {
    let platform = Platform::start(true);
    platform.workload("staging/locker-api", |w| w["state"] == "steady");
    let contract = Contract::of(&platform);
    let read = |name: &str| std::fs::read_to_string(platform.data().join(name)).expect("a token");
    for operation in
        mainyard_api::all().filter(|it| it.endless || !matches!(it.who, Who::Person | Who::Anyone))
    {
        let token = match operation.who {
            Who::Gateway => read("token-of-gateway-gateway-1"),
            Who::Person | Who::Anyone => read("client-token"),
            Who::Node | Who::Part => read("token-of-node-node-1"),
        };
        let target = path(operation).replace("{node}", "node-1").replace("{gateway}", "gateway-1");
        let target = target
            .replace("{stream}", "7")
            .replace("{build}", "7")
            .replace("{step}", "1")
            .replace("{digest}", &format!("sha256:{}", "0".repeat(64)));
        let headers = vec![
            format!("host: {}", platform.api),
            "content-type: application/json".to_owned(),
            format!("authorization: Bearer {}", token.trim()),
        ];
        // No part says what it reports: it is refused as what it is.
        let call = Call { method: operation.method.word(), target: &target, headers, body: b"" };
        let answer = attacker::call(platform.api, &call).expect("answered");
        let response = contract.response(operation, answer.status);
        let response = response.unwrap_or_else(|| panic!("{}: {}", operation.id, answer.text));
        let media = answer.text.lines().find_map(|line| line.strip_prefix("content-type: "));
        let media = media.map(|it| it.split(';').next().unwrap_or(it));
        let known = media.is_some_and(|media| response["content"][media].is_object());
        assert!(known, "{}: {}", operation.id, answer.text);
    }
}
