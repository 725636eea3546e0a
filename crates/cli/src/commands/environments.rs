//! Environments: made, listed, removed; and the one that a bare name belongs to.

use mainyard_api::{AddEnvironment, NewEnvironment, NoPath, OfEnvironment, RemoveEnvironment};
use mainyard_core::model::Name;
use serde_json::json;

use super::{forecast, parse_name};
use crate::args::{Environment, Output};
use crate::client::Client;
use crate::terminal::Failure;
use crate::{data_dir, output, show, times};

pub(super) async fn run(client: &Client, what: Environment) -> Result<(), Failure> {
    match what {
        Environment::Add { name, domain, trial } => {
            let body = NewEnvironment { name: parse_name(&name)?, domain };
            forecast::act_with::<AddEnvironment, _, _>(client, NoPath {}, &body, &trial).await?;
            println!(
                "{}{name}: added. Declare something in it with: mainyard declare mainyard.toml --in {name}",
                forecast::mark(&trial)
            );
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
    let mut rows = show::table(&["ENVIRONMENT", "DOMAIN", "WORKLOADS", "REPLICAS", "ADDED"]);
    for environment in state.environments.values() {
        rows.add_row([
            environment.name.to_string(),
            environment.domain(),
            workloads(&environment.name).to_string(),
            replicas(&environment.name).to_string(),
            format!("{} by {}", show::moment(environment.origin.at), environment.origin.by),
        ]);
    }
    show::print(&rows);
    Ok(())
}
