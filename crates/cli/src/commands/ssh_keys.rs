//! Keys that a member pushes and clones with over ssh.

use std::io::Read;
use std::path::Path;

use mainyard_api::{AddSshKey, ListSshKeys, NewSshKey, NoPath, NoQuery, OfSshKey, RemoveSshKey};

use super::parse_name;
use crate::args::{KeyCommand, Output};
use crate::client::Client;
use crate::output;
use crate::show::{print, table};
use crate::terminal::{Failure, age};

pub(super) async fn run(client: &Client, what: KeyCommand) -> Result<(), Failure> {
    match what {
        KeyCommand::Add { name, file } => add(client, &name, file.as_deref()).await,
        KeyCommand::List { output } => list(client, output).await,
        KeyCommand::Remove { name } => {
            let path = OfSshKey { name: parse_name(&name)? };
            client.send(client.request::<RemoveSshKey>(&path, &NoQuery {})).await?;
            println!("{name} lets nobody in any more");
            Ok(())
        }
    }
}

async fn add(client: &Client, name: &str, file: Option<&Path>) -> Result<(), Failure> {
    // A platform that is away is told of before anything about the file.
    client.ask::<ListSshKeys>(NoPath {}, NoQuery {}).await?;
    let key = match file {
        Some(file) => std::fs::read_to_string(file)
            .map_err(|error| Failure::usage(format!("cannot read {}: {error}", file.display())))?,
        None => {
            let mut text = String::new();
            let read = std::io::stdin().read_to_string(&mut text);
            read.map_err(|error| Failure::usage(format!("standard input is no text: {error}")))?;
            text
        }
    };
    let body = NewSshKey { name: parse_name(name)?, key };
    client.send(client.request::<AddSshKey>(&NoPath {}, &NoQuery {}).json(&body)).await?;
    let known = client.ask::<ListSshKeys>(NoPath {}, NoQuery {}).await?;
    match (known.address, known.host_key) {
        (Some(address), Some(host_key)) => {
            println!("{name} lets you in: git clone {address}/ENVIRONMENT/NAME");
            println!("  the host key there is {host_key}");
        }
        _ => println!("{name} is kept; code is not reached over ssh here: mainyard start --ssh"),
    }
    Ok(())
}

async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let known = client.ask::<ListSshKeys>(NoPath {}, NoQuery {}).await?;
    if output.json {
        output::json(&known);
        return Ok(());
    }
    match (&known.address, &known.host_key) {
        (Some(address), Some(host_key)) => println!("{address}  host key {host_key}"),
        _ => println!("code is not reached over ssh here; let it be with: mainyard start --ssh"),
    }
    if known.keys.is_empty() {
        println!("no key lets anybody in; add yours with: mainyard key add laptop ~/.ssh/id_ed25519.pub");
        return Ok(());
    }
    let mut rows = table(&["KEY", "MEMBER", "KIND", "FINGERPRINT", "ADDED"]);
    for key in known.keys {
        let ago = age(jiff::Timestamp::now().duration_since(key.added));
        rows.add_row([key.name, key.member, key.kind, key.fingerprint, format!("{ago} ago")]);
    }
    print(&rows);
    Ok(())
}
