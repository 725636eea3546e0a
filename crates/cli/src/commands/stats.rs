//! Usage of replicas, and limits that would fit.

use clap::ValueEnum;
use comfy_table::Cell;
use mainyard_api::{
    ListTraffic, ListUsage, NoPath, NoQuery, OfTarget, ShowUsage, TrafficQuery, TrafficRow, UsageQuery,
    WayFigures,
};
use mainyard_core::model::{Bytes, Signal, Target};
use mainyard_core::sizing::{DAYS, ReleaseUsage, WorkloadUsage};
use serde_json::json;

use crate::args::{Output, TrafficBy};
use crate::client::Client;
use crate::output;
use crate::show::{coloured, print, table};
use crate::terminal::{Failure, Paint, shape};

pub(super) async fn of_one(
    client: &Client,
    target: &Target,
    by: &[TrafficBy],
    memory: Option<String>,
    output: Output,
) -> Result<(), Failure> {
    let memory = memory.map(|text| {
        text.parse::<Bytes>().map_err(|expected| Failure::usage(format!("{text:?} is not {expected}")))
    });
    let query = UsageQuery { memory: memory.transpose()? };
    let stats = client.ask::<ShowUsage>(OfTarget::from(target), query).await?;
    let traffic = traffic(client, target, by).await?;
    if output.json {
        let mut shown = json!(stats);
        shown["traffic"] = json!(traffic);
        output::json(&shown);
        return Ok(());
    }
    print_traffic(target, by, &traffic);
    println!(
        "{}  {}",
        Paint::stdout().strong(&target.to_string()),
        Paint::stdout().quiet(&format!("the last {DAYS} days"))
    );
    if stats.releases.is_empty() {
        return say_nothing(&stats);
    }
    let mut rows = table(&[
        "RELEASE",
        "REPLICAS AND RUNS",
        "NEEDED",
        "PEAK",
        "LIMIT",
        "ENDED FOR MEMORY",
        "HELD BACK",
        "PROCESSES",
        "WRITTEN",
    ]);
    for release in &stats.releases {
        rows.add_row(row(release));
    }
    print(&rows);
    println!("needed: memory that the kernel cannot take back; peak: with cached files, which it can");
    let signal = if stats.fit.does() { Signal::Good } else { Signal::Caution };
    println!("{} {}", Paint::stdout().signal(signal, shape(signal)), stats.words);
    if stats.releases.iter().any(|release| !release.counts) {
        println!("{}", Paint::stdout().quiet("releases in brackets failed, and say nothing about the limit"));
    }
    Ok(())
}

/// Requests of the last ten seconds, grouped as asked.
async fn traffic(client: &Client, target: &Target, by: &[TrafficBy]) -> Result<Vec<TrafficRow>, Failure> {
    let words: Vec<String> =
        by.iter().filter_map(|by| Some(by.to_possible_value()?.get_name().to_owned())).collect();
    let query = TrafficQuery { by: Some(words.join(",")), of: Some(target.to_string()) };
    client.ask::<ListTraffic>(NoPath {}, query).await
}

fn print_traffic(target: &Target, by: &[TrafficBy], rows: &[TrafficRow]) {
    let served = |row: &&TrafficRow| row.now.open > 0 || row.now.rate > 0.0;
    if !rows.iter().any(|row| served(&row)) {
        return;
    }
    let has = |one: TrafficBy| by.contains(&one);
    type Column = (bool, &'static str, fn(&WayFigures) -> String);
    let named: [Column; 4] = [
        (has(TrafficBy::Route), "WAY IN", |now| now.way.clone()),
        (has(TrafficBy::Service), "SERVICE", |now| now.service.clone()),
        (has(TrafficBy::Release) || has(TrafficBy::Replica), "RELEASE", |now| match now.release {
            0 => "none".to_owned(),
            release => release.to_string(),
        }),
        (has(TrafficBy::Replica), "REPLICA", |now| match now.replica.as_str() {
            "" => "none answered".to_owned(),
            replica => replica.to_owned(),
        }),
    ];
    let named: Vec<_> = named.into_iter().filter(|(asked, ..)| *asked).collect();
    let heads = named.iter().map(|(_, head, _)| *head);
    let heads: Vec<&str> =
        heads.chain(["REQUESTS", "OPEN", "FAILED", "P50 · P95 · P99", "IN", "OUT"]).collect();
    let mut printed = table(&heads);
    let millis = |each: Option<f64>| each.map_or("-".to_owned(), |each| format!("{each:.1}"));
    let bytes = |each: f64| format!("{}/s", Bytes::new(each as u64));
    for TrafficRow { now, .. } in rows.iter().filter(served) {
        let figures = [
            format!("{:.1}/s", now.rate),
            now.open.to_string(),
            now.failed.to_string(),
            format!("{} · {} · {} ms", millis(now.p50), millis(now.p95), millis(now.p99)),
            bytes(now.received),
            bytes(now.sent),
        ];
        printed.add_row(named.iter().map(|(_, _, name)| name(now)).chain(figures));
    }
    println!(
        "{}  {}",
        Paint::stdout().strong(&target.to_string()),
        Paint::stdout().quiet("the last 10 seconds")
    );
    print(&printed);
    println!();
}

fn say_nothing(stats: &WorkloadUsage) -> Result<(), Failure> {
    if stats.measured {
        println!("nothing was measured yet; the first figures come within ten seconds of a replica's start");
    } else {
        println!(
            "nothing is measured: its replicas are not isolated, and the kernel counts none of them apart"
        );
    }
    Ok(())
}

fn row(release: &ReleaseUsage) -> Vec<Cell> {
    let size = |bytes: u64| Cell::new(rounded(bytes));
    let number = if release.counts { release.release.to_string() } else { format!("({})", release.release) };
    let kills = match release.kills {
        0 => Cell::new("never"),
        1 => coloured("once".to_owned(), Signal::Fault),
        kills => coloured(format!("{kills} times"), Signal::Fault),
    };
    vec![
        Cell::new(number),
        Cell::new(release.replicas),
        size(release.needed),
        size(release.peak),
        size(release.limit),
        kills,
        Cell::new(format!("{:.1} % of the time", release.held_back * 100.0)),
        Cell::new(release.processes),
        Cell::new(written(release)),
    ]
}

fn written(release: &ReleaseUsage) -> String {
    match release.disk_limit {
        0 => rounded(release.disk),
        limit => format!("{} of {}", rounded(release.disk), Bytes::new(limit)),
    }
}

/// With one decimal, in MiB.
fn rounded(bytes: u64) -> String {
    format!("{:.1} MiB", bytes as f64 / f64::from(1 << 20))
}

pub(super) async fn of_all(client: &Client, output: Output) -> Result<(), Failure> {
    let all = client.ask::<ListUsage>(NoPath {}, NoQuery {}).await?;
    if output.json {
        output::json(&all);
        return Ok(());
    }
    if all.is_empty() {
        println!("there is no workload; declare one with: mainyard declare mainyard.toml --in staging");
        return Ok(());
    }
    let mut rows = table(&["WORKLOAD", "REPLICAS", "NEEDED", "LIMIT", "RIGHT SIZE"]);
    for stats in &all {
        let fit = &stats.fit;
        let signal = if fit.does() { Signal::Good } else { Signal::Caution };
        rows.add_row(vec![
            Cell::new(&stats.workload),
            Cell::new(fit.replicas),
            Cell::new(if fit.replicas == 0 { "-".to_owned() } else { rounded(fit.needed) }),
            Cell::new(fit.limit),
            if fit.replicas == 0 {
                Cell::new("nothing was measured")
            } else {
                coloured(format!("{} {}", shape(signal), stats.words), signal)
            },
        ]);
    }
    print(&rows);
    Ok(())
}
