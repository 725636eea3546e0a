//! The JSON Schema (draft 2020-12) of `mainyard.toml`, made from the list of keys.

use serde_json::{Map, Value, json};

use super::keys::{FILE, MapKey, Shape};

/// The schema as one document.
pub fn schema() -> Value {
    schema_of(&FILE, "mainyard.toml")
}

/// The schema of any file that is described by keys.
pub fn schema_of(shape: &Shape, title: &str) -> Value {
    let mut document = of(shape, true);
    if let Some(object) = document.as_object_mut() {
        object.insert("$schema".into(), json!("https://json-schema.org/draft/2020-12/schema"));
        object.insert("title".into(), json!(title));
    }
    document
}

fn of(shape: &Shape, whole: bool) -> Value {
    match shape {
        Shape::Text => json!({"type": "string"}),
        Shape::Name => json!({"type": "string", "pattern": "^[a-z](-?[a-z0-9])*$", "maxLength": 40}),
        Shape::Repository => {
            json!({"type": "string", "pattern": "^[a-z0-9][a-z0-9._-]*(/[a-z0-9][a-z0-9._-]*)*$"})
        }
        Shape::Inside => json!({"type": "string", "pattern": "^/", "maxLength": 200}),
        Shape::Image => {
            json!({"type": "string", "pattern": "^[a-z0-9][a-z0-9._/-]*:[A-Za-z0-9_][A-Za-z0-9._-]*$"})
        }
        Shape::Integer(least, most) => json!({"type": "integer", "minimum": least, "maximum": most}),
        Shape::Number(least, most) => json!({"type": "number", "minimum": least, "maximum": most}),
        Shape::Digest => json!({"type": "string", "pattern": "^sha256:[0-9a-f]{64}$"}),
        Shape::Size => json!({"type": "string", "pattern": "^[0-9.]+ ?(B|KiB|MiB|GiB)$"}),
        Shape::Time => json!({"type": "string", "pattern": "^[0-9.]+(ms|s|m|h)$"}),
        Shape::Host => json!({"type": "string", "format": "hostname"}),
        Shape::Path => json!({"type": "string", "pattern": "^/\\S*$"}),
        Shape::Word(words) => json!({"enum": words}),
        Shape::HostPattern => json!({"type": "string", "pattern": "^(\\*\\.)?[a-z0-9-]+(\\.[a-z0-9-]+)*$"}),
        Shape::Encrypted => json!({"type": "string", "pattern": "^\\s*-----BEGIN AGE ENCRYPTED FILE-----"}),
        Shape::Token => json!({"type": "string", "pattern": "^[!#-'*+.^_`|~0-9A-Za-z-]{1,100}$"}),
        Shape::Constant => json!({"type": ["string", "number", "boolean"]}),
        Shape::Bool => json!({"type": "boolean"}),
        Shape::Addresses => {
            json!({"type": "string", "description": "A range of addresses, such as 10.0.0.0/8, or one address."})
        }
        Shape::Outgoing => {
            json!({"type": "string", "pattern": "^[^:\\s]+:[0-9]{1,5}(-[0-9]{1,5})?$", "maxLength": 280})
        }
        Shape::Or(plain, keys, _) => json!({"oneOf": [of(plain, whole), of(&Shape::Table(keys), whole)]}),
        Shape::List(inner) => json!({"type": "array", "items": of(inner, whole)}),
        Shape::Map(kind, inner) => {
            let names = match kind {
                MapKey::Name => json!({"pattern": "^[a-z](-?[a-z0-9])*$", "maxLength": 40}),
                MapKey::Label => json!({"pattern": "^[^\\s=]{1,60}$"}),
                MapKey::Setting => json!({"pattern": "^[A-Za-z_][A-Za-z0-9_]*$"}),
                MapKey::File => json!({"pattern": "^(/[^/]+)+$", "maxLength": 200}),
                MapKey::Header => json!({"pattern": "^[!#-'*+.^_`|~0-9A-Za-z-]{1,100}$"}),
                MapKey::Port => json!({"pattern": "^[0-9]{1,5}$"}),
            };
            json!({"type": "object", "propertyNames": names, "additionalProperties": of(inner, whole)})
        }
        Shape::Table(keys) => {
            let mut properties = Map::new();
            for key in *keys {
                let mut property = of(key.shape, whole && key.name != "in");
                property["description"] = json!(key.about);
                properties.insert(key.name.to_owned(), property);
            }
            let required: Vec<&str> =
                keys.iter().filter(|key| whole && key.required).map(|key| key.name).collect();
            json!({"type": "object", "properties": properties, "required": required, "additionalProperties": false})
        }
    }
}
