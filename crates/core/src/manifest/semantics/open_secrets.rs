//! Finds settings that look like a secret in the open.

use super::{Declared, Reader};
use crate::manifest::problem::Problem;
use crate::model::Setting;
use crate::untrusted_text::SECRET_NAMES;

impl Reader<'_> {
    /// Warns of settings whose values look like secrets: files are read by many.
    pub(super) fn warn_of_open_secrets(&mut self, declared: &Declared) {
        for (name, workload) in &declared.workloads {
            for (key, setting) in &workload.spec.settings {
                let Setting::Text(text) = setting else { continue };
                if let Some(why) = looks_secret(key, text) {
                    let place = self.place(&["workload", name.as_str(), "settings", key]);
                    let message = format!(
                        "`{key}` of `{name}` {why} and is in plain text: store it with `mainyard secret add`, and write {key} = {{ secret = \"…\" }}"
                    );
                    self.warnings.push(Problem { place, message });
                }
            }
        }
    }
}

fn looks_secret(key: &str, text: &str) -> Option<&'static str> {
    if text.contains("-----BEGIN ") && text.contains("PRIVATE KEY-----") {
        return Some("is a private key");
    }
    let with_password = text.split_once("://").is_some_and(|(_, rest)| {
        let place = rest.split('/').next().unwrap_or_default();
        place
            .split_once('@')
            .is_some_and(|(who, _)| who.split_once(':').is_some_and(|(_, word)| !word.is_empty()))
    });
    if with_password {
        return Some("is an address with a password in it");
    }
    let upper = key.to_ascii_uppercase();
    // A name such as TOKEN_FILE or PASSWORD_MIN_LENGTH speaks of one and holds none.
    let speaks_only =
        ["_FILE", "_PATH", "_URL", "_NAME", "_LENGTH", "_TTL"].iter().any(|end| upper.ends_with(end));
    let named = SECRET_NAMES.iter().any(|name| upper.contains(name)) && !speaks_only;
    let holds =
        !text.trim().is_empty() && !["true", "false", "none"].contains(&text.to_ascii_lowercase().as_str());
    (named && holds).then_some("looks like a secret")
}

#[cfg(test)]
mod tests {
    use crate::manifest::{SourceFile, read};

    #[test]
    fn plain_text_secrets_are_warned_about_with_their_place() {
        let text = r#"application = "lockers"
[workload.api]
image = "lockers/api:1"
[workload.api.settings]
DB_PASSWORD = "summer"
DB_URL = "postgres://api:summer@db/lockers"
KEPT = { secret = "db-password" }
TOKEN_FILE = "/run/token"
USE_TOKEN = "true"
LEVEL = "info"
"#;
        let file = SourceFile { name: "mainyard.toml".into(), text: text.into() };
        let declared = read(&[file], None).expect("valid");
        let told: Vec<String> = declared.warnings.iter().map(ToString::to_string).collect();
        assert_eq!(
            told,
            [
                "mainyard.toml:5:15: `DB_PASSWORD` of `api` looks like a secret and is in plain text: store it with `mainyard secret add`, and write DB_PASSWORD = { secret = \"…\" }",
                "mainyard.toml:6:10: `DB_URL` of `api` is an address with a password in it and is in plain text: store it with `mainyard secret add`, and write DB_URL = { secret = \"…\" }",
            ]
        );
    }
}
