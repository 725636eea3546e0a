//! Sources: folders of Git repositories that environments follow.

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Name, Origin, Reason, ReleaseNumber, SourceState, Span, Target};
use crate::manifest::Problem;

/// A commit, as far as it is shown.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct Commit {
    /// Its whole id, as hexadecimal digits.
    pub id: String,
    /// Its author.
    pub by: String,
    /// When it was committed.
    pub at: Timestamp,
    /// The first line of its message.
    pub subject: String,
}

impl Commit {
    /// As much of its id as a person reads.
    pub fn short(&self) -> &str {
        short_commit(&self.id)
    }
}

/// As much of a commit's id as a person reads.
pub fn short_commit(id: &str) -> &str {
    id.get(..9).unwrap_or(id)
}

/// The rule for newer commits in Git.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum GitNewer {
    /// A person says so first.
    #[default]
    Ask,
    /// It is taken at once.
    Take,
}

/// The rule for objects that Git declares and a person changed here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum LiveChanged {
    /// It is said.
    #[default]
    Report,
    /// It is made again as Git declares it.
    Restore,
}

/// The rule for objects that Git no longer declares.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum GoneFromGit {
    /// It stays.
    Keep,
    /// A person says so first.
    #[default]
    Ask,
    /// It is removed.
    Remove,
}

/// How a source is followed: one key for each question.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct FollowRule {
    /// How often Git is looked at.
    pub look_every: Span,
    /// When Git has something newer.
    pub git_newer: GitNewer,
    /// When something was changed here.
    pub live_changed: LiveChanged,
    /// When Git declares something no longer.
    pub gone_from_git: GoneFromGit,
    /// Of 100 things that it declares, a commit that would remove more asks in any case.
    pub remove_at_most: u32,
}

/// Changes to a rule: the keys that are given.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RuleChange {
    /// How often Git is looked at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub look_every: Option<Span>,
    /// When Git has something newer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub git_newer: Option<GitNewer>,
    /// When something was changed here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub live_changed: Option<LiveChanged>,
    /// When Git declares something no longer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gone_from_git: Option<GoneFromGit>,
    /// Of 100 things that it declares, a commit that would remove more asks in any case.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remove_at_most: Option<u32>,
}

impl FollowRule {
    /// The rule with what is to change of it.
    pub fn with(&self, change: &RuleChange) -> FollowRule {
        FollowRule {
            look_every: change.look_every.unwrap_or(self.look_every),
            git_newer: change.git_newer.unwrap_or(self.git_newer),
            live_changed: change.live_changed.unwrap_or(self.live_changed),
            gone_from_git: change.gone_from_git.unwrap_or(self.gone_from_git),
            remove_at_most: change.remove_at_most.unwrap_or(self.remove_at_most),
        }
    }
}

impl Default for FollowRule {
    fn default() -> FollowRule {
        FollowRule {
            look_every: Span::from_secs(60),
            git_newer: GitNewer::default(),
            live_changed: LiveChanged::default(),
            gone_from_git: GoneFromGit::default(),
            remove_at_most: 25,
        }
    }
}

/// By what Git lets it in. The value is a secret of the environment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum SourceCredential {
    /// A token, over https.
    Token {
        /// The secret.
        secret: Name,
        /// Whom it belongs to.
        user: String,
    },
    /// A private key, over ssh.
    Key {
        /// The secret.
        secret: Name,
        /// Lines as `known_hosts` has them: no other host is trusted.
        known_hosts: String,
    },
}

impl SourceCredential {
    /// The secret that holds the value.
    pub fn secret(&self) -> &Name {
        match self {
            SourceCredential::Token { secret, .. } | SourceCredential::Key { secret, .. } => secret,
        }
    }
}

/// One thing that a source leaves alone: exactly what a person touched.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Touched {
    /// The image and number of a workload's release.
    Release(Name),
    /// How many replicas a workload has.
    Replicas(Name),
    /// A workload as a whole: a person removed it.
    Workload(Name),
    /// A service.
    Service(Name),
    /// A route.
    Route(Name),
    /// The value of a secret.
    Secret(Name),
}

impl Touched {
    /// The workload that it belongs to.
    pub fn workload(&self) -> Option<&Name> {
        match self {
            Touched::Release(name) | Touched::Replicas(name) | Touched::Workload(name) => Some(name),
            Touched::Service(_) | Touched::Route(_) | Touched::Secret(_) => None,
        }
    }
}

impl std::fmt::Display for Touched {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Touched::Release(name) => write!(f, "the release of {name}"),
            Touched::Replicas(name) => write!(f, "the replicas of {name}"),
            Touched::Workload(name) => write!(f, "workload {name}"),
            Touched::Service(name) => write!(f, "service {name}"),
            Touched::Route(name) => write!(f, "route {name}"),
            Touched::Secret(name) => write!(f, "the value of the secret {name}"),
        }
    }
}

/// An object that a source leaves alone, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Yield {
    /// What.
    pub what: Touched,
    /// By whom it was touched.
    pub origin: Origin,
}

/// A commit on its way into the environment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct CatchingUp {
    /// Which one.
    pub commit: Commit,
    /// The member who decided it; `platform` if the source did it by itself.
    pub origin: Origin,
    /// Whether what Git declares no longer is removed.
    pub remove: bool,
    /// Whether the source began it by its rule; nobody asked for it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub by_itself: bool,
    /// Workloads that it changed, and the release that each one got, where it got one.
    pub made: BTreeMap<Name, Option<ReleaseNumber>>,
    /// The reason for waiting.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waits_for: Option<String>,
}

impl CatchingUp {
    /// A commit begins its way, because somebody said so.
    pub fn begin(commit: Commit, by: &str, remove: bool, now: Timestamp) -> CatchingUp {
        let mut origin = Origin::new(by, "declared", now);
        origin.commit = Some(commit.id.clone());
        CatchingUp { commit, origin, remove, by_itself: false, made: BTreeMap::new(), waits_for: None }
    }
}

/// A commit that is not tried again by itself: a rollout of it went back, or a person stopped it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SetBack {
    /// Which one.
    pub commit: String,
    /// Why.
    pub because: String,
    /// The part of it that was not done.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub not_done: Vec<String>,
}

/// What of a repository is built.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct CodeRule {
    /// Paths, in the form of `.gitignore`: a commit that changes none of them is not built. None stands for all.
    pub paths: Vec<String>,
}

/// The builds of a source's newest commit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SourceBuilds {
    /// The commit.
    pub commit: String,
    /// Their numbers, one for each recipe; none where the commit changed nothing that is built.
    #[serde(default)]
    pub builds: Vec<u64>,
    /// How they stand.
    pub state: SourceBuildState,
    /// The same in a sentence.
    pub says: String,
}

/// How the builds of a commit stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SourceBuildState {
    /// They go on.
    Building,
    /// All of them made their images, or there was nothing to build.
    Done,
    /// One of them failed, or none could be begun.
    Failed,
}

/// A folder of a Git repository that an environment follows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Source {
    /// The environment, and its name there.
    pub target: Target,
    /// The repository.
    pub url: String,
    /// A branch, a tag or a commit.
    pub at: String,
    /// The folder; the whole repository where it is empty.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub folder: String,
    /// The name under which the application is here, where it is not its own.
    #[serde(default, rename = "as", skip_serializing_if = "Option::is_none")]
    pub named: Option<Name>,
    /// By what Git lets it in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub let_in: Option<SourceCredential>,
    /// The certificate that says which authority the server's own is checked against, over https; the machine's by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<Name>,
    /// The secret that anyone who tells of a push signs with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pushes: Option<Name>,
    /// How it is followed.
    #[serde(flatten)]
    pub rule: FollowRule,
    /// What is built of it, where it holds code and no declarations.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<CodeRule>,
    /// The builds of its newest commit, where it holds code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub builds: Option<SourceBuilds>,
    /// The application that it declares; `None` before the first commit was read.
    #[serde(default)]
    pub application: Option<Name>,
    /// The newest commit that was seen.
    #[serde(default)]
    pub seen: Option<Commit>,
    /// The commit that the environment was made like.
    #[serde(default)]
    pub applied: Option<Commit>,
    /// The newest commits, the newest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub commits: Vec<Commit>,
    /// How it is.
    pub state: SourceState,
    /// Why it is not well.
    #[serde(default)]
    pub reason: Option<Reason>,
    /// Since when.
    pub since: Timestamp,
    /// The differences between the newest commit and the declared state, in words.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub differs: Vec<String>,
    /// Why the repository could not be read when it was last looked at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unreachable: Option<Reason>,
    /// Everything that is wrong with the newest commit.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub problems: Vec<Problem>,
    /// The commit on its way.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub catching_up: Option<CatchingUp>,
    /// The commit that is not tried again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub set_back: Option<SetBack>,
    /// Objects that it leaves alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub yields: Vec<Yield>,
    /// A mark that it does nothing at all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<super::HoldMark>,
    /// The member who added it.
    pub origin: Origin,
}

impl Source {
    /// Commits that it stands on, goes to, or has seen: what they declare must be known.
    pub fn concerned(&self) -> impl Iterator<Item = &Commit> {
        let on = self.catching_up.as_ref().map(|it| &it.commit);
        [self.seen.as_ref(), self.applied.as_ref(), on].into_iter().flatten()
    }

    /// The commit of this id, or of the one id that begins so, with four digits at least.
    ///
    /// # Errors
    /// In words, why there is none.
    pub fn commit(&self, id: &str) -> Result<&Commit, String> {
        let mut found = self.commits.iter().filter(|commit| id.len() >= 4 && commit.id.starts_with(id));
        match (found.next(), found.next()) {
            (Some(commit), None) => Ok(commit),
            (Some(_), Some(_)) => Err(format!("several commits of {} begin with {id}", self.target)),
            _ => {
                let known = self.commits.len();
                Err(format!("{} knows no commit {id}; it knows the last {known}", self.target))
            }
        }
    }
}
