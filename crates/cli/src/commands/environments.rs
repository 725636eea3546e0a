//! Environments: made, listed, removed; and the one that a bare name belongs to.

use mainyard_api::{
    AddEnvironment, ChangeEnvironment, EnvironmentChange, NewEnvironment, NoPath, OfEnvironment,
    RemoveEnvironment,
};
use mainyard_core::commands::EnvironmentChanged;
use mainyard_core::model::{ImageRule, Name, OutgoingMode};
use serde_json::json;

use super::{forecast, parse_name};
use crate::args::{Environment, Output, Switch};
use crate::client::Client;
use crate::terminal::Failure;
use crate::{data_dir, output, show, times};

pub(super) async fn run(client: &Client, what: Environment) -> Result<(), Failure> {
    match what {
        Environment::Add { name, domain, outgoing, trial } => {
            let body = NewEnvironment { name: parse_name(&name)?, domain, outgoing: outgoing.into() };
            forecast::act_with::<AddEnvironment, _, _>(client, NoPath {}, &body, &trial).await?;
            println!(
                "{}{name}: added. Declare something in it with: mainyard declare mainyard.toml --in {name}",
                forecast::mark(&trial)
            );
            Ok(())
        }
        Environment::Outgoing { name, outgoing, trial } => {
            let path = OfEnvironment { environment: parse_name(&name)? };
            let body = EnvironmentChange { outgoing: Some(outgoing.into()), ..EnvironmentChange::default() };
            let done = forecast::act_with::<ChangeEnvironment, _, _>(client, path, &body, &trial).await?;
            println!("{}{name}: {}", forecast::mark(&trial), changed(&done.outcome));
            Ok(())
        }
        Environment::ImageRule { name, signed_by, any, trial } => {
            let path = OfEnvironment { environment: parse_name(&name)? };
            if signed_by.is_empty() && !any {
                let message = "say which keys: --signed-by release=ed25519:…, or --any for every image";
                return Err(Failure::usage(message));
            }
            let rule = ImageRule {
                signed_by: signed_by.iter().map(|text| named_key(text)).collect::<Result<_, _>>()?,
            };
            let body = EnvironmentChange { image_rule: Some(rule), ..EnvironmentChange::default() };
            let done = forecast::act_with::<ChangeEnvironment, _, _>(client, path, &body, &trial).await?;
            println!("{}{name}: {}", forecast::mark(&trial), rule_in_words(&done.outcome));
            Ok(())
        }
        Environment::LiveChanges { name, allowed, trial } => {
            let path = OfEnvironment { environment: parse_name(&name)? };
            let body = EnvironmentChange {
                live_changes: Some(allowed == Switch::On),
                ..EnvironmentChange::default()
            };
            let done = forecast::act_with::<ChangeEnvironment, _, _>(client, path, &body, &trial).await?;
            let means = match done.outcome.live_changes {
                true => "files of running replicas may be changed with: mainyard send --live",
                false => "only a release changes what runs",
            };
            println!("{}{name}: {means}", forecast::mark(&trial));
            Ok(())
        }
        Environment::Remove { name, trial } => {
            let name = parse_name(&name)?;
            let path = OfEnvironment { environment: name.clone() };
            let done = forecast::act::<RemoveEnvironment, _>(client, path, &trial).await?;
            forecast::print_gone(&done.outcome, &trial);
            if !trial.forecast && data_dir::default_environment().as_deref() == Some(name.as_str()) {
                data_dir::forget_default_environment()?;
                println!("{name} was the default; there is none now");
            }
            Ok(())
        }
        Environment::List { past, output } => list(&client.clone().at(&past)?, output).await,
    }
}

/// `NAME=KEY`.
fn named_key(text: &str) -> Result<(Name, String), Failure> {
    let (name, key) = text.split_once('=').ok_or_else(|| {
        Failure::usage(format!("{text:?} is no key with a name; expected release=ed25519:…, as `mainyard image signing-key` prints it"))
    })?;
    Ok((parse_name(name)?, key.to_owned()))
}

/// What a rule for images means, in words.
fn rule_in_words(done: &EnvironmentChanged) -> String {
    let Some(rule) = &done.image_rule else { return "runs any image".to_owned() };
    let keys: Vec<&str> = rule.signed_by.keys().map(Name::as_str).collect();
    let unsigned: Vec<&str> = done.unsigned.iter().map(Name::as_str).collect();
    let stay = match unsigned.is_empty() {
        true => String::new(),
        false => format!("; {} run images that are not, until their next release", unsigned.join(", ")),
    };
    format!("runs images that {} signed{stay}", keys.join(" or "))
}

/// What a change of the way out means, in words.
fn changed(done: &EnvironmentChanged) -> String {
    let EnvironmentChanged { before, outgoing, lists, .. } = done;
    let from = match before == outgoing {
        true => format!("outgoing is {} already", outgoing.word()),
        false => format!("outgoing {} → {}", before.word(), outgoing.word()),
    };
    let listed: Vec<String> =
        lists.iter().map(|it| format!("{} of {}", it.destinations, it.workload)).collect();
    let means = match (outgoing, listed.is_empty()) {
        (OutgoingMode::None, _) => "nothing outside is reached".to_owned(),
        (OutgoingMode::All, _) => "everything outside is reached, but the platform itself".to_owned(),
        (OutgoingMode::Listed, true) => {
            "no workload lists anything, so nothing outside is reached".to_owned()
        }
        (OutgoingMode::Listed, false) => format!("destinations that are listed: {}", listed.join(", ")),
    };
    format!("{from}; {means}")
}

/// Makes an environment the default, where it is there.
pub(super) async fn make_default(client: &Client, environment: &str) -> Result<(), Failure> {
    let known = client.snapshot().await?.state.environments;
    if !known.keys().any(|name| name.as_str() == environment) {
        let hint = mainyard_core::suggestions::did_you_mean(environment, known.keys().map(Name::as_str));
        return Err(Failure::refused(format!("there is no environment {environment}{hint}")));
    }
    data_dir::use_environment(environment)?;
    println!("{environment} is the default now: `locker-api` means `{environment}/locker-api`");
    Ok(())
}

async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let snapshot = client.snapshot().await?;
    let state = &snapshot.state;
    let workloads = |name: &Name| state.workloads.keys().filter(|target| target.environment == *name).count();
    let replicas = |name: &Name| {
        let all = state.replicas.values().filter(|it| it.once.is_none());
        all.filter(|it| it.id.workload.environment == *name).count()
    };
    if output.json {
        let rows = state.environments.values().map(|environment| {
            let mut row = json!(environment);
            row["domain"] = json!(environment.domain());
            row["outgoing"] = json!(environment.outgoing);
            row["workloads"] = json!(workloads(&environment.name));
            row["replicas"] = json!(replicas(&environment.name));
            row
        });
        output::json(&rows.collect::<Vec<_>>());
        return Ok(());
    }
    times::mark(snapshot.as_of, snapshot.whole);
    if state.environments.is_empty() {
        println!("there is none yet; make one with: mainyard environment add staging");
        return Ok(());
    }
    let mut rows =
        show::table(&["ENVIRONMENT", "DOMAIN", "OUTGOING", "LIVE CHANGES", "WORKLOADS", "REPLICAS", "ADDED"]);
    for environment in state.environments.values() {
        rows.add_row([
            environment.name.to_string(),
            environment.domain(),
            environment.outgoing.word().to_owned(),
            if environment.live_changes { "on" } else { "off" }.to_owned(),
            workloads(&environment.name).to_string(),
            replicas(&environment.name).to_string(),
            format!("{} by {}", show::moment(environment.origin.at), environment.origin.by),
        ]);
    }
    show::print(&rows);
    Ok(())
}
