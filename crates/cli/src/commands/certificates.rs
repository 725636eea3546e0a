//! Certificates: chains and keys go in, dates and names come out; a key never does.

use std::path::Path;

use mainyard_api::{
    AddCertificate, CertificateIssued, IssueCertificate, ListCertificates, NewCertificate, NoPath, NoQuery,
    OfTarget, RemoveCertificate, ShowAuthority,
};
use mainyard_core::model::{CertificateView, Target};
use mainyard_core::suggestions::did_you_mean;

use super::{forecast, parse_target};
use crate::args::{Certificate, Output, Trial};
use crate::client::Client;
use crate::output;
use crate::show::{coloured, print, table};
use crate::terminal::{Failure, shape};

pub(super) async fn run(client: &Client, what: Certificate) -> Result<(), Failure> {
    match what {
        Certificate::Add { certificate, chain, key, trial } => {
            let body = NewCertificate { chain: read(&chain)?, key: key.as_deref().map(read).transpose()? };
            add(client, &parse_target(&certificate)?, &body, &trial).await
        }
        Certificate::List { output } => list(client, output).await,
        Certificate::Show { certificate, output } => show(client, &parse_target(&certificate)?, output).await,
        Certificate::Remove { certificate, trial } => {
            let path = OfTarget::from(&parse_target(&certificate)?);
            let done = forecast::act::<RemoveCertificate, _>(client, path, &trial).await?;
            forecast::print_gone(&done.outcome, &trial);
            Ok(())
        }
        Certificate::Issue { service, trial } => issue(client, &parse_target(&service)?, &trial).await,
        Certificate::ShowAuthority => {
            print!("{}", client.ask::<ShowAuthority>(NoPath {}, NoQuery {}).await?.pem);
            Ok(())
        }
    }
}

fn read(path: &Path) -> Result<String, Failure> {
    std::fs::read_to_string(path)
        .map_err(|error| Failure::usage(format!("cannot read {}: {error}", path.display())))
}

async fn all(client: &Client) -> Result<Vec<CertificateView>, Failure> {
    client.ask::<ListCertificates>(NoPath {}, NoQuery {}).await
}

async fn add(client: &Client, target: &Target, body: &NewCertificate, trial: &Trial) -> Result<(), Failure> {
    let done =
        forecast::act_with::<AddCertificate, _, _>(client, OfTarget::from(target), body, trial).await?;
    let view = &done.outcome.certificate;
    println!("{}{target}: for {}, {}", forecast::mark(trial), names(view), view.lasts);
    for served in &done.outcome.serves {
        println!("  serves {served}");
    }
    Ok(())
}

async fn show(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let (all, target) = (all(client).await?, target.to_string());
    let Some(view) = all.iter().find(|view| view.certificate == target) else {
        let hint = did_you_mean(&target, all.iter().map(|view| view.certificate.as_str()));
        return Err(Failure::refused(format!("there is no certificate {target}{hint}")));
    };
    if output.json {
        output::json(view);
        return Ok(());
    }
    println!("{target}  {}", lasts(view));
    println!("for          {}", names(view));
    println!("issued by    {}", view.issuer);
    println!("fingerprint  {}", view.fingerprint);
    let key = if view.serves {
        "kept sealed, never shown"
    } else {
        "none: it only says which authority is trusted"
    };
    println!("key          {key}");
    Ok(())
}

async fn issue(client: &Client, service: &Target, trial: &Trial) -> Result<(), Failure> {
    let done = forecast::act::<IssueCertificate, _>(client, OfTarget::from(service), trial).await?;
    let CertificateIssued { host, days, chain, key, .. } = &done.outcome;
    println!(
        "{}issued for {host}, for {days} days: the secrets {chain} and {key} of {}",
        forecast::mark(trial),
        service.environment
    );
    println!("give them to the workload, and let the route go on over TLS:");
    println!(
        "  files = {{ \"/app/tls.pem\" = {{ secret = \"{chain}\" }}, \"/app/tls.key\" = {{ secret = \"{key}\" }} }}"
    );
    println!("  tls   = {{ onward = \"tls\" }}");
    forecast::print(&done);
    Ok(())
}

fn names(view: &CertificateView) -> String {
    if view.names.is_empty() { "no host".to_owned() } else { view.names.join(", ") }
}

fn lasts(view: &CertificateView) -> String {
    format!("{} {}", shape(view.signal), view.lasts)
}

async fn list(client: &Client, output: Output) -> Result<(), Failure> {
    let all = all(client).await?;
    if output.json {
        output::json(&all);
        return Ok(());
    }
    if all.is_empty() {
        println!(
            "none was given; hosts are served with certificates of the local authority: mainyard certificate show-authority"
        );
        return Ok(());
    }
    let mut rows = table(&["CERTIFICATE", "FOR", "LASTS", "ISSUED BY", "GIVEN BY"]);
    for view in &all {
        rows.add_row([
            view.certificate.clone().into(),
            names(view).into(),
            coloured(lasts(view), view.signal),
            view.issuer.clone().into(),
            view.origin.by.clone().into(),
        ]);
    }
    print(&rows);
    Ok(())
}
