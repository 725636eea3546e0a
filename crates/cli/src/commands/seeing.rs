//! Seeing: the board, one workload, the trail, environments.

use mainyard_core::board::Board;
use mainyard_core::difference::Difference;
use mainyard_core::model::{Name, ReleaseId, Target};
use reqwest::Method;
use serde_json::{Value, json};

use super::since::since;
use crate::args::{Output, Trail};
use crate::client::Client;
use crate::terminal::Failure;
use crate::{board, entry_points, output, show, times};

pub async fn board(client: &Client, environment: Option<String>, output: Output) -> Result<(), Failure> {
    let names = match environment {
        Some(wanted) => {
            vec![wanted.parse::<Name>().map_err(|error| Failure::usage(error.to_string()))?.to_string()]
        }
        None => {
            let all = client.get("/environments").await?;
            let names = all.as_array().into_iter().flatten();
            names.filter_map(|environment| environment["name"].as_str().map(str::to_owned)).collect()
        }
    };
    let mut boards: Vec<Board> = Vec::new();
    for name in names {
        let board = client.get(&format!("/environments/{name}/board")).await?;
        let board = serde_json::from_value(board)
            .map_err(|error| Failure::failed(format!("the board cannot be read: {error}")))?;
        boards.push(board);
    }
    if output.json {
        println!("{:#}", json!(boards));
        return Ok(());
    }
    if boards.is_empty() {
        println!("nothing is here yet; make an environment with: mainyard environment add staging");
    }
    for (number, board) in boards.iter().enumerate() {
        match number {
            0 => times::mark(board.as_of, board.whole),
            _ => println!(),
        }
        board::board(board);
        since(client, &board.environment, None).await?;
    }
    Ok(())
}

pub async fn show(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let mut detail =
        client.get(&format!("/environments/{}/workloads/{}", target.environment, target.name)).await?;
    let snapshot = client.snapshot().await?;
    if output.json {
        let ways = entry_points::EntryPoints::of(&snapshot, target);
        detail["routes"] = json!(ways.routes);
        detail["services"] = json!(ways.services);
        detail["traffic"] = json!(ways.traffic);
        output::json(&detail);
        return Ok(());
    }
    times::mark(snapshot.as_of, snapshot.whole);
    show::workload(&snapshot, target);
    since(client, &target.environment, Some(target)).await
}

/// A service, told from a workload of the same name by `service:` in front.
pub async fn show_service(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let snapshot = client.snapshot().await?;
    let Some(service) = snapshot.state.services.get(target) else {
        let here = snapshot.state.services.keys().filter(|known| known.environment == target.environment);
        let hint = mainyard_core::suggestions::did_you_mean(
            target.name.as_str(),
            here.map(|known| known.name.as_str()),
        );
        return Err(Failure::refused(format!("there is no service {target}{hint}")));
    };
    if output.json {
        println!(
            "{:#}",
            json!({
                "service": service,
                "address": snapshot.state.inside_address(service),
                "routes": entry_points::routes_to(&snapshot, service),
                "replicas": entry_points::replicas_behind(&snapshot.state, service),
                "nearly": mainyard_core::why::nearly(&snapshot.state, service)
            })
        );
        return Ok(());
    }
    times::mark(snapshot.as_of, snapshot.whole);
    show::service(&snapshot, target);
    since(client, &target.environment, Some(target)).await
}

/// A route, told from a workload of the same name by `route:` in front.
pub async fn show_route(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let snapshot = client.snapshot().await?;
    let Some(route) = snapshot.state.routes.get(target) else {
        let here = snapshot.state.routes.keys().filter(|known| known.environment == target.environment);
        let hint = mainyard_core::suggestions::did_you_mean(
            target.name.as_str(),
            here.map(|known| known.name.as_str()),
        );
        return Err(Failure::refused(format!("there is no route {target}{hint}")));
    };
    if output.json {
        let mut told = json!(route);
        told["reached_at"] = json!(snapshot.url_of(route));
        told["ready"] = json!(entry_points::ready_behind(&snapshot.state, route));
        output::json(&told);
        return Ok(());
    }
    times::mark(snapshot.as_of, snapshot.whole);
    show::route(&snapshot, route);
    since(client, &target.environment, Some(target)).await
}

pub async fn compare(
    client: &Client,
    from: &ReleaseId,
    to: &ReleaseId,
    output: Output,
) -> Result<(), Failure> {
    let compared = client.get(&format!("/compare?from={from}&to={to}")).await?;
    if output.json {
        println!("{compared:#}");
        return Ok(());
    }
    let differences: Vec<Difference> = serde_json::from_value(compared["differences"].clone())
        .map_err(|error| Failure::failed(format!("the answer cannot be read: {error}")))?;
    if differences.is_empty() {
        println!("{from} and {to} are the same");
        return Ok(());
    }
    let mut rows = show::table(&["FIELD", &from.to_string(), &to.to_string()]);
    for Difference { field, before, after } in differences {
        let text = |value: Option<String>| value.unwrap_or_else(|| "-".to_owned());
        rows.add_row([field, text(before), text(after)]);
    }
    show::print(&rows);
    Ok(())
}

pub async fn trail(client: &Client, target: Option<&Target>, what: Trail) -> Result<(), Failure> {
    let moment = |text: Option<String>| text.as_deref().map(times::read).transpose();
    let asked = [
        ("of", target.map(ToString::to_string)),
        ("environment", what.environment),
        ("by", what.by),
        ("act", what.act),
        ("from", moment(what.from)?.map(|at| at.to_string())),
        ("until", moment(what.until)?.map(|at| at.to_string())),
        ("platform", what.platform.then(|| "true".to_owned())),
        ("limit", Some(what.limit.to_string())),
    ];
    let asked: Vec<_> = asked.into_iter().filter_map(|(key, value)| Some((key, value?))).collect();
    let narrow = asked.len() > 1;
    let answer = client.send(client.request(Method::GET, "/trail").query(&asked)).await?;
    let entries: Value = answer
        .json()
        .await
        .map_err(|error| Failure::failed(format!("the answer cannot be read: {error}")))?;
    if what.output.json {
        println!("{entries:#}");
        return Ok(());
    }
    let entries = entries.as_array().cloned().unwrap_or_default();
    if entries.is_empty() {
        println!("{}", if narrow { "nothing is like that" } else { "nobody has done anything yet" });
        return Ok(());
    }
    let mut rows = show::table(&["WHEN", "WHO", "DID", "TO", "SO THAT"]);
    let mut last = None;
    for entry in &entries {
        let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        let at: jiff::Timestamp = text(&entry["cause"]["at"]).parse().unwrap_or_default();
        let object = format!("{} {}", text(&entry["kind"]), text(&entry["key"]));
        let from = entry["cause"]["commit"].as_str().map(mainyard_core::model::short_commit);
        let from = from.map_or(String::new(), |commit| format!(" from {commit}"));
        let act = format!("{}{from}", text(&entry["cause"]["act"]));
        let so_that = show::clipped(&text(&entry["so_that"]), 72);
        let row = [show::to_the_second(at), text(&entry["cause"]["by"]), act, object, so_that];
        if last.as_ref() != Some(&row) {
            rows.add_row(row.clone());
        }
        last = Some(row);
    }
    show::print(&rows);
    Ok(())
}
