//! Asking for a change or its forecast, and printing forecasts.

use std::io::IsTerminal;

use mainyard_api::{Document, Done, JsonBody, NoBody, Operation};
use mainyard_core::commands::Removed;
use mainyard_core::forecast::Rehearsal;
use mainyard_core::model::{Name, NameError, Signal};
use reqwest::RequestBuilder;
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::args::Trial;
use crate::client::Client;
use crate::terminal::{Failure, Paint, shape};
use crate::{output, times};

/// Whether a change is only to be looked at, as the API takes it.
pub(super) fn query(trial: &Trial) -> Result<mainyard_api::Trial, Failure> {
    let node = trial.lose_node.as_deref().map(str::parse::<Name>).transpose();
    let lose_node = node.map_err(|error: NameError| Failure::usage(error.to_string()))?;
    Ok(mainyard_api::Trial { forecast: trial.forecast, lose_node })
}

/// Asks for a change. For a forecast the same call answers the same, with the rehearsal beside it.
pub(super) async fn act<O, T>(client: &Client, path: O::Path, trial: &Trial) -> Result<T, Failure>
where
    O: Operation<Query = mainyard_api::Trial, Body = NoBody, Answer: Document<Of = T>>,
    T: DeserializeOwned + Serialize,
{
    read(client, client.request::<O>(&path, &query(trial)?), trial).await
}

/// The same, with a JSON document.
pub(super) async fn act_with<O, T, B>(
    client: &Client,
    path: O::Path,
    body: &B,
    trial: &Trial,
) -> Result<T, Failure>
where
    O: Operation<Query = mainyard_api::Trial, Body = JsonBody<B>, Answer: Document<Of = T>>,
    T: DeserializeOwned + Serialize,
    B: Serialize,
{
    read(client, client.request::<O>(&path, &query(trial)?).json(body), trial).await
}

/// Sends a request for a change, or for its forecast.
pub(super) async fn read<T>(client: &Client, request: RequestBuilder, trial: &Trial) -> Result<T, Failure>
where
    T: DeserializeOwned + Serialize,
{
    let answer: T = client.read(request).await?;
    if trial.forecast && trial.json {
        // A forecast changes nothing and is not followed: its answer is all there is to print.
        output::json(&answer);
        std::process::exit(0);
    }
    Ok(answer)
}

/// Asks a person before something goes, with all of it listed; without a terminal it is refused.
pub(super) async fn confirm_removal<O>(client: &Client, path: O::Path, what: &str) -> Result<(), Failure>
where
    O: Operation<Query = mainyard_api::Trial, Body = NoBody, Answer: Document<Of = Done<Removed>>>,
{
    let trial = Trial { forecast: true, json: false, lose_node: None };
    let would_go = act::<O, _>(client, path, &trial).await?.outcome.gone;
    let lines = times::local(&would_go.join("\n  - "));
    if !std::io::stdin().is_terminal() {
        return Err(Failure::usage(format!("this removes {what}; say --yes\n  - {lines}")));
    }
    println!("This removes {what}:\n  - {lines}");
    print!("Remove it? [y/N] ");
    let mut answer = String::new();
    let read = std::io::stdin().read_line(&mut answer);
    if read.is_ok() && matches!(answer.trim(), "y" | "Y" | "yes") {
        return Ok(());
    }
    Err(Failure::refused("nothing was removed"))
}

/// The first words of what was done, or would be: of two people reading the same line none should mistake one for the
/// other.
pub(super) fn mark(trial: &Trial) -> &'static str {
    if trial.forecast { "forecast, nothing is changed: " } else { "" }
}

/// Prints what went, or would go.
pub(super) fn print_gone(removed: &Removed, trial: &Trial) {
    if trial.forecast {
        println!("{}", mark(trial).trim_end_matches(": "));
    }
    for line in &removed.gone {
        println!("- {}", times::local(line));
    }
}

/// Prints the rehearsal, where there was one.
pub(super) fn print<T>(done: &Done<T>) {
    let Some(Rehearsal { workloads, dark, lost }) = &done.forecast else { return };
    let paint = Paint::stdout();
    let line = |signal: Signal, words: String| {
        println!("  {} {words}", paint.signal(signal, shape(signal)));
    };
    for moved in workloads {
        line(moved.signal, times::local(&moved.words));
    }
    if let Some(node) = lost {
        line(Signal::Rest, format!("with {node} lost half-way"));
    }
    for size in done.sizes.iter().flatten() {
        let signal = if size.fit.does() { Signal::Good } else { Signal::Caution };
        line(signal, format!("{}: {}", size.workload, size.words));
    }
    if !dark.is_empty() {
        line(Signal::Fault, format!("would no longer answer: {}", dark.join(", ")));
    }
    if !workloads.is_empty() {
        line(Signal::Rest, "rehearsed on a copy of the cluster; a new release is assumed to start and answer like the present one".to_owned());
    }
}
