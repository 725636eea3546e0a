//! Asking for a change, or for what it would do; and how a forecast reads.

use std::io::IsTerminal;

use mainyard_control::Size;
use mainyard_core::model::Signal;
use mainyard_sim::rehearsal::{Rehearsal, Rehearsed};
use reqwest::Method;
use serde_json::Value;

use crate::args::Trial;
use crate::client::Client;
use crate::terminal::{Failure, Paint, count, shape};
use crate::{output, times};

/// Asks for a change. For a forecast the same call is made with `forecast=true`, and answers the same, with the
/// rehearsal beside it.
pub async fn ask(
    client: &Client,
    method: Method,
    path: &str,
    body: Option<&Value>,
    trial: &Trial,
) -> Result<Value, Failure> {
    let mut request = client.request(method, path);
    if let Some(body) = body {
        request = request.json(body);
    }
    send(client, request, trial).await
}

/// Sends a request for a change, or for what it would do.
pub async fn send(
    client: &Client,
    request: reqwest::RequestBuilder,
    trial: &Trial,
) -> Result<Value, Failure> {
    let mut query = Vec::new();
    if trial.forecast {
        query.push(("forecast", "true"));
    }
    if let Some(node) = &trial.lose_node {
        query.push(("lose_node", node.as_str()));
    }
    let answer = client.send(request.query(&query)).await?;
    let answer = answer.json().await;
    let answer: Value =
        answer.map_err(|error| Failure::failed(format!("the answer cannot be read: {error}")))?;
    if trial.forecast && trial.json {
        // A forecast changes nothing and is not followed: its answer is all there is to print.
        output::json(&answer);
        std::process::exit(0);
    }
    Ok(answer)
}

/// Asks a person before something goes, with all of it listed; without a terminal it is refused.
pub async fn confirm_removal(client: &Client, path: &str, what: &str) -> Result<(), Failure> {
    let trial = Trial { forecast: true, json: false, lose_node: None };
    let would_go = ask(client, Method::DELETE, path, None, &trial).await?;
    let lines: Vec<&str> =
        would_go["gone"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    let lines = times::local(&lines.join("\n  - "));
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
pub fn mark(trial: &Trial) -> &'static str {
    if trial.forecast { "forecast, nothing is changed: " } else { "" }
}

/// Prints what went, or would go.
pub fn print_gone(answer: &Value, trial: &Trial) {
    if trial.forecast {
        println!("{}", mark(trial).trim_end_matches(": "));
    }
    for line in answer["gone"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        println!("- {}", times::local(line));
    }
}

/// Prints the rehearsal.
pub fn print(answer: &Value, trial: &Trial) -> Result<(), Failure> {
    if !trial.forecast {
        return Ok(());
    }
    let shown: Rehearsal = serde_json::from_value(answer["forecast"].clone())
        .map_err(|error| Failure::failed(format!("the forecast cannot be read: {error}")))?;
    let paint = Paint::stdout();
    let line = |signal: Signal, words: String| {
        println!("  {} {words}", paint.signal(signal, shape(signal)));
    };
    for moved in &shown.workloads {
        let (signal, words) = of_workload(moved);
        line(signal, words);
    }
    if let Some(node) = &shown.lost {
        line(Signal::Rest, format!("with {node} lost half-way"));
    }
    let sizes: Vec<Size> = serde_json::from_value(answer["sizes"].clone())
        .map_err(|error| Failure::failed(format!("the forecast cannot be read: {error}")))?;
    for size in sizes {
        let signal = if size.fit.does() { Signal::Good } else { Signal::Caution };
        line(signal, format!("{}: {}", size.workload, size.words));
    }
    match &shown.dark[..] {
        [] => {}
        hosts => line(Signal::Fault, format!("would no longer answer: {}", hosts.join(", "))),
    }
    if !shown.workloads.is_empty() {
        line(Signal::Rest, "rehearsed on a copy of the cluster; a new release is taken to start and answer as the present one".to_owned());
    }
    Ok(())
}

fn of_workload(moved: &Rehearsed) -> (Signal, String) {
    let Rehearsed { workload, wanted, ready_before, lowest_ready, most, took_millis, asks, reason } = moved;
    let ready = format!(
        "never fewer than {lowest_ready} ready, at most {} at once",
        count(*most as usize, "replica")
    );
    let asks = match asks {
        0 => String::new(),
        asks => format!(
            ", a person is asked {}",
            if *asks == 1 { "once".to_owned() } else { format!("{asks} times") }
        ),
    };
    match (reason, took_millis) {
        (Some(reason), _) => {
            let reason = times::local(&reason.to_string());
            (Signal::Fault, format!("{workload} does not get there: {reason}"))
        }
        (None, Some(took)) => {
            let seconds = *took as f64 / 1000.0;
            let signal = if lowest_ready < wanted.min(ready_before) { Signal::Caution } else { Signal::Good };
            (signal, format!("{workload} is there after {seconds:.1} s{asks}; {wanted} wanted, {ready}"))
        }
        (None, None) => (Signal::Caution, format!("{workload} has not come to rest within a day; {ready}")),
    }
}
