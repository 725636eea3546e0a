//! Commands about sources.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::{Moment, Output, Trial, Wait};

/// The rule for newer commits in Git.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Newer {
    /// A person says so first.
    Ask,
    /// It is taken at once.
    Take,
}

impl From<Newer> for mainyard_core::model::GitNewer {
    fn from(word: Newer) -> Self {
        match word {
            Newer::Ask => mainyard_core::model::GitNewer::Ask,
            Newer::Take => mainyard_core::model::GitNewer::Take,
        }
    }
}

/// The rule for objects that Git declares and a person changed here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Changed {
    /// It is said.
    Report,
    /// It is made again as Git declares it.
    Restore,
}

impl From<Changed> for mainyard_core::model::LiveChanged {
    fn from(word: Changed) -> Self {
        match word {
            Changed::Report => mainyard_core::model::LiveChanged::Report,
            Changed::Restore => mainyard_core::model::LiveChanged::Restore,
        }
    }
}

/// The rule for objects that Git no longer declares.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum GoneArgument {
    /// It stays.
    Keep,
    /// A person says so first.
    Ask,
    /// It is removed.
    Remove,
}

impl From<GoneArgument> for mainyard_core::model::GoneFromGit {
    fn from(word: GoneArgument) -> Self {
        match word {
            GoneArgument::Keep => mainyard_core::model::GoneFromGit::Keep,
            GoneArgument::Ask => mainyard_core::model::GoneFromGit::Ask,
            GoneArgument::Remove => mainyard_core::model::GoneFromGit::Remove,
        }
    }
}

/// How a source is followed: one key for each question.
#[derive(Debug, Clone, Args)]
pub(crate) struct SourceRule {
    /// How often Git is looked at; 60s by default.
    #[arg(long, value_name = "TIME")]
    pub look_every: Option<String>,
    /// When Git has something newer; ask by default.
    #[arg(long, value_enum)]
    pub git_newer: Option<Newer>,
    /// When something that Git declares was changed here; report by default.
    #[arg(long, value_enum)]
    pub live_changed: Option<Changed>,
    /// When Git declares something no longer; ask by default.
    #[arg(long, value_enum)]
    pub gone_from_git: Option<GoneArgument>,
    /// Of 100 things, a commit that would remove more asks in any case; 25 by default.
    #[arg(long, value_name = "N")]
    pub remove_at_most: Option<u32>,
}

/// A source to be added.
#[derive(Debug, Args)]
pub(crate) struct AddSource {
    /// Its name, or environment/name.
    pub name: String,
    /// The repository: https://…, ssh://… or file:///….
    pub repository: String,
    /// A branch, a tag or a commit.
    #[arg(long, default_value = "main")]
    pub at: String,
    /// The folder; the whole repository by default.
    #[arg(long, default_value = "")]
    pub folder: String,
    /// The name that the application has here, so that it can be there several times; its own by default.
    #[arg(long = "as", value_name = "NAME")]
    pub named: Option<String>,
    /// The environment that follows it.
    #[arg(long = "in", value_name = "ENVIRONMENT")]
    pub environment: Option<String>,
    /// The secret that holds the token, over https.
    #[arg(long, value_name = "SECRET", conflicts_with = "key")]
    pub token: Option<String>,
    /// Whom the token belongs to.
    #[arg(long, default_value = "token", requires = "token")]
    pub user: String,
    /// The secret that holds the private key, over ssh.
    #[arg(long, value_name = "SECRET", requires = "known_hosts")]
    pub key: Option<String>,
    /// A file with the hosts that are trusted, as ssh-keyscan prints them.
    #[arg(long, value_name = "FILE", requires = "key")]
    pub known_hosts: Option<PathBuf>,
    /// The certificate of the authority that the server's own is checked against; the machine's by default.
    #[arg(long, value_name = "CERTIFICATE")]
    pub authority: Option<String>,
    /// The secret that anyone who tells of a push signs with.
    #[arg(long, value_name = "SECRET")]
    pub pushes: Option<String>,
    /// It holds code, and no declarations: build each new commit. Declare what is built by
    /// image = { source = "NAME", folder = "FOLDER" }.
    #[arg(long, conflicts_with_all = ["named", "git_newer", "live_changed", "gone_from_git", "remove_at_most"])]
    pub code: bool,
    /// Build only commits that change such a path, in the form of .gitignore; may be given several times.
    #[arg(long, value_name = "PATTERN", requires = "code")]
    pub paths: Vec<String>,
    #[command(flatten)]
    pub rule: SourceRule,
    #[command(flatten)]
    pub trial: Trial,
}

/// Commands for sources.
#[derive(Debug, Subcommand)]
pub(crate) enum SourceCommand {
    /// Follow a folder of a repository.
    #[command(
        after_help = "Example:\n  mainyard source add lockers https://git.lockers.localhost/deploy.git --at main --folder deploy --in staging\n  mainyard source add staging/lockers file:///srv/git/lockers --git-newer take\n  mainyard source add staging/lockers ssh://git@git.lockers.localhost/deploy --key deploy-key --known-hosts known_hosts\n  mainyard source add staging/lockers-code https://git.lockers.localhost/code.git --code --paths 'api/**'"
    )]
    Add(Box<AddSource>),
    /// List the sources.
    #[command(after_help = "Example:\n  mainyard source list")]
    List {
        #[command(flatten)]
        past: Moment,
        #[command(flatten)]
        output: Output,
    },
    /// Show a source: its commits, how it stands, and what it leaves alone.
    #[command(after_help = "Example:\n  mainyard source show staging/lockers")]
    Show {
        /// The source, as environment/name.
        source: String,
        #[command(flatten)]
        past: Moment,
        #[command(flatten)]
        output: Output,
    },
    /// Compare what Git says, what is declared here, and what runs.
    #[command(after_help = "Example:\n  mainyard source compare staging/lockers")]
    Compare {
        /// The source, as environment/name.
        source: String,
        #[command(flatten)]
        output: Output,
    },
    /// Look at the repository now; follow to the end what comes of it.
    #[command(after_help = "Example:\n  mainyard source look staging/lockers")]
    Look {
        /// The source, as environment/name.
        source: String,
        /// Come back at once.
        #[arg(long)]
        no_wait: bool,
    },
    /// Try whether the repository answers, lets the platform in by the stored credential, and has what is followed.
    #[command(after_help = "Example:\n  mainyard source check staging/lockers")]
    Check {
        /// The source, as environment/name.
        source: String,
    },
    /// Build the code of a source at a commit, also at one that was built before.
    #[command(after_help = "Example:\n  mainyard source build staging/lockers-code --at 3f2a1c9")]
    Build {
        /// The source, as environment/name.
        source: String,
        /// A commit; the newest by default.
        #[arg(long, value_name = "COMMIT")]
        at: Option<String>,
        /// Come back at once.
        #[arg(long)]
        no_wait: bool,
    },
    /// Make the environment like a commit.
    #[command(
        after_help = "Example:\n  mainyard source catch-up staging/lockers --forecast\n  mainyard source catch-up staging/lockers\n  mainyard source catch-up staging/lockers --to 3f2a1c9"
    )]
    CatchUp {
        /// The source, as environment/name.
        source: String,
        /// A commit; the newest by default.
        #[arg(long, value_name = "COMMIT")]
        to: Option<String>,
        /// Also remove what Git declares no longer.
        #[arg(long)]
        remove: bool,
        #[command(flatten)]
        wait: Wait,
    },
    /// Change how a source is followed.
    #[command(
        after_help = "Example:\n  mainyard source change staging/lockers --git-newer take --look-every 10s"
    )]
    Change {
        /// The source, as environment/name.
        source: String,
        #[command(flatten)]
        rule: SourceRule,
        #[command(flatten)]
        trial: Trial,
    },
    /// Let a source do nothing until it is resumed.
    #[command(
        after_help = "Example:\n  mainyard source hold staging/lockers --because \"the database is moved\""
    )]
    Hold {
        /// The source, as environment/name.
        source: String,
        /// Why.
        #[arg(long)]
        because: String,
        #[command(flatten)]
        trial: Trial,
    },
    /// Let it follow Git again, also where it left something alone.
    #[command(
        after_help = "Example:\n  mainyard source resume staging/lockers --forecast\n  mainyard source resume staging/lockers"
    )]
    Resume {
        /// The source, as environment/name.
        source: String,
        #[command(flatten)]
        wait: Wait,
    },
    /// See the commit that would make Git agree with what is declared here; push it as a branch.
    #[command(
        after_help = "Example:\n  mainyard source write-back staging/lockers\n  mainyard source write-back staging/lockers --push --branch as-it-runs"
    )]
    WriteBack {
        /// The source, as environment/name.
        source: String,
        /// Push it.
        #[arg(long)]
        push: bool,
        /// As this branch.
        #[arg(long, requires = "push")]
        branch: Option<String>,
        #[command(flatten)]
        output: Output,
    },
    /// Follow it no longer; what it declared stays as it is.
    #[command(after_help = "Example:\n  mainyard source remove staging/lockers")]
    Remove {
        /// The source, as environment/name.
        source: String,
        #[command(flatten)]
        trial: Trial,
    },
}
