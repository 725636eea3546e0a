//! The command line.

use std::path::PathBuf;

use clap::{CommandFactory, Parser, Subcommand};

mod authorities;
mod builds;
mod code;
mod common;
mod environments;
mod limits;
mod parts;
mod registries;
mod sources;
mod things;

pub(crate) use authorities::AuthorityCommand;
pub(crate) use builds::{Build, BuildCommand, BuildOptions, New, RecipeCommand, Send};
pub(crate) use code::{CodeCommand, KeyCommand, SshStep};
pub(crate) use common::{Export, Moment, Output, Trial, Wait};
pub(crate) use environments::{Environment, Switch};
pub(crate) use limits::LimitOptions;
pub(crate) use parts::{IsolationKind, LOCAL_AUTHORITY, LogFormat, Part, Serve, Start};
pub(crate) use registries::Registry;
pub(crate) use sources::{AddSource, SourceCommand, SourceRule};
pub(crate) use things::{Add, Application, Certificate, Image, Made, Secret, Token, TrafficBy, Trail};

/// Main Yard runs your applications: images as replicas, behind services and routes.
#[derive(Debug, Parser)]
#[command(name = "mainyard", version, max_term_width = 100, arg_required_else_help = true)]
#[command(
    after_help = "Begin with:\n  mainyard start --demo\n  mainyard board\n\nExit codes: 0 done, 1 it failed, 2 wrong usage, 3 refused, 4 the platform can't be reached."
)]
pub(crate) struct Arguments {
    /// The data directory of the platform on this machine.
    #[arg(long, global = true, env = "MAINYARD_DATA", value_name = "DIR")]
    pub data: Option<PathBuf>,
    /// The platform's URL; found automatically on the same machine.
    #[arg(long, global = true, env = "MAINYARD_URL", value_name = "URL")]
    pub url: Option<String>,
    /// The command.
    #[command(subcommand)]
    pub command: Command,
}

/// All commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Start the whole platform on this machine.
    #[command(after_help = "Example:\n  mainyard start --demo --background")]
    Start(Box<Start>),
    /// Stop the whole platform on this machine; what is declared stays declared.
    #[command(
        after_help = "Example:\n  mainyard stop\n\nTo stop one workload, scale it to none:\n  mainyard scale staging/locker-api 0"
    )]
    Stop {
        #[arg(hide = true)]
        workload: Option<String>,
    },
    /// See how much the platform's parts write to their logs, or change it while they run.
    #[command(
        after_help = "Example:\n  mainyard log-level\n  mainyard log-level info,gateway=debug\n\nParts are control, node and gateway; levels are off, error, warn, info, debug and trace.\nIt works on the platform's machine, and takes effect within a second."
    )]
    LogLevel {
        /// One level for everything, others by part after it; what there is now is shown where it is left out.
        levels: Option<String>,
    },
    /// Run one part alone; used by `start`.
    #[command(hide = true)]
    Serve(Serve),
    /// Print a link that signs a browser in to the console.
    #[command(after_help = "Example:\n  mainyard sign-in")]
    SignIn,
    /// End sessions of the console: one, or all.
    #[command(
        after_help = "Example:\n  mainyard token list\n  mainyard sign-out 3f9a11c2\n  mainyard sign-out --all"
    )]
    SignOut {
        /// The session's id, as `mainyard token list` shows it.
        #[arg(required_unless_present = "all")]
        session: Option<String>,
        /// Every session, and every sign-in link that was not used.
        #[arg(long, conflicts_with = "session")]
        all: bool,
    },
    /// Make, list and remove tokens: what lets clients, programs and parts of the platform in.
    #[command(subcommand)]
    Token(Token),
    /// See everything at a glance: what needs you, what moves, what there is.
    #[command(after_help = "Example:\n  mainyard board staging\n  mainyard board staging --as-of 14:05")]
    Board {
        /// One environment only.
        environment: Option<String>,
        #[command(flatten)]
        past: Moment,
        #[command(flatten)]
        output: Output,
    },
    /// See one workload: what answers now, its releases, its replicas; or one release of it, a service or a route.
    #[command(
        after_help = "Example:\n  mainyard show staging/locker-api\n  mainyard show staging/locker-api@2\n  mainyard show service:staging/locker-api\n  mainyard show route:staging/api\n  mainyard show staging/locker-api --as-of 14:05"
    )]
    Show {
        /// The workload, as environment/name; a release, as environment/name@number; or service:environment/name, or
        /// route:environment/name.
        target: String,
        #[command(flatten)]
        past: Moment,
        #[command(flatten)]
        output: Output,
    },
    /// List a workload's releases: what each was, who made it, what became of it.
    #[command(after_help = "Example:\n  mainyard releases staging/locker-api")]
    Releases {
        /// The workload, as environment/name.
        target: String,
        #[command(flatten)]
        past: Moment,
        #[command(flatten)]
        output: Output,
    },
    /// Keep a release, however old it gets.
    #[command(
        after_help = "Example:\n  mainyard keep staging/locker-api@2\n  mainyard keep staging/locker-api@2 --no-longer"
    )]
    Keep {
        /// The release, as environment/name@number.
        release: String,
        /// It may go again when it is old.
        #[arg(long)]
        no_longer: bool,
        #[command(flatten)]
        trial: Trial,
    },
    /// See what differs between two releases, field by field.
    #[command(after_help = "Example:\n  mainyard compare staging/locker-api@1 staging/locker-api@2")]
    Compare {
        /// A release, as environment/name@number.
        from: String,
        /// The release to compare it with; also one of another workload or environment.
        to: String,
        #[command(flatten)]
        output: Output,
    },
    /// Read what a workload's replicas write.
    #[command(
        after_help = "Example:\n  mainyard logs staging/locker-api --follow\n  mainyard logs staging/locker-api --replica a0 --tail 20\n  mainyard logs staging/locker-api@7"
    )]
    Logs {
        /// The workload, as environment/name, or one of its releases, as environment/name@number. Of a release that went
        /// back, the last 1,000 lines of each replica are kept for as long as the release is.
        target: String,
        /// Go on with what comes.
        #[arg(long, short)]
        follow: bool,
        /// One replica only, by its short name.
        #[arg(long)]
        replica: Option<String>,
        /// How many lines of what is there.
        #[arg(long, default_value_t = 100)]
        tail: u32,
        /// Pass what replicas write on as it is, with everything that a terminal takes for commands.
        #[arg(long)]
        raw: bool,
        #[command(flatten)]
        output: Output,
    },
    /// See what replicas used in the last seven days, by the kernel's figures, and which limits would fit.
    #[command(
        after_help = "Example:\n  mainyard stats staging/locker-api\n  mainyard stats staging/locker-api --by replica\n  mainyard stats staging/locker-api --memory \"32 MiB\""
    )]
    Stats {
        /// One workload only, as environment/name.
        target: Option<String>,
        /// By what its traffic is grouped.
        #[arg(
            long,
            value_enum,
            value_delimiter = ',',
            default_values_t = [TrafficBy::Route, TrafficBy::Release],
            requires = "target"
        )]
        by: Vec<TrafficBy>,
        /// Hold this memory limit against what was used, instead of the present one.
        #[arg(long, value_name = "SIZE", requires = "target")]
        memory: Option<String>,
        #[command(flatten)]
        output: Output,
    },
    /// Learn why an address, a workload or one request answers, or does not: down to the first true cause.
    #[command(
        after_help = "Example:\n  mainyard why http://api.staging.lockers.localhost:8780/who\n  mainyard why staging/label-printer\n  mainyard why service:staging/locker-api\n  mainyard why 01a20ada29eba411b32500171963"
    )]
    Why {
        /// A URL or host; a workload, service or route, as environment/name; or the id of a request.
        what: String,
        /// Of a workload: a destination outside, by name or address and port, which a gateway then tries to reach.
        #[arg(long, value_name = "HOST:PORT", conflicts_with_all = ["headers"])]
        to: Option<String>,
        /// Of a URL: the method.
        #[arg(long, default_value = "GET")]
        method: String,
        /// Of a URL: a header that the request has; may be given several times.
        #[arg(long = "header", value_name = "NAME: VALUE")]
        headers: Vec<String>,
        #[command(flatten)]
        output: Output,
    },
    /// Read requests as they end, until interrupted; with --json a JSON object a line.
    #[command(
        after_help = "Example:\n  mainyard requests\n  mainyard requests staging/locker-api --json > requests.jsonl"
    )]
    Requests {
        /// Of one route or workload only, as environment/name, or of one host.
        of: Option<String>,
        #[command(flatten)]
        output: Output,
    },
    /// See who did what, the newest first.
    #[command(
        after_help = "Example:\n  mainyard trail staging/locker-api\n  mainyard trail --in staging --by mira --from 09:00\n  mainyard trail staging/locker-api --platform"
    )]
    Trail(Trail),
    /// Set how many replicas a workload has, how much each may use, or both, and follow until they are ready.
    #[command(
        after_help = "Example:\n  mainyard scale staging/locker-api 100\n  mainyard scale staging/locker-api --memory \"256 MiB\" --cpu 0.5"
    )]
    Scale {
        /// The workload, as environment/name.
        target: String,
        /// How many; as many as now where it is left out.
        #[arg(required_unless_present_any = ["memory", "cpu", "by_load"])]
        replicas: Option<u32>,
        /// Let the number follow the load again, as its file declares.
        #[arg(long, conflicts_with = "replicas")]
        by_load: bool,
        #[command(flatten)]
        limits: LimitOptions,
        #[command(flatten)]
        wait: Wait,
    },
    /// Move a workload to another image or other settings, and follow to the verdict.
    #[command(
        after_help = "Example:\n  mainyard deploy staging/locker-api --image lockers/locker-api:1.5.0\n  mainyard deploy staging/locker-api --set LOG_LEVEL=debug\n  mainyard deploy staging/locker-api --image lockers/locker-api:1.5.0 --forecast"
    )]
    Deploy {
        /// The workload, as environment/name.
        target: String,
        /// The image, as name:tag.
        #[arg(long, value_name = "IMAGE")]
        image: Option<String>,
        /// A setting to change; may be given several times.
        #[arg(long = "set", value_name = "K=V")]
        settings: Vec<String>,
        /// A setting that takes the newest value of a secret; may be given several times.
        #[arg(long = "set-secret", value_name = "K=SECRET")]
        secrets: Vec<String>,
        #[command(flatten)]
        limits: LimitOptions,
        #[command(flatten)]
        wait: Wait,
    },
    /// Carry what was tested in one environment to another: the very image, by its digest, and its settings.
    #[command(
        after_help = "Example:\n  mainyard promote staging/locker-api --to production --forecast\n  mainyard promote staging/locker-api --to production\n  mainyard promote staging/locker-api --to production --as-commit --push"
    )]
    Promote {
        /// The workload that was tested, as environment/name.
        target: String,
        /// The environment that it goes to.
        #[arg(long, value_name = "ENVIRONMENT")]
        to: String,
        /// Write the commit with which Git declares it there, instead of declaring it.
        #[arg(long, conflicts_with_all = ["no_wait", "forecast"])]
        as_commit: bool,
        /// Push that commit.
        #[arg(long, requires = "as_commit")]
        push: bool,
        /// As this branch.
        #[arg(long, requires = "push")]
        branch: Option<String>,
        #[command(flatten)]
        wait: Wait,
    },
    /// Take a workload back to an earlier release, and follow to the verdict.
    #[command(
        after_help = "Example:\n  mainyard rollback staging/locker-api\n  mainyard rollback staging/locker-api --to staging/locker-api@2"
    )]
    Rollback {
        /// The workload, as environment/name.
        target: String,
        /// The release to equal: its number, or environment/name@number.
        #[arg(long, value_name = "RELEASE", conflicts_with = "at")]
        to: Option<String>,
        /// Or the release that ran at this time: 14:00, or 2026-11-23 14:00, or with a time zone.
        #[arg(long, value_name = "TIME")]
        at: Option<String>,
        #[command(flatten)]
        wait: Wait,
    },
    /// Send a rollout on: to its next step, or despite what was found.
    #[command(after_help = "Example:\n  mainyard advance staging/locker-api")]
    Advance {
        /// The workload, as environment/name.
        target: String,
        #[command(flatten)]
        wait: Wait,
    },
    /// Take a rollout that is under way back to the previous release.
    #[command(after_help = "Example:\n  mainyard cancel staging/locker-api")]
    Cancel {
        /// The workload, as environment/name.
        target: String,
        #[command(flatten)]
        wait: Wait,
    },
    /// Mark a workload: nothing automatic moves it until it is resumed.
    #[command(
        after_help = "Example:\n  mainyard hold staging/locker-api --because \"the couriers are counting parcels\""
    )]
    Hold {
        /// The workload, as environment/name.
        target: String,
        /// Why; anyone who meets the mark reads it.
        #[arg(long, value_name = "REASON")]
        because: String,
        #[command(flatten)]
        trial: Trial,
    },
    /// Take the mark of `hold` away; a rollout goes on.
    #[command(after_help = "Example:\n  mainyard resume staging/locker-api")]
    Resume {
        /// The workload, as environment/name.
        target: String,
        #[command(flatten)]
        wait: Wait,
    },
    /// Put fresh replicas of the same release in the place of those that run.
    #[command(after_help = "Example:\n  mainyard restart staging/locker-api")]
    Restart {
        /// The workload, as environment/name.
        target: String,
        #[command(flatten)]
        wait: Wait,
    },
    /// Have every gateway forget the answers that it keeps of a route (`cache`).
    #[command(
        after_help = "Example:\n  mainyard purge staging/lockers\n  mainyard purge staging/lockers --path /pictures"
    )]
    Purge {
        /// The route, as environment/name.
        route: String,
        /// This path alone, with everything below it.
        #[arg(long, default_value = "/", value_name = "PATH")]
        path: String,
    },
    /// Take a replica out of service for study; a new one replaces it.
    #[command(
        after_help = "Example:\n  mainyard set-aside staging/locker-api/a0\n  mainyard set-aside staging/locker-api/a0 --lasts 4h\n  mainyard set-aside staging/locker-api/a0 --end"
    )]
    SetAside {
        /// The replica, as environment/workload/replica.
        replica: String,
        /// How long it stays; up to 24h.
        #[arg(long, value_name = "TIME", default_value = "1h")]
        lasts: String,
        /// End it now.
        #[arg(long, conflicts_with = "lasts")]
        end: bool,
        #[command(flatten)]
        trial: Trial,
    },
    /// Remove a workload, its own service and the routes that lead only there.
    #[command(after_help = "Example:\n  mainyard remove staging/label-printer")]
    Remove {
        /// The workload, as environment/name.
        target: String,
        /// Don't ask.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        trial: Trial,
    },
    /// Make what files declare so, all of it or nothing.
    #[command(
        after_help = "Example:\n  mainyard declare mainyard.toml --in staging\n  mainyard declare mainyard.toml --in staging --forecast\n  mainyard declare kiosk.toml --in staging --as kiosk-north"
    )]
    Declare {
        /// Files, or directories of files that end in .toml.
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// The environment.
        #[arg(long = "in", value_name = "ENVIRONMENT")]
        environment: Option<String>,
        /// Also remove what the application no longer declares.
        #[arg(long)]
        exact: bool,
        /// Under this name instead of its own, so that it can be there several times.
        #[arg(long = "as", value_name = "NAME")]
        named: Option<String>,
        #[command(flatten)]
        wait: Wait,
    },
    /// Make a workload, a service or a route without a file.
    #[command(subcommand)]
    Add(Add),
    /// Check files without a platform.
    #[command(after_help = "Example:\n  mainyard validate mainyard.toml")]
    Validate {
        /// Files, or directories of files that end in .toml.
        #[arg(required = true)]
        files: Vec<PathBuf>,
        #[command(flatten)]
        output: Output,
    },
    /// Print the JSON Schema of mainyard.toml.
    #[command(after_help = "Example:\n  mainyard schema > mainyard.schema.json")]
    Schema,
    /// Build an image from a folder with code and a recipe, and follow to the end; or see what was built.
    #[command(
        after_help = "Example:\n  mainyard build ./survey-form\n  mainyard build list\n  mainyard build show 7"
    )]
    Build(Box<Build>),
    /// Recipes: how images are made from code.
    #[command(subcommand)]
    Recipe(RecipeCommand),
    /// Write a folder with code to begin with: a small program, a first test, its recipe and its declaration.
    #[command(
        after_help = "Example:\n  mainyard new survey --like python\n  mainyard send survey --in staging"
    )]
    New(New),
    /// Build a folder with code, declare its mainyard.toml with the image, and follow to the verdict.
    #[command(
        after_help = "Example:\n  mainyard send ./survey-form --in staging\n  mainyard send ./survey-form --in staging --forecast"
    )]
    Send(Box<Send>),
    /// Repositories of code that live here: a push builds the code and rolls it out.
    #[command(subcommand)]
    Code(CodeCommand),
    /// Keys that you push and clone code with over ssh.
    #[command(subcommand)]
    Key(KeyCommand),
    /// What happens on a connection over ssh; the platform itself calls it.
    #[command(subcommand, hide = true)]
    Ssh(SshStep),
    /// Images in the platform's store.
    #[command(subcommand)]
    Image(Image),
    /// Registries outside that images are pulled from.
    #[command(subcommand)]
    Registry(Registry),
    /// Certificate authorities outside that certificates are obtained from (ACME).
    #[command(subcommand)]
    Authority(AuthorityCommand),
    /// Values that are given to workloads and never shown again.
    #[command(subcommand)]
    Secret(Secret),
    /// See and remove what was declared together.
    #[command(subcommand)]
    Application(Application),
    /// Write files that declare what is here, for another platform or for Git.
    #[command(
        after_help = "Example:\n  mainyard export staging -o ./deploy\n  mainyard export staging/locker-api -o ./deploy"
    )]
    Export(Export),
    /// Follow folders of Git repositories.
    #[command(subcommand)]
    Source(SourceCommand),
    /// Chains and keys that hosts are served with over TLS.
    #[command(subcommand)]
    Certificate(Certificate),
    /// Places to run things.
    #[command(subcommand)]
    Environment(Environment),
    /// Make an environment the default: `locker-api` then means `staging/locker-api`. Without a name, show which it is.
    #[command(after_help = "Example:\n  mainyard use staging\n  mainyard use\n  mainyard use --none")]
    Use {
        /// The environment.
        environment: Option<String>,
        /// Have no default any more.
        #[arg(long, conflicts_with = "environment")]
        none: bool,
    },
    /// Print completions for a shell.
    #[command(after_help = "Example:\n  mainyard completions bash > /etc/bash_completion.d/mainyard")]
    Completions {
        /// Which shell.
        shell: clap_complete::Shell,
    },
}

/// Prints a shell's completions.
pub(crate) fn completions(shell: clap_complete::Shell) {
    let mut text = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "mainyard", &mut text);
    print!("{}", String::from_utf8_lossy(&text));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_well_formed() {
        Arguments::command().debug_assert();
    }

    #[test]
    fn every_command_has_an_example() {
        fn look(command: &clap::Command) {
            for inner in
                command.get_subcommands().filter(|inner| !inner.is_hide_set() && inner.get_name() != "help")
            {
                let help = inner.get_after_help().map(ToString::to_string).unwrap_or_default();
                let has = help.contains("Example:") || inner.has_subcommands();
                assert!(has, "{} has no example", inner.get_name());
                look(inner);
            }
        }
        look(&Arguments::command());
    }
}
