//! Scaling and removing a workload; setting a replica aside.

use mainyard_core::model::{Origin, ReplicaId, Span, Target};
use reqwest::Method;
use serde_json::json;

use super::{forecast, releases};
use crate::args::{LimitOptions, Trial, Wait};
use crate::client::Client;
use crate::terminal::Failure;
use crate::{progress, times};

pub fn path(target: &Target, act: &str) -> String {
    format!("/environments/{}/workloads/{}{act}", target.environment, target.name)
}

pub async fn scale(
    client: &Client,
    target: &Target,
    replicas: Option<u32>,
    limits: LimitOptions,
    wait: Wait,
) -> Result<(), Failure> {
    let body = json!({"replicas": replicas, "memory": limits.memory, "cpu": limits.cpu});
    let answer =
        forecast::ask(client, Method::POST, &path(target, "/scale"), Some(&body), &wait.trial).await?;
    if let Some(replicas) = replicas {
        let before = answer["before"].as_u64().unwrap_or(0);
        // Who finds another number than expected is told whose it was.
        let origin: Option<Origin> = serde_json::from_value(answer["set_by"].clone()).ok();
        let theirs = origin.filter(|origin| origin.act == "scaled" && before != u64::from(replicas));
        let theirs =
            theirs.map_or(String::new(), |origin| times::local(&format!(" ({before} was {origin})")));
        println!("{}{target}: replicas {before} → {replicas}{theirs}", forecast::mark(&wait.trial));
    }
    if !limits.is_empty() {
        releases::say_deployed(target, &answer, &wait.trial);
    }
    forecast::print(&answer, &wait.trial)?;
    if wait.no_wait || wait.trial.forecast {
        return Ok(());
    }
    releases::follow_to(client, target, &answer["release"], &wait).await?;
    if replicas.is_some() { progress::scaling(client, target).await } else { Ok(()) }
}

pub async fn remove(client: &Client, target: &Target, yes: bool, trial: &Trial) -> Result<(), Failure> {
    if !yes && !trial.forecast {
        forecast::confirm_removal(client, &path(target, ""), &target.to_string()).await?;
    }
    let answer = forecast::ask(client, Method::DELETE, &path(target, ""), None, trial).await?;
    forecast::print_gone(&answer, trial);
    forecast::print(&answer, trial)
}

/// Takes a replica out of service, or ends one that is.
pub async fn set_aside(client: &Client, replica: &str, lasts: &str, trial: &Trial) -> Result<(), Failure> {
    let id: ReplicaId = replica
        .parse()
        .map_err(|error: mainyard_core::model::NameError| Failure::usage(error.to_string()))?;
    let lasts: Span =
        lasts.parse().map_err(|expected| Failure::usage(format!("--lasts {lasts}: expected {expected}")))?;
    let (environment, name) = (&id.workload.environment, &id.workload.name);
    let body = json!({"replica": id.short, "lasts": lasts});
    let path = format!("/environments/{environment}/workloads/{name}/set-aside");
    let answer = forecast::ask(client, Method::POST, &path, Some(&body), trial).await?;
    if answer["ended"] == true {
        println!("{}{id} ends now", forecast::mark(trial));
    } else {
        println!(
            "{}{id} is out of service and stays for {lasts}; a fresh one takes its place",
            forecast::mark(trial)
        );
        println!("read it with: mainyard logs {environment}/{name} --replica {}", id.short);
    }
    forecast::print(&answer, trial)
}
