//! What a Git client asks for, over HTTP and over ssh, and whether it may.

use mainyard_core::model::{Name, Target};
use mainyard_core::suggestions::did_you_mean;

use crate::Control;

/// The two directions of the protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Service {
    /// A client fetches.
    Upload,
    /// A client pushes.
    Receive,
}

impl Service {
    pub(super) fn of(word: &str) -> Option<Service> {
        match word {
            "git-upload-pack" => Some(Service::Upload),
            "git-receive-pack" => Some(Service::Receive),
            _ => None,
        }
    }

    pub(super) fn word(self) -> &'static str {
        match self {
            Service::Upload => "git-upload-pack",
            Service::Receive => "git-receive-pack",
        }
    }
}

/// What a request asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Asked {
    pub target: Target,
    pub service: Service,
    /// The list of refs is asked for.
    pub refs: bool,
}

/// What a request over HTTP asks for: its path has one spelling, with or without `.git` at the end of the name.
pub(super) fn asked_over_http(method: &str, path: &str, query: &str) -> Option<Asked> {
    let mut words = path.strip_prefix("/code/")?.split('/');
    let target = target(words.next()?, words.next()?)?;
    let rest: Vec<&str> = words.collect();
    let (service, refs) = match (method, rest.as_slice()) {
        ("GET", ["info", "refs"]) => (Service::of(query.strip_prefix("service=")?)?, true),
        ("POST", [word]) => (Service::of(word)?, false),
        _ => return None,
    };
    Some(Asked { target, service, refs })
}

/// What a command over ssh asks for: `git-upload-pack '/ENVIRONMENT/NAME'`, as every client of Git writes it.
pub(super) fn asked_over_ssh(command: &str) -> Option<(Service, Target)> {
    let (service, path) = command.split_once(' ')?;
    let path = path.strip_prefix('\'')?.strip_suffix('\'')?.trim_start_matches('/');
    let (environment, name) = path.strip_prefix("code/").unwrap_or(path).split_once('/')?;
    Some((Service::of(service)?, target(environment, name)?))
}

fn target(environment: &str, name: &str) -> Option<Target> {
    let environment: Name = environment.parse().ok()?;
    let name: Name = name.strip_suffix(".git").unwrap_or(name).parse().ok()?;
    Some(Target::new(&environment, &name))
}

/// A first push makes a repository where its environment is there.
///
/// # Errors
/// When it is not, with the nearest name.
pub(super) async fn may_be_pushed_to(control: &Control, target: &Target) -> Result<(), String> {
    let published = control.leader.published.read().await;
    let environments = &published.0.environments;
    if environments.contains_key(&target.environment) {
        return Ok(());
    }
    let near = did_you_mean(target.environment.as_str(), environments.keys().map(Name::as_str));
    Err(format!("there is no environment {}{near}", target.environment))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_over_http_has_one_spelling() {
        let refs = "service=git-upload-pack";
        let asked = asked_over_http("GET", "/code/staging/form/info/refs", refs).expect("it is asked for");
        assert_eq!((asked.target.to_string(), asked.refs), ("staging/form".to_owned(), true));
        assert!(asked_over_http("POST", "/code/staging/form.git/git-receive-pack", "").is_some());
        for (method, path, query) in [
            ("GET", "/code/staging/form/info/refs", "service=git-upload-archive"),
            ("GET", "/code/staging/form/info/refs", "a=b&service=git-upload-pack"),
            ("POST", "/code/staging/form/info/refs", refs),
            ("GET", "/code/staging/../info/refs", refs),
            ("GET", "/code/staging/form/x/info/refs", refs),
            ("GET", "/code/staging/%66orm/info/refs", refs),
            ("GET", "/code/staging//info/refs", refs),
        ] {
            assert_eq!(asked_over_http(method, path, query), None, "{method} {path} {query}");
        }
    }

    #[test]
    fn a_command_over_ssh_is_one_of_two() {
        for path in ["/staging/form", "/staging/form.git", "/code/staging/form", "staging/form"] {
            let (service, target) = asked_over_ssh(&format!("git-receive-pack '{path}'")).expect(path);
            assert_eq!((service, target.to_string().as_str()), (Service::Receive, "staging/form"));
        }
        for command in [
            "git-receive-pack /staging/form",
            "git-receive-pack '/staging/form' --x",
            "git-receive-pack '/staging/../form'",
            "git-upload-pack '/staging/form';id",
            "git-upload-archive '/staging/form'",
            "sh",
            "",
        ] {
            assert_eq!(asked_over_ssh(command), None, "{command}");
        }
    }
}
