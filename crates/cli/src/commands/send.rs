//! Code, built and declared in one act.

use std::cell::Cell;
use std::collections::BTreeSet;

use mainyard_api::{CancelBuild, NoQuery, OfBuild};
use mainyard_builds::declaration::running;
use mainyard_core::manifest::SourceFile;
use mainyard_core::model::{Name, Target};

use super::send_live::send_live;
use super::sent_code::{Sent, until_changed};
use super::{builds, code, files};
use crate::args::Send;
use crate::client::Client;
use crate::entry_points::{routes_to, services_of};
use crate::terminal::Failure;

pub(super) async fn send(client: &Client, send: Send) -> Result<(), Failure> {
    if send.live {
        let sent = Sent::read(client, &send).await?;
        return send_live(client, &sent, send.watch).await;
    }
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

/// Builds and declares once. `building` has the build while it goes on.
async fn once(client: &Client, send: &Send, building: &Cell<Option<u64>>) -> Result<(), Failure> {
    let sent = Sent::read(client, send).await?;
    let environment = &sent.environment;
    let started = builds::start(client, &send.folder, &send.options, send.wait.trial.forecast).await?;
    let image = started.build.build.image.to_string();
    let text = sent.filled(&image)?;
    if send.wait.trial.forecast {
        println!("{image} would be built: {}", started.build.says);
        println!(
            "what would be declared is forecast once the image is there: mainyard declare {} --in {environment} --forecast",
            sent.file.display()
        );
        return Ok(());
    }
    let number = started.build.build.number;
    building.set(Some(number));
    builds::follow(client, number, false, !send.watch).await?;
    building.set(None);
    let workloads = running(&text, &image);
    let file = SourceFile { name: sent.file.display().to_string(), text };
    files::send(client, vec![file], environment, files::DeclareOptions::default(), send.wait.clone()).await?;
    print_addresses(client, environment, &workloads).await
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
