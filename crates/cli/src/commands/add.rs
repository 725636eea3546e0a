//! Making a workload, a service or a route without a file: the file is written here, and declared like any other.

use mainyard_api::{ImageConfig, ImageQuery, NoPath, ShowImageConfig};
use mainyard_core::manifest::{SourceFile, Written, write};
use mainyard_core::model::{Name, NameError, Target};
use serde_json::{Map, Value, json};

use super::files;
use crate::args::{Add, Made};
use crate::client::Client;
use crate::terminal::Failure;

#[expect(clippy::too_many_lines, reason = "one arm for each thing that can be made")]
pub(super) async fn add(client: &Client, what: Add) -> Result<(), Failure> {
    match what {
        Add::Workload {
            workload,
            image,
            replicas,
            ports,
            settings,
            labels,
            ready,
            memory,
            open,
            command,
            made,
        } => {
            let target = super::parse_target(&workload)?;
            let config = config_of(client, &image).await?;
            let ports = match ports.is_empty() {
                true => ports_of(&config),
                false => numbers(&ports)?,
            };
            let offer = if ready.is_none() { offered_check(&config) } else { None };
            let first = ports.keys().next().cloned();
            let body = json!({
                "image": image,
                "replicas": replicas,
                "ports": some(&ports),
                "labels": some(&pairs(&labels, "--label", "tier=web")?),
                "settings": some(&pairs(&settings, "--set", "LOG_LEVEL=info")?),
                "limits": memory.map(|memory| json!({"memory": spaced(&memory)})),
                "command": (!command.is_empty()).then_some(command),
                "checks": ready.map(|path| json!({"ready": {"path": path}})),
            });
            let mut objects: Vec<Written<'_>> = vec![("workload", target.name.as_str(), body)];
            if open && first.is_none() {
                let message =
                    "--open needs a port, and the image exposes none; name it with --port http=8080";
                return Err(Failure::usage(message));
            }
            if open {
                objects.push(("route", target.name.as_str(), json!({"to": [{"service": target.name}]})));
            }
            let application = made.application.clone().unwrap_or_else(|| target.name.to_string());
            let printed = made.print;
            declare(client, &target, &application, &objects, made).await?;
            if let Some(offer) = offer.filter(|_| !printed) {
                println!("{offer}");
            }
            if !printed && !open && first.is_some() {
                println!(
                    "inside it is called {}; let visitors in with: mainyard add route {target} --to {}",
                    target.name, target.name
                );
            }
            Ok(())
        }
        Add::Service { service, select, ports, open_to, made } => {
            let target = super::parse_target(&service)?;
            let select = match select.is_empty() {
                true => Map::from_iter([("workload".to_owned(), json!(target.name))]),
                false => pairs(&select, "--select", "tier=api")?,
            };
            let ports = service_ports(&ports)?;
            let open_to = (!open_to.is_empty()).then_some(open_to);
            let body = json!({"select": select, "ports": ports, "open_to": open_to});
            let application = match &made.application {
                Some(name) => name.clone(),
                None => application_of(client, &target, &[target.name.to_string()]).await?,
            };
            declare(client, &target, &application, &[("service", target.name.as_str(), body)], made).await
        }
        Add::Route { route, to, host, path, port, made } => {
            let target = super::parse_target(&route)?;
            let legs = to.iter().map(|leg| self::leg(leg)).collect::<Result<Vec<Value>, Failure>>()?;
            let names: Vec<String> =
                legs.iter().filter_map(|leg| leg["service"].as_str().map(str::to_owned)).collect();
            let application = match &made.application {
                Some(name) => name.clone(),
                None => application_of(client, &target, &names).await?,
            };
            let body = json!({"host": host, "path": path, "port": port, "to": legs});
            let printed = made.print || made.wait.trial.forecast;
            declare(client, &target, &application, &[("route", target.name.as_str(), body)], made).await?;
            if !printed {
                let snapshot = client.snapshot().await?;
                if let Some(route) = snapshot.state.routes.get(&target) {
                    println!("reached at {}", snapshot.url_of(route));
                }
            }
            Ok(())
        }
    }
}

async fn declare(
    client: &Client,
    target: &Target,
    application: &str,
    objects: &[Written<'_>],
    made: Made,
) -> Result<(), Failure> {
    let text = write(application, objects);
    if made.print {
        print!("{text}");
        return Ok(());
    }
    let file = SourceFile { name: "mainyard.toml".to_owned(), text };
    files::send(client, vec![file], &target.environment, files::DeclareOptions::default(), made.wait).await
}

/// The application that the services belong to; the target's own name if they do not exist yet.
async fn application_of(client: &Client, target: &Target, services: &[String]) -> Result<String, Failure> {
    let state = client.snapshot().await?.state;
    let found = services.iter().find_map(|name| {
        let service = Target::new(&target.environment, &name.parse::<Name>().ok()?);
        let service = state.services.get(&service).map(|service| &service.application);
        let workload = Target::new(&target.environment, &name.parse::<Name>().ok()?);
        service.or(state.workloads.get(&workload).map(|workload| &workload.application)).map(Name::to_string)
    });
    Ok(found.unwrap_or_else(|| target.name.to_string()))
}

async fn config_of(client: &Client, image: &str) -> Result<ImageConfig, Failure> {
    let image = image.parse().map_err(|error: NameError| Failure::usage(error.to_string()))?;
    client.ask::<ShowImageConfig>(NoPath {}, ImageQuery { image }).await
}

/// What the image's own health check would be as a check of the platform.
fn offered_check(config: &ImageConfig) -> Option<String> {
    let Some(check) = &config.health_check else {
        let path = config.ready_path.as_ref()?;
        return Some(format!(
            "the image says that {path} answers when it is well; to ask it, add --ready {path}"
        ));
    };
    let offer = match &config.ready_path {
        Some(path) => format!("to ask the same, add --ready {path}"),
        None => "it asks for nothing over HTTP that a check could ask from outside".to_owned(),
    };
    Some(format!("the image has a health check of its own, which is not run: {check}\n  {offer}"))
}

/// The ports that an image exposes: the first is called http.
fn ports_of(config: &ImageConfig) -> Map<String, Value> {
    let named = config.ports.iter().enumerate().map(|(place, number)| {
        let name = if place == 0 { "http".to_owned() } else { format!("port{number}") };
        (name, json!(number))
    });
    named.collect()
}

fn some(map: &Map<String, Value>) -> Option<&Map<String, Value>> {
    (!map.is_empty()).then_some(map)
}

fn pair<'a>(text: &'a str, option: &str, example: &str) -> Result<(&'a str, &'a str), Failure> {
    text.split_once('=').filter(|(key, _)| !key.is_empty()).ok_or_else(|| {
        Failure::usage(format!("{option} {text}: expected a name, = and a value, such as {option} {example}"))
    })
}

fn pairs(list: &[String], option: &str, example: &str) -> Result<Map<String, Value>, Failure> {
    list.iter()
        .map(|text| pair(text, option, example).map(|(key, value)| (key.to_owned(), json!(value))))
        .collect()
}

fn numbers(list: &[String]) -> Result<Map<String, Value>, Failure> {
    let number = |text: &String| {
        let (name, number) = pair(text, "--port", "http=8080")?;
        let number: u16 = number.parse().ok().filter(|number| *number > 0).ok_or_else(|| {
            Failure::usage(format!("--port {text}: {number:?} is no port; expected a number from 1 to 65535"))
        })?;
        Ok((name.to_owned(), json!(number)))
    };
    list.iter().map(number).collect()
}

/// `80=http` or `5432=db,tcp`.
fn service_ports(list: &[String]) -> Result<Map<String, Value>, Failure> {
    let port = |text: &String| {
        let (number, name) = pair(text, "--port", "80=http")?;
        let value = match name.split_once(',') {
            None => json!(name),
            Some((name, speaks)) => json!({"port": name, "speaks": speaks}),
        };
        Ok((number.to_owned(), value))
    };
    list.iter().map(port).collect()
}

/// `service`, `service:port`, `service=share` or both.
fn leg(text: &str) -> Result<Value, Failure> {
    let wrong = || {
        Failure::usage(format!(
            "--to {text}: expected a service, such as locker-api, locker-api:8080 or locker-api=90"
        ))
    };
    let (service, share) = match text.split_once('=') {
        Some((service, share)) => (service, Some(share.parse::<u32>().map_err(|_| wrong())?)),
        None => (text, None),
    };
    let (service, port) = match service.split_once(':') {
        Some((service, port)) => (service, Some(port.parse::<u16>().map_err(|_| wrong())?)),
        None => (service, None),
    };
    Ok(json!({"service": service, "port": port, "share": share}))
}

/// `128MiB` as a file has it.
fn spaced(size: &str) -> String {
    let digits = size.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(size.len());
    format!("{} {}", &size[..digits], size[digits..].trim()).trim().to_owned()
}
