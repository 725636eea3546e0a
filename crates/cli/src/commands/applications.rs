//! Applications: what was declared together, as one.

use std::collections::BTreeSet;

use mainyard_api::{OfTarget, RemoveApplication};
use mainyard_core::model::{Name, Target};
use serde_json::json;

use super::{forecast, parse_target};
use crate::args::{Application, Output};
use crate::client::Client;
use crate::show::{coloured, print, table};
use crate::terminal::{Failure, Paint, shape};

pub(super) async fn run(client: &Client, what: Application) -> Result<(), Failure> {
    match what {
        Application::Show { application, output } => show(client, &parse_target(&application)?, output).await,
        Application::Remove { application, yes, trial } => {
            let target = parse_target(&application)?;
            let path = OfTarget::from(&target);
            if !yes && !trial.forecast {
                let what = format!("the application {target}");
                forecast::confirm_removal::<RemoveApplication>(client, path.clone(), &what).await?;
            }
            let done = forecast::act::<RemoveApplication, _>(client, path, &trial).await?;
            forecast::print_gone(&done.outcome, &trial);
            Ok(())
        }
    }
}

async fn show(client: &Client, application: &Target, output: Output) -> Result<(), Failure> {
    let state = client.snapshot().await?.state;
    let own =
        |target: &Target, of: &Name| target.environment == application.environment && *of == application.name;
    let workloads: Vec<_> = state.workloads.values().filter(|it| own(&it.target, &it.application)).collect();
    let services: Vec<_> = state.services.values().filter(|it| own(&it.target, &it.application)).collect();
    let routes: Vec<_> = state.routes.values().filter(|it| own(&it.target, &it.application)).collect();
    let secrets = state.secrets.values();
    let secrets: Vec<_> =
        secrets.filter(|it| it.application.as_ref().is_some_and(|of| own(&it.target, of))).collect();
    if workloads.is_empty() && services.is_empty() && routes.is_empty() && secrets.is_empty() {
        let here = state.workloads.values().filter(|it| it.target.environment == application.environment);
        let known: BTreeSet<&str> = here.map(|it| it.application.as_str()).collect();
        let hint = mainyard_core::suggestions::did_you_mean(application.name.as_str(), known);
        return Err(Failure::refused(format!("there is no application {application}{hint}")));
    }
    let source = state.sources.values().find(|source| {
        source.target.environment == application.environment
            && source.application.as_ref() == Some(&application.name)
    });
    if output.json {
        let secrets: Vec<_> =
            secrets.iter().map(|it| json!({"secret": it.target, "version": it.newest()})).collect();
        let all = json!({"workloads": workloads, "services": services, "routes": routes, "secrets": secrets, "source": source});
        println!("{all:#}");
        return Ok(());
    }
    println!("{}", Paint::stdout().strong(&application.to_string()));
    if let Some(source) = source {
        println!("follows the source {}, {}", source.target, source.state);
    }
    let mut rows = table(&["WHAT", "NAME", "STATE"]);
    for workload in workloads {
        let signal = workload.state.signal();
        let state = coloured(format!("{} {}", shape(signal), workload.state), signal);
        rows.add_row(vec!["workload".into(), workload.target.name.to_string().into(), state]);
    }
    for service in services {
        rows.add_row(["service".to_owned(), service.target.name.to_string(), service.address.to_string()]);
    }
    for route in routes {
        rows.add_row(["route".to_owned(), route.target.name.to_string(), route.spec.at()]);
    }
    for secret in secrets {
        rows.add_row([
            "secret".to_owned(),
            secret.target.name.to_string(),
            format!("version {}", secret.newest()),
        ]);
    }
    print(&rows);
    Ok(())
}
