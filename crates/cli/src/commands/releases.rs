//! Releases: made, taken back, steered, listed, kept.

use std::collections::BTreeMap;

use comfy_table::Cell;
use mainyard_core::canary_analysis::failures;
use mainyard_core::difference::{differences, secret_differences};
use mainyard_core::launch_fingerprint::LaunchFingerprint;
use mainyard_core::link::percentile;
use mainyard_core::model::{
    Name, NameError, Release, ReleaseId, ReleaseNumber, Replica, Rollout, RolloutState, SecretUse, Seen,
    Setting, Signal, Target,
};
use mainyard_core::untrusted_text::visible;
use reqwest::Method;
use serde_json::{Value, json};

use super::acts::path;
use super::forecast;
use super::logs::last_of;
use crate::args::{LimitOptions, Output, Trial, Wait};
use crate::client::Client;
use crate::show::{change, coloured, print, release_number, table};
use crate::terminal::{Failure, Paint, count, shape};
use crate::{progress, show, times};

/// Lines of `run_first`'s output that are shown.
const LINES_OF_FIRST: usize = 100;

/// Asks for an act on a workload, or for a look at it.
async fn ask(
    client: &Client,
    target: &Target,
    act: &str,
    body: &Value,
    trial: &Trial,
) -> Result<Value, Failure> {
    forecast::ask(client, Method::POST, &path(target, act), Some(body), trial).await
}

/// Says what a move took the place of, so that of two people the second knows what the first did.
fn say_instead_of(answer: &Value) {
    if let Some(other) = answer["instead_of"].as_str() {
        let paint = Paint::stdout();
        let mark = paint.signal(Signal::Caution, shape(Signal::Caution));
        println!("{mark} this takes the place of {}", times::local(other));
    }
    let freed = answer["freed"].as_array().into_iter().flatten();
    let freed: Vec<String> = freed.map(ToString::to_string).collect();
    if !freed.is_empty() {
        let mark = Paint::stdout().signal(Signal::Rest, shape(Signal::Rest));
        println!(
            "{mark} let go, as nothing needs them and newer ones are kept: releases {}",
            freed.join(", ")
        );
    }
}

pub async fn follow_to(
    client: &Client,
    target: &Target,
    release: &Value,
    wait: &Wait,
) -> Result<(), Failure> {
    match release.as_u64() {
        Some(release) if !wait.no_wait && !wait.trial.forecast => {
            progress::rollout(client, target, ReleaseNumber(release as u32)).await
        }
        _ => Ok(()),
    }
}

/// Settings as they are given: `KEY=VALUE`, and `KEY=SECRET` for those that take the value of a secret.
pub fn settings(texts: &[String], secrets: &[String]) -> Result<BTreeMap<String, Setting>, Failure> {
    let pair = |pair: &String, option: &str| match pair.split_once('=') {
        Some((key, value)) if !key.is_empty() => Ok((key.to_owned(), value.to_owned())),
        _ => Err(Failure::usage(format!("{pair:?} is not a setting: write {option}"))),
    };
    let mut set = BTreeMap::new();
    for text in texts {
        let (key, value) = pair(text, "--set KEY=VALUE")?;
        set.insert(key, Setting::Text(value));
    }
    for text in secrets {
        let (key, name) = pair(text, "--set-secret KEY=SECRET")?;
        let secret = name.parse().map_err(|error: NameError| Failure::usage(error.to_string()))?;
        set.insert(key, Setting::Secret(SecretUse { secret, version: None }));
    }
    Ok(set)
}

pub async fn deploy(
    client: &Client,
    target: &Target,
    image: Option<String>,
    set: BTreeMap<String, Setting>,
    limits: LimitOptions,
    wait: Wait,
) -> Result<(), Failure> {
    if image.is_none() && set.is_empty() && limits.is_empty() {
        return Err(Failure::usage(format!(
            "say what to deploy: mainyard deploy {target} --image IMAGE, --set KEY=VALUE, --memory SIZE or --cpu NUMBER"
        )));
    }
    if let Some(image) = &image {
        image.parse::<mainyard_core::model::ImageRef>().map_err(|error| Failure::usage(error.to_string()))?;
    }
    let body = json!({"image": image, "settings": set, "memory": limits.memory, "cpu": limits.cpu});
    let answer = ask(client, target, "/deploy", &body, &wait.trial).await?;
    say_deployed(target, &answer, &wait.trial);
    if answer["release"].is_null() {
        return Ok(());
    }
    say_instead_of(&answer);
    forecast::print(&answer, &wait.trial)?;
    follow_to(client, target, &answer["release"], &wait).await
}

/// The new release and what differs in it, or that nothing would differ.
pub fn say_deployed(target: &Target, answer: &Value, trial: &Trial) {
    let Some(release) = answer["release"].as_u64() else {
        println!("{target}: nothing would differ, so nothing was changed");
        return;
    };
    let words: Vec<&str> =
        answer["differences"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    let words = if words.is_empty() {
        "the image's tag stands for another digest now".to_owned()
    } else {
        words.join(", ")
    };
    println!("{}{target}: release {release}, {words}", forecast::mark(trial));
}

pub async fn promote(client: &Client, from: &Target, to: &str, wait: Wait) -> Result<(), Failure> {
    let answer = ask(client, from, "/promote", &json!({"to": to}), &wait.trial).await?;
    let target: Target = answer["target"].as_str().unwrap_or_default().parse().map_err(
        |error: mainyard_core::model::NameError| {
            Failure::failed(format!("the answer cannot be read: {error}"))
        },
    )?;
    let tested = &answer["tested"];
    if answer["release"].is_null() {
        println!("{target} runs what was tested as {from}@{tested} already; nothing was changed");
        return Ok(());
    }
    let words: Vec<&str> =
        answer["differences"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    let mark = forecast::mark(&wait.trial);
    println!(
        "{mark}{target}: release {}, as it was tested as {from}@{tested}: {}",
        answer["release"],
        words.join(", ")
    );
    forecast::print(&answer, &wait.trial)?;
    follow_to(client, &target, &answer["release"], &wait).await
}

pub async fn rollback(
    client: &Client,
    target: &Target,
    to: Option<String>,
    at: Option<String>,
    wait: Wait,
) -> Result<(), Failure> {
    let to = match to {
        None => None,
        Some(text) => {
            let number = text.rsplit_once('@').map_or(text.as_str(), |(_, number)| number);
            let number: u32 = number
                .parse()
                .map_err(|_| Failure::usage(format!("{text:?} is not a release: write --to {target}@2")))?;
            Some(number)
        }
    };
    let at = at.map(|text| times::read(&text)).transpose()?;
    let answer = ask(client, target, "/rollback", &json!({"to": to, "at": at}), &wait.trial).await?;
    let (release, same_as) =
        (answer["release"].as_u64().unwrap_or(0), answer["same_as"].as_u64().unwrap_or(0));
    println!("{}{target}: release {release} (same as {same_as})", forecast::mark(&wait.trial));
    for words in answer["passed_over"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        println!("not gone back to: {}", times::local(words));
    }
    say_instead_of(&answer);
    forecast::print(&answer, &wait.trial)?;
    follow_to(client, target, &answer["release"], &wait).await
}

/// `advance` and `resume`: a rollout goes on, and is followed.
pub async fn steer(client: &Client, target: &Target, act: &str, wait: Wait) -> Result<(), Failure> {
    let answer = ask(client, target, &format!("/{act}"), &json!({}), &wait.trial).await?;
    let goes_on = answer["goes_on"].as_str().unwrap_or("it goes on");
    println!("{}{target}: {}", forecast::mark(&wait.trial), times::local(goes_on));
    forecast::print(&answer, &wait.trial)?;
    // What a source takes up again it brings about.
    if let Some(source) = answer["source"].as_str().and_then(|source| source.parse().ok()) {
        return super::sources::follow(client, &source, &wait).await;
    }
    follow_to(client, target, &answer["release"], &wait).await
}

pub async fn cancel(client: &Client, target: &Target, wait: Wait) -> Result<(), Failure> {
    let answer = ask(client, target, "/cancel", &json!({}), &wait.trial).await?;
    let (release, back_to) = (&answer["release"], &answer["back_to"]);
    println!("{}{target}: release {release} goes back to {back_to}", forecast::mark(&wait.trial));
    forecast::print(&answer, &wait.trial)?;
    match release.as_u64() {
        Some(release) if !wait.no_wait && !wait.trial.forecast => {
            progress::going_back(client, target, ReleaseNumber(release as u32)).await
        }
        _ => Ok(()),
    }
}

pub async fn restart(client: &Client, target: &Target, wait: Wait) -> Result<(), Failure> {
    let answer = ask(client, target, "/restart", &json!({}), &wait.trial).await?;
    let (release, same_as) = (&answer["release"], &answer["same_as"]);
    println!(
        "{}{target}: release {release} (same as {same_as}), with fresh replicas",
        forecast::mark(&wait.trial)
    );
    forecast::print(&answer, &wait.trial)?;
    follow_to(client, target, &answer["release"], &wait).await
}

pub async fn hold(client: &Client, target: &Target, because: &str, trial: &Trial) -> Result<(), Failure> {
    let answer = ask(client, target, "/hold", &json!({"because": because}), trial).await?;
    let stands = answer["stands"].as_str().unwrap_or("it stands still");
    println!("{}{target}: held, {stands}\nIt goes on with: mainyard resume {target}", forecast::mark(trial));
    forecast::print(&answer, trial)
}

pub async fn keep(client: &Client, release: &ReleaseId, keep: bool, trial: &Trial) -> Result<(), Failure> {
    let body = json!({"release": release.number, "keep": keep});
    let answer = ask(client, &release.workload, "/keep", &body, trial).await?;
    let already = if answer["changed"] == json!(false) { " already" } else { "" };
    let kept = if keep { "is kept however old it gets" } else { "goes when it is old" };
    println!("{}{release} {kept}{already}", forecast::mark(trial));
    Ok(())
}

/// All releases of a workload, the newest first.
pub async fn list(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let detail = client.get(&path(target, "")).await?;
    if output.json {
        println!(
            "{:#}",
            json!({"releases": detail["releases"], "rollouts": detail["rollouts"], "kept": detail["workload"]["kept"]})
        );
        return Ok(());
    }
    let read = |error: serde_json::Error| Failure::failed(format!("the answer cannot be read: {error}"));
    let releases: Vec<Release> = serde_json::from_value(detail["releases"].clone()).map_err(read)?;
    let rollouts: Vec<Rollout> = serde_json::from_value(detail["rollouts"].clone()).map_err(read)?;
    let kept = |number: ReleaseNumber| !detail["workload"]["kept"][number.to_string()].is_null();
    let current = detail["workload"]["release"].as_u64();
    times::mark(client.as_of, true);
    let mut rows = table(&["RELEASE", "OUTCOME", "WHAT", "WHEN, WHO", "REQUESTS", "VERDICT"]);
    for release in releases.iter().rev() {
        let rollout = rollouts.iter().find(|rollout| rollout.to == release.number);
        let state = rollout.map_or(RolloutState::Superseded, |rollout| rollout.state);
        let marks = [
            (current == Some(u64::from(release.number.0))).then_some("now"),
            kept(release.number).then_some("kept"),
        ];
        let marks: Vec<&str> = marks.into_iter().flatten().collect();
        let number = match &marks[..] {
            [] => release_number(release),
            marks => format!("{}  {}", release_number(release), marks.join(", ")),
        };
        let from = rollout.and_then(|rollout| rollout.from);
        let before = releases.iter().find(|before| Some(before.number) == from);
        rows.add_row(vec![
            Cell::new(number),
            coloured(format!("{} {state}", shape(state.signal())), state.signal()),
            Cell::new(what(release, before)),
            Cell::new(change(&release.origin)),
            Cell::new(rollout.map_or("-".to_owned(), |rollout| served(&rollout.evidence.new))),
            Cell::new(show::clipped(rollout.and_then(|it| it.verdict.as_deref()).unwrap_or(""), 72)),
        ]);
    }
    print(&rows);
    Ok(())
}

/// What makes it another one than the one it took over from.
fn what(release: &Release, before: Option<&Release>) -> String {
    let first = || release.spec.image.to_string();
    let Some(before) = before.filter(|_| release.same_as.is_none()) else { return first() };
    let mut list = differences(&before.spec, &release.spec);
    list.extend(secret_differences(&before.secrets, &release.secrets));
    let words: Vec<String> = list.iter().map(ToString::to_string).collect();
    if words.is_empty() { first() } else { show::clipped(&words.join(", "), 48) }
}

fn served(seen: &Seen) -> String {
    if seen.requests == 0 { "-".to_owned() } else { format!("{}, {} failed", seen.requests, seen.failed) }
}

/// One release: everything that is frozen in it, and what became of it.
pub async fn show(client: &Client, id: &ReleaseId, output: Output) -> Result<(), Failure> {
    let detail = client.get(&path(&id.workload, "")).await?;
    let of = |list: &str, field: &str| {
        let all = detail[list].as_array().cloned().unwrap_or_default();
        all.into_iter().find(|it| it[field].as_u64() == Some(u64::from(id.number.0)))
    };
    let (Some(release), rollout) = (of("releases", "number"), of("rollouts", "to")) else {
        let numbers = detail["releases"].as_array().into_iter().flatten();
        let numbers: Vec<String> = numbers.map(|release| release["number"].to_string()).collect();
        let message = format!("there is no release {id}; kept are {}", numbers.join(", "));
        return Err(Failure::refused(message));
    };
    if output.json {
        println!("{:#}", json!({"release": release, "rollout": rollout}));
        return Ok(());
    }
    let read = |error: serde_json::Error| Failure::failed(format!("the answer cannot be read: {error}"));
    let release: Release = serde_json::from_value(release).map_err(read)?;
    let rollout: Option<Rollout> = rollout.map(serde_json::from_value).transpose().map_err(read)?;
    let paint = Paint::stdout();
    let state = rollout.as_ref().map(|rollout| rollout.state);
    let outcome = state.map_or(String::new(), |state| {
        paint.signal(state.signal(), &format!("  {} {state}", shape(state.signal())))
    });
    let same = release.same_as.map_or(String::new(), |same| format!(" (same as {same})"));
    println!("{}{same}{outcome}", paint.strong(&id.to_string()));
    println!("{}", paint.quiet(&change(&release.origin)));
    if let Some(verdict) = rollout.as_ref().and_then(|rollout| rollout.verdict.as_deref()) {
        println!("\n{verdict}");
    }
    let replicas: Vec<Replica> = serde_json::from_value(detail["replicas"].clone()).map_err(read)?;
    if let Some(words) = as_released(&release, &replicas) {
        println!("{words}");
    }
    println!();
    let mut rows = table(&["FIELD", "VALUE"]);
    for (field, value) in fields(&release) {
        rows.add_row([field, value]);
    }
    print(&rows);
    if let Some(first) = rollout.as_ref().and_then(|rollout| rollout.first.as_ref()) {
        println!("\nrun_first {}", first.words());
        let replica = format!("first{}", id.number);
        for line in last_of(client, id, Some(&replica), LINES_OF_FIRST).await {
            println!("  {} {}", paint.quiet("│"), visible(&line));
        }
    }
    let seen = |rollout: &Rollout| rollout.evidence.served + rollout.evidence.copies.requests > 0;
    if let Some(rollout) = rollout.filter(seen) {
        println!();
        evidence(&rollout);
    }
    Ok(())
}

/// Whether its replicas run what it says, by what their nodes say they started.
fn as_released(release: &Release, replicas: &[Replica]) -> Option<String> {
    let own: Vec<&Replica> = replicas.iter().filter(|replica| replica.release == release.number).collect();
    let digest = LaunchFingerprint::of(release)?.digest();
    let agree = own.iter().filter(|replica| replica.started.as_deref() == Some(&digest)).count();
    let of = count(own.len(), "replica");
    (!own.is_empty())
        .then(|| format!("{agree} of {of} run exactly this, as their nodes say ({})", &digest[..12]))
}

fn fields(release: &Release) -> Vec<(String, String)> {
    let spec = &release.spec;
    let mut list = vec![
        ("image".to_owned(), spec.image.to_string()),
        ("digest".to_owned(), release.digest.clone().unwrap_or_else(|| "not in the store".to_owned())),
    ];
    let command = spec.command.as_ref().map_or("the image's own".to_owned(), |words| words.join(" "));
    list.push(("command".to_owned(), command));
    list.extend(spec.run_first.iter().map(|words| ("run_first".to_owned(), words.join(" "))));
    let port = |(name, port): (&Name, &u16)| (format!("port {name}"), port.to_string());
    list.extend(spec.ports.iter().map(port));
    list.extend(spec.labels.iter().map(|(key, value)| (format!("label {key}"), value.clone())));
    let of = |used: &SecretUse| match release.version_of(used) {
        Some(key) if used.version.is_none() => format!("secret {key}, the newest when it was made"),
        _ => used.to_string(),
    };
    list.extend(spec.settings.iter().map(|(key, setting)| {
        let value = setting.secret().map_or_else(|| setting.to_string(), of);
        (format!("setting {key}"), value)
    }));
    list.extend(spec.files.iter().map(|(path, used)| (format!("file {path}"), of(used))));
    let limits = &spec.limits;
    let limits = format!("{} cpu, {}, {} processes", limits.cpu, limits.memory, limits.processes);
    list.push(("limits".to_owned(), limits));
    list.push(("reserve".to_owned(), format!("{} cpu, {}", spec.reserve.cpu, spec.reserve.memory)));
    list.push(("stop".to_owned(), format!("drain {}, grace {}", spec.stop.drain, spec.stop.grace)));
    let checks = [("ready check", spec.ready_check()), ("alive check", spec.checks.alive.clone())];
    let words = |(name, check): (&str, Option<mainyard_core::model::Check>)| {
        Some((name.to_owned(), mainyard_core::difference::check_words(&check?)))
    };
    list.extend(checks.into_iter().filter_map(words));
    list
}

/// What both releases answered while it moved.
fn evidence(rollout: &Rollout) {
    let mut rows = table(&["EVIDENCE", "REQUESTS", "HALF WITHIN", "95 OF 100 WITHIN", "99 OF 100 WITHIN"]);
    let from = rollout.from.map_or("the one before".to_owned(), |from| format!("release {from}"));
    let evidence = &rollout.evidence;
    let mut lines = Vec::new();
    if evidence.copies.requests > 0 {
        lines.push((format!("release {}: copies, before any visitor", rollout.to), &evidence.copies));
        lines.push((format!("{from}: the same requests"), &evidence.copied));
    }
    lines.extend([(format!("release {}", rollout.to), &evidence.new), (from, &evidence.old)]);
    for (who, seen) in lines {
        let within =
            |share| percentile(&seen.times, share).map_or("-".to_owned(), |millis| format!("{millis:.1} ms"));
        let failed = match seen.requests {
            0 => "none".to_owned(),
            _ => format!("{} failed", failures(seen)),
        };
        rows.add_row([who, failed, within(0.5), within(0.95), within(0.99)]);
    }
    print(&rows);
    if evidence.other_size > 0 {
        println!("{} of the copies were answered in another size", evidence.other_size);
    }
    for (replica, open) in &evidence.outlived {
        println!("{open} open in {replica} outlived its drain limit and were cut");
    }
}
