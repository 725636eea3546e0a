//! Repositories of code that live on the platform: seen, cloned, connected, removed.

use std::io::BufRead;
use std::path::{Path, PathBuf};
use std::process::Command;

use mainyard_api::{CodeView, ListCode, NoPath, NoQuery, OfTarget, RemoveCode, ShowCode};
use mainyard_builds::DeliveryState;
use mainyard_core::model::{Signal, Target};
use mainyard_core::untrusted_text::visible_lines;

use super::parse_target;
use crate::args::{CodeCommand, Output};
use crate::client::{AUTHORITY, Client};
use crate::data_dir::DataDir;
use crate::output;
use crate::show::{print, table};
use crate::terminal::{Failure, age, shape};

/// The member's name that Git is told; the token says who it is.
const USER: &str = "token";

pub(super) async fn run(client: &Client, place: &DataDir, what: CodeCommand) -> Result<(), Failure> {
    match what {
        CodeCommand::List { output } => list(client, output).await,
        CodeCommand::Show { target, output } => show(client, &parse_target(&target)?, output).await,
        CodeCommand::Clone { target, folder } => {
            let target = parse_target(&target)?;
            // A name that is not there is told before anything is written.
            let view = client.ask::<ShowCode>(OfTarget::from(&target), NoQuery {}).await?;
            let folder = folder.unwrap_or_else(|| PathBuf::from(target.name.as_str()));
            clone(client, place, &view, &folder)
        }
        CodeCommand::Connect { target, folder, remote } => {
            let target = parse_target(&target)?;
            client.ask::<ListCode>(NoPath {}, NoQuery {}).await?;
            connect(client, place, &target, &folder, &remote)
        }
        CodeCommand::Remove { target, yes } => remove(client, &parse_target(&target)?, yes).await,
        CodeCommand::Credential { operation } => answer_git(client, &operation),
    }
}

/// How the newest commit fares: a mark and words.
fn newest(view: &CodeView) -> (Signal, String) {
    let Some(delivery) = &view.repository.delivery else { return (Signal::Rest, "no commit yet".to_owned()) };
    let signal = match delivery.state {
        DeliveryState::Building => Signal::Moving,
        DeliveryState::Failed => Signal::Fault,
        DeliveryState::Replaced => Signal::Caution,
        DeliveryState::Declared | DeliveryState::Built => Signal::Good,
    };
    let short: String = delivery.commit.chars().take(12).collect();
    (signal, format!("{short} {}", visible_lines(&delivery.subject)))
}

async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let all = client.ask::<ListCode>(NoPath {}, NoQuery {}).await?;
    if output.json {
        output::json(&all);
        return Ok(());
    }
    if all.is_empty() {
        println!("no code lives here; in a repository of yours: mainyard code connect ENVIRONMENT/NAME");
        return Ok(());
    }
    let mut rows = table(&["CODE", "BRANCH", "STATE", "NEWEST COMMIT", "PUSHED"]);
    for view in &all {
        let (signal, words) = newest(view);
        let state = view.repository.delivery.as_ref().map_or("-", |delivery| delivery.state.word());
        let ago = age(jiff::Timestamp::now().duration_since(view.repository.pushed));
        rows.add_row([
            view.repository.target.to_string(),
            view.repository.branch.clone(),
            format!("{} {state}", shape(signal)),
            words,
            format!("{ago} ago by {}", view.repository.by),
        ]);
    }
    print(&rows);
    Ok(())
}

async fn show(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let view = client.ask::<ShowCode>(OfTarget::from(target), NoQuery {}).await?;
    if output.json {
        output::json(&view);
        return Ok(());
    }
    let (signal, words) = newest(&view);
    println!("{target}  {} {words}", shape(signal));
    if let Some(delivery) = &view.repository.delivery {
        println!("  {}: {}", delivery.state.word(), delivery.says.replace('\n', "\n  "));
        if !delivery.builds.is_empty() {
            println!(
                "  {}; read it with: mainyard build logs {}",
                delivery.builds_words(),
                delivery.builds[0]
            );
        }
    }
    println!("  {} is rolled out to {}", view.repository.branch, target.environment);
    for (name, id) in &view.repository.refs {
        let name = name.trim_start_matches("refs/heads/").trim_start_matches("refs/");
        println!("  {name}  {}", id.get(..12).unwrap_or(id));
    }
    for address in &view.addresses {
        println!("  open {address}");
    }
    println!("  clone it: mainyard code clone {target}");
    println!("  its address for Git: {}{}", client.url(), view.path);
    if let Some(address) = &view.ssh {
        println!("  over ssh: {address}");
    }
    Ok(())
}

/// What Git is told so that it signs in through this client.
fn settings(client: &Client, place: &DataDir) -> Result<Vec<(String, String)>, Failure> {
    let program = std::env::current_exe()
        .map_err(|error| Failure::failed(format!("this program is not found: {error}")))?;
    let quoted = |path: &Path| format!("'{}'", path.display().to_string().replace('\'', "'\\''"));
    let url = client.url();
    let data = std::path::absolute(&place.data).unwrap_or_else(|_| place.data.clone());
    let helper = format!("!{} --data {} --url '{url}' code credential", quoted(&program), quoted(&data));
    let mut settings = vec![
        // Helpers of the machine are not asked, and are not given the token to keep.
        (format!("credential.{url}.helper"), String::new()),
        (format!("credential.{url}.helper"), helper),
    ];
    if let Some(authority) = std::env::var_os(AUTHORITY) {
        let file = std::path::absolute(&authority).unwrap_or_else(|_| authority.into());
        settings.push((format!("http.{url}.sslCAInfo"), file.display().to_string()));
    }
    Ok(settings)
}

fn git(words: &[&str]) -> Result<(), Failure> {
    let done = Command::new("git").args(words).status();
    let done = done.map_err(|error| Failure::failed(format!("git cannot be run: {error}")))?;
    // Its own words are on the terminal already.
    if done.success() { Ok(()) } else { Err(Failure::said()) }
}

fn clone(client: &Client, place: &DataDir, view: &CodeView, folder: &Path) -> Result<(), Failure> {
    let (address, to) = (format!("{}{}", client.url(), view.path), folder.display().to_string());
    let mut words = vec!["clone".to_owned()];
    for (key, value) in settings(client, place)? {
        words.extend(["--config".to_owned(), format!("{key}={value}")]);
    }
    words.extend(["--".to_owned(), address, to]);
    git(&words.iter().map(String::as_str).collect::<Vec<_>>())?;
    println!("{}: change it, commit, and roll it out with: git push", folder.display());
    Ok(())
}

fn connect(
    client: &Client,
    place: &DataDir,
    target: &Target,
    folder: &Path,
    remote: &str,
) -> Result<(), Failure> {
    let to = folder.display().to_string();
    let is_repository = Command::new("git").args(["-C", &to, "rev-parse", "--git-dir"]).output();
    if !is_repository.is_ok_and(|done| done.status.success()) {
        return Err(Failure::usage(format!("{to} is no repository of Git; make it one with: git init {to}")));
    }
    let address = format!("{}/code/{}/{}", client.url(), target.environment, target.name);
    let known = Command::new("git").args(["-C", &to, "remote", "get-url", remote]).output();
    let verb = if known.is_ok_and(|done| done.status.success()) { "set-url" } else { "add" };
    git(&["-C", &to, "remote", verb, remote, &address])?;
    let helper = format!("credential.{}.helper", client.url());
    // It may be connected already, with another data directory.
    let _ = Command::new("git").args(["-C", &to, "config", "--unset-all", &helper]).output();
    for (key, value) in settings(client, place)? {
        git(&["-C", &to, "config", "--add", &key, &value])?;
    }
    println!("{to} is connected: git push {remote} main rolls it out to {}", target.environment);
    Ok(())
}

async fn remove(client: &Client, target: &Target, yes: bool) -> Result<(), Failure> {
    if !yes {
        return Err(Failure::usage(format!(
            "{target} goes with its history, and what it declared stays; to do it: mainyard code remove {target} --yes"
        )));
    }
    client.send(client.request::<RemoveCode>(&OfTarget::from(target), &NoQuery {})).await?;
    println!("{target}: the code was removed; what it declared stays");
    Ok(())
}

/// Gives the token to Git, for the platform's own address and no other.
fn answer_git(client: &Client, operation: &str) -> Result<(), Failure> {
    if operation != "get" {
        return Ok(());
    }
    let asked: Vec<String> = std::io::stdin().lock().lines().map_while(Result::ok).collect();
    let value = |key: &str| asked.iter().find_map(|line| line.strip_prefix(key)?.strip_prefix('='));
    let address =
        format!("{}://{}", value("protocol").unwrap_or_default(), value("host").unwrap_or_default());
    if address == client.url() {
        println!("username={USER}\npassword={}", client.token());
    }
    Ok(())
}
