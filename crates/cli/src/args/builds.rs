//! Commands about code and builds.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::{Output, Wait};

/// What to build, or what to do with builds.
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true, subcommand_negates_reqs = true)]
pub(crate) struct Build {
    /// Something with builds that are there.
    #[command(subcommand)]
    pub what: Option<BuildCommand>,
    /// The folder with the code and its recipe.toml.
    #[arg(required = true)]
    pub folder: Option<PathBuf>,
    #[command(flatten)]
    pub options: BuildOptions,
    /// Come back at once instead of following to the end.
    #[arg(long)]
    pub no_wait: bool,
    /// Print each event as JSON.
    #[arg(long)]
    pub json: bool,
}

/// How to build.
#[derive(Debug, Clone, Args)]
pub(crate) struct BuildOptions {
    /// The tag of the image; by default the commit, or what the code is.
    #[arg(long)]
    pub tag: Option<String>,
    /// The folder of the code that has the recipe, where it is not the top.
    #[arg(long, value_name = "PATH")]
    pub part_of: Option<String>,
    /// The environment whose secrets the recipe's steps may use.
    #[arg(long, value_name = "ENVIRONMENT")]
    pub secrets_from: Option<String>,
    /// Use nothing of builds before: run every command, with empty caches.
    #[arg(long)]
    pub from_scratch: bool,
}

/// What to do with builds.
#[derive(Debug, Subcommand)]
pub(crate) enum BuildCommand {
    /// List builds, the newest first.
    #[command(after_help = "Example:\n  mainyard build list\n  mainyard build list --of lockers/survey-form")]
    List {
        /// Of one repository of images only.
        #[arg(long, value_name = "REPOSITORY")]
        of: Option<String>,
        #[command(flatten)]
        output: Output,
    },
    /// See a build: its steps, what it made, or why it failed.
    #[command(after_help = "Example:\n  mainyard build show 7")]
    Show {
        /// Its number.
        build: u64,
        #[command(flatten)]
        output: Output,
    },
    /// Read what a build's steps wrote, and go on until it has ended.
    #[command(after_help = "Example:\n  mainyard build logs 7")]
    Logs {
        /// Its number.
        build: u64,
        #[command(flatten)]
        output: Output,
    },
    /// End a build. What its steps made is used by the next one.
    #[command(after_help = "Example:\n  mainyard build cancel 7")]
    Cancel {
        /// Its number.
        build: u64,
    },
}

/// What to do with recipes.
#[derive(Debug, Subcommand)]
pub(crate) enum RecipeCommand {
    /// Look at a folder with code and write a recipe for it, with the reason for each line.
    #[command(
        after_help = "Example:\n  mainyard recipe suggest ./survey-form\n  mainyard recipe suggest ./survey-form --name lockers/survey-form --print"
    )]
    Suggest {
        /// The folder.
        folder: PathBuf,
        /// The repository that the image is to be kept in; by default the folder's name, twice.
        #[arg(long, value_name = "REPOSITORY")]
        name: Option<String>,
        /// Print it instead of writing recipe.toml.
        #[arg(long)]
        print: bool,
    },
    /// Check a recipe without a platform.
    #[command(after_help = "Example:\n  mainyard recipe check ./survey-form")]
    Check {
        /// The recipe, or the folder that has it.
        path: PathBuf,
    },
    /// Print the JSON Schema of recipe.toml.
    #[command(after_help = "Example:\n  mainyard recipe schema > recipe.schema.json")]
    Schema,
}

/// What to build and deploy.
#[derive(Debug, Args)]
pub(crate) struct Send {
    /// The folder with the code, its recipe.toml, and a mainyard.toml that runs its image.
    pub folder: PathBuf,
    /// The environment.
    #[arg(long = "in", value_name = "ENVIRONMENT")]
    pub environment: Option<String>,
    #[command(flatten)]
    pub options: BuildOptions,
    /// Send again whenever the code changes, until interrupted; a build that goes on is ended by the next one.
    #[arg(long, conflicts_with_all = ["forecast", "no_wait"])]
    pub watch: bool,
    /// Copy changed files into the replicas that run, without a build, where the environment allows it. They are marked as
    /// changed until the next release.
    #[arg(long, conflicts_with_all = ["forecast", "no_wait", "tag", "from_scratch"])]
    pub live: bool,
    #[command(flatten)]
    pub wait: Wait,
}

/// The code to begin with.
#[derive(Debug, Args)]
pub(crate) struct New {
    /// The name of the folder, and of what runs.
    pub name: String,
    /// The kind: python, nodejs, rust, static-site or program.
    #[arg(long, value_name = "KIND")]
    pub like: String,
    /// The repository of its image; the name, twice, by default.
    #[arg(long)]
    pub repository: Option<String>,
}
