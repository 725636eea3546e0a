//! Examples of answers, made of the examples of their parts.
//!
//! Base types (a name, a size, an image) carry an example of their own. What is made of them gets its example here, so that
//! no example is written down that a change of a type leaves behind. A test checks each against its schema.

use serde_json::{Map, Value, json};

use super::SCHEMAS;

/// Objects deeper than this have only what they must have.
const WHOLE_TO: usize = 2;

/// Usual values of texts and numbers with these names.
const BY_NAME: &[(&str, &str)] = &[
    ("account", "deploy-bot"),
    ("act", "deployed"),
    ("address", "10.118.1.20"),
    ("application", "lockers"),
    ("at", "main"),
    ("author", "Mira"),
    ("because", "counting parcels"),
    ("by", "mira"),
    ("code", "not-ready"),
    ("commit", "4f9a11c20b7d5e3388aa1f0c9d21e6b7c4d5f601"),
    ("digest", "sha256:3f9a11c2"),
    ("environment", "staging"),
    ("fix", "raise limits.memory"),
    ("folder", "deploy"),
    ("host", "api.staging.lockers.localhost"),
    ("id", "3f9a11c2"),
    ("image", "lockers/locker-api:1.5.0"),
    ("key", "staging/locker-api"),
    ("member", "mira"),
    ("message", "there is no workload staging/lockr-api; did you mean `staging/locker-api`?"),
    ("method", "GET"),
    ("name", "locker-api"),
    ("node", "node-1"),
    ("object", "workload locker-api"),
    ("path", "/v1/lockers"),
    ("release", "staging/locker-api@3"),
    ("replica", "staging/locker-api/a0"),
    ("route", "staging/api"),
    ("sentence", "3 of 3 replicas are ready"),
    ("service", "staging/locker-api"),
    ("source", "staging/lockers"),
    ("subject", "The API at 1.5.0"),
    ("summary", "locker-api 1.4.0 → 1.5.0"),
    ("target", "staging/locker-api"),
    ("title", "not found"),
    ("url", "https://forge.example/larkfield/lockers.git"),
    ("user", "mira"),
    ("verdict", "release 3 runs with 3 replicas ready"),
    ("version", "2"),
    ("way", "api.staging.lockers.localhost"),
    ("words", "image lockers/locker-api:1.4.0 → lockers/locker-api:1.5.0"),
    ("workload", "staging/locker-api"),
];

/// Makes examples by the schemas of a document.
pub(super) struct Examples<'d> {
    schemas: &'d Map<String, Value>,
}

impl<'d> Examples<'d> {
    pub(super) fn of(schemas: &'d Map<String, Value>) -> Examples<'d> {
        Examples { schemas }
    }

    /// An example of what a schema describes; `None` where that has no end.
    pub(super) fn example(&self, schema: &Value) -> Option<Value> {
        self.make(schema, "", &mut Vec::new())
    }

    /// `open` has the names of the schemas that are being made: one that needs itself is left out.
    fn make(&self, schema: &Value, name: &str, open: &mut Vec<String>) -> Option<Value> {
        if let Some(given) = given(schema) {
            return Some(given);
        }
        if let Some(reference) = schema["$ref"].as_str() {
            let of = reference.strip_prefix(SCHEMAS)?;
            if open.iter().any(|known| known == of) {
                return None;
            }
            open.push(of.to_owned());
            let made = self.make(self.schemas.get(of)?, name, open);
            open.pop();
            return made;
        }
        for key in ["oneOf", "anyOf"] {
            if let Some(choices) = schema[key].as_array() {
                let mut useful = choices.iter().filter(|choice| choice["type"] != "null");
                let chosen = useful.find_map(|choice| self.make(choice, name, open))?;
                return Some(self.with_own_properties(chosen, schema, open));
            }
        }
        match kind(schema) {
            "object" => self.object(schema, name, open),
            "array" => self.array(schema, name, open),
            "string" => Some(text(schema, name)),
            "integer" => Some(json!(schema["minimum"].as_u64().unwrap_or(0).max(1))),
            "number" => Some(json!(0.5)),
            "boolean" => Some(json!(true)),
            "null" => Some(Value::Null),
            // Anything may stand there.
            _ => Some(json!({})),
        }
    }

    /// A choice between objects may have properties beside the choice.
    fn with_own_properties(&self, mut chosen: Value, schema: &Value, open: &mut Vec<String>) -> Value {
        if let (Some(chosen), Some(Value::Object(own))) =
            (chosen.as_object_mut(), self.object(schema, "", open))
        {
            chosen.extend(own);
        }
        chosen
    }

    fn object(&self, schema: &Value, called: &str, open: &mut Vec<String>) -> Option<Value> {
        let mut made = Map::new();
        let required = schema["required"].as_array().map(Vec::as_slice).unwrap_or_default();
        for (name, of) in schema["properties"].as_object().into_iter().flatten() {
            let needed = required.iter().any(|it| it == name);
            if !needed && open.len() > WHOLE_TO {
                continue;
            }
            match self.make(of, name, open) {
                Some(value) => drop(made.insert(name.clone(), value)),
                None if needed => return None,
                None => {}
            }
        }
        if let Some(of) = schema.get("additionalProperties").filter(|it| it.is_object()) {
            let name = given(&schema["propertyNames"]).and_then(|it| it.as_str().map(str::to_owned));
            let usual = BY_NAME.iter().find(|(known, _)| *known == called.trim_end_matches('s'));
            let name = name.or_else(|| usual.map(|(_, key)| (*key).to_owned()));
            if let Some(value) = self.make(of, called.trim_end_matches('s'), open) {
                made.insert(name.unwrap_or_else(|| "locker-api".to_owned()), value);
            }
        }
        if let Some((pattern, of)) = schema["patternProperties"].as_object().and_then(|all| all.iter().next())
        {
            let key =
                if pattern.contains("\\d") || pattern.contains("0-9]+$") { "8080" } else { "locker-api" };
            made.extend(self.make(of, "", open).map(|value| (key.to_owned(), value)));
        }
        Some(Value::Object(made))
    }

    fn array(&self, schema: &Value, name: &str, open: &mut Vec<String>) -> Option<Value> {
        if let Some(places) = schema["prefixItems"].as_array() {
            let made: Option<Vec<Value>> = places.iter().map(|of| self.make(of, "", open)).collect();
            return made.map(Value::Array);
        }
        // A list of what needs itself ends with none.
        let item = self.make(&schema["items"], name.trim_end_matches('s'), open);
        let least = schema["minItems"].as_u64().unwrap_or(1).max(1);
        Some(Value::Array((0..least).filter_map(|_| item.clone()).collect()))
    }
}

/// The example that the schema itself gives.
fn given(schema: &Value) -> Option<Value> {
    let example = schema["examples"].get(0).or_else(|| schema.get("const"));
    example.or_else(|| schema["enum"].get(0)).cloned()
}

/// The first kind that is not null.
fn kind(schema: &Value) -> &str {
    match &schema["type"] {
        Value::String(kind) => kind,
        Value::Array(kinds) => {
            kinds.iter().filter_map(Value::as_str).find(|kind| *kind != "null").unwrap_or("")
        }
        _ if schema["properties"].is_object() => "object",
        _ => "",
    }
}

fn text(schema: &Value, name: &str) -> Value {
    match (schema["format"].as_str(), schema["pattern"].as_str()) {
        (Some("date-time"), _) => json!("2026-11-23T14:05:00Z"),
        (Some("ipv4"), _) => json!("10.118.1.20"),
        (_, Some(pattern)) if pattern.starts_with("^[0-9]") && pattern.contains("(ms|s|m|h|d)") => {
            json!("30s")
        }
        (_, Some(pattern)) if pattern.starts_with("^(node|gateway)") => json!("node/node-1"),
        _ => {
            let known = BY_NAME.iter().find(|(known, _)| *known == name);
            json!(known.map_or("…", |(_, example)| example))
        }
    }
}
