//! What a request asks for, by its method, path and query (distribution specification, "Endpoints").
//!
//! A path has exactly one spelling. No name, tag or digest needs an escape, so a path with one is refused, before anything
//! else looks at it.

use std::fmt;

use mainyard_images::Digest;

use crate::error::{ErrorCode, RegistryError};

/// The longest name of a repository, as most clients and this platform's images have it.
const NAME: usize = 240;

/// The name of a repository: parts in lower case, joined by slashes.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Repository(String);

impl Repository {
    /// Reads a name such as `lockers/locker-api`.
    ///
    /// # Errors
    /// `NAME_INVALID` for any other text.
    pub fn parse(text: &str) -> Result<Repository, RegistryError> {
        let fits = text.len() <= NAME && !text.is_empty() && text.split('/').all(is_name_part);
        if fits {
            return Ok(Repository(text.to_owned()));
        }
        let message = format!(
            "{text:?} is no repository; expected are parts of lower-case letters, digits and separators, such as lockers/locker-api"
        );
        Err(RegistryError::new(ErrorCode::NameInvalid, message))
    }

    /// As text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Repository {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// `[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*`: separators stand alone between letters and digits, but for hyphens and two underscores.
fn is_name_part(part: &str) -> bool {
    let word = |letter: char| letter.is_ascii_lowercase() || letter.is_ascii_digit();
    let ends_well = part.starts_with(word) && part.ends_with(word);
    let separators = part.split(word).filter(|between| !between.is_empty());
    ends_well
        && separators
            .into_iter()
            .all(|between| matches!(between, "." | "_" | "__") || between.chars().all(|letter| letter == '-'))
}

/// The name of one version in a repository.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Tag(String);

impl Tag {
    /// Reads a tag such as `1.4.0`.
    ///
    /// # Errors
    /// `MANIFEST_INVALID` for any other text.
    pub fn parse(text: &str) -> Result<Tag, RegistryError> {
        let fits = (1..=128).contains(&text.len())
            && !text.starts_with(['.', '-'])
            && text.chars().all(|letter| letter.is_ascii_alphanumeric() || "._-".contains(letter));
        if fits {
            return Ok(Tag(text.to_owned()));
        }
        let message = format!("{text:?} is no tag; expected are up to 128 letters, digits, `.`, `_` and `-`");
        Err(RegistryError::new(ErrorCode::ManifestInvalid, message))
    }

    /// As text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Tag {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// How a manifest is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reference {
    /// By its tag.
    Tag(Tag),
    /// By its digest.
    Digest(Digest),
}

impl Reference {
    /// Reads a tag or a digest: only a digest has a colon.
    ///
    /// # Errors
    /// When it is neither.
    pub fn parse(text: &str) -> Result<Reference, RegistryError> {
        if text.contains(':') {
            digest(text).map(Reference::Digest)
        } else {
            Tag::parse(text).map(Reference::Tag)
        }
    }
}

/// What a request asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RegistryRequest {
    /// Whether this is a registry, and the caller may use it.
    Base,
    /// A token for what a client is about to do.
    Token,
    /// The names of all repositories.
    Catalog,
    /// The tags of a repository.
    Tags(Repository),
    /// A blob, or only its head.
    ReadBlob(Repository, Digest),
    /// A blob goes from a repository.
    RemoveBlob(Repository, Digest),
    /// A manifest, or only its head.
    ReadManifest(Repository, Reference),
    /// A manifest comes.
    WriteManifest(Repository, Reference),
    /// A manifest, or a tag, goes.
    RemoveManifest(Repository, Reference),
    /// The manifests that are about this one.
    Referrers(Repository, Digest),
    /// An upload begins, or a blob comes as a whole, or from another repository.
    BeginUpload(Repository),
    /// How far an upload has come.
    UploadProgress(Repository, String),
    /// A part of an upload comes.
    WriteUpload(Repository, String),
    /// An upload ends.
    EndUpload(Repository, String),
    /// An upload is given up.
    AbortUpload(Repository, String),
}

impl RegistryRequest {
    /// Reads a request by its method and its path, as it was sent.
    ///
    /// # Errors
    /// When no endpoint has this path, or not with this method.
    pub fn parse(method: &str, path: &str) -> Result<RegistryRequest, RegistryError> {
        let nothing =
            || RegistryError::new(ErrorCode::Unsupported, format!("the registry has nothing at {path}"));
        let reads = matches!(method, "GET" | "HEAD");
        let rest = path.strip_prefix("/v2").ok_or_else(nothing)?;
        if path.bytes().any(|byte| byte == b'%') {
            return Err(RegistryError::new(ErrorCode::NameInvalid, "a path of the registry has no escapes"));
        }
        match (rest, reads) {
            ("" | "/", true) => return Ok(RegistryRequest::Base),
            ("/token", true) => return Ok(RegistryRequest::Token),
            ("/_catalog", true) => return Ok(RegistryRequest::Catalog),
            _ => {}
        }
        let parts: Vec<&str> = rest.split('/').skip(1).collect();
        let name = |parts: &[&str]| Repository::parse(&parts.join("/"));
        let found = match (&parts[..], method) {
            ([above @ .., "tags", "list"], _) if reads => RegistryRequest::Tags(name(above)?),
            // Some clients leave out the last slash.
            ([above @ .., "blobs", "uploads", ""] | [above @ .., "blobs", "uploads"], "POST") => {
                RegistryRequest::BeginUpload(name(above)?)
            }
            ([above @ .., "blobs", "uploads", id], _) if !id.is_empty() => {
                let (repository, id) = (name(above)?, upload_id(id)?);
                match method {
                    "GET" => RegistryRequest::UploadProgress(repository, id),
                    "PATCH" => RegistryRequest::WriteUpload(repository, id),
                    "PUT" => RegistryRequest::EndUpload(repository, id),
                    "DELETE" => RegistryRequest::AbortUpload(repository, id),
                    _ => return Err(wrong_method(method, path)),
                }
            }
            ([above @ .., "blobs", id], _) if *id != "uploads" => match method {
                "GET" | "HEAD" => RegistryRequest::ReadBlob(name(above)?, digest(id)?),
                "DELETE" => RegistryRequest::RemoveBlob(name(above)?, digest(id)?),
                _ => return Err(wrong_method(method, path)),
            },
            ([above @ .., "manifests", id], _) => {
                let (repository, reference) = (name(above)?, Reference::parse(id)?);
                match method {
                    "GET" | "HEAD" => RegistryRequest::ReadManifest(repository, reference),
                    "PUT" => RegistryRequest::WriteManifest(repository, reference),
                    "DELETE" => RegistryRequest::RemoveManifest(repository, reference),
                    _ => return Err(wrong_method(method, path)),
                }
            }
            ([above @ .., "referrers", id], _) if reads => {
                RegistryRequest::Referrers(name(above)?, digest(id)?)
            }
            _ => return Err(nothing()),
        };
        Ok(found)
    }

    /// The repository that it is about.
    pub fn repository(&self) -> Option<&Repository> {
        match self {
            RegistryRequest::Base | RegistryRequest::Token | RegistryRequest::Catalog => None,
            RegistryRequest::Tags(repository)
            | RegistryRequest::ReadBlob(repository, _)
            | RegistryRequest::RemoveBlob(repository, _)
            | RegistryRequest::ReadManifest(repository, _)
            | RegistryRequest::WriteManifest(repository, _)
            | RegistryRequest::RemoveManifest(repository, _)
            | RegistryRequest::Referrers(repository, _)
            | RegistryRequest::BeginUpload(repository)
            | RegistryRequest::UploadProgress(repository, _)
            | RegistryRequest::WriteUpload(repository, _)
            | RegistryRequest::EndUpload(repository, _)
            | RegistryRequest::AbortUpload(repository, _) => Some(repository),
        }
    }
}

fn wrong_method(method: &str, path: &str) -> RegistryError {
    RegistryError::new(ErrorCode::Unsupported, format!("{path} takes no {method}"))
}

fn digest(text: &str) -> Result<Digest, RegistryError> {
    Digest::parse(text).map_err(|error| RegistryError::new(ErrorCode::DigestInvalid, error.to_string()))
}

/// The id of an upload: 32 hexadecimal digits, as they are given out. It becomes a file's name.
fn upload_id(text: &str) -> Result<String, RegistryError> {
    let fits = text.len() == 32 && text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'));
    let unknown = || RegistryError::new(ErrorCode::BlobUploadUnknown, "there is no such upload");
    fits.then(|| text.to_owned()).ok_or_else(unknown)
}

#[cfg(test)]
mod tests {
    use super::*;

    const DIGEST: &str = "sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";

    #[test]
    fn every_endpoint_is_read_by_method_and_path() {
        let upload = "0123456789abcdef0123456789abcdef";
        let requests = [
            ("GET", "/v2/".to_owned()),
            ("GET", "/v2".to_owned()),
            ("GET", "/v2/token".to_owned()),
            ("GET", "/v2/_catalog".to_owned()),
            ("GET", "/v2/lockers/locker-api/tags/list".to_owned()),
            ("HEAD", format!("/v2/one/blobs/{DIGEST}")),
            ("DELETE", format!("/v2/one/blobs/{DIGEST}")),
            ("GET", "/v2/a/b/c/manifests/1.4.0".to_owned()),
            ("PUT", format!("/v2/a/manifests/{DIGEST}")),
            ("DELETE", "/v2/a/manifests/1.4.0".to_owned()),
            ("GET", format!("/v2/a/referrers/{DIGEST}")),
            ("POST", "/v2/a/b/blobs/uploads/".to_owned()),
            ("POST", "/v2/a/b/blobs/uploads".to_owned()),
            ("GET", format!("/v2/a/blobs/uploads/{upload}")),
            ("PATCH", format!("/v2/a/blobs/uploads/{upload}")),
            ("PUT", format!("/v2/a/blobs/uploads/{upload}")),
            ("DELETE", format!("/v2/a/blobs/uploads/{upload}")),
            // Words of the paths are names as well.
            ("GET", "/v2/blobs/uploads/manifests/latest".to_owned()),
            ("GET", "/v2/tags/list/tags/list".to_owned()),
            ("POST", "/v2/blobs/blobs/uploads/".to_owned()),
        ];
        let rows = requests
            .map(|(method, path)| format!("{method} {path}: {:?}", RegistryRequest::parse(method, &path)));
        insta::assert_snapshot!(rows.join("\n"));
    }

    #[test]
    fn other_paths_are_refused_with_their_code() {
        let requests = [
            ("GET", "/v2/a/b".to_owned()),
            ("GET", "/v2//manifests/latest".to_owned()),
            ("GET", "/v2/a//b/manifests/latest".to_owned()),
            ("GET", "/v2/A/manifests/latest".to_owned()),
            ("GET", "/v2/a/../b/manifests/latest".to_owned()),
            ("GET", "/v2/a%2fb/manifests/latest".to_owned()),
            ("GET", "/v2/a/manifests/%6catest".to_owned()),
            ("GET", "/v2/a/manifests/".to_owned()),
            ("GET", "/v2/a/manifests/.latest".to_owned()),
            ("GET", "/v2/a/blobs/sha512:00".to_owned()),
            ("GET", "/v2/a/blobs/latest".to_owned()),
            ("POST", "/v2/a/manifests/latest".to_owned()),
            ("GET", "/v2/a/blobs/uploads/../../../etc/passwd".to_owned()),
            ("PATCH", "/v2/a/blobs/uploads/short".to_owned()),
            ("GET", format!("/v2/{}/tags/list", "a".repeat(241))),
        ];
        let rows = requests.map(|(method, path)| {
            let error = RegistryRequest::parse(method, &path).expect_err(&path);
            format!("{method} {}: {error}", path.chars().take(60).collect::<String>())
        });
        insta::assert_snapshot!(rows.join("\n"));
    }

    #[test]
    fn names_follow_the_specifications_expression() {
        for name in ["a", "0", "lockers/locker-api", "a.b", "a_b", "a__b", "a---b", "a/b/c/d"] {
            assert!(Repository::parse(name).is_ok(), "{name}");
        }
        for name in [
            "", "/", "a/", "/a", "a//b", "-a", "a-", "a..b", "a___b", "a._b", "A", "a b", "ä", ".", "..",
            "a:b",
        ] {
            assert!(Repository::parse(name).is_err(), "{name}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_path_is_read_or_refused_and_a_repository_never_climbs(method in "[A-Z]{3,6}", path in "/v2[a-z0-9/.:%_-]{0,80}") {
            if let Ok(request) = RegistryRequest::parse(&method, &path)
                && let Some(repository) = request.repository()
            {
                proptest::prop_assert!(repository.as_str().split('/').all(|part| !part.is_empty() && !part.starts_with('.')));
            }
        }
    }
}
