//! Registries outside, and images that are pulled from them.

use std::io::{IsTerminal, Read};
use std::path::Path;

use futures_util::StreamExt;
use mainyard_api::{
    AddRegistry, CheckRegistry, ImageQuery, ListPulls, ListRegistries, NewRegistry, NoPath, NoQuery,
    OfRegistry, PullImage, PullProgress, PullState, RemoveRegistry,
};
use mainyard_core::model::{Bytes, ImageRef, NameError, Signal};

use super::secrets::Unseen;
use super::{forecast, parse_name};
use crate::args::{Output, Registry};
use crate::client::Client;
use crate::output;
use crate::progress::Progress;
use crate::show::{moment, print, table};
use crate::terminal::{Failure, Paint, count, shape};

/// Longest password that is taken.
const PASSWORD: u64 = 16 << 10;

pub(super) async fn run(client: &Client, what: Registry) -> Result<(), Failure> {
    match what {
        Registry::Add { name, host, user, plain, authority, proxy, trial } => {
            let registry = parse_name(&name)?;
            let password = user.as_ref().map(|user| read_password(user, &host)).transpose()?;
            let authority = authority.as_deref().map(read_authority).transpose()?;
            let body = NewRegistry { host: host.clone(), plain, user, password, authority, proxy };
            let path = OfRegistry { registry };
            forecast::act_with::<AddRegistry, _, _>(client, path.clone(), &body, &trial).await?;
            println!(
                "{}{name}: added; images that begin with {name}/ are pulled from {host}",
                forecast::mark(&trial)
            );
            if trial.forecast { Ok(()) } else { check(client, path).await }
        }
        Registry::List { output } => list(client, output).await,
        Registry::Check { name } => check(client, OfRegistry { registry: parse_name(&name)? }).await,
        Registry::Remove { name, trial } => {
            let path = OfRegistry { registry: parse_name(&name)? };
            let done = forecast::act::<RemoveRegistry, _>(client, path, &trial).await?;
            forecast::print_gone(&done.outcome, &trial);
            Ok(())
        }
    }
}

/// From standard input only: an argument would be in the list of processes and in the shell's history.
fn read_password(user: &str, host: &str) -> Result<String, Failure> {
    let stdin = std::io::stdin().lock();
    let hidden = stdin.is_terminal().then(|| {
        eprintln!("password of {user} at {host}, not shown; end it with Enter and Ctrl-D:");
        Unseen::begin()
    });
    let mut password = String::new();
    let read = stdin.take(PASSWORD).read_to_string(&mut password);
    drop(hidden);
    read.map_err(|error| Failure::usage(format!("standard input cannot be read: {error}")))?;
    let password = password.trim_end_matches(['\r', '\n']).to_owned();
    if password.is_empty() {
        let message = "standard input holds no password; give it so: mainyard registry add NAME --host HOST --user USER < FILE";
        return Err(Failure::usage(message));
    }
    Ok(password)
}

fn read_authority(file: &Path) -> Result<String, Failure> {
    std::fs::read_to_string(file)
        .map_err(|error| Failure::usage(format!("{} cannot be read: {error}", file.display())))
}

async fn check(client: &Client, path: OfRegistry) -> Result<(), Failure> {
    let name = path.registry.clone();
    let checked = client.ask::<CheckRegistry>(path, NoQuery {}).await?;
    match checked.reason {
        None => {
            let mark = Paint::stdout().signal(Signal::Good, shape(Signal::Good));
            println!("{mark} {} answers, and lets the platform in as far as it says", checked.host);
            Ok(())
        }
        Some(reason) => Err(Failure::failed(format!("{name}: {}: {}", reason.code, reason.sentence))),
    }
}

async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let all = client.ask::<ListRegistries>(NoPath {}, NoQuery {}).await?;
    if output.json {
        output::json(&all);
        return Ok(());
    }
    if all.is_empty() {
        println!(
            "no registry outside is known; add one with: mainyard registry add forge --host registry.forge.example"
        );
        return Ok(());
    }
    let mut rows = table(&["REGISTRY", "HOST", "USER", "IMAGES", "ADDED", "PROBLEMS"]);
    for registry in all {
        let how = match (registry.plain, registry.own_authority) {
            (true, _) => " without TLS",
            (false, true) => ", an authority of its own",
            (false, false) => "",
        };
        let problems = registry.problems.iter().map(|(image, reason)| format!("{image}: {}", reason.code));
        rows.add_row([
            registry.name.to_string(),
            format!("{}{how}", registry.host),
            registry.user.unwrap_or_else(|| "-".to_owned()),
            registry.images.to_string(),
            format!("{} by {}", moment(registry.origin.at), registry.origin.by),
            problems.collect::<Vec<_>>().join("; "),
        ]);
    }
    print(&rows);
    Ok(())
}

/// Pulls an image, and follows it to its end; interrupted, it goes on.
pub(super) async fn pull(client: &Client, image: &str) -> Result<(), Failure> {
    let image: ImageRef = image.parse().map_err(|error: NameError| Failure::usage(error.to_string()))?;
    let request = client.request::<PullImage>(&NoPath {}, &ImageQuery { image: image.clone() });
    let answer = client.send(request).await?;
    let mut stream = answer.bytes_stream();
    let (mut partial, mut last): (Vec<u8>, Option<PullProgress>) = (Vec::new(), None);
    let mut progress = Progress::new(1);
    while let Some(piece) = stream.next().await {
        let piece = piece.map_err(|error| Failure::unreachable(format!("the stream was cut: {error}")))?;
        partial.extend_from_slice(&piece);
        while let Some(end) = partial.iter().position(|byte| *byte == b'\n') {
            let line: Vec<u8> = partial.drain(..=end).collect();
            let Ok(now) = serde_json::from_slice::<PullProgress>(&line) else { continue };
            if !now.state.has_ended() {
                progress.show(now.fetched, now.total, words(&now));
            }
            last = Some(now);
        }
    }
    let cut =
        || Failure::unreachable("the platform said no more; `mainyard image pulls` tells how far it is");
    let last = last.ok_or_else(cut)?;
    match (last.state, &last.reason) {
        (PullState::Done, _) => {
            let digest = last.digest.as_deref().unwrap_or_default();
            let (fetched, there) = (Bytes::new(last.fetched.max(last.total)), Bytes::new(last.there));
            let sentence = format!("{image}: {fetched} fetched, {there} were there, {digest}");
            progress.end(Signal::Good, &sentence);
            Ok(())
        }
        (PullState::Failed, Some(reason)) => {
            progress.clear();
            Err(Failure::failed(format!("{image}: {}: {}", reason.code, reason.sentence)))
        }
        _ => Err(cut()),
    }
}

fn words(now: &PullProgress) -> String {
    if now.state == PullState::Asking {
        return format!("asks {}", now.from);
    }
    let left = now.left().map_or(String::new(), |left| format!(", {left} s left"));
    format!(
        "{} of {} from {}, {} of {}{left}",
        Bytes::new(now.fetched),
        Bytes::new(now.total),
        now.from,
        now.fetched_layers,
        count(now.layers as usize, "layer")
    )
}

pub(super) async fn pulls(client: &Client, output: Output) -> Result<(), Failure> {
    let all = client.ask::<ListPulls>(NoPath {}, NoQuery {}).await?;
    if output.json {
        output::json(&all);
        return Ok(());
    }
    if all.is_empty() {
        println!(
            "nothing was pulled since control began; pull an image with: mainyard image pull forge/team/api:1.4.0"
        );
        return Ok(());
    }
    let mut rows = table(&["IMAGE", "FROM", "BEGAN", "STATE"]);
    for pull in all {
        let state = match (pull.state, &pull.reason) {
            (PullState::Failed, Some(reason)) => format!("{}: {}", reason.code, reason.sentence),
            (PullState::Done, _) => format!("done, {}", Bytes::new(pull.total)),
            _ => words(&pull),
        };
        rows.add_row([pull.image.to_string(), pull.from, moment(pull.began), state]);
    }
    print(&rows);
    Ok(())
}
