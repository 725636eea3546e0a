//! Removing a workload; setting a replica aside.

use mainyard_core::model::{ReplicaId, Span, Target};
use reqwest::Method;
use serde_json::json;

use super::forecast;
use crate::args::Trial;
use crate::client::Client;
use crate::terminal::Failure;

pub fn path(target: &Target, act: &str) -> String {
    format!("/environments/{}/workloads/{}{act}", target.environment, target.name)
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
