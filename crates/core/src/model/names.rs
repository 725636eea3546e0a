//! Names and the ways to point at a thing.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Why a name was refused: what it may be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{given:?} is not {expected}")]
pub struct NameError {
    /// The rejected text.
    pub given: String,
    /// The expected form, as in "a name: …".
    pub expected: &'static str,
}

/// The name of an environment, application, workload, service, route or port: also valid as a host name label.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Name(String);

/// The rules for a name.
pub(super) const NAME_RULE: &str =
    "a name: a letter, then letters, digits and single hyphens, all lower case, at most 40";

impl Name {
    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl FromStr for Name {
    type Err = NameError;
    fn from_str(text: &str) -> Result<Name, NameError> {
        let fits = text.len() <= 40
            && text.starts_with(|c: char| c.is_ascii_lowercase())
            && !text.ends_with('-')
            && !text.contains("--")
            && text.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-');
        if fits {
            Ok(Name(text.to_owned()))
        } else {
            Err(NameError { given: text.to_owned(), expected: NAME_RULE })
        }
    }
}

impl TryFrom<String> for Name {
    type Error = NameError;
    fn try_from(text: String) -> Result<Name, NameError> {
        text.parse()
    }
}

impl From<Name> for String {
    fn from(name: Name) -> String {
        name.0
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// An environment's place among the node's address ranges and id maps: 1 to 15.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
pub struct EnvironmentIndex(u8);

impl EnvironmentIndex {
    /// No environment: the steps of builds have ids of their own, and no addresses.
    pub const BUILDS: EnvironmentIndex = EnvironmentIndex(0);

    /// The index, where it is in range.
    pub fn new(index: u8) -> Option<EnvironmentIndex> {
        (1..=15).contains(&index).then_some(EnvironmentIndex(index))
    }
    /// As a plain number.
    pub fn get(self) -> u8 {
        self.0
    }
}

/// The number of a release of one workload, from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
pub struct ReleaseNumber(pub u32);

impl fmt::Display for ReleaseNumber {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// `environment/name`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
pub struct Target {
    /// Its environment.
    pub environment: Name,
    /// Its name there.
    pub name: Name,
}

impl Target {
    /// Both parts together.
    pub fn new(environment: &Name, name: &Name) -> Target {
        Target { environment: environment.clone(), name: name.clone() }
    }
}

impl fmt::Display for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.environment, self.name)
    }
}

impl FromStr for Target {
    type Err = NameError;
    fn from_str(text: &str) -> Result<Target, NameError> {
        let expected = "a target such as staging/locker-api";
        let (environment, name) =
            text.split_once('/').ok_or_else(|| NameError { given: text.to_owned(), expected })?;
        Ok(Target { environment: environment.parse()?, name: name.parse()? })
    }
}

/// `environment/workload@number`, such as `staging/courier-web@11`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ReleaseId {
    /// Of which workload.
    pub workload: Target,
    /// Which of its releases.
    pub number: ReleaseNumber,
}

impl ReleaseId {
    /// The id as one word that can be a file's name: `staging.courier-web.11`.
    pub fn dotted(&self) -> String {
        format!("{}.{}.{}", self.workload.environment, self.workload.name, self.number)
    }
}

impl fmt::Display for ReleaseId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}@{}", self.workload, self.number)
    }
}

impl FromStr for ReleaseId {
    type Err = NameError;
    fn from_str(text: &str) -> Result<ReleaseId, NameError> {
        let refused =
            || NameError { given: text.to_owned(), expected: "a release such as staging/locker-api@11" };
        let (workload, number) = text.split_once('@').ok_or_else(refused)?;
        let number = number.parse().ok().filter(|number| *number > 0).ok_or_else(refused)?;
        Ok(ReleaseId { workload: workload.parse()?, number: ReleaseNumber(number) })
    }
}

impl TryFrom<String> for ReleaseId {
    type Error = NameError;
    fn try_from(text: String) -> Result<ReleaseId, NameError> {
        text.parse()
    }
}

impl From<ReleaseId> for String {
    fn from(id: ReleaseId) -> String {
        id.to_string()
    }
}

/// `environment/workload/replica`, such as `staging/courier-web/c2`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ReplicaId {
    /// The workload it is a copy of.
    pub workload: Target,
    /// Its own short name.
    pub short: String,
}

impl ReplicaId {
    /// A replica of a workload.
    pub fn new(workload: Target, short: String) -> ReplicaId {
        ReplicaId { workload, short }
    }
    /// The id as one word that can be a file's name: `staging.courier-web.c2`.
    pub fn dotted(&self) -> String {
        format!("{}.{}.{}", self.workload.environment, self.workload.name, self.short)
    }
}

impl fmt::Display for ReplicaId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.workload, self.short)
    }
}

impl FromStr for ReplicaId {
    type Err = NameError;
    fn from_str(text: &str) -> Result<ReplicaId, NameError> {
        let wrong =
            || NameError { given: text.to_owned(), expected: "a replica such as staging/locker-api/a0" };
        let (workload, short) = text.rsplit_once('/').ok_or_else(wrong)?;
        let fits = !short.is_empty() && short.len() <= 12 && short.chars().all(|c| c.is_ascii_alphanumeric());
        Ok(ReplicaId {
            workload: workload.parse().ok().filter(|_| fits).ok_or_else(wrong)?,
            short: short.to_owned(),
        })
    }
}

impl TryFrom<String> for ReplicaId {
    type Error = NameError;
    fn try_from(text: String) -> Result<ReplicaId, NameError> {
        text.parse()
    }
}

impl From<ReplicaId> for String {
    fn from(id: ReplicaId) -> String {
        id.to_string()
    }
}

/// The short name of a workload's n-th replica: `a0` to `z9`, then `aa0` and on. Never used twice.
pub fn replica_short_name(number: u64) -> String {
    let (mut letters, mut left) = (Vec::new(), number / 10);
    loop {
        letters.push(b'a' + (left % 26) as u8);
        left /= 26;
        if left == 0 {
            break;
        }
        left -= 1;
    }
    letters.reverse();
    format!("{}{}", String::from_utf8_lossy(&letters), number % 10)
}

/// An image by repository and tag, such as `lockers/locker-api:1.4.0`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ImageRef {
    /// Path segments joined by `/`.
    pub repository: String,
    /// The name after the colon.
    pub tag: String,
}

const IMAGE_RULE: &str = "an image such as lockers/locker-api:1.4.0 (lower-case path, then a tag)";

impl FromStr for ImageRef {
    type Err = NameError;
    fn from_str(text: &str) -> Result<ImageRef, NameError> {
        let wrong = || NameError { given: text.to_owned(), expected: IMAGE_RULE };
        let (repository, tag) =
            text.rsplit_once(':').filter(|(_, tag)| !tag.contains('/')).ok_or_else(wrong)?;
        let tag_fits = !tag.is_empty()
            && tag.len() <= 128
            && !tag.starts_with(['.', '-'])
            && tag.chars().all(|c| c.is_ascii_alphanumeric() || "._-".contains(c));
        if text.len() <= 255 && tag_fits && is_repository(repository) {
            Ok(ImageRef { repository: repository.to_owned(), tag: tag.to_owned() })
        } else {
            Err(wrong())
        }
    }
}

impl TryFrom<String> for ImageRef {
    type Error = NameError;
    fn try_from(text: String) -> Result<ImageRef, NameError> {
        text.parse()
    }
}

impl From<ImageRef> for String {
    fn from(image: ImageRef) -> String {
        image.to_string()
    }
}

impl fmt::Display for ImageRef {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.repository, self.tag)
    }
}

/// Whether the text is the name of a repository of images, such as `lockers/locker-api`.
pub fn is_repository(text: &str) -> bool {
    let segment = |part: &str| {
        part.starts_with(|c: char| c.is_ascii_lowercase() || c.is_ascii_digit())
            && part.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || "._-".contains(c))
    };
    text.split('/').all(segment)
}

/// Whether the text is a host name in lower case (RFC 1123 labels).
pub fn is_host(text: &str) -> bool {
    let label = |part: &str| {
        (1..=63).contains(&part.len())
            && !part.starts_with('-')
            && !part.ends_with('-')
            && part.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-')
    };
    text.len() <= 253 && text.split('.').all(label)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_names_count_on_and_never_repeat() {
        assert_eq!(replica_short_name(0), "a0");
        assert_eq!(replica_short_name(259), "z9");
        assert_eq!(replica_short_name(260), "aa0");
        let names: std::collections::BTreeSet<_> = (0..20_000).map(replica_short_name).collect();
        assert_eq!(names.len(), 20_000);
    }

    #[test]
    fn names_that_could_be_taken_two_ways_are_refused() {
        for bad in ["", "A", "1a", "a_b", "a--b", "a-", "a/b", "ä", &"a".repeat(41)] {
            assert!(bad.parse::<Name>().is_err(), "{bad}");
        }
        for bad in ["lockers", "lockers:", "UPPER:1", "../x:1", "a//b:1", "host:80/x", "x:-1"] {
            assert!(bad.parse::<ImageRef>().is_err(), "{bad}");
        }
        assert_eq!("a/b:1.0".parse::<ImageRef>().expect("fits").to_string(), "a/b:1.0");
    }
}
