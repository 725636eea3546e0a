//! Seeing: the board, one workload, the trail, environments.

use mainyard_api::{
    CompareQuery, CompareReleases, ListEnvironments, ListTrail, NoPath, OfEnvironment, OfTarget, ShowBoard,
    ShowWorkload, TrailQuery,
};
use mainyard_core::difference::Difference;
use mainyard_core::model::{ReleaseId, Target};
use mainyard_core::views::board::Board;
use serde_json::json;

use super::parse_name;
use super::since::since;
use super::way_out;
use crate::args::{Output, Trail};
use crate::client::Client;
use crate::terminal::{Failure, count};
use crate::{board, entry_points, output, show, times};

pub(super) async fn board(
    client: &Client,
    environment: Option<String>,
    output: Output,
) -> Result<(), Failure> {
    let names = match environment {
        Some(wanted) => vec![parse_name(&wanted)?],
        None => {
            let all = client.ask::<ListEnvironments>(NoPath {}, client.moment()).await?;
            all.into_iter().map(|environment| environment.name).collect()
        }
    };
    let mut boards: Vec<Board> = Vec::new();
    for environment in names {
        boards.push(client.ask::<ShowBoard>(OfEnvironment { environment }, client.moment()).await?);
    }
    if output.json {
        output::json(&boards);
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

pub(super) async fn show(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
    let details = client.ask::<ShowWorkload>(OfTarget::from(target), client.moment()).await?;
    let snapshot = client.snapshot().await?;
    if output.json {
        let ways = entry_points::EntryPoints::of(&snapshot, target);
        let mut shown = json!(details);
        shown["routes"] = json!(ways.routes);
        shown["services"] = json!(ways.services);
        shown["traffic"] = json!(ways.traffic);
        if snapshot.as_of.is_none() {
            shown["outgoing"] = json!(way_out::read(client, target).await?);
        }
        output::json(&shown);
        return Ok(());
    }
    times::mark(snapshot.as_of, snapshot.whole);
    show::workload(&snapshot, target);
    if snapshot.as_of.is_none() {
        way_out::print(&way_out::read(client, target).await?);
    }
    since(client, &target.environment, Some(target)).await
}

/// A service, told from a workload of the same name by `service:` in front.
pub(super) async fn show_service(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
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
                "replicas": entry_points::replicas_behind(&snapshot, service),
                "nearly": mainyard_core::why::near_misses(&snapshot.state, service)
            })
        );
        return Ok(());
    }
    times::mark(snapshot.as_of, snapshot.whole);
    show::service(&snapshot, target);
    since(client, &target.environment, Some(target)).await
}

/// A route, told from a workload of the same name by `route:` in front.
pub(super) async fn show_route(client: &Client, target: &Target, output: Output) -> Result<(), Failure> {
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
        told["ready"] = json!(entry_points::ready_behind(&snapshot, route));
        output::json(&told);
        return Ok(());
    }
    times::mark(snapshot.as_of, snapshot.whole);
    show::route(&snapshot, route);
    since(client, &target.environment, Some(target)).await
}

pub(super) async fn compare(
    client: &Client,
    from: &ReleaseId,
    to: &ReleaseId,
    output: Output,
) -> Result<(), Failure> {
    let query = CompareQuery { from: from.to_string(), to: to.to_string() };
    let compared = client.ask::<CompareReleases>(NoPath {}, query).await?;
    if output.json {
        output::json(&compared);
        return Ok(());
    }
    let differences = compared.differences;
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

pub(super) async fn trail(client: &Client, target: Option<&Target>, what: Trail) -> Result<(), Failure> {
    let moment = |text: Option<String>| text.as_deref().map(times::read).transpose();
    let any = TrailQuery {
        of: target.map(ToString::to_string).unwrap_or_default(),
        environment: what.environment.unwrap_or_default(),
        kind: String::new(),
        by: what.by.unwrap_or_default(),
        act: what.act.unwrap_or_default(),
        from: moment(what.from)?,
        until: moment(what.until)?,
        before: None,
        platform: what.platform,
        limit: what.limit,
    };
    let narrow = [&any.of, &any.environment, &any.by, &any.act].iter().any(|text| !text.is_empty())
        || any.from.is_some()
        || any.until.is_some();
    let entries = client.ask::<ListTrail>(NoPath {}, any).await?;
    if what.output.json {
        output::json(&entries);
        return Ok(());
    }
    if entries.is_empty() {
        println!("{}", if narrow { "nothing is like that" } else { "nobody has changed anything yet" });
        return Ok(());
    }
    let mut rows = show::table(&["WHEN", "WHO", "DID", "TO", "SO THAT"]);
    for entry in &entries {
        let from = entry.cause.commit.as_deref().map(mainyard_core::model::short_commit);
        let from = from.map_or(String::new(), |commit| format!(" from {commit}"));
        let also = match entry.also.len() {
            0 => String::new(),
            further => format!(", and {}", count(further, "further change")),
        };
        rows.add_row([
            show::to_the_second(entry.cause.at),
            entry.cause.by.clone(),
            format!("{}{from}", entry.cause.act),
            format!("{} {}", entry.kind.word(), entry.key),
            format!("{}{also}", show::clipped(&entry.so_that, 72)),
        ]);
    }
    show::print(&rows);
    Ok(())
}
