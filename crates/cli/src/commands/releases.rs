//! Releases: made, taken back, steered, listed, kept.

use std::collections::BTreeMap;

use comfy_table::Cell;
use mainyard_api::{
    AdvanceRollout, CancelRollout, DeployRelease, HoldWorkload, KeepRelease, NewDeploy, NewHold, NewKeep,
    NewPromotion, NewRollback, OfTarget, PromoteRelease, RestartWorkload, ResumeWorkload, RollBack,
    ShowWorkload, WorkloadDetails,
};
use mainyard_core::canary_analysis::failures;
use mainyard_core::commands::{Cancelled, Restarted};
use mainyard_core::difference::{differences, secret_differences};
use mainyard_core::launch_fingerprint::LaunchFingerprint;
use mainyard_core::model::{
    Answered, ImageRef, Name, NameError, Release, ReleaseId, ReleaseNumber, Replica, Rollout, RolloutState,
    SecretUse, Setting, Signal, Target,
};
use mainyard_core::untrusted_text::visible;
use serde_json::json;

use super::forecast;
use super::logs::last_of;
use crate::args::{LimitOptions, Output, Trial, Wait};
use crate::client::Client;
use crate::show::{change, coloured, print, release_number, table};
use crate::terminal::{Failure, Paint, count, shape};
use crate::{output, progress, show, times};

/// Lines of `run_first`'s output that are shown.
const LINES_OF_FIRST: usize = 100;

/// Says what a move took the place of, so that of two people the second knows what the first did.
fn say_instead_of(instead_of: Option<&str>, freed: &[ReleaseNumber]) {
    let paint = Paint::stdout();
    if let Some(other) = instead_of {
        let mark = paint.signal(Signal::Caution, shape(Signal::Caution));
        println!("{mark} this replaces {}", times::local(other));
    }
    if !freed.is_empty() {
        let freed: Vec<String> = freed.iter().map(ToString::to_string).collect();
        let mark = paint.signal(Signal::Rest, shape(Signal::Rest));
        println!(
            "{mark} old releases removed, because nothing needs them and newer ones are kept: {}",
            freed.join(", ")
        );
    }
}

pub(super) async fn follow_to(
    client: &Client,
    target: &Target,
    release: Option<ReleaseNumber>,
    wait: &Wait,
) -> Result<(), Failure> {
    match release {
        Some(release) if !wait.no_wait && !wait.trial.forecast => {
            progress::rollout(client, target, release).await
        }
        _ => Ok(()),
    }
}

/// Settings as they are given: `KEY=VALUE`, and `KEY=SECRET` for those that take the value of a secret.
pub(super) fn settings(texts: &[String], secrets: &[String]) -> Result<BTreeMap<String, Setting>, Failure> {
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

pub(super) async fn deploy(
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
    let image = image.map(|image| image.parse::<ImageRef>()).transpose();
    let image = image.map_err(|error| Failure::usage(error.to_string()))?;
    let body = NewDeploy { image, settings: set, memory: limits.memory, cpu: limits.cpu() };
    let done =
        forecast::act_with::<DeployRelease, _, _>(client, OfTarget::from(target), &body, &wait.trial).await?;
    let made = &done.outcome;
    say_deployed(target, made.release, &made.differences, &wait.trial);
    if made.release.is_none() {
        return Ok(());
    }
    say_instead_of(made.instead_of.as_deref(), &made.freed);
    forecast::print(&done);
    follow_to(client, target, made.release, &wait).await
}

/// The new release and what differs in it, or that nothing would differ.
pub(super) fn say_deployed(
    target: &Target,
    release: Option<ReleaseNumber>,
    differences: &[String],
    trial: &Trial,
) {
    let Some(release) = release else {
        println!("{target}: nothing would differ, so nothing was changed");
        return;
    };
    let words = if differences.is_empty() {
        "the image's tag names another digest now".to_owned()
    } else {
        differences.join(", ")
    };
    println!("{}{target}: release {release}, {words}", forecast::mark(trial));
}

pub(super) async fn promote(client: &Client, from: &Target, to: &str, wait: Wait) -> Result<(), Failure> {
    let to = to.parse().map_err(|error: NameError| Failure::usage(error.to_string()))?;
    let body = NewPromotion { to };
    let done =
        forecast::act_with::<PromoteRelease, _, _>(client, OfTarget::from(from), &body, &wait.trial).await?;
    let target = Target::new(&body.to, &from.name);
    let made = &done.outcome;
    let Some(release) = made.release else {
        println!("{target} runs what was tested as {from}@{} already; nothing was changed", made.tested);
        return Ok(());
    };
    println!(
        "{}{target}: release {release}, as it was tested as {from}@{}: {}",
        forecast::mark(&wait.trial),
        made.tested,
        made.differences.join(", ")
    );
    forecast::print(&done);
    follow_to(client, &target, made.release, &wait).await
}

pub(super) async fn rollback(
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
            Some(ReleaseNumber(number))
        }
    };
    let body = NewRollback { to, at: at.map(|text| times::read(&text)).transpose()? };
    let done =
        forecast::act_with::<RollBack, _, _>(client, OfTarget::from(target), &body, &wait.trial).await?;
    let made = &done.outcome;
    let mark = forecast::mark(&wait.trial);
    println!("{mark}{target}: release {} (same as {})", made.release, made.same_as);
    for words in &made.passed_over {
        println!("passed over: {}", times::local(words));
    }
    say_instead_of(made.instead_of.as_deref(), &made.freed);
    forecast::print(&done);
    follow_to(client, target, Some(made.release), &wait).await
}

/// A rollout goes on, and is followed.
pub(super) async fn advance(client: &Client, target: &Target, wait: Wait) -> Result<(), Failure> {
    let done = forecast::act::<AdvanceRollout, _>(client, OfTarget::from(target), &wait.trial).await?;
    println!("{}{target}: {}", forecast::mark(&wait.trial), times::local(&done.outcome.goes_on));
    forecast::print(&done);
    follow_to(client, target, done.outcome.release, &wait).await
}

/// A hold ends; what goes on is followed.
pub(super) async fn resume(client: &Client, target: &Target, wait: Wait) -> Result<(), Failure> {
    let done = forecast::act::<ResumeWorkload, _>(client, OfTarget::from(target), &wait.trial).await?;
    println!("{}{target}: {}", forecast::mark(&wait.trial), times::local(&done.outcome.goes_on));
    forecast::print(&done);
    // What a source takes up again it brings about.
    if let Some(source) = done.outcome.source.as_deref().and_then(|source| source.parse().ok()) {
        return super::sources::follow(client, &source, &wait).await;
    }
    follow_to(client, target, done.outcome.release, &wait).await
}

pub(super) async fn cancel(client: &Client, target: &Target, wait: Wait) -> Result<(), Failure> {
    let done = forecast::act::<CancelRollout, _>(client, OfTarget::from(target), &wait.trial).await?;
    let Cancelled { release, back_to } = done.outcome;
    println!("{}{target}: release {release} goes back to {back_to}", forecast::mark(&wait.trial));
    forecast::print(&done);
    if wait.no_wait || wait.trial.forecast {
        return Ok(());
    }
    progress::going_back(client, target, release).await
}

pub(super) async fn restart(client: &Client, target: &Target, wait: Wait) -> Result<(), Failure> {
    let done = forecast::act::<RestartWorkload, _>(client, OfTarget::from(target), &wait.trial).await?;
    let Restarted { release, same_as } = done.outcome;
    println!(
        "{}{target}: release {release} (same as {same_as}), with new replicas",
        forecast::mark(&wait.trial)
    );
    forecast::print(&done);
    follow_to(client, target, Some(release), &wait).await
}

pub(super) async fn hold(
    client: &Client,
    target: &Target,
    because: &str,
    trial: &Trial,
) -> Result<(), Failure> {
    let body = NewHold { because: because.to_owned() };
    let done = forecast::act_with::<HoldWorkload, _, _>(client, OfTarget::from(target), &body, trial).await?;
    let (mark, stands) = (forecast::mark(trial), &done.outcome.stands);
    println!("{mark}{target}: held, {stands}\nIt goes on with: mainyard resume {target}");
    forecast::print(&done);
    Ok(())
}

pub(super) async fn keep(
    client: &Client,
    release: &ReleaseId,
    keep: bool,
    trial: &Trial,
) -> Result<(), Failure> {
    let body = NewKeep { release: release.number, keep };
    let path = OfTarget::from(&release.workload);
    let done = forecast::act_with::<KeepRelease, _, _>(client, path, &body, trial).await?;
    let already = if done.outcome.changed { "" } else { " already" };
    let kept = if keep { "is kept however old it gets" } else { "goes when it is old" };
    println!("{}{release} {kept}{already}", forecast::mark(trial));
    Ok(())
}

/// A workload with all that belongs to it.
async fn details(client: &Client, target: &Target) -> Result<WorkloadDetails, Failure> {
    client.ask::<ShowWorkload>(OfTarget::from(target), client.moment()).await
}

/// All releases of a workload, the newest first.
pub(super) async fn list(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let WorkloadDetails { workload, releases, rollouts, .. } = details(client, target).await?;
    if output.json {
        output::json(&json!({"releases": releases, "rollouts": rollouts, "kept": workload.kept}));
        return Ok(());
    }
    times::mark(client.as_of, true);
    let mut rows = table(&["RELEASE", "OUTCOME", "WHAT", "WHEN, WHO", "REQUESTS", "VERDICT"]);
    for release in releases.iter().rev() {
        let rollout = rollouts.iter().find(|rollout| rollout.to == release.number);
        let state = rollout.map_or(RolloutState::Superseded, |rollout| rollout.state);
        let marks = [
            (workload.release == release.number).then_some("now"),
            workload.kept.contains_key(&release.number).then_some("kept"),
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

/// How it differs from the release it took over from.
fn what(release: &Release, before: Option<&Release>) -> String {
    let first = || release.spec.image.to_string();
    let Some(before) = before.filter(|_| release.same_as.is_none()) else { return first() };
    let mut list = differences(&before.spec, &release.spec);
    list.extend(secret_differences(&before.secrets, &release.secrets));
    let words: Vec<String> = list.iter().map(ToString::to_string).collect();
    if words.is_empty() { first() } else { show::clipped(&words.join(", "), 48) }
}

fn served(seen: &Answered) -> String {
    if seen.requests == 0 { "-".to_owned() } else { format!("{}, {} failed", seen.requests, seen.failed) }
}

/// One release: everything that is frozen in it, and what became of it.
pub(super) async fn show(client: &Client, id: &ReleaseId, output: Output) -> Result<(), Failure> {
    let WorkloadDetails { releases, rollouts, replicas, .. } = details(client, &id.workload).await?;
    let rollout = rollouts.into_iter().find(|rollout| rollout.to == id.number);
    let numbers: Vec<String> = releases.iter().map(|release| release.number.to_string()).collect();
    let Some(release) = releases.into_iter().find(|release| release.number == id.number) else {
        let message = format!("there is no release {id}; kept are {}", numbers.join(", "));
        return Err(Failure::refused(message));
    };
    if output.json {
        output::json(&json!({"release": release, "rollout": rollout}));
        return Ok(());
    }
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
    let replicas: Vec<Replica> = replicas.into_iter().map(|it| it.replica).collect();
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

/// Answers of both releases while it moved.
fn evidence(rollout: &Rollout) {
    let mut rows = table(&["EVIDENCE", "REQUESTS", "HALF WITHIN", "95 OF 100 WITHIN", "99 OF 100 WITHIN"]);
    let evidence = &rollout.evidence;
    for row in mainyard_core::views::evidence(rollout) {
        let who = match (row.copies, row.release == rollout.to) {
            (true, true) => format!("release {}: copies, before any visitor", row.release),
            (true, false) => format!("release {}: the same requests", row.release),
            (false, _) => format!("release {}", row.release),
        };
        let failed = match row.requests {
            0 => "none".to_owned(),
            _ => format!("{} failed", failures(row.failed, row.requests)),
        };
        let within = |millis: Option<f64>| millis.map_or("-".to_owned(), |millis| format!("{millis:.1} ms"));
        rows.add_row([who, failed, within(row.p50), within(row.p95), within(row.p99)]);
    }
    print(&rows);
    if evidence.other_size > 0 {
        println!("{} of the copies' answers had another size", evidence.other_size);
    }
    for (replica, open) in &evidence.outlived {
        println!("{open} open in {replica} outlived its drain limit and were cut");
    }
}
