//! Writing a file that says what is declared: the other way round from [`super::read()`].

use serde_json::{Map, Value};

/// One object of a file: its kind, its name and its keys.
pub type Written<'a> = (&'a str, &'a str, Value);

/// A file of these objects. Tables in an object are written on one line each.
pub fn write(application: &str, objects: &[Written<'_>]) -> String {
    let mut text = format!("application = {}\n", quoted(application));
    for (kind, name, body) in objects {
        text.push_str(&format!("\n[{kind}.{name}]\n"));
        let keys = body.as_object().cloned().unwrap_or_default();
        let keys: Map<String, Value> = keys.into_iter().filter(|(_, value)| !value.is_null()).collect();
        let width = keys.keys().map(|key| written_key(key).len()).max().unwrap_or(0);
        for (key, value) in &keys {
            text.push_str(&format!("{:<width$} = {}\n", written_key(key), written(value)));
        }
    }
    text
}

/// A value as a file has it, on one line. What looks like a constant is meant as it is written.
pub fn written(value: &Value) -> String {
    match value {
        Value::String(text) => quoted(&text.replace("${", "$${")),
        Value::Array(list) => format!("[{}]", list.iter().map(written).collect::<Vec<_>>().join(", ")),
        Value::Object(keys) => {
            let keys = keys.iter().filter(|(_, value)| !value.is_null());
            let keys: Vec<String> =
                keys.map(|(key, value)| format!("{} = {}", written_key(key), written(value))).collect();
            if keys.is_empty() { "{}".to_owned() } else { format!("{{ {} }}", keys.join(", ")) }
        }
        plain => plain.to_string(),
    }
}

/// A plain value as TOML has it.
pub(super) fn literal(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), quoted)
}

fn written_key(key: &str) -> String {
    let bare = !key.is_empty() && key.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '-');
    if bare { key.to_owned() } else { quoted(key) }
}

/// A basic string (TOML 1.0).
fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\r' => out.push_str("\\r"),
            c if c.is_control() => out.push_str(&format!("\\u{:04X}", c as u32)),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::manifest::{SourceFile, read};
    use proptest::prelude::*;
    use serde_json::json;

    proptest! {
        #[test]
        fn what_is_written_is_read_back(
            value in any::<String>(), key in "[A-Z_][A-Z0-9_]{0,8}", replicas in 0u32..100, port in 1u16..,
        ) {
            let body = json!({
                "image": "lockers/api:1", "replicas": replicas, "ports": {"http": port}, "command": ["/run", value],
                "settings": {key.clone(): value},
            });
            let text = write("lockers", &[("workload", "api", body)]);
            let file = SourceFile { name: "mainyard.toml".into(), text: text.clone() };
            let read = read(&[file], None).map_err(|problems| TestCaseError::fail(format!("{problems:?}\n{text}")))?;
            let workload = read.workloads.values().next().expect("one");
            prop_assert_eq!(workload.replicas, Some(replicas));
            prop_assert_eq!(workload.spec.settings[&key].to_string(), value.clone());
            prop_assert_eq!(workload.spec.command.as_ref().map(|words| words[1].clone()), Some(value));
        }
    }

    #[test]
    fn a_file_reads_like_one_that_a_person_wrote() {
        let route =
            json!({"host": null, "to": [{"service": "api", "share": 100}], "enter": {"token": "door"}});
        let workload = json!({"image": "lockers/api:1", "replicas": 2, "ports": {"http": 8080}});
        insta::assert_snapshot!(write("lockers", &[("workload", "api", workload), ("route", "api", route)]));
    }
}
