//! Secrets: values go in by standard input and never come out.

use std::collections::BTreeMap;
use std::io::{IsTerminal, Read};

use mainyard_api::{
    AddSecret, Done, KeyRotated, ListSecrets, NoPath, NoQuery, OfEnvironment, OfTarget, RemoveSecret,
    RotateKey, SecretEntry, ShowPublicKey,
};
use mainyard_core::cluster::MadeRelease;
use mainyard_core::commands::SecretsAdded;
use mainyard_core::model::{Name, Origin, SECRET_LIMIT, Secret, Target};
use mainyard_sealing::open_format;

use super::{forecast, parse_name};
use crate::args::{Output, Trial, Wait};
use crate::client::Client;
use crate::show::{print, table};
use crate::terminal::{Failure, age, count};
use crate::{output, progress};

pub(super) async fn add(
    client: &Client,
    target: &Target,
    keep_newline: bool,
    wait: Wait,
) -> Result<(), Failure> {
    let value = read_value(target, "add", keep_newline)?;
    let query = forecast::query(&wait.trial)?;
    let request = client.request::<AddSecret>(&OfTarget::from(target), &query).body(value);
    let done: Done<SecretsAdded> = forecast::read(client, request, &wait.trial).await?;
    let SecretsAdded { version, releases, held } = &done.outcome;
    let used = if releases.is_empty() && held.is_empty() { "; nothing follows it yet" } else { "" };
    println!("{}{target}: version {version}{used}", forecast::mark(&wait.trial));
    for MadeRelease { workload, release } in releases {
        println!("  ~ workload {workload}  makes release {release}");
    }
    for workload in held {
        println!(
            "  ! workload {workload} is on hold and keeps its version; `mainyard resume {workload}` moves it to this one"
        );
    }
    forecast::print(&done);
    if wait.no_wait || wait.trial.forecast {
        return Ok(());
    }
    for MadeRelease { workload, release } in releases {
        progress::rollout(client, workload, *release).await?;
    }
    Ok(())
}

/// The key to which values for an environment are encrypted.
pub(super) async fn public_key(client: &Client, environment: &str) -> Result<String, Failure> {
    let path = OfEnvironment { environment: parse_name(environment)? };
    Ok(client.ask::<ShowPublicKey>(path, NoQuery {}).await?.public_key)
}

/// Prints a value as a file in Git may have it: only the platform can open it.
pub(super) async fn encrypt(client: &Client, target: &Target, keep_newline: bool) -> Result<(), Failure> {
    let key = public_key(client, target.environment.as_str()).await?;
    let value = read_value(target, "encrypt", keep_newline)?;
    let text = open_format::encrypt(&key, &value).map_err(|error| Failure::failed(error.to_string()))?;
    println!("[in.{}.secret.{}]\nage = \"\"\"\n{}\n\"\"\"", target.environment, target.name, text.trim());
    Ok(())
}

/// The value, from standard input only: an argument would be in the list of processes and in the shell's history.
fn read_value(target: &Target, act: &str, keep_newline: bool) -> Result<Vec<u8>, Failure> {
    let mut stdin = std::io::stdin().lock();
    let hidden = if stdin.is_terminal() {
        eprintln!("value of {target}, not shown; end it with Enter and Ctrl-D:");
        Some(Unseen::begin())
    } else {
        None
    };
    let mut value = Vec::new();
    let read = stdin.by_ref().take(SECRET_LIMIT as u64 + 3).read_to_end(&mut value);
    drop(hidden);
    read.map_err(|error| Failure::usage(format!("standard input cannot be read: {error}")))?;
    if !keep_newline && value.ends_with(b"\n") {
        value.pop();
        if value.ends_with(b"\r") {
            value.pop();
        }
    }
    if value.is_empty() {
        let example = format!("mainyard secret {act} {target} < FILE");
        return Err(Failure::usage(format!("standard input holds no value; give it so: {example}")));
    }
    if value.len() > SECRET_LIMIT {
        return Err(Failure::refused(format!("the value is longer than {SECRET_LIMIT} bytes")));
    }
    Ok(value)
}

/// A terminal that does not show what is typed, until this is dropped.
pub(super) struct Unseen(Option<libc::termios>);

impl Unseen {
    pub(super) fn begin() -> Unseen {
        // SAFETY: the structure is the library's, and it fills it before it is used.
        unsafe {
            let mut before: libc::termios = std::mem::zeroed();
            if libc::tcgetattr(0, &mut before) != 0 {
                return Unseen(None);
            }
            let mut quiet = before;
            quiet.c_lflag &= !libc::ECHO;
            libc::tcsetattr(0, libc::TCSANOW, &quiet);
            Unseen(Some(before))
        }
    }
}

impl Drop for Unseen {
    fn drop(&mut self) {
        if let Some(before) = &self.0 {
            // SAFETY: these are the settings that the terminal had.
            unsafe { libc::tcsetattr(0, libc::TCSANOW, before) };
        }
    }
}

pub(super) async fn list(
    client: &Client,
    environment: Option<String>,
    output: Output,
) -> Result<(), Failure> {
    let all = client.ask::<ListSecrets>(NoPath {}, NoQuery {}).await?;
    let snapshot = client.snapshot().await?;
    if let Some(wanted) = &environment
        && !snapshot.state.environments.keys().any(|name| name.as_str() == wanted)
    {
        let hint = mainyard_core::suggestions::did_you_mean(
            wanted,
            snapshot.state.environments.keys().map(Name::as_str),
        );
        return Err(Failure::refused(format!("there is no environment {wanted}{hint}")));
    }
    let here = |entry: &&SecretEntry| {
        environment.as_ref().is_none_or(|wanted| entry.secret.split('/').next() == Some(wanted.as_str()))
    };
    let entries: Vec<&SecretEntry> = all.iter().filter(here).collect();
    if output.json {
        output::json(&entries);
        return Ok(());
    }
    if entries.is_empty() {
        println!("there is no secret; add one with: mainyard secret add staging/NAME < FILE");
        return Ok(());
    }
    let mut rows = table(&["SECRET", "VERSION", "CHANGED", "USED BY"]);
    for entry in entries {
        let newest = entry.versions.iter().next_back();
        let (number, changed) =
            newest.map(|(number, version)| (*number, ago(&version.origin))).unwrap_or_default();
        rows.add_row([entry.secret.clone(), number.to_string(), changed, users(entry)]);
    }
    print(&rows);
    Ok(())
}

fn users(entry: &SecretEntry) -> String {
    if entry.used_by.is_empty() { "nothing".to_owned() } else { entry.used_by.join(", ") }
}

fn ago(origin: &Origin) -> String {
    format!("{} ago by {}", age(jiff::Timestamp::now().duration_since(origin.at)), origin.by)
}

pub(super) async fn show(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let all = client.ask::<ListSecrets>(NoPath {}, NoQuery {}).await?;
    let wanted = target.to_string();
    let Some(entry) = all.iter().find(|entry| entry.secret == wanted) else {
        let here = all.iter().filter_map(|entry| entry.secret.split_once('/'));
        let names =
            here.filter(|(environment, _)| *environment == target.environment.as_str()).map(|(_, name)| name);
        let hint = mainyard_core::suggestions::did_you_mean(target.name.as_str(), names);
        return Err(Failure::refused(format!("there is no secret {target}{hint}")));
    };
    if output.json {
        output::json(entry);
        return Ok(());
    }
    println!("{target}, used by {}; no value is ever shown", users(entry));
    let state = client.snapshot().await?.state;
    let Some(secret) = state.secrets.get(target) else { return Ok(()) };
    let mut rows = table(&["VERSION", "KIND", "ADDED", "IN RELEASES"]);
    for (number, version) in secret.versions.iter().rev() {
        let kind = if version.text { "text" } else { "bytes, for a file" };
        let releases = in_releases(&state, secret, *number);
        rows.add_row([number.to_string(), kind.to_owned(), ago(&version.origin), releases]);
    }
    print(&rows);
    Ok(())
}

fn in_releases(state: &mainyard_core::record::State, secret: &Secret, version: u32) -> String {
    let here = state.releases.values().filter(|release| {
        release.workload.environment == secret.target.environment
            && release
                .secret_keys()
                .iter()
                .any(|key| key.secret == secret.target.name && key.version == version)
    });
    let mut numbers: BTreeMap<&Target, Vec<u32>> = BTreeMap::new();
    here.for_each(|release| numbers.entry(&release.workload).or_default().push(release.number.0));
    let words = numbers.into_iter().map(|(workload, numbers)| {
        let few: Vec<String> = numbers.iter().rev().take(3).map(u32::to_string).collect();
        let more = numbers.len().saturating_sub(3);
        let more = if more > 0 { format!(" and {} older", count(more, "release")) } else { String::new() };
        format!("{}@{}{more}", workload.name, few.join(", "))
    });
    let words: Vec<String> = words.collect();
    if words.is_empty() { "none".to_owned() } else { words.join("; ") }
}

pub(super) async fn remove(client: &Client, target: &Target, trial: &Trial) -> Result<(), Failure> {
    let done = forecast::act::<RemoveSecret, _>(client, OfTarget::from(target), trial).await?;
    forecast::print_gone(&done.outcome, trial);
    Ok(())
}

pub(super) async fn rotate_key(client: &Client, trial: &Trial) -> Result<(), Failure> {
    let KeyRotated { key, sealed_anew } = forecast::act::<RotateKey, _>(client, NoPath {}, trial).await?;
    let values = count(sealed_anew as usize, "value");
    match key {
        None => println!("{}{values} sealed again under a new key", forecast::mark(trial)),
        Some(key) => println!("{values} sealed again under the new key {key}; the previous one is gone"),
    }
    Ok(())
}
