//! Acts on a workload, each followed to its end.

use std::collections::BTreeMap;
use std::io::{IsTerminal, Write};

use mainyard_core::model::{ReleaseNumber, Target};
use reqwest::Method;
use serde_json::{Value, json};

use crate::args::Wait;
use crate::client::Client;
use crate::follow;
use crate::words::{Failure, count};

fn path(target: &Target, act: &str) -> String {
    format!("/environments/{}/workloads/{}{act}", target.environment, target.name)
}

pub async fn scale(client: &Client, target: &Target, replicas: u32, wait: Wait) -> Result<(), Failure> {
    let answer = client.post(&path(target, "/scale"), &json!({"replicas": replicas})).await?;
    let before = answer["before"].as_u64().unwrap_or(0);
    println!("{target}: replicas {before} → {replicas}");
    if wait.no_wait { Ok(()) } else { follow::scaling(client, target).await }
}

pub async fn deploy(
    client: &Client,
    target: &Target,
    image: Option<String>,
    settings: Vec<String>,
    wait: Wait,
) -> Result<(), Failure> {
    let mut set = BTreeMap::new();
    for pair in &settings {
        let (key, value) = pair
            .split_once('=')
            .ok_or_else(|| Failure::usage(format!("{pair:?} is not a setting: write --set KEY=VALUE")))?;
        set.insert(key, value);
    }
    if image.is_none() && set.is_empty() {
        return Err(Failure::usage(format!(
            "say what to deploy: mainyard deploy {target} --image IMAGE, or --set KEY=VALUE"
        )));
    }
    if let Some(image) = &image {
        image.parse::<mainyard_core::model::ImageRef>().map_err(|error| Failure::usage(error.to_string()))?;
    }
    let answer = client.post(&path(target, "/deploy"), &json!({"image": image, "settings": set})).await?;
    let Some(release) = answer["release"].as_u64() else {
        println!("{target}: nothing would differ, so nothing was changed");
        return Ok(());
    };
    let words: Vec<&str> =
        answer["differences"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    let words = if words.is_empty() {
        "the image's tag stands for another digest now".to_owned()
    } else {
        words.join(", ")
    };
    println!("{target}: release {release}, {words}");
    if wait.no_wait { Ok(()) } else { follow::rollout(client, target, ReleaseNumber(release as u32)).await }
}

pub async fn rollback(
    client: &Client,
    target: &Target,
    to: Option<String>,
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
    let answer = client.post(&path(target, "/rollback"), &json!({"to": to})).await?;
    let (release, same_as) =
        (answer["release"].as_u64().unwrap_or(0), answer["same_as"].as_u64().unwrap_or(0));
    println!("{target}: release {release} (same as {same_as})");
    if wait.no_wait { Ok(()) } else { follow::rollout(client, target, ReleaseNumber(release as u32)).await }
}

pub async fn remove(client: &Client, target: &Target, yes: bool) -> Result<(), Failure> {
    let snapshot = client.snapshot().await?;
    let Some(workload) = snapshot.state.workloads.get(target) else {
        client.get(&path(target, "")).await?; // refused in the platform's own words
        return Ok(());
    };
    if !yes {
        if !std::io::stdin().is_terminal() {
            return Err(Failure::usage(format!(
                "this ends {} of {target}; say --yes",
                count(workload.wanted as usize, "replica")
            )));
        }
        print!(
            "Remove {target} with {}, its service and its routes? [y/N] ",
            count(workload.wanted as usize, "replica")
        );
        let _ = std::io::stdout().flush();
        let mut answer = String::new();
        let _ = std::io::stdin().read_line(&mut answer);
        if !matches!(answer.trim(), "y" | "Y" | "yes") {
            return Err(Failure::refused("nothing was removed"));
        }
    }
    let answer = client.send(client.request(Method::DELETE, &path(target, ""))).await?;
    let answer: Value = answer.json().await.map_err(|error| Failure::failed(error.to_string()))?;
    for line in answer["gone"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        println!("- {line}");
    }
    Ok(())
}
