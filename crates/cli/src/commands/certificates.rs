//! Certificates: chains and keys go in, dates and names come out; a key never does.

use std::path::Path;

use mainyard_core::model::Signal;
use reqwest::Method;
use serde_json::{Value, json};

use super::{forecast, parse_target};
use crate::args::{Certificate, Output};
use crate::client::Client;
use crate::show::{coloured, print, table};
use crate::terminal::{Failure, shape};

pub async fn run(client: &Client, what: Certificate) -> Result<(), Failure> {
    match what {
        Certificate::Add { certificate, chain, key, trial } => {
            let target = parse_target(&certificate)?;
            let body = json!({"chain": read(&chain)?, "key": key.as_deref().map(read).transpose()?});
            let path = format!("/environments/{}/certificates/{}", target.environment, target.name);
            let answer = forecast::ask(client, Method::PUT, &path, Some(&body), &trial).await?;
            let told = &answer["certificate"];
            println!(
                "{}{target}: for {}, {}",
                forecast::mark(&trial),
                names(told),
                told["lasts"].as_str().unwrap_or_default()
            );
            for served in answer["serves"].as_array().into_iter().flatten().filter_map(Value::as_str) {
                println!("  serves {served}");
            }
            Ok(())
        }
        Certificate::List { output } => list(client, output).await,
        Certificate::Show { certificate, output } => {
            let target = parse_target(&certificate)?.to_string();
            let all = client.get("/certificates").await?;
            let all: Vec<&Value> = all.as_array().into_iter().flatten().collect();
            let Some(told) = all.iter().find(|told| told["certificate"] == *target) else {
                let known = all.iter().filter_map(|told| told["certificate"].as_str());
                let hint = mainyard_core::suggestions::did_you_mean(&target, known);
                return Err(Failure::refused(format!("there is no certificate {target}{hint}")));
            };
            if output.json {
                println!("{told:#}");
                return Ok(());
            }
            let text = |key: &str| told[key].as_str().unwrap_or_default().to_owned();
            println!("{target}  {}", lasts(told));
            println!("for          {}", names(told));
            println!("issued by    {}", text("issuer"));
            println!("fingerprint  {}", text("fingerprint"));
            println!(
                "key          {}",
                if told["serves"] == true {
                    "kept sealed, never shown"
                } else {
                    "none: it only says whom to trust"
                }
            );
            Ok(())
        }
        Certificate::Remove { certificate, trial } => {
            let target = parse_target(&certificate)?;
            let path = format!("/environments/{}/certificates/{}", target.environment, target.name);
            let answer = forecast::ask(client, Method::DELETE, &path, None, &trial).await?;
            forecast::print_gone(&answer, &trial);
            Ok(())
        }
        Certificate::Issue { service, trial } => {
            let target = parse_target(&service)?;
            let path = format!("/environments/{}/services/{}/certificate", target.environment, target.name);
            let answer = forecast::ask(client, Method::POST, &path, None, &trial).await?;
            let text = |key: &str| answer[key].as_str().unwrap_or_default().to_owned();
            let (chain, key) = (text("chain"), text("key"));
            println!(
                "{}issued for {}, for {} days: the secrets {chain} and {key} of {}",
                forecast::mark(&trial),
                text("host"),
                answer["days"],
                target.environment
            );
            println!("give them to the workload, and let the route go on over TLS:");
            println!(
                "  files = {{ \"/app/tls.pem\" = {{ secret = \"{chain}\" }}, \"/app/tls.key\" = {{ secret = \"{key}\" }} }}"
            );
            println!("  tls   = {{ onward = \"tls\" }}");
            forecast::print(&answer, &trial)
        }
        Certificate::ShowAuthority => {
            let answer = client.get("/authority").await?;
            print!("{}", answer["pem"].as_str().unwrap_or_default());
            Ok(())
        }
    }
}

fn read(path: &Path) -> Result<String, Failure> {
    std::fs::read_to_string(path)
        .map_err(|error| Failure::usage(format!("cannot read {}: {error}", path.display())))
}

fn names(told: &Value) -> String {
    let names: Vec<&str> = told["names"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    if names.is_empty() { "no host".to_owned() } else { names.join(", ") }
}

fn signal(told: &Value) -> Signal {
    serde_json::from_value(told["signal"].clone()).unwrap_or(Signal::Fault)
}

fn lasts(told: &Value) -> String {
    format!("{} {}", shape(signal(told)), told["lasts"].as_str().unwrap_or_default())
}

async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let all = client.get("/certificates").await?;
    if output.json {
        println!("{all:#}");
        return Ok(());
    }
    let all: Vec<&Value> = all.as_array().into_iter().flatten().collect();
    if all.is_empty() {
        println!(
            "none was given; hosts are served with certificates of the local authority: mainyard certificate show-authority"
        );
        return Ok(());
    }
    let mut rows = table(&["CERTIFICATE", "FOR", "LASTS", "ISSUED BY", "GIVEN BY"]);
    for told in all {
        let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        rows.add_row([
            text(&told["certificate"]).into(),
            names(told).into(),
            coloured(lasts(told), signal(told)),
            text(&told["issuer"]).into(),
            text(&told["origin"]["by"]).into(),
        ]);
    }
    print(&rows);
    Ok(())
}
