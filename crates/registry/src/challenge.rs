//! How a client is told to authenticate, and what a token is good for: the form that clients of registries expect, a bearer
//! challenge (RFC 6750) with the address of a token service, and scopes.

use std::fmt;

use crate::request::{RegistryRequest, Repository};

/// What may be done with a repository.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Action {
    /// Read.
    Pull,
    /// Write.
    Push,
    /// Remove.
    Delete,
}

impl Action {
    const ALL: [Action; 3] = [Action::Pull, Action::Push, Action::Delete];

    fn word(self) -> &'static str {
        match self {
            Action::Pull => "pull",
            Action::Push => "push",
            Action::Delete => "delete",
        }
    }
}

/// Actions on one repository, or on the list of all.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Scope {
    /// The repository; `None` for the catalogue.
    pub repository: Option<String>,
    /// What may be done.
    pub actions: Vec<Action>,
}

impl Scope {
    /// What a request needs; `None` where any credential is enough.
    pub fn needed(request: &RegistryRequest) -> Option<Scope> {
        let on = |repository: &Repository, actions: &[Action]| {
            Some(Scope { repository: Some(repository.as_str().to_owned()), actions: actions.to_vec() })
        };
        match request {
            RegistryRequest::Base | RegistryRequest::Token => None,
            RegistryRequest::Catalog => Some(Scope { repository: None, actions: vec![Action::Pull] }),
            RegistryRequest::Tags(repository)
            | RegistryRequest::ReadBlob(repository, _)
            | RegistryRequest::ReadManifest(repository, _)
            | RegistryRequest::Referrers(repository, _) => on(repository, &[Action::Pull]),
            RegistryRequest::RemoveBlob(repository, _) | RegistryRequest::RemoveManifest(repository, _) => {
                on(repository, &[Action::Delete])
            }
            RegistryRequest::WriteManifest(repository, _)
            | RegistryRequest::BeginUpload(repository)
            | RegistryRequest::UploadProgress(repository, _)
            | RegistryRequest::WriteUpload(repository, _)
            | RegistryRequest::EndUpload(repository, _)
            | RegistryRequest::AbortUpload(repository, _) => on(repository, &[Action::Pull, Action::Push]),
        }
    }

    /// Reads one that a client asks for, `repository:NAME:pull,push` or `registry:catalog:*`; actions that are not known are
    /// left out.
    pub fn parse(text: &str) -> Option<Scope> {
        let (kind, rest) = text.split_once(':')?;
        let (name, words) = rest.rsplit_once(':')?;
        let has = |action: &Action| words.split(',').any(|word| word == action.word() || word == "*");
        let actions: Vec<Action> = Action::ALL.into_iter().filter(has).collect();
        match (kind, name) {
            ("registry", "catalog") => Some(Scope { repository: None, actions: vec![Action::Pull] }),
            ("repository", name) => {
                let repository = Repository::parse(name).ok()?;
                Some(Scope { repository: Some(repository.as_str().to_owned()), actions })
            }
            _ => None,
        }
    }

    /// Whether a token with these scopes may do what this one asks for.
    pub fn is_in(&self, granted: &[Scope]) -> bool {
        let of = |scope: &&Scope| scope.repository == self.repository;
        self.actions
            .iter()
            .all(|action| granted.iter().filter(of).any(|scope| scope.actions.contains(action)))
    }
}

impl fmt::Display for Scope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let actions: Vec<&str> = self.actions.iter().map(|action| action.word()).collect();
        match &self.repository {
            None => f.write_str("registry:catalog:*"),
            Some(repository) => write!(f, "repository:{repository}:{}", actions.join(",")),
        }
    }
}

/// The scopes of a token, as they are written: separated by spaces.
pub fn granted(text: &str) -> Vec<Scope> {
    text.split(' ').filter_map(Scope::parse).collect()
}

/// The `WWW-Authenticate` header of a refusal: where to get a token, and for what.
pub fn challenge(realm: &str, service: &str, scope: Option<&Scope>) -> String {
    let scope = scope.map_or(String::new(), |scope| format!(",scope=\"{scope}\""));
    format!("Bearer realm=\"{realm}\",service=\"{service}\"{scope}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_is_good_for_what_was_asked_and_for_nothing_else() {
        let asked = |method: &str, path: &str| {
            Scope::needed(&RegistryRequest::parse(method, path).expect("a request")).expect("a scope")
        };
        let reads = granted("repository:lockers/locker-api:pull registry:catalog:*");
        let pull = asked("GET", "/v2/lockers/locker-api/manifests/1.4.0");
        assert!(pull.is_in(&reads));
        assert!(asked("GET", "/v2/_catalog").is_in(&reads));
        assert!(!asked("PUT", "/v2/lockers/locker-api/manifests/1.4.0").is_in(&reads));
        assert!(!asked("DELETE", "/v2/lockers/locker-api/manifests/1.4.0").is_in(&reads));
        assert!(!asked("GET", "/v2/lockers/other/manifests/1.4.0").is_in(&reads));
        assert!(!asked("GET", "/v2/_catalog").is_in(&granted("repository:catalog:pull")));
        let writes = granted("repository:lockers/locker-api:pull,push");
        assert!(asked("POST", "/v2/lockers/locker-api/blobs/uploads/").is_in(&writes));
        assert!(!asked("DELETE", "/v2/lockers/locker-api/manifests/1.4.0").is_in(&writes));
        // Two of the same repository add up.
        let two = granted("repository:a:pull repository:a:push");
        assert!(asked("POST", "/v2/a/blobs/uploads/").is_in(&two));
    }

    #[test]
    fn scopes_are_read_as_they_are_written_and_others_are_left_out() {
        for text in ["repository:a/b:pull,push", "registry:catalog:*", "repository:a:delete"] {
            assert_eq!(Scope::parse(text).map(|scope| scope.to_string()).as_deref(), Some(text));
        }
        assert_eq!(Scope::parse("repository:a:*").expect("a scope").actions.len(), 3);
        for text in
            ["", "repository", "repository:a", "repository:A:pull", "other:a:pull", "repository:a b:pull"]
        {
            assert_eq!(Scope::parse(text), None, "{text}");
        }
    }

    #[test]
    fn a_challenge_says_where_to_get_a_token_and_for_what() {
        let scope = Scope::parse("repository:a:pull,push");
        assert_eq!(
            challenge("https://yard.example/v2/token", "yard.example", scope.as_ref()),
            "Bearer realm=\"https://yard.example/v2/token\",service=\"yard.example\",scope=\"repository:a:pull,push\""
        );
    }
}
