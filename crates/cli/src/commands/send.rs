//! Code, built and declared in one act.

use std::cell::Cell;
use std::collections::BTreeSet;
use std::path::Path;
use std::time::Duration;

use mainyard_api::{BuildsQuery, CancelBuild, ListBuilds, NoPath, NoQuery, OfBuild};
use mainyard_builds::declaration::{running, with_image};
use mainyard_builds::{DECLARATION, FILE_NAME, recipe};
use mainyard_core::manifest::SourceFile;
use mainyard_core::model::{Name, Target};

use super::{builds, code, files};
use crate::args::Send;
use crate::client::Client;
use crate::data_dir;
use crate::entry_points::{routes_to, services_of};
use crate::terminal::Failure;

/// Code that is watched is looked at this often.
const LOOK_EVERY: Duration = Duration::from_millis(700);

pub(super) async fn send(client: &Client, send: Send) -> Result<(), Failure> {
    if send.watch { watch(client, &send).await } else { once(client, &send, &Cell::default()).await }
}

/// Sends whenever the code differs from what was sent last; the newest wins.
async fn watch(client: &Client, send: &Send) -> Result<(), Failure> {
    loop {
        let seen = code::look_at(&send.folder)?.fingerprint();
        let building = Cell::default();
        let outcome = tokio::select! {
            outcome = once(client, send, &building) => Some(outcome),
            () = until_changed(&send.folder, &seen) => None,
        };
        match outcome {
            // What is wrong with code is told, and mended in the next moment.
            Some(Err(failure)) => eprintln!("{}", failure.message()),
            Some(Ok(())) => println!("waiting for changes of {}", send.folder.display()),
            None => {
                if let Some(build) = building.get() {
                    println!("the code changed: build {build} is ended by the next one");
                    // It may have ended by itself in this moment.
                    let _ = client.ask::<CancelBuild>(OfBuild { build }, NoQuery {}).await;
                }
                continue;
            }
        }
        until_changed(&send.folder, &seen).await;
    }
}

async fn until_changed(folder: &Path, seen: &str) {
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        // A file that is just being put in another's place cannot be read: the next look finds it.
        if code::look_at(folder).is_ok_and(|code| code.fingerprint() != seen) {
            return;
        }
    }
}

/// Builds and declares once. `building` has the build while it goes on.
async fn once(client: &Client, send: &Send, building: &Cell<Option<u64>>) -> Result<(), Failure> {
    let environment = send.environment.clone().or_else(data_dir::default_environment);
    let environment = environment
        .ok_or_else(|| Failure::usage("say which environment: mainyard send FOLDER --in staging"))?;
    // A platform that is away is told of before anything about the files.
    client.ask::<ListBuilds>(NoPath {}, BuildsQuery { repository: None, limit: 1 }).await?;
    let place =
        send.options.part_of.as_deref().map_or_else(|| send.folder.clone(), |part| send.folder.join(part));
    let repository = repository_of(&place)?;
    let declaration = place.join(DECLARATION);
    let text = std::fs::read_to_string(&declaration).map_err(|error| {
        Failure::usage(format!(
            "cannot read {}: {error}; it says how the image runs. To build alone: mainyard build {}",
            declaration.display(),
            send.folder.display()
        ))
    })?;
    // Whether the declaration runs the image is known before anything is sent.
    filled(&text, &repository, &format!("{repository}:0"), &declaration)?;
    let started = builds::start(client, &send.folder, &send.options, send.wait.trial.forecast).await?;
    let image = started.build.build.image.to_string();
    let text = filled(&text, &repository, &image, &declaration)?;
    if send.wait.trial.forecast {
        println!("{image} would be built: {}", started.build.says);
        println!(
            "what would be declared is forecast once the image is there: mainyard declare {} --in {environment} --forecast",
            declaration.display()
        );
        return Ok(());
    }
    let number = started.build.build.number;
    building.set(Some(number));
    builds::follow(client, number, false, !send.watch).await?;
    building.set(None);
    let workloads = running(&text, &image);
    let file = SourceFile { name: declaration.display().to_string(), text };
    let environment = super::parse_name(&environment)?;
    files::send(client, vec![file], &environment, files::DeclareOptions::default(), send.wait.clone())
        .await?;
    print_addresses(client, &environment, &workloads).await
}

/// Where visitors reach the workloads.
async fn print_addresses(client: &Client, environment: &Name, workloads: &[Name]) -> Result<(), Failure> {
    let snapshot = client.snapshot().await?;
    let targets = workloads.iter().map(|name| Target::new(environment, name));
    let targets: Vec<Target> = targets.collect();
    let services = targets.iter().flat_map(|target| services_of(&snapshot, target));
    let addresses: BTreeSet<String> =
        services.flat_map(|service| routes_to(&snapshot, service)).map(|route| route.reached_at).collect();
    for address in addresses {
        println!("  open {address}");
    }
    Ok(())
}

fn repository_of(folder: &Path) -> Result<String, Failure> {
    let file = folder.join(FILE_NAME);
    let text = std::fs::read_to_string(&file).map_err(|error| {
        Failure::usage(format!(
            "cannot read {}: {error}; write one with: mainyard recipe suggest {}",
            file.display(),
            folder.display()
        ))
    })?;
    let recipe = recipe::read(&file.display().to_string(), &text).map_err(|problems| {
        let lines: Vec<String> = problems.iter().map(ToString::to_string).collect();
        Failure::refused(lines.join("\n"))
    })?;
    Ok(recipe.image.name)
}

fn filled(text: &str, repository: &str, image: &str, file: &Path) -> Result<String, Failure> {
    with_image(text, repository, image, &file.display().to_string()).map_err(Failure::refused)
}
