//! Being a client of another registry: the challenge that it answers with, the choice of an image from an index, and what
//! its refusals mean.

use mainyard_images::{Descriptor, Digest, ImageIndex, runs_here};
use serde::Deserialize;

/// Media types of manifests that are taken, for the `Accept` header; those of the older schema 2 are asked for by a star.
pub const ACCEPTED: &str = "application/vnd.oci.image.index.v1+json, application/vnd.oci.image.manifest.v1+json, \
     application/vnd.docker.distribution.manifest.list.v2+json, application/vnd.docker.distribution.manifest.v2+json, */*;q=0.1";

/// Longest words of a registry that are handed on.
const WORDS: usize = 300;

/// How a registry wants its clients to authenticate (RFC 9110, section 11.6.1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Challenge {
    /// By user and password with each request (RFC 7617).
    Basic,
    /// By a token of a token service (RFC 6750).
    Bearer {
        /// The address of the token service.
        realm: String,
        /// The name of the registry there.
        service: Option<String>,
        /// What the token is to be good for.
        scope: Option<String>,
    },
}

impl Challenge {
    /// Reads a `WWW-Authenticate` header; `None` where it asks for something else.
    pub fn parse(header: &str) -> Option<Challenge> {
        let (scheme, rest) = header.trim().split_once(' ').unwrap_or((header.trim(), ""));
        if scheme.eq_ignore_ascii_case("basic") {
            return Some(Challenge::Basic);
        }
        if !scheme.eq_ignore_ascii_case("bearer") {
            return None;
        }
        let parameters = parameters(rest);
        let find = |key: &str| {
            let found = parameters.iter().find(|(name, _)| name.eq_ignore_ascii_case(key));
            found.map(|(_, value)| value.clone()).filter(|value| !value.is_empty())
        };
        Some(Challenge::Bearer { realm: find("realm")?, service: find("service"), scope: find("scope") })
    }
}

/// `name="value", name=value`: quoted values may hold commas.
fn parameters(text: &str) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let mut rest = text.trim_start();
    while let Some((name, after)) = rest.split_once('=') {
        let name = name.trim().trim_start_matches(',').trim().to_owned();
        let (value, left) = match after.strip_prefix('"') {
            Some(quoted) => quoted_value(quoted),
            None => {
                let (value, left) = after.split_once(',').unwrap_or((after, ""));
                (value.trim().to_owned(), left)
            }
        };
        found.push((name, value));
        rest = left.trim_start_matches([',', ' ']);
    }
    found
}

/// The value up to the closing quote, and what follows it.
fn quoted_value(text: &str) -> (String, &str) {
    let mut value = String::new();
    let mut letters = text.char_indices();
    while let Some((at, letter)) = letters.next() {
        match letter {
            '"' => return (value, &text[at + 1..]),
            '\\' => value.extend(letters.next().map(|(_, escaped)| escaped)),
            plain => value.push(plain),
        }
    }
    (value, "")
}

/// What a registry answered with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Named {
    /// One image.
    Image,
    /// A list; of it this image is for this machine.
    Listed(Digest),
}

/// Whether a manifest is an image, or a list with one for this machine.
///
/// # Errors
/// In words, where it is neither; with the platforms that there are.
pub fn choose(manifest: &[u8], media_type: &str) -> Result<Named, String> {
    #[derive(Deserialize)]
    #[serde(rename_all = "camelCase")]
    struct Kind {
        media_type: Option<String>,
        schema_version: Option<u32>,
        config: Option<serde::de::IgnoredAny>,
        manifests: Option<serde::de::IgnoredAny>,
    }
    let kind: Kind = serde_json::from_slice(manifest)
        .map_err(|error| format!("the manifest is none that can be read: {error}"))?;
    match (kind.config.is_some(), kind.manifests.is_some()) {
        (true, false) => Ok(Named::Image),
        (false, true) => {
            let index: ImageIndex = serde_json::from_slice(manifest)
                .map_err(|error| format!("the list of images cannot be read: {error}"))?;
            of_this_machine(&index.manifests)
        }
        _ => {
            let told = kind.media_type.unwrap_or_else(|| media_type.to_owned());
            let version = kind.schema_version.map_or(String::new(), |version| format!(", schema {version}"));
            Err(format!("it is neither an image nor a list of images ({told}{version})"))
        }
    }
}

fn of_this_machine(listed: &[Descriptor]) -> Result<Named, String> {
    let fits = listed.iter().find(|it| {
        it.platform.as_ref().is_some_and(|platform| runs_here(&platform.os, &platform.architecture))
    });
    if let Some(fits) = fits {
        return Digest::parse(&fits.digest).map(Named::Listed).map_err(|error| error.to_string());
    }
    let platforms: Vec<String> = listed
        .iter()
        .filter_map(|it| it.platform.as_ref())
        .map(|platform| format!("{}/{}", platform.os, platform.architecture))
        .collect();
    let there = if platforms.is_empty() { "none is named".to_owned() } else { platforms.join(", ") };
    Err(format!("there is no image for this machine's processor; there are: {there}"))
}

/// The words of a refusal: the message of the first error in the specification's form, or the beginning of what came.
pub fn words(body: &[u8]) -> String {
    #[derive(Deserialize)]
    struct Errors {
        errors: Vec<OneError>,
    }
    #[derive(Deserialize)]
    struct OneError {
        code: Option<String>,
        message: Option<String>,
    }
    let told = serde_json::from_slice::<Errors>(body).ok().and_then(|told| told.errors.into_iter().next());
    let text = match told {
        Some(OneError { code: Some(code), message: Some(message) }) => format!("{code}: {message}"),
        Some(OneError { code, message }) => code.or(message).unwrap_or_default(),
        None => String::from_utf8_lossy(body).trim().to_owned(),
    };
    let plain = text.split_whitespace().collect::<Vec<_>>().join(" ");
    plain.chars().filter(|letter| !letter.is_control()).take(WORDS).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn challenges_are_read_as_registries_write_them() {
        let bearer = |realm: &str, service: Option<&str>, scope: Option<&str>| Challenge::Bearer {
            realm: realm.to_owned(),
            service: service.map(str::to_owned),
            scope: scope.map(str::to_owned),
        };
        assert_eq!(
            Challenge::parse(
                r#"Bearer realm="https://auth.forge.example/token",service="forge.example",scope="repository:a/b:pull,push""#
            ),
            Some(bearer(
                "https://auth.forge.example/token",
                Some("forge.example"),
                Some("repository:a/b:pull,push")
            ))
        );
        assert_eq!(
            Challenge::parse(r#"bearer realm=https://x.example/t , service="a \"b\"""#),
            Some(bearer("https://x.example/t", Some("a \"b\""), None))
        );
        assert_eq!(Challenge::parse("Basic realm=\"x\""), Some(Challenge::Basic));
        assert_eq!(Challenge::parse("basic"), Some(Challenge::Basic));
        for other in ["", "Bearer", "Bearer service=\"x\"", "Negotiate abc"] {
            assert_eq!(Challenge::parse(other), None, "{other}");
        }
    }

    #[test]
    fn an_image_for_this_machine_is_chosen_and_others_are_named() {
        let digest = |letter: &str| format!("sha256:{}", letter.repeat(64));
        let entry = |processor: &str, letter: &str| {
            format!(
                r#"{{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"{}","size":1,"platform":{{"os":"linux","architecture":"{processor}"}}}}"#,
                digest(letter)
            )
        };
        let index =
            |entries: &[String]| format!(r#"{{"schemaVersion":2,"manifests":[{}]}}"#, entries.join(","));
        let own = if cfg!(target_arch = "aarch64") { "arm64" } else { "amd64" };
        let all = index(&[entry("s390x", "a"), entry(own, "b")]);
        assert_eq!(
            choose(all.as_bytes(), ""),
            Digest::parse(&digest("b")).map(Named::Listed).map_err(|_| String::new())
        );
        let none = choose(index(&[entry("s390x", "a"), entry("riscv64", "c")]).as_bytes(), "")
            .expect_err("none fits");
        assert!(none.ends_with("there are: linux/s390x, linux/riscv64"), "{none}");
        assert_eq!(choose(br#"{"schemaVersion":2,"config":{},"layers":[]}"#, ""), Ok(Named::Image));
        for other in [&b"[]"[..], b"{}", br#"{"schemaVersion":1,"fsLayers":[]}"#, b"<html>"] {
            assert!(choose(other, "text/html").is_err());
        }
    }

    #[test]
    fn the_words_of_a_refusal_are_short_and_plain() {
        let told = br#"{"errors":[{"code":"DENIED","message":"requested access\n is denied"}]}"#;
        assert_eq!(words(told), "DENIED: requested access is denied");
        assert_eq!(words(b"  Bad\x1b[31m Gateway "), "Bad[31m Gateway");
        assert_eq!(words(&[b'x'; 10_000]).len(), WORDS);
        assert_eq!(words(b""), "");
    }

    proptest! {
        #[test]
        fn anything_that_a_registry_says_is_read_or_refused(text in any::<String>(), bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
            let _ = Challenge::parse(&text);
            let _ = Challenge::parse(&format!("Bearer {text}"));
            let _ = choose(&bytes, &text);
            let _ = words(&bytes);
        }
    }
}
