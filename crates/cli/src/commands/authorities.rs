//! Certificate authorities outside: added, listed with their orders, removed.

use mainyard_api::{
    AddAuthority, ListAuthorities, NewAuthority, NoPath, NoQuery, OfAuthority, RemoveAuthority,
};
use mainyard_core::model::Signal;

use super::{forecast, parse_name};
use crate::args::{AuthorityCommand, Output};
use crate::client::Client;
use crate::output;
use crate::show::{moment, print, table};
use crate::terminal::{Failure, Paint, shape};

pub(super) async fn run(client: &Client, what: AuthorityCommand) -> Result<(), Failure> {
    match what {
        AuthorityCommand::Add { name, directory, contact, challenge, trust, agree_to_terms, trial } => {
            let trust = trust.as_deref().map(|file| {
                std::fs::read_to_string(file)
                    .map_err(|error| Failure::usage(format!("{} cannot be read: {error}", file.display())))
            });
            let body = NewAuthority {
                directory: directory.clone(),
                contact,
                trust: trust.transpose()?,
                challenge: challenge.into(),
                agrees_to_terms: agree_to_terms,
            };
            let path = OfAuthority { authority: parse_name(&name)? };
            forecast::act_with::<AddAuthority, _, _>(client, path, &body, &trial).await?;
            println!(
                "{}{name}: added; a route obtains its certificate there with tls = {{ obtain_from = \"{name}\" }}",
                forecast::mark(&trial)
            );
            Ok(())
        }
        AuthorityCommand::List { output } => list(client, output).await,
        AuthorityCommand::Remove { name, trial } => {
            let path = OfAuthority { authority: parse_name(&name)? };
            let done = forecast::act::<RemoveAuthority, _>(client, path, &trial).await?;
            forecast::print_gone(&done.outcome, &trial);
            Ok(())
        }
    }
}

async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let all = client.ask::<ListAuthorities>(NoPath {}, NoQuery {}).await?;
    if output.json {
        output::json(&all);
        return Ok(());
    }
    if all.is_empty() {
        println!(
            "no authority outside is known; add one with: mainyard authority add public --directory URL --agree-to-terms"
        );
        return Ok(());
    }
    let mut rows = table(&["AUTHORITY", "DIRECTORY", "CHALLENGE", "CONTACT", "CERTIFICATES", "ADDED"]);
    for authority in &all {
        rows.add_row([
            authority.name.to_string(),
            authority.directory.clone(),
            authority.challenge.word().to_owned(),
            authority.contact.clone().unwrap_or_else(|| "-".to_owned()),
            authority.certificates.to_string(),
            format!("{} by {}", moment(authority.origin.at), authority.origin.by),
        ]);
    }
    print(&rows);
    let paint = Paint::stdout();
    for authority in &all {
        for order in &authority.orders {
            let line = match &order.problem {
                None => format!("{} {}: on order of {}", shape(Signal::Moving), order.host, authority.name),
                Some(problem) => {
                    let again = order.again.map(|at| format!("; tried again at {}", moment(at)));
                    let mark = paint.signal(Signal::Fault, shape(Signal::Fault));
                    format!("{mark} {}: {}{}", order.host, problem.sentence, again.unwrap_or_default())
                }
            };
            println!("{line}");
        }
    }
    Ok(())
}
