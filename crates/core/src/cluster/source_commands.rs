//! Commands about sources: add and change them, catch up, hold, resume, and change by hand what they follow.

use std::collections::BTreeSet;
use std::sync::Arc;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Cluster, Refusal, RefusalKind, Transaction};
use crate::declare::ChangeLine;
use crate::git_plan::Ahead;
use crate::manifest::Declared;
use crate::model::{
    CatchingUp, CodeRule, Commit, FollowRule, GitNewer, Name, SetBack, Source, SourceCredential, SourceState,
    Target,
};
use crate::record::Kind;
use crate::suggestions::did_you_mean;

/// A source as a person gives it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSource {
    /// The repository: https, ssh or file.
    pub url: String,
    /// A branch, a tag or a commit; the branch `main` by default.
    #[serde(default)]
    pub at: Option<String>,
    /// The folder; the whole repository by default.
    #[serde(default)]
    pub folder: Option<String>,
    /// The name under which the application is here, where it is not its own.
    #[serde(default, rename = "as")]
    pub named: Option<Name>,
    /// By what Git lets the platform in.
    #[serde(default)]
    pub let_in: Option<SourceCredential>,
    /// The certificate that says which authority the server's own is checked against.
    #[serde(default)]
    pub authority: Option<Name>,
    /// The secret that anyone who tells of a push signs with.
    #[serde(default)]
    pub pushes: Option<Name>,
    /// How it is followed.
    #[serde(default)]
    pub rule: FollowRule,
    /// What is built of it, where it holds code and no declarations.
    #[serde(default)]
    pub code: Option<CodeRule>,
}

/// How a repository is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transport {
    /// Over HTTP with TLS.
    Https,
    /// Over SSH.
    Ssh,
    /// A folder of this machine.
    File,
}

/// How a URL is reached.
///
/// # Errors
/// In words, what is expected.
pub fn reach(url: &str) -> Result<Transport, String> {
    let known = [("https://", Transport::Https), ("ssh://", Transport::Ssh), ("file:///", Transport::File)];
    let found = known.iter().find(|(scheme, _)| url.starts_with(scheme));
    let plain = url.chars().all(|c| c.is_ascii_graphic());
    let rest = found.map_or("", |(scheme, _)| &url[scheme.len()..]);
    let who = rest.split('/').next().and_then(|place| place.split_once('@')).map(|(who, _)| who);
    match found {
        Some((_, Transport::Https)) if who.is_some() => {
            Err("a URL without a name in it: give a token as a secret, with --token and --user".to_owned())
        }
        Some((_, Transport::Ssh)) if who.is_some_and(|who| who.contains(':')) => {
            Err("a URL without a password in it: give a key as a secret, with --key".to_owned())
        }
        Some((_, reach)) if plain && !rest.is_empty() && !rest.starts_with('-') => Ok(*reach),
        _ => Err("https://HOST/PATH, ssh://USER@HOST/PATH or file:///PATH".to_owned()),
    }
}

impl Cluster {
    /// The source that waits with a commit until a workload of its application is steady.
    pub fn catching_up_with(&self, workload: &Target) -> Option<&Target> {
        let application = self.state.workloads.get(workload).map(|it| &it.application);
        let waits = |source: &&Source| {
            source.catching_up.is_some()
                && source.target.environment == workload.environment
                && source.application.as_ref() == application
        };
        self.state.sources.values().find(waits).map(|source| &source.target)
    }

    fn check_reach(&self, url: &str, let_in: Option<&SourceCredential>) -> Result<(), Refusal> {
        let invalid = |message: String| Err(Refusal { kind: RefusalKind::Invalid, message });
        let reach = match reach(url) {
            Ok(reach) => reach,
            Err(expected) => return invalid(format!("{url:?} is not {expected}")),
        };
        match (reach, let_in) {
            (Transport::Ssh, None) => invalid(format!("{url} needs a key: --key SECRET --known-hosts FILE")),
            (Transport::Ssh, Some(SourceCredential::Token { .. })) => {
                invalid("a token is for https; over ssh give a key: --key SECRET --known-hosts FILE".into())
            }
            (Transport::Https | Transport::File, Some(SourceCredential::Key { .. })) => {
                invalid("a key is for ssh; over https give a token: --token SECRET".into())
            }
            (Transport::File, Some(_)) => invalid("a folder of this machine needs no token".into()),
            _ => Ok(()),
        }
    }

    fn known_secret(&self, secret: &Target) -> Result<(), Refusal> {
        if self.state.secrets.contains_key(secret) {
            return Ok(());
        }
        let known: Vec<String> = self.state.secrets.keys().map(Target::to_string).collect();
        let hint = did_you_mean(&secret.to_string(), known.iter().map(String::as_str));
        Refusal::new(
            RefusalKind::NotFound,
            format!(
                "secret-missing: there is no secret {secret}{hint}; add it with: mainyard secret add {secret}"
            ),
        )
    }
}

impl Transaction<'_> {
    /// Follows a folder of a repository from now on.
    ///
    /// # Errors
    /// When the name is taken, or something is not valid or not there.
    pub fn add_source(&mut self, target: &Target, new: NewSource) -> Result<(), Refusal> {
        let now = self.now;
        self.environment(&target.environment)?;
        if self.state.sources.contains_key(target) {
            let message = format!("there is a source {target} already; remove it first, or change it");
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let NewSource { url, at, folder, named, let_in, authority, pushes, rule, code } = new;
        let (at, folder) = (at.unwrap_or_else(|| "main".to_owned()), folder.unwrap_or_default());
        let folder = folder.trim_matches('/').to_owned();
        self.check_reach(&url, let_in.as_ref())?;
        for secret in let_in.iter().map(SourceCredential::secret).chain(&pushes) {
            self.known_secret(&Target::new(&target.environment, secret))?;
        }
        if let Some(authority) = &authority {
            let certificate = Target::new(&target.environment, authority);
            if !self.state.certificates.contains_key(&certificate) {
                let message =
                    format!("there is no certificate {certificate}; add it with: mainyard certificate add");
                return Refusal::new(RefusalKind::NotFound, message);
            }
        }
        let invalid = |message: String| Refusal { kind: RefusalKind::Invalid, message };
        if !is_revision(&at) {
            return Err(invalid(format!("{at:?} is not a branch, a tag or a commit")));
        }
        if folder.split('/').any(|part| part == ".." || part == ".") || folder.contains(char::is_control) {
            return Err(invalid(format!("{folder:?} is not a folder of the repository")));
        }
        check_rule(&rule)?;
        let same = |source: &&Source| {
            let same = source.url == url && source.at == at && source.folder == folder;
            let same = same && source.code == code;
            same && source.named == named && source.target.environment == target.environment
        };
        if let Some(twin) = self.state.sources.values().find(same) {
            let message = format!("the source {} follows the very same already", twin.target);
            return Refusal::new(RefusalKind::Conflict, message);
        }
        self.act("added");
        let origin = self.cause.clone();
        self.put_source(Source {
            target: target.clone(),
            url,
            at,
            folder,
            named,
            let_in,
            authority,
            pushes,
            rule,
            code,
            builds: None,
            application: None,
            seen: None,
            applied: None,
            commits: Vec::new(),
            state: SourceState::Behind,
            reason: None,
            since: now,
            differs: Vec::new(),
            unreachable: None,
            problems: Vec::new(),
            catching_up: None,
            set_back: None,
            yields: Vec::new(),
            held: None,
            origin,
        });
        Ok(())
    }

    /// Changes how a source is followed.
    ///
    /// # Errors
    /// When there is no such source, or the rule is not valid.
    pub fn change_source(&mut self, target: &Target, rule: FollowRule) -> Result<(), Refusal> {
        let mut source = self.source(target)?.clone();
        check_rule(&rule)?;
        self.act("changed");
        source.rule = rule;
        self.observations.follow(target);
        self.put_source(source);
        Ok(())
    }

    /// Follows it no longer; what it declared stays as it is. Gives what that is, in words.
    ///
    /// # Errors
    /// When there is no such source.
    pub fn remove_source(&mut self, target: &Target) -> Result<Vec<String>, Refusal> {
        let source = self.source(target)?.clone();
        self.act("removed");
        self.remove(Kind::Source, target.to_string());
        self.observations.keep_only(target, &BTreeSet::new());
        let own = self.state.workloads.values().filter(|workload| {
            workload.target.environment == target.environment
                && source.application.as_ref() == Some(&workload.application)
        });
        Ok(own.map(|workload| format!("workload {} stays as it is", workload.target)).collect())
    }

    /// DirtySet a source: it does nothing until it is resumed.
    ///
    /// # Errors
    /// When it is held already, or no reason is given.
    pub fn hold_source(&mut self, target: &Target, because: &str) -> Result<String, Refusal> {
        let mut source = self.source(target)?.clone();
        source.held = Some(self.mark_held(target, source.held.as_ref(), because)?);
        let words = match &source.catching_up {
            Some(on) => format!("catching up with {} is paused", on.commit.short()),
            None => "it follows no commit".to_owned(),
        };
        self.put_source(source);
        Ok(words)
    }

    /// Takes marks away: of the source as a whole, of a commit that went back, and of all that it left alone. Gives
    /// what it does now, in words.
    ///
    /// # Errors
    /// When nothing was held.
    pub fn resume_source(&mut self, target: &Target) -> Result<Vec<String>, Refusal> {
        let by = self.by.clone();
        let now = self.now;
        let mut source = self.source(target)?.clone();
        let (held, set_back) = (source.held.take(), source.set_back.take());
        if held.is_none() && set_back.is_none() && source.yields.is_empty() {
            return Refusal::new(
                RefusalKind::Conflict,
                format!("{target} is not held, and leaves nothing alone"),
            );
        }
        self.act("resumed");
        let mut words: Vec<String> =
            source.yields.drain(..).map(|it| format!("{} follows Git again", it.what)).collect();
        if let Some(set_back) = set_back {
            words.push(format!("{} is tried again", crate::model::short_commit(&set_back.commit)));
        }
        let ahead = source.seen.as_ref().and_then(|seen| self.ahead(&source, seen, false).ok());
        words.extend(ahead.iter().flat_map(Ahead::lines).map(ToString::to_string));
        take_again(&mut source, &by, now);
        self.put_source(source);
        self.observations.follow(target);
        Ok(words)
    }

    /// Brings the environment to a commit: the newest, or another that is given with what it declares.
    ///
    /// # Errors
    /// When the source or the commit cannot be followed, with the reason.
    pub fn catch_up(
        &mut self,
        target: &Target,
        to: Option<(Commit, Arc<Declared>)>,
        remove: bool,
    ) -> Result<Vec<ChangeLine>, Refusal> {
        let by = self.by.clone();
        let now = self.now;
        let mut source = self.source(target)?.clone();
        if let Some(held) = &source.held {
            let message = format!(
                "{target} is {}, because {}; it does nothing until: mainyard source resume {target}",
                held.origin, held.because
            );
            return Refusal::new(RefusalKind::Conflict, message);
        }
        let commit = match to {
            Some((commit, declared)) => {
                self.observations.note(target, &commit.id, declared);
                commit
            }
            None => {
                if let Some(first) = source.problems.first() {
                    let count = source.problems.len();
                    let message = format!("the newest commit is not valid ({count} in all): {first}");
                    return Refusal::new(RefusalKind::Conflict, message);
                }
                let not_yet = || Refusal {
                    kind: RefusalKind::Conflict,
                    message: format!("no commit of {target} was read yet"),
                };
                source.seen.clone().ok_or_else(not_yet)?
            }
        };
        let ahead = self.ahead(&source, &commit, remove)?;
        let lines: Vec<ChangeLine> = ahead.lines().cloned().collect();
        if lines.is_empty() && !ahead.asks.is_empty() {
            let asks: Vec<String> = ahead.asks.iter().map(|line| line.object.clone()).collect();
            let message = format!("it would only remove {}: say so with --remove", asks.join(", "));
            return Refusal::new(RefusalKind::Conflict, message);
        }
        // A person who goes back to an older commit means it: the newest one does not come by itself then.
        source.set_back = source.seen.as_ref().filter(|seen| seen.id != commit.id).map(|seen| SetBack {
            commit: seen.id.clone(),
            because: format!("{by} went to {} instead", commit.short()),
            not_done: Vec::new(),
        });
        let on = CatchingUp::begin(commit, &by, remove, now);
        self.cause = on.origin.clone();
        source.catching_up = Some(on);
        self.put_source(source);
        self.observations.follow(target);
        Ok(lines)
    }
}

/// A resumed source that takes newer commits catches up with those it left alone.
pub(super) fn take_again(source: &mut Source, by: &str, now: Timestamp) {
    let valid = source.seen.clone().filter(|_| source.problems.is_empty());
    let takes = source.rule.git_newer == GitNewer::Take && source.catching_up.is_none();
    if let Some(commit) = valid.filter(|_| takes) {
        source.catching_up = Some(CatchingUp::begin(commit, by, false, now));
    }
}

fn check_rule(rule: &FollowRule) -> Result<(), Refusal> {
    let second = 1_000;
    if rule.look_every.millis() < second || rule.look_every.millis() > 24 * 3600 * second {
        let message = format!("look_every = \"{}\": from 1s to 24h is taken", rule.look_every);
        return Refusal::new(RefusalKind::Invalid, message);
    }
    if rule.remove_at_most > 100 {
        let message = format!("remove_at_most = {}: of 100 things, so 0 to 100", rule.remove_at_most);
        return Refusal::new(RefusalKind::Invalid, message);
    }
    Ok(())
}

/// Whether a text may be a branch, a tag or a commit (git-check-ref-format, the part that matters here).
fn is_revision(text: &str) -> bool {
    let taken = |c: char| c.is_ascii_alphanumeric() || matches!(c, '/' | '.' | '_' | '-' | '+' | '@' | '#');
    !text.is_empty()
        && text.len() <= 200
        && text.chars().all(taken)
        && !text.starts_with(['-', '/', '.'])
        && !text.ends_with(['/', '.'])
        && !["..", "//", "@{", "/."].iter().any(|part| text.contains(part))
}
