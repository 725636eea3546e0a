//! How many replicas a workload has, and how much each may use.

use mainyard_core::model::{Origin, Target};
use reqwest::Method;
use serde_json::json;

use super::acts::path;
use super::{forecast, releases};
use crate::args::{LimitOptions, Wait};
use crate::client::Client;
use crate::terminal::Failure;
use crate::{progress, times};

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
