//! Sources: folders of Git repositories that environments follow.

use std::time::Duration;

use comfy_table::Cell;
use mainyard_api::{
    BuildSource, CatchUpWithSource, ChangeSource, CompareSource, HoldSource, ListSources, LookAtSource,
    LookOutcome, NewCatchUp, NewHold, NewPromotionInGit, NewSourceBuild, NewWriteBack, NoPath, NoQuery,
    OfTarget, PromoteInGit, RemoveSource, ResumeSource, ShowSource, SourceDifferences, WrittenCommit,
};
use mainyard_core::cluster::NewSource;
use mainyard_core::commands::CaughtUp;
use mainyard_core::completion::{SourceOutcome, source_outcome};
use mainyard_core::model::{
    BuiltFrom, CodeRule, Commit, FollowRule, ReasonCode, RuleChange, Signal, Source, SourceCredential,
    SourceState, Target,
};
use mainyard_core::untrusted_text::visible;
use serde_json::json;

use super::change_list::print_lines;
use super::{builds, forecast, parse_name, parse_target};
use crate::args::{AddSource, Output, SourceCommand, SourceRule, Wait};
use crate::client::Client;
use crate::show::{coloured, print, table};
use crate::terminal::{Failure, Paint, age, count, shape};
use crate::{data_dir, output, show, times};

pub(super) async fn run(client: &Client, what: SourceCommand) -> Result<(), Failure> {
    use SourceCommand::{
        Add, Build, CatchUp, Change, Check, Compare, Hold, List, Look, Remove, Resume, Show, WriteBack,
    };
    match what {
        Add(new) => add(client, *new).await,
        List { past, output } => list(&client.clone().at(&past)?, output).await,
        Show { source, past, output } => {
            show(&client.clone().at(&past)?, &parse_target(&source)?, output).await
        }
        Compare { source, output } => compare(client, &parse_target(&source)?, output).await,
        Look { source, no_wait } => {
            let target = parse_target(&source)?;
            let looked = client.ask::<LookAtSource>(OfTarget::from(&target), NoQuery {}).await?;
            match say_looked(client, &target, looked).await? {
                SourceState::Refused => {
                    return Err(Failure::refused(format!("{target}: nothing of the commit was taken")));
                }
                SourceState::Unreachable => return Err(Failure::failed(format!("{target} cannot be read"))),
                _ => {}
            }
            if no_wait || read(client, &target).await?.state != SourceState::CatchingUp {
                return Ok(());
            }
            until_there(client, &target).await
        }
        CatchUp { source, to, remove, wait } => {
            catch_up(client, &parse_target(&source)?, to, remove, &wait).await
        }
        Change { source, rule, trial } => {
            let target = parse_target(&source)?;
            let (path, change) = (OfTarget::from(&target), change(&rule)?);
            let done = forecast::act_with::<ChangeSource, _, _>(client, path, &change, &trial).await?;
            println!("{}{target}: {}", forecast::mark(&trial), rule_words(&done.outcome.rule));
            Ok(())
        }
        Build { source, at, no_wait } => build(client, &parse_target(&source)?, at, no_wait).await,
        Check { source } => check(client, &parse_target(&source)?).await,
        Hold { source, because, trial } => {
            let target = parse_target(&source)?;
            let (path, body) = (OfTarget::from(&target), NewHold { because });
            let done = forecast::act_with::<HoldSource, _, _>(client, path, &body, &trial).await?;
            println!("{}{target} is held: {}", forecast::mark(&trial), done.outcome.words);
            Ok(())
        }
        Resume { source, wait } => {
            let (target, trial) = (parse_target(&source)?, &wait.trial);
            let done = forecast::act::<ResumeSource, _>(client, OfTarget::from(&target), trial).await?;
            println!("{}{target} follows Git again", forecast::mark(trial));
            for words in &done.outcome.words {
                println!("  {words}");
            }
            follow(client, &target, &wait).await
        }
        WriteBack { source, push, branch, output } => {
            let target = parse_target(&source)?;
            let (path, body) = (OfTarget::from(&target), NewWriteBack { branch, push });
            let written = client.ask_with::<mainyard_api::WriteBack, _>(path, NoQuery {}, &body).await?;
            if output.json {
                output::json(&written);
            } else {
                say_written(&target, &written, &format!("mainyard source write-back {target} --push"));
            }
            Ok(())
        }
        Remove { source, trial } => {
            let target = parse_target(&source)?;
            let done = forecast::act::<RemoveSource, _>(client, OfTarget::from(&target), &trial).await?;
            println!("{}{target} is no longer followed", forecast::mark(&trial));
            for words in &done.outcome.stays {
                println!("  {words}");
            }
            Ok(())
        }
    }
}

/// Changes to a rule, as they were written.
fn change(rule: &SourceRule) -> Result<RuleChange, Failure> {
    let look_every = rule.look_every.as_deref().map(|text| {
        text.parse().map_err(|expected| Failure::usage(format!("--look-every {text}: expected {expected}")))
    });
    Ok(RuleChange {
        look_every: look_every.transpose()?,
        git_newer: rule.git_newer.map(Into::into),
        live_changed: rule.live_changed.map(Into::into),
        gone_from_git: rule.gone_from_git.map(Into::into),
        remove_at_most: rule.remove_at_most,
    })
}

/// Each key with its value, as JSON writes it.
fn rule_words(rule: &FollowRule) -> String {
    let written = json!(rule);
    let keys = ["look_every", "git_newer", "live_changed", "gone_from_git", "remove_at_most"];
    let shown = keys.iter().map(|key| format!("{key} = {}", written[*key]));
    shown.collect::<Vec<_>>().join(", ")
}

async fn add(client: &Client, new: AddSource) -> Result<(), Failure> {
    let AddSource { name, repository: url, at, folder, environment, token, user, key, known_hosts, .. } = new;
    let AddSource { named, authority, pushes, rule, trial, code, paths, .. } = new;
    let name = match (name.contains('/'), environment.or_else(data_dir::default_environment)) {
        (true, _) => name,
        (false, Some(environment)) => format!("{environment}/{name}"),
        (false, None) => {
            let message =
                "say for which environment: --in staging, or choose a default: mainyard use staging";
            return Err(Failure::usage(message));
        }
    };
    let target = parse_target(&name)?;
    let known_hosts = known_hosts.map(|file| {
        std::fs::read_to_string(&file)
            .map_err(|error| Failure::usage(format!("cannot read {}: {error}", file.display())))
    });
    let let_in = match (token, key, known_hosts.transpose()?) {
        (Some(secret), ..) => Some(SourceCredential::Token { secret: parse_name(&secret)?, user }),
        (None, Some(secret), Some(known_hosts)) => {
            Some(SourceCredential::Key { secret: parse_name(&secret)?, known_hosts })
        }
        _ => None,
    };
    let name = |text: Option<String>| text.as_deref().map(parse_name).transpose();
    let code = code.then_some(CodeRule { paths });
    let body = NewSource {
        code,
        url: url.clone(),
        at: Some(at.clone()),
        folder: Some(folder),
        named: name(named)?,
        let_in,
        authority: name(authority)?,
        pushes: name(pushes)?,
        rule: FollowRule::default().with(&change(&rule)?),
    };
    let path = OfTarget::from(&target);
    let done = forecast::act_with::<mainyard_api::AddSource, _, _>(client, path, &body, &trial).await?;
    println!("{}{target} follows {at} of {url}", forecast::mark(&trial));
    match done.outcome.looked {
        Some(looked) => say_looked(client, &target, looked).await.map(drop),
        None => Ok(()),
    }
}

async fn say_looked(client: &Client, target: &Target, looked: LookOutcome) -> Result<SourceState, Failure> {
    if let LookOutcome::Failed(failed) = looked {
        return Err(Failure::failed(format!("{target} cannot be read: {failed}")));
    }
    let source = read(client, target).await?;
    println!("{}", state_line(&source));
    for line in &source.differs {
        println!("  {line}");
    }
    // The first is in the state's own line.
    for problem in source.problems.iter().skip(1) {
        println!("  {problem}");
    }
    if source.state == SourceState::Behind {
        let asks = source.reason.as_ref().is_some_and(|reason| reason.code == ReasonCode::RemovalAsks);
        println!("Take it with: mainyard source catch-up {target}{}", if asks { " --remove" } else { "" });
    }
    Ok(source.state)
}

/// Writes the commit with which Git declares in another environment what was tested.
pub(super) async fn promote(
    client: &Client,
    from: &Target,
    to: &str,
    push: bool,
    branch: Option<String>,
) -> Result<(), Failure> {
    let body = NewPromotionInGit { to: parse_name(to)?, branch, push };
    let written = client.ask_with::<PromoteInGit, _>(OfTarget::from(from), NoQuery {}, &body).await?;
    let Some(source) = written.source.as_deref().and_then(|source| source.parse::<Target>().ok()) else {
        let tested = written.tested.map_or_else(String::new, |number| format!("@{number}"));
        println!("{to}: Git says what was tested as {from}{tested} already");
        return Ok(());
    };
    say_written(&source, &written, &format!("mainyard promote {from} --to {to} --as-commit --push"));
    Ok(())
}

fn say_written(target: &Target, written: &WrittenCommit, push: &str) {
    let paint = Paint::stdout();
    for words in &written.left {
        println!("{} {words}", paint.signal(Signal::Caution, shape(Signal::Caution)));
    }
    let Some(commit) = &written.commit else {
        println!("{target}: Git says what is declared here; there is nothing to write");
        return;
    };
    println!("{}", paint.quiet(&format!("commit {commit}")));
    for line in written.message.as_deref().unwrap_or_default().lines() {
        println!("    {line}");
    }
    println!();
    for line in written.difference.lines() {
        let signal = match line.as_bytes().first() {
            Some(b'+') if !line.starts_with("+++") => Some(Signal::Good),
            Some(b'-') if !line.starts_with("---") => Some(Signal::Fault),
            _ => None,
        };
        println!("{}", signal.map_or_else(|| line.to_owned(), |signal| paint.signal(signal, line)));
    }
    match &written.pushed {
        Some(branch) => {
            println!("\npushed as the branch {branch}; {target} follows it once it is merged")
        }
        None => println!("\nnothing was pushed; push it with: {push}"),
    }
}

async fn read(client: &Client, target: &Target) -> Result<Source, Failure> {
    client.ask::<ShowSource>(OfTarget::from(target), client.moment()).await
}

fn state_line(source: &Source) -> String {
    let signal = source.state.signal();
    let mut line = Paint::stdout().signal(signal, &format!("{} {}", shape(signal), source.state));
    if let Some(on) = &source.catching_up {
        line.push_str(&format!(" with {}", on.commit.short()));
        if let Some(waits) = &on.waits_for {
            line.push_str(&format!(", waits for {waits}"));
        }
    }
    if let Some(builds) = source.builds.as_ref().filter(|_| source.reason.is_none()) {
        line.push_str(&format!(": {}", builds.says));
    }
    if let Some(reason) = &source.reason {
        line.push_str(&format!(": {}", reason.sentence));
    }
    if let Some(held) = &source.held {
        line.push_str(&format!(" (held: {}; {})", held.because, show::change(&held.origin)));
    }
    times::local(&line)
}

async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let sources = client.ask::<ListSources>(NoPath {}, client.moment()).await?;
    if output.json {
        output::json(&sources);
        return Ok(());
    }
    if sources.is_empty() {
        println!("no environment follows Git; let one with: mainyard source add NAME URL --in staging");
        return Ok(());
    }
    times::mark(client.as_of, true);
    let mut rows = table(&["SOURCE", "STATE", "STANDS ON", "NEWEST", "REPOSITORY", "LEAVES ALONE"]);
    for source in &sources {
        let signal = source.state.signal();
        let held = if source.held.is_some() { ", held" } else { "" };
        let state = format!("{} {}{held}", shape(signal), source.state);
        rows.add_row([
            Cell::new(&source.target),
            coloured(state, signal),
            Cell::new(source.applied.as_ref().map_or("nothing yet", Commit::short)),
            Cell::new(source.seen.as_ref().map_or("none was read", Commit::short)),
            Cell::new(format!("{} at {}", source.url, source.at)),
            Cell::new(match source.yields.len() {
                0 => "-".to_owned(),
                some => count(some, "thing"),
            }),
        ]);
    }
    print(&rows);
    Ok(())
}

/// What is built of a source that holds code, and how its images are declared.
async fn print_code(client: &Client, source: &Source, code: &CodeRule) -> Result<(), Failure> {
    let only = if code.paths.is_empty() {
        String::new()
    } else {
        format!(" that changes {}", code.paths.join(", "))
    };
    println!("builds     each new commit{only}, looked for every {}", source.rule.look_every);
    let state = client.snapshot().await?.state;
    for record in state.images.values() {
        let Some(built) = BuiltFrom::of(&record.image).filter(|built| built.source == source.target) else {
            continue;
        };
        let folder =
            if built.folder.is_empty() { String::new() } else { format!(", folder = \"{}\"", built.folder) };
        println!("declare    image = {{ source = \"{}\"{folder} }}", source.target.name);
    }
    Ok(())
}

/// Builds code at a commit, and follows each build to its end.
async fn build(client: &Client, target: &Target, at: Option<String>, no_wait: bool) -> Result<(), Failure> {
    let body = NewSourceBuild { at };
    for view in client.ask_with::<BuildSource, _>(OfTarget::from(target), NoQuery {}, &body).await? {
        let number = view.build.number;
        if no_wait {
            println!("build {number}: {}; read it with: mainyard build logs {number}", view.says);
        } else {
            builds::follow(client, number, false, true).await?;
        }
    }
    Ok(())
}

/// Tries whether the repository answers, lets the platform in, and has what is followed.
async fn check(client: &Client, target: &Target) -> Result<(), Failure> {
    let source = read(client, target).await?;
    let way = match &source.let_in {
        None => "without a credential".to_owned(),
        Some(SourceCredential::Token { secret, user }) => {
            format!("with the token of the secret {secret}, as {user}")
        }
        Some(SourceCredential::Key { secret, .. }) => format!("with the key of the secret {secret}"),
    };
    println!("{target}: {} at {}, {way}", source.url, source.at);
    match client.ask::<LookAtSource>(OfTarget::from(target), NoQuery {}).await? {
        LookOutcome::Failed(failed) => Err(Failure::failed(format!("{target} cannot be read: {failed}"))),
        LookOutcome::Commit(commit) => {
            let ago = age(jiff::Timestamp::now().duration_since(commit.at));
            let subject = visible(&commit.subject);
            println!("  it answers: {} {subject}, by {}, {ago} ago", commit.short(), visible(&commit.by));
            Ok(())
        }
    }
}

async fn show(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let source = read(client, target).await?;
    if output.json {
        output::json(&source);
        return Ok(());
    }
    times::mark(client.as_of, true);
    println!("{}  {}", Paint::stdout().strong(&target.to_string()), state_line(&source));
    let folder = if source.folder.is_empty() { String::new() } else { format!(", folder {}", source.folder) };
    println!("follows    {} at {}{folder}", source.url, source.at);
    match &source.code {
        None => println!("rule       {}", rule_words(&source.rule)),
        Some(code) => print_code(client, &source, code).await?,
    }
    if let Some(application) = &source.application {
        let own = if source.named.is_some() { ", under this name instead of its own" } else { "" };
        println!("declares   the application {application}{own}");
    }
    for held in &source.yields {
        println!("leaves     {} alone: {}", held.what, show::change(&held.origin));
    }
    if !source.yields.is_empty() {
        println!(
            "           it follows again with: mainyard resume T, or all with: mainyard source resume {target}"
        );
    }
    for line in &source.differs {
        println!("differs    {}", times::local(line));
    }
    for problem in &source.problems {
        println!("wrong      {problem}");
    }
    println!();
    let stands = |commit: &Commit| source.applied.as_ref().is_some_and(|applied| applied.id == commit.id);
    for commit in source.commits.iter().take(12) {
        let here = stands(commit);
        let sign = if here { "●" } else { "○" };
        let mark = if here { format!("  {} stands here", target.environment) } else { String::new() };
        let paint = Paint::stdout();
        let sign = if here { paint.signal(Signal::Good, sign) } else { paint.quiet(sign) };
        let when = show::moment(commit.at);
        println!("{sign} {}  {}  {}, {when}{mark}", commit.short(), commit.subject, commit.by);
    }
    Ok(())
}

async fn compare(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let compared = client.ask::<CompareSource>(OfTarget::from(target), NoQuery {}).await?;
    if output.json {
        output::json(&compared);
        return Ok(());
    }
    let SourceDifferences { commit, rows } = compared;
    if rows.is_empty() {
        println!("{target}: what {} says, what is declared here and what runs are the same", commit.short());
        return Ok(());
    }
    println!("{target}  {}  {}", commit.short(), commit.subject);
    let mut shown = table(&["OBJECT", "FIELD", "IN GIT", "DECLARED HERE", "RUNNING"]);
    for row in rows {
        let cell = |value: Option<String>| value.unwrap_or_else(|| "not there".to_owned());
        let running =
            if row.runs { row.running.unwrap_or_else(|| "nothing".to_owned()) } else { "-".to_owned() };
        shown.add_row([row.object, row.field, cell(row.git), cell(row.here), running]);
    }
    print(&shown);
    Ok(())
}

async fn catch_up(
    client: &Client,
    target: &Target,
    to: Option<String>,
    remove: bool,
    wait: &Wait,
) -> Result<(), Failure> {
    let (path, body) = (OfTarget::from(target), NewCatchUp { to, remove });
    let done = forecast::act_with::<CatchUpWithSource, _, _>(client, path, &body, &wait.trial).await?;
    let CaughtUp { commit, changes: lines } = &done.outcome;
    let mark = forecast::mark(&wait.trial);
    if lines.is_empty() {
        println!("{mark}{target}: everything is as {} says; nothing was changed", commit.short());
    } else {
        println!("{mark}{target}: {}  {}", commit.short(), commit.subject);
        print_lines(lines);
    }
    forecast::print(&done);
    follow(client, target, wait).await
}

/// Follows a source until it stands where it goes, or says why not.
pub(super) async fn follow(client: &Client, target: &Target, wait: &Wait) -> Result<(), Failure> {
    if wait.trial.forecast || wait.no_wait { Ok(()) } else { until_there(client, target).await }
}

async fn until_there(client: &Client, target: &Target) -> Result<(), Failure> {
    let mut last = String::new();
    loop {
        let source = read(client, target).await?;
        let line = state_line(&source);
        if line != last {
            println!("{line}");
            last = line;
        }
        match source_outcome(&source) {
            None => tokio::time::sleep(Duration::from_millis(100)).await,
            Some(SourceOutcome::AtRest) => return Ok(()),
            Some(SourceOutcome::SetBack) => {
                return Err(Failure::failed(format!("{target} did not take the commit")));
            }
        }
    }
}
